//! PostgreSQL: the connection, and what its errors mean.

mod aside;
mod edit;
pub mod load;
mod loader;
mod pool;
mod ranges;
pub mod read;
mod sink;

use super::create::{CreatePlan, Created};
use super::snapshot::Snapshot;
use super::trial::{Right, Trial};
use super::{DatabaseError, Refusal, Size, UNTRUSTED, beginning, question, sizes_of};
pub(super) use super::{standard_name as name, standard_text as quoted};
use crate::database::engine::{RowEditor, Server};
use crate::database::loading::Loading;
use crate::dump::inspect::{Inspection, Wanted};
use crate::place::{DatabaseAccess, Tls};
use ::postgres::config::SslMode;
use ::postgres::error::SqlState;
use ::postgres::types::ToSql;
use ::postgres::{Client, Config, Error, Row, SimpleQueryMessage};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;
use tokio_postgres_rustls::MakeRustlsConnect;

/// Where a server's socket usually lies.
const SOCKETS: [&str; 2] = ["/run/postgresql", "/var/run/postgresql"];

/// Connects. The password is taken from the access; a socket is named by its folder or by its own path.
pub fn connect(access: &DatabaseAccess) -> Result<Client, DatabaseError> {
    let (settings, host) = settings(access);
    Config::from(settings).connect(tls(access)).map_err(|e| {
        let refusal = refusal(&e, host.starts_with('/'));
        DatabaseError::Connect { url: access.url(), refusal, source: Box::new(e) }
    })
}

/// The name by which the server knows the connections of this process.
fn own_name() -> String {
    format!("zporter {}", std::process::id())
}

fn tls(access: &DatabaseAccess) -> MakeRustlsConnect {
    MakeRustlsConnect::new(tls_config(access.tls == Tls::Verified))
}

/// How to connect, and the host or the folder of the socket.
fn settings(access: &DatabaseAccess) -> (tokio_postgres::Config, String) {
    let port = access.port.unwrap_or(5432);
    let folder = |socket: &str| match Path::new(socket).file_name() {
        Some(name) if name.to_string_lossy().starts_with(".s.PGSQL.") => {
            Path::new(socket).parent().unwrap_or(Path::new("/")).display().to_string()
        }
        _ => socket.to_string(),
    };
    let usual = || {
        let local = access.host == "localhost" && access.port.is_none();
        SOCKETS
            .iter()
            .find(|f| local && Path::new(f).join(format!(".s.PGSQL.{port}")).exists())
            .map(ToString::to_string)
    };
    let host = access
        .socket
        .as_deref()
        .map(folder)
        .or_else(usual)
        .unwrap_or_else(|| access.host.trim_matches(['[', ']']).into());
    let mut config = tokio_postgres::Config::new();
    config.host(&host).port(port).user(&access.user).connect_timeout(std::time::Duration::from_secs(10));
    config.application_name(own_name());
    if !access.password.is_empty() {
        config.password(access.password.expose());
    }
    config.dbname(if access.name.is_empty() { "postgres" } else { &access.name });
    config.ssl_mode(match access.tls {
        Tls::Off => SslMode::Disable,
        Tls::Offered if access.is_local() => SslMode::Disable,
        Tls::Offered => SslMode::Prefer,
        Tls::On | Tls::Verified => SslMode::Require,
    });
    (config, host)
}

fn tls_config(verified: bool) -> ClientConfig {
    let builder = ClientConfig::builder();
    if verified {
        let roots = RootCertStore { roots: webpki_roots::TLS_SERVER_ROOTS.to_vec() };
        return builder.with_root_certificates(roots).with_no_client_auth();
    }
    builder.dangerous().with_custom_certificate_verifier(Arc::new(AnyCertificate)).with_no_client_auth()
}

/// Takes any certificate: encryption against listeners, not against impostors, as it is asked for.
#[derive(Debug)]
struct AnyCertificate;

impl ServerCertVerifier for AnyCertificate {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Ok(HandshakeSignatureValid::assertion())
    }

    fn verify_tls13_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Ok(HandshakeSignatureValid::assertion())
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        rustls::crypto::ring::default_provider().signature_verification_algorithms.supported_schemes()
    }
}

/// An error and its causes in one text.
fn chain(error: &dyn std::error::Error) -> String {
    let mut out = error.to_string();
    let mut next = error.source();
    while let Some(cause) = next {
        out.push_str(&format!(": {cause}"));
        next = cause.source();
    }
    out
}

fn refusal(error: &Error, by_socket: bool) -> Refusal {
    if let Some(state) = error.code() {
        let message = error.as_db_error().map(|e| e.message().to_string()).unwrap_or_default();
        return match *state {
            SqlState::INVALID_PASSWORD => Refusal::LogIn,
            SqlState::INVALID_AUTHORIZATION_SPECIFICATION if message.contains("pg_hba.conf") => {
                if message.contains("no encryption") || message.contains("SSL") {
                    Refusal::Tls(format!("the server's rules refuse this connection: {message}"))
                } else {
                    Refusal::HostRefused
                }
            }
            SqlState::INVALID_AUTHORIZATION_SPECIFICATION => Refusal::LogIn,
            SqlState::INVALID_CATALOG_NAME => Refusal::NoDatabase,
            SqlState::INSUFFICIENT_PRIVILEGE => Refusal::NoRights,
            SqlState::TOO_MANY_CONNECTIONS => Refusal::Busy,
            _ => Refusal::Other(message),
        };
    }
    let mut cause = std::error::Error::source(error);
    while let Some(e) = cause.filter(|_| !chain(error).contains("certificate")) {
        if let Some(io) = e.downcast_ref::<std::io::Error>() {
            let told = Refusal::of_io(io.kind(), &io.to_string());
            return if told == Refusal::NothingAnswers && by_socket { Refusal::NoSocket } else { told };
        }
        cause = e.source();
    }
    let text = error.to_string();
    match text.as_str() {
        _ if chain(error).contains("certificate") => Refusal::Tls(UNTRUSTED.into()),
        t if t.contains("TLS") => Refusal::Tls("the server does not offer an encrypted connection".into()),
        t if t.contains("password missing") => Refusal::LogIn,
        t if t.contains("timed out") => Refusal::Silent,
        _ => Refusal::Other(text),
    }
}

/// What the server says of a statement.
#[derive(Debug, thiserror::Error)]
#[error("{told}")]
struct Told {
    state: SqlState,
    told: String,
}

/// The server's own word for an error.
fn state(error: &DatabaseError) -> Option<&SqlState> {
    let DatabaseError::Statement { source, .. } = error else { return None };
    source.downcast_ref::<Told>().map(|told| &told.state)
}

pub(super) fn refused(source: Error, line: u64, statement: &[u8]) -> DatabaseError {
    if let Some(db) = source.as_db_error() {
        if matches!(*db.code(), SqlState::READ_ONLY_SQL_TRANSACTION) {
            return DatabaseError::ReadOnly { name: "of this server".into(), why: db.message().into() };
        }
        if matches!(*db.code(), SqlState::ADMIN_SHUTDOWN | SqlState::CRASH_SHUTDOWN) {
            return DatabaseError::Lost(Box::new(source));
        }
        let mut told = db.message().to_string();
        if let Some(detail) = db.detail() {
            told.push_str(&format!(": {detail}"));
        }
        // Of a copy, the row and the column.
        if let Some(place) = db.where_().filter(|place| place.starts_with("COPY ")) {
            told.push_str(&format!(" ({})", place.lines().next().unwrap_or_default()));
        }
        let source = Box::new(Told { state: db.code().clone(), told });
        return DatabaseError::Statement { line, statement: beginning(statement), source };
    }
    let broke = std::error::Error::source(&source).is_some_and(|e| e.is::<std::io::Error>());
    if source.is_closed() || broke {
        return DatabaseError::Lost(Box::new(source));
    }
    DatabaseError::Statement { line, statement: beginning(statement), source: Box::new(source) }
}

/// Asks for rows.
pub(super) fn rows(
    client: &mut Client,
    sql: &str,
    values: &[&(dyn ToSql + Sync)],
) -> Result<Vec<Row>, DatabaseError> {
    client.query(sql, values).map_err(|e| refused(e, 0, sql.as_bytes()))
}

/// Runs a statement of our own.
pub(super) fn run(client: &mut Client, sql: &str) -> Result<(), DatabaseError> {
    client.batch_execute(sql).map_err(|e| refused(e, 0, sql.as_bytes()))
}

/// What [`super::facts`] asks for.
pub(super) fn facts(
    access: &DatabaseAccess,
    wanted: &[Wanted],
) -> Result<(Vec<Size>, Inspection), DatabaseError> {
    let mut snapshot = read::PostgresSnapshot::open(access)?;
    let sizes = sizes_of(snapshot.tables()?);
    let mut client = connect(access)?;
    let mut found = Inspection::default();
    for wish in wanted {
        let sql = question(wish, name, quoted);
        let there = sizes.iter().any(|(name, ..)| *name == wish.table);
        let answer = if there { client.simple_query(&sql).unwrap_or_default() } else { Vec::new() };
        let row = |message: SimpleQueryMessage| match message {
            SimpleQueryMessage::Row(row) => {
                Some((0..wish.columns.len()).map(|i| row.get(i).map(str::to_string)).collect())
            }
            _ => None,
        };
        found.rows.push(answer.into_iter().filter_map(row).collect());
    }
    Ok((sizes, found))
}

/// Tells one database of one server from all others: what it is called, and when its server started, in seconds.
pub(super) fn identity(access: &DatabaseAccess) -> Result<(String, u64), DatabaseError> {
    let sql = "SELECT concat_ws('|', current_setting('port'), current_database()), extract(epoch FROM pg_postmaster_start_time())::int8";
    let found = rows(&mut connect(access)?, sql, &[])?;
    let named = found.first().map(|row| (row.get(0), row.get::<_, i64>(1)));
    Ok(named.map(|(named, start)| (named, u64::try_from(start).unwrap_or_default())).unwrap_or_default())
}

/// What [`super::trial::attempt`] asks for.
pub(super) fn trial(access: &DatabaseAccess) -> Result<Trial, DatabaseError> {
    let mut client = connect(access)?;
    let sql = "SELECT current_setting('server_version'), \
               COALESCE((SELECT ssl FROM pg_catalog.pg_stat_ssl WHERE pid = pg_backend_pid()), false), \
               (SELECT count(*) FROM pg_catalog.pg_tables WHERE schemaname NOT IN ('pg_catalog','information_schema')), \
               has_database_privilege(current_database(), 'CREATE'), \
               COALESCE(has_schema_privilege(current_schema(), 'CREATE'), false), \
               NOT EXISTS (SELECT FROM pg_catalog.pg_tables WHERE schemaname NOT IN ('pg_catalog','information_schema') \
                 AND NOT has_table_privilege(quote_ident(schemaname) || '.' || quote_ident(tablename), 'SELECT'))";
    let rows = rows(&mut client, sql, &[])?;
    let row =
        rows.first().ok_or_else(|| DatabaseError::Io(std::io::Error::other("the server gave no answer")))?;
    let version: String = row.get(0);
    Ok(Trial {
        server: format!("PostgreSQL {}", version.split(' ').next().unwrap_or_default()),
        encrypted: row.get(1),
        tables: u64::try_from(row.get::<_, i64>(2)).unwrap_or_default(),
        rights: vec![
            Right::new("read the rows", row.get(5)),
            Right::new("make schemas", row.get(3)),
            Right::new("make tables, views, triggers and functions", row.get(4)),
        ],
    })
}

/// The statements that make database, user and rights, with stars for the password.
pub(super) fn create_statements(job: &CreatePlan) -> Vec<String> {
    let (database, user) = (name(&job.wanted.name), name(&job.wanted.user));
    vec![
        format!("CREATE ROLE {user} LOGIN PASSWORD '***'"),
        format!("CREATE DATABASE {database} OWNER {user} ENCODING 'UTF8' TEMPLATE template0"),
        // Everybody may connect to a new database until that is taken back.
        format!("REVOKE CONNECT ON DATABASE {database} FROM PUBLIC"),
    ]
}

/// Makes database, user and rights.
pub(super) fn create(job: &CreatePlan) -> Result<Created, DatabaseError> {
    let mut client = connect(&DatabaseAccess { name: String::new(), ..job.admin.clone() })?;
    let has = |client: &mut Client, sql: &str, what: &str| {
        Ok::<_, DatabaseError>(!rows(client, sql, &[&what])?.is_empty())
    };
    let user = has(&mut client, "SELECT 1 FROM pg_catalog.pg_roles WHERE rolname = $1", &job.wanted.user)?;
    let database =
        has(&mut client, "SELECT 1 FROM pg_catalog.pg_database WHERE datname = $1", &job.wanted.name)?;
    let mut out = Created {
        database: !database,
        user: !user,
        hosts: vec!["where the server's rules allow".into()],
        ..Created::default()
    };
    for (at, shown) in create_statements(job).into_iter().enumerate() {
        if (at == 0 && user) || (at == 1 && database) {
            continue;
        }
        let sql = shown.replacen("'***'", &quoted(job.wanted.password.expose()), 1);
        client.batch_execute(&sql).map_err(|e| refused(e, 0, shown.as_bytes()))?;
        out.statements.push(shown);
    }
    Ok(out)
}

/// PostgreSQL.
pub(super) struct Postgres;

impl Server for Postgres {
    fn count_above(
        &self,
        access: &DatabaseAccess,
        table: &str,
        column: &str,
        above: Option<&str>,
    ) -> Result<(u64, Option<String>), DatabaseError> {
        let (table, column) = (name(table), name(column));
        let literal = |value: &str| format!("'{}'", value.replace('\'', "''"));
        let only = above.map(|value| format!(" WHERE {column} > {}", literal(value))).unwrap_or_default();
        let sql = format!("SELECT COUNT(*)::text, MAX({column})::text FROM public.{table}{only}");
        let found = connect(access)?.simple_query(&sql).map_err(|e| refused(e, 0, sql.as_bytes()))?;
        let row = found.iter().find_map(|message| match message {
            ::postgres::SimpleQueryMessage::Row(row) => Some(row),
            _ => None,
        });
        let text = |at| row.and_then(|r| r.get(at)).map(str::to_string);
        Ok((text(0).and_then(|n| n.parse().ok()).unwrap_or_default(), text(1)))
    }

    fn editor(&self, access: &DatabaseAccess) -> Result<Box<dyn RowEditor>, DatabaseError> {
        Ok(Box::new(edit::PostgresEditor::open(access)?))
    }

    fn snapshot(&self, access: &DatabaseAccess) -> Result<Box<dyn Snapshot>, DatabaseError> {
        Ok(Box::new(read::PostgresSnapshot::open(access)?))
    }
    fn loader(&self, access: &DatabaseAccess) -> Result<Box<dyn Loading>, DatabaseError> {
        Ok(Box::new(load::PostgresLoader::new(access)?))
    }
    fn facts(
        &self,
        access: &DatabaseAccess,
        wanted: &[Wanted],
    ) -> Result<(Vec<Size>, Inspection), DatabaseError> {
        facts(access, wanted)
    }
    fn kept(&self, access: &DatabaseAccess) -> Result<BTreeSet<String>, DatabaseError> {
        let sql = format!("SELECT n.nspname::text FROM pg_catalog.pg_namespace n WHERE {}", aside::KEPT);
        Ok(rows(&mut connect(access)?, &sql, &[])?.iter().map(|row| row.get(0)).collect())
    }
    fn identity(&self, access: &DatabaseAccess) -> Result<(String, u64), DatabaseError> {
        identity(access)
    }
    fn trial(&self, access: &DatabaseAccess) -> Result<Trial, DatabaseError> {
        trial(access)
    }
    fn create(&self, plan: &CreatePlan) -> Result<Created, DatabaseError> {
        create(plan)
    }
    fn create_statements(&self, plan: &CreatePlan) -> Vec<String> {
        create_statements(plan)
    }
}
