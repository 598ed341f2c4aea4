//! Makes a database with a user and rights on a MySQL or MariaDB server.

use super::{connect, name as quoted_name, quoted, rows, run};
use crate::database::DatabaseError;
use crate::database::create::{CreatePlan, Created};
use crate::place::DatabaseAccess;

/// The statements for that, with stars for the password.
pub(super) fn statements(job: &CreatePlan) -> Vec<String> {
    let (database, user) = (&job.wanted.name, &job.wanted.user);
    let host = job.from_host.clone().unwrap_or_else(|| "localhost".into());
    vec![
        make_database(database),
        make_user(job, Product::Unknown, &host, "***"),
        make_rights(database, user, &host),
    ]
}

fn make_database(database: &str) -> String {
    format!("CREATE DATABASE IF NOT EXISTS {} CHARACTER SET utf8mb4", quoted_name(database))
}

/// Whose server it is: the two name a plug-in in ways of their own.
#[derive(Clone, Copy)]
enum Product {
    Mysql,
    MariaDb,
    Unknown,
}

/// Source: the manuals' pages on `CREATE USER`.
fn make_user(job: &CreatePlan, product: Product, host: &str, password: &str) -> String {
    let password = quoted(password);
    let identified = match (&job.auth_plugin, product) {
        (None, _) => format!("BY {password}"),
        (Some(plugin), Product::Mysql) => format!("WITH {plugin} BY {password}"),
        (Some(plugin), Product::MariaDb) => format!("VIA {plugin} USING PASSWORD({password})"),
        (Some(plugin), Product::Unknown) => {
            format!(
                "WITH {plugin} BY {password} /* MariaDB: IDENTIFIED VIA {plugin} USING PASSWORD({password}) */"
            )
        }
    };
    format!("CREATE USER IF NOT EXISTS {}@{} IDENTIFIED {identified}", quoted(&job.wanted.user), quoted(host))
}

fn make_rights(database: &str, user: &str, host: &str) -> String {
    // In a grant, `_` and `%` stand for any letter unless they are escaped: the rights would reach other accounts' databases.
    let pattern = quoted_name(&database.replace('\\', "\\\\").replace('_', "\\_").replace('%', "\\%"));
    format!("GRANT ALL PRIVILEGES ON {pattern}.* TO {}@{}", quoted(user), quoted(host))
}

pub(super) fn create(job: &CreatePlan) -> Result<Created, DatabaseError> {
    let mut conn = connect(&DatabaseAccess { name: String::new(), ..job.admin.clone() })?;
    let (database, user) = (&job.wanted.name, &job.wanted.user);
    let hosts = match &job.from_host {
        Some(host) => vec![host.clone()],
        None if job.wanted.is_local() => {
            let names: Vec<u8> = rows(&mut conn, "SELECT @@skip_name_resolve")?;
            // Without name look-up a connection to 127.0.0.1 is not one from `localhost`.
            let numbers = names == [1] && job.wanted.host != "localhost";
            if numbers { vec!["127.0.0.1".into()] } else { vec!["localhost".into()] }
        }
        None => rows(&mut conn, "SELECT SUBSTRING_INDEX(USER(),'@',-1)")?,
    };
    let version: Vec<String> = rows(&mut conn, "SELECT VERSION()")?;
    let maria = version.iter().any(|v| v.contains("MariaDB"));
    let product = if maria { Product::MariaDb } else { Product::Mysql };
    let there: Vec<String> = rows(
        &mut conn,
        &format!(
            "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = {}",
            quoted(database)
        ),
    )?;
    let mut out = Created { database: there.is_empty(), hosts: hosts.clone(), ..Created::default() };
    let mut todo = vec![make_database(database)];
    out.statements.extend(todo.clone());
    for host in &hosts {
        let known: Vec<u8> = rows(
            &mut conn,
            &format!("SELECT 1 FROM mysql.user WHERE User = {} AND Host = {}", quoted(user), quoted(host)),
        )
        .unwrap_or_default();
        out.user |= known.is_empty();
        todo.push(make_user(job, product, host, job.wanted.password.expose()));
        out.statements.push(make_user(job, product, host, "***"));
        todo.push(make_rights(database, user, host));
        out.statements.push(make_rights(database, user, host));
    }
    for (sql, shown) in todo.iter().zip(&out.statements) {
        // What is shown of a refused statement must not show the password.
        run(&mut conn, sql).map_err(|e| match e {
            DatabaseError::Statement { source, .. } => DatabaseError::Statement {
                line: 0,
                statement: crate::database::beginning(shown.as_bytes()),
                source,
            },
            other => other,
        })?;
    }
    let sql = format!("SELECT plugin FROM mysql.user WHERE User = {} LIMIT 1", quoted(user));
    // Who may make users need not be allowed to look at them.
    out.auth_plugin = rows::<String>(&mut conn, &sql).unwrap_or_default().pop().filter(|p| !p.is_empty());
    Ok(out)
}
