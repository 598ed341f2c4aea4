//! Makes a database, its user and the rights, with a password that is saved and not shown.

use super::{Done, Failure, How, Refused, World};
use crate::database::create::{CreatePlan, Created, check_names, new_password};
use crate::database::servers::{by_hand, create};
use crate::finding::{Code, Finding};
use crate::options::CreateJob;
use crate::place::DatabaseAccess;
use crate::saved_logins;
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

/// A database that was made.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CreateOutcome {
    /// The database, as a URL without password.
    pub database: String,
    /// What was made.
    #[serde(flatten)]
    pub created: Created,
    /// File of the log-in that was saved.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Option<PathBuf>")]
    pub saved_log_in: Option<PathBuf>,
    /// Whether the password was made here.
    pub password_made: bool,
    /// The password, to be shown if somebody asked for that.
    #[serde(skip)]
    pub password: Secret,
    /// What a person should know.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

/// What would be asked of the server.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CreatePreview {
    /// The database, as a URL without password.
    pub database: String,
    /// Statements, with stars for the password.
    pub statements: Vec<String>,
}

/// The names of database and user with the beginning that the host asks for.
fn prefixed(options: &CreateJob) -> DatabaseAccess {
    let mut wanted = options.database.0.clone();
    if let Some(prefix) = options.account_prefix.as_deref().filter(|_| !wanted.engine.facts().is_file) {
        for name in [&mut wanted.name, &mut wanted.user] {
            if !name.is_empty() && !name.starts_with(prefix) {
                name.insert_str(0, prefix);
            }
        }
    }
    wanted
}

/// Makes it, or tells how.
pub(super) fn run(options: &CreateJob, how: How, world: &dyn World) -> Result<Done, Failure> {
    let mut wanted = prefixed(options);
    let is_file = wanted.engine.facts().is_file;
    if wanted.user.is_empty() && !is_file {
        return Err(Refused::NoUser.into());
    }
    let mut admin = match &options.admin {
        Some(url) => url.0.clone(),
        None => DatabaseAccess { user: String::new(), name: String::new(), ..wanted.clone() },
    };
    let folder = saved_logins::folder(&world.data().map_err(super::RunError::from)?);
    let known = saved_logins::read(&folder, &wanted).map(|(_, password)| password);
    let new = known.is_none() && options.database_password_file.is_none();
    wanted.password = match (&options.database_password_file, known) {
        (Some(path), _) => world.secret(path).map_err(super::RunError::from)?,
        (None, Some(password)) => password,
        (None, None) => new_password()?,
    };
    let mut plan = CreatePlan {
        wanted,
        admin: admin.clone(),
        account_prefix: options.account_prefix.clone(),
        from_host: options.from_host.clone(),
        auth_plugin: options.auth_plugin.clone(),
    };
    check_names(&plan)?;
    if how.dry_run {
        let database = plan.wanted.url();
        return Ok(Done::CreatePreview(CreatePreview { database, statements: by_hand(&plan) }));
    }
    if admin.socket.is_none() && admin.is_local() {
        admin.socket.clone_from(&plan.wanted.socket);
    }
    // The variable holds the password of the new user, not the admin's.
    if let Some(path) = &options.admin_password_file {
        admin.password = world.secret(path).map_err(super::RunError::from)?;
    } else if !is_file {
        world.log_in_admin(&mut admin).map_err(super::RunError::from)?;
    }
    plan.admin = admin;
    // The log-in is saved first: a password that a server knows and nobody else is lost.
    let path = saved_logins::path(&folder, &plan.wanted);
    let before = std::fs::read(&path).ok();
    if !is_file {
        saved_logins::write(&folder, &plan.wanted)?;
    }
    let as_before = || match &before {
        Some(text) => {
            let _ = crate::tree::write_atomically(&path, text);
        }
        None => {
            let _ = std::fs::remove_file(&path);
        }
    };
    let created = create(&plan).map_err(|error| {
        if new && !is_file {
            as_before();
        }
        match error {
            e @ crate::database::DatabaseError::Statement { .. } => {
                super::RunError::from(NotAllowed { statements: by_hand(&plan), source: e })
            }
            e => e.into(),
        }
    })?;
    let misfits = created.password_fits == Some(false) && !new;
    if (misfits || (!created.user && new)) && !is_file {
        // What is saved must be what the server knows: a user that is there has a password of its own, which stays.
        as_before();
    }
    let mut findings = Vec::new();
    let other = created.auth_plugin.as_ref();
    let other = other.filter(|p| options.auth_plugin.as_ref().is_some_and(|asked| asked != *p));
    if let Some(plugin) = other {
        let what = format!("the user exists and logs in by {plugin}, which stays");
        let cure = "name another user, or let an admin change this one";
        findings.push(Finding::new(Code::UserExisted, what, &plan.wanted.user, cure));
    }
    if misfits {
        let what = "the user exists, and does not log in with the password that was given";
        let cure =
            "give the one it has, name another user, or let an admin change it; nothing of it was kept";
        findings.push(Finding::new(Code::UserExisted, what, &plan.wanted.user, cure));
    }
    Ok(Done::Created(Box::new(CreateOutcome {
        database: plan.wanted.url(),
        password_made: created.user && new,
        saved_log_in: Some(path).filter(|p| !is_file && p.exists()),
        password: if misfits { Secret::default() } else { plan.wanted.password },
        created,
        findings,
    })))
}

/// The log-in may not make databases or users.
#[derive(Debug, thiserror::Error)]
#[error("the database cannot be made with this log-in")]
pub struct NotAllowed {
    /// What somebody who may would run, with stars for the password.
    pub statements: Vec<String>,
    /// Why.
    #[source]
    pub source: crate::database::DatabaseError,
}
