//! `zporter database create`: a database, its user, the rights, and a password that is kept and not shown.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::login;
use crate::ui::Ui;
use clap::Args;
use serde::Serialize;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use zporter_core::database::DatabaseError;
use zporter_core::database::create::{
    CreateJob, Created, PASSWORD_LENGTH, by_hand, check_names, create, new_password, password_bits,
};
use zporter_core::place::{DatabaseAccess, Engine};
use zporter_core::secret::Secret;

/// Make a database and a user who has rights on exactly that database
#[derive(Debug, Args)]
pub struct CreateArgs {
    /// The new database and its user: mysql://USER@HOST/NAME, postgres://…, sqlite:///PATH
    #[arg(value_name = "URL")]
    database: String,
    /// Log-in that may make databases and users: mysql://root@HOST, postgres://postgres@HOST
    #[arg(long, value_name = "URL")]
    admin: Option<String>,
    /// File that holds the admin's password (else ~/.my.cnf or ~/.pgpass, a prompt)
    #[arg(long, value_name = "FILE")]
    admin_password_file: Option<PathBuf>,
    /// File that holds the new user's password (default: one is made)
    #[arg(long, value_name = "FILE")]
    database_password_file: Option<PathBuf>,
    /// Beginning that the host asks of all names of an account, such as fernhollow_
    #[arg(long, value_name = "PREFIX")]
    account_prefix: Option<String>,
    /// Host from which the user logs in, where it is not this one
    #[arg(long, value_name = "HOST")]
    from_host: Option<String>,
    /// Authentication plug-in of the user, such as mysql_native_password for old programs (default: the server's own choice)
    #[arg(long, value_name = "NAME")]
    auth_plugin: Option<String>,
    /// Show the password, once
    #[arg(long)]
    show_password: bool,
    /// Print the statements and change nothing
    #[arg(long)]
    dry_run: bool,
}

#[derive(Serialize)]
struct Report<'a> {
    url: String,
    #[serde(flatten)]
    created: &'a Created,
    sheet: Option<&'a Path>,
}

/// Runs the command.
pub fn run(ui: &Ui, args: &CreateArgs) -> Result<Exit, CommandError> {
    let mut wanted = DatabaseAccess::parse(&args.database)?;
    let is_file = wanted.engine == Engine::Sqlite;
    if wanted.user.is_empty() && !is_file {
        return Err(CommandError::usage("the URL names no user for the new database")
            .hint("write it like mysql://USER@HOST/NAME"));
    }
    let mut admin = match &args.admin {
        Some(url) => DatabaseAccess::parse_server(url)?,
        None => DatabaseAccess { user: String::new(), name: String::new(), ..wanted.clone() },
    };
    let known = login::sheet(&wanted).map(|(_, password)| password);
    let new = known.is_none() && args.database_password_file.is_none();
    wanted.password = match (&args.database_password_file, known) {
        (Some(path), _) => crate::context::secret_of(path)?,
        (None, Some(password)) => password,
        (None, None) => new_password()?,
    };
    let mut job = CreateJob {
        wanted,
        admin: admin.clone(),
        account_prefix: args.account_prefix.clone(),
        from_host: args.from_host.clone(),
        auth_plugin: args.auth_plugin.clone(),
    };
    check_names(&job)?;
    if args.dry_run {
        for statement in by_hand(&job) {
            ui.line(format!("{statement};"));
        }
        return Ok(Exit::Done);
    }
    if admin.socket.is_none() && admin.is_local() {
        admin.socket.clone_from(&job.wanted.socket);
    }
    // The variable holds the password of the new user, not the admin's.
    if let Some(path) = &args.admin_password_file {
        admin.password = crate::context::secret_of(path)?;
    } else if !is_file {
        login::complete_admin(&mut admin)?;
    }
    job.admin = admin;
    // The sheet comes first: a password that a server knows and nobody else is lost.
    let before =
        login::sheet_path(&job.wanted).ok().and_then(|path| Some((std::fs::read(&path).ok()?, path)));
    let sheet = if is_file { None } else { Some(write_sheet(&job.wanted)?) };
    let created = create(&job).map_err(|e| refused(e, &job, sheet.as_deref().filter(|_| new)))?;
    if !created.user && new && !is_file {
        // The user is there with a password of its own, which stays.
        if let Some(sheet) = &sheet {
            let _ = std::fs::remove_file(sheet);
        }
    }
    let misfits = created.password_fits == Some(false) && !new;
    if let (true, Some(sheet)) = (misfits, &sheet) {
        // What is kept must be what the server knows.
        let _ = match &before {
            Some((text, path)) => std::fs::write(path, text),
            None => std::fs::remove_file(sheet),
        };
    }
    let other =
        created.auth_plugin.as_ref().filter(|p| args.auth_plugin.as_ref().is_some_and(|asked| asked != *p));
    let exit = if other.is_some() || misfits { Exit::Findings } else { Exit::Done };
    if ui.json {
        ui.document(&Report {
            url: job.wanted.url(),
            created: &created,
            sheet: sheet.as_deref().filter(|s| s.exists()),
        })?;
        return Ok(exit);
    }
    ui.good(&format!("{} is ready", job.wanted.url()));
    ui.fact("database", if created.database { "made" } else { "was there" });
    if let Some(sheet) = &sheet {
        let from = created.hosts.join(", ");
        ui.fact("user", format!("{}, logs in from {from}", if created.user { "made" } else { "was there" }));
        if let Some(plugin) = &created.auth_plugin {
            ui.fact("logs in by", plugin);
        }
        if created.user && new {
            ui.fact(
                "password",
                format!("made: {PASSWORD_LENGTH} letters and digits, {} bits", password_bits()),
            );
        }
        if sheet.exists() {
            ui.fact("kept in", format!("{}; zporter looks it up there by itself", sheet.display()));
        } else {
            ui.fact("password", "unknown here: it stays what it was");
        }
    }
    if let Some(plugin) = other {
        let what = format!("the user was there and logs in by {plugin}, which stays");
        ui.finding(&what, &job.wanted.user, "name another user, or let an admin change this one");
    }
    if misfits {
        let what = "the user was there, and does not log in with the password that was given";
        let cure =
            "give the one it has, name another user, or let an admin change it; nothing of it was kept";
        ui.finding(what, &job.wanted.user, cure);
    }
    if args.show_password && !misfits && sheet.is_some_and(|s| s.exists()) {
        show(&job.wanted.password);
    }
    Ok(exit)
}

/// The one place that shows a password, because somebody asked for it.
fn show(password: &Secret) {
    let _ = writeln!(std::io::stdout(), "{}", password.expose());
}

fn write_sheet(access: &DatabaseAccess) -> Result<PathBuf, CommandError> {
    let path = login::sheet_path(access)?;
    let wrong = |e| CommandError::world(format!("the sheet {} cannot be written", path.display()), e);
    std::fs::create_dir_all(login::sheets()?).map_err(wrong)?;
    let text = format!(
        "# Log-in of a database that zporter made. Keep it to yourself.\nurl = \"{}\"\nuser = \"{}\"\npassword = \"{}\"\n",
        access.url(),
        access.user,
        access.password.expose()
    );
    let mut file = std::fs::File::options()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(&path)
        .map_err(wrong)?;
    file.write_all(text.as_bytes()).and_then(|()| file.sync_all()).map_err(wrong)?;
    Ok(path)
}

fn refused(error: DatabaseError, job: &CreateJob, sheet: Option<&Path>) -> CommandError {
    if let Some(sheet) = sheet {
        let _ = std::fs::remove_file(sheet);
    }
    let no_rights = matches!(&error, DatabaseError::Statement { .. });
    let mut out = CommandError::from(error);
    if no_rights {
        out = out.hint(
            "the log-in may not do this; make the database in the host's own panel, or ask an admin to run:",
        );
        for statement in by_hand(job) {
            out = out.hint(format!("{statement};"));
        }
    }
    out
}
