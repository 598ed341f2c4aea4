//! Errors dressed for people: what happened, why, and what to do next. The kind decides the exit code.

use crate::exit::Exit;
use crate::format::number;
use crate::login::undo_command;
use std::error::Error;
use std::io::ErrorKind;
use zporter_core::archive::read::ReadError;
use zporter_core::archive::write::WriteError;
use zporter_core::contents::PackError;
use zporter_core::database::DatabaseError;
use zporter_core::dump::stream::DumpError;
use zporter_core::fsx::PathError;
use zporter_core::job::JobError;
use zporter_core::job::run::{Outside, Refused, RunError, SeveralFailed};
use zporter_core::lock::LockError;
use zporter_core::place::PlaceError;
use zporter_core::restore::RestoreError;
use zporter_core::shell::quoted;
use zporter_core::survey::SurveyError;
use zporter_core::survey::recognise::LookedFor;
use zporter_core::system::DefinitionError;
use zporter_core::trace::TraceError;
use zporter_core::undo::UndoError;
use zporter_core::visit::{NoAnswer, VisitError};

/// An error on its way to the terminal.
#[derive(Debug)]
pub struct CommandError {
    /// Exit code.
    pub exit: Exit,
    /// What happened.
    pub message: String,
    /// Causes, outermost first.
    pub causes: Vec<String>,
    /// What to do next.
    pub hints: Vec<String>,
    /// The run that had begun.
    pub run: Option<String>,
    /// The signal that stopped it, if one did.
    pub stopped: Option<i32>,
}

impl std::fmt::Display for CommandError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.message)
    }
}

impl Error for CommandError {}

/// Says how to go back behind a run.
pub fn undo_hint(run: &str) -> String {
    format!("go back with `{}`", undo_command(run))
}

impl CommandError {
    fn new(exit: Exit, error: &dyn Error) -> Self {
        let mut causes = Vec::new();
        let mut next = error.source();
        while let Some(cause) = next {
            let text = cause.to_string();
            if causes.last() != Some(&text) && !error.to_string().ends_with(&text) {
                causes.push(text);
            }
            next = cause.source();
        }
        CommandError { causes, ..CommandError::of(exit, error.to_string()) }
    }

    /// Makes an error of wrong usage.
    pub fn usage(message: impl Into<String>) -> Self {
        CommandError::of(Exit::Usage, message.into())
    }

    /// Makes an error of a guard.
    pub fn refused(message: impl Into<String>) -> Self {
        CommandError { exit: Exit::Refused, ..CommandError::usage(message) }
    }

    /// Makes an error of the world around us.
    pub fn world(message: impl Into<String>, cause: impl Error) -> Self {
        CommandError { causes: vec![cause.to_string()], ..CommandError::of(Exit::World, message.into()) }
    }

    fn of(exit: Exit, message: String) -> Self {
        CommandError { exit, message, causes: Vec::new(), hints: Vec::new(), run: None, stopped: None }
    }

    /// The exit code; of a signal the shell's own number for it.
    pub fn code(&self) -> u8 {
        self.stopped.map_or(self.exit as u8, |signal| (128 + signal) as u8)
    }

    /// The word for programs.
    pub fn kind(&self) -> &'static str {
        match self.exit {
            _ if self.stopped.is_some() => "stopped",
            Exit::Done | Exit::Findings | Exit::Usage => "usage",
            Exit::Refused => "refused",
            Exit::World => "world",
            Exit::Damaged => "damaged",
        }
    }

    /// Adds what to do next.
    pub fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hints.push(hint.into());
        self
    }

    fn looked_for(mut self, looked_for: &[LookedFor]) -> Self {
        for system in looked_for {
            self.causes.push(format!("{}: looked for {}", system.system, system.markers.join(" and ")));
        }
        self.hint("name the folder in which these files lie; `zporter systems` lists what is known")
    }
}

impl From<PathError> for CommandError {
    fn from(e: PathError) -> Self {
        let hint = match e.source.kind() {
            std::io::ErrorKind::PermissionDenied => {
                Some("run this as the user who owns the files, or change their permissions")
            }
            std::io::ErrorKind::NotFound => Some("check the spelling of the path"),
            std::io::ErrorKind::StorageFull => Some("free some space, or write to another disk"),
            _ => None,
        };
        let out = CommandError::new(Exit::World, &e);
        hint.into_iter().fold(out, CommandError::hint)
    }
}

impl From<VisitError> for CommandError {
    fn from(e: VisitError) -> Self {
        let hints: &[&str] = match &e {
            VisitError::Cancelled(_) => &[],
            VisitError::NoAnswer { why: NoAnswer::NoName, .. } => &[
                "where the site already runs although name servers do not know it: --at IP",
                "else look at the spelling of the host",
            ],
            VisitError::NoAnswer { why: NoAnswer::Refused(_), .. } => {
                &["look whether the web server runs there, and at address and port"]
            }
            VisitError::NoAnswer { why: NoAnswer::Certificate(_), .. } => {
                &["to look at the site all the same, say --any-certificate"]
            }
            VisitError::NoAnswer { .. } => &["look at the server's log; more time is given by --patience"],
            VisitError::Path(_) => &["look at the folder for pictures"],
            VisitError::Address(_) => &["write it like https://www.fernhollow.example/shop"],
            VisitError::System(_) => {
                return CommandError::new(Exit::Usage, &e).hint("`zporter systems` lists what is known");
            }
        };
        hints.iter().fold(CommandError::new(Exit::World, &e), |out, hint| out.hint(*hint))
    }
}

impl From<LockError> for CommandError {
    fn from(e: LockError) -> Self {
        match e {
            LockError::Path(e) => e.into(),
            LockError::Held { .. } => CommandError::new(Exit::Refused, &e)
                .hint("wait until it is through; `zporter logbook` shows it"),
        }
    }
}

impl From<PlaceError> for CommandError {
    fn from(e: PlaceError) -> Self {
        let cure = e.cure();
        CommandError::new(Exit::Usage, &e).hint(cure)
    }
}

impl From<DefinitionError> for CommandError {
    fn from(e: DefinitionError) -> Self {
        match e {
            DefinitionError::Read { .. } => CommandError::new(Exit::World, &e),
            DefinitionError::Wrong { ref mistakes, .. } => {
                let mut out = CommandError::new(Exit::Usage, &e);
                if mistakes.len() > 1 {
                    out.causes = mistakes.iter().map(|m| format!("line {}: {}", m.line, m.message)).collect();
                }
                out.hint("`zporter systems ID --toml` shows one that works; docs/definitions.md explains every key")
            }
        }
    }
}

impl From<SurveyError> for CommandError {
    fn from(e: SurveyError) -> Self {
        match e {
            SurveyError::NoFolder { .. } => {
                CommandError::new(Exit::World, &e).hint("check the spelling and your permissions")
            }
            SurveyError::Unknown { ref inside, .. } if !inside.is_empty() => {
                let mut out = CommandError::new(Exit::Usage, &e).hint("name one of the sites in it:");
                for (folder, product) in inside {
                    out = out.hint(format!("{} ({product})", folder.display()));
                }
                out
            }
            SurveyError::Unknown { ref looked_for, .. } => CommandError::new(Exit::Usage, &e)
                .looked_for(looked_for)
                .hint("or carry it as files and a database that you name: survey and pack with --database URL or --dump FILE, clone with --old-database URL or --dump FILE"),
            SurveyError::Dump { .. } => dump_hint(CommandError::new(Exit::Damaged, &e)),
            SurveyError::NoHost { ref found, .. } if found.is_empty() => CommandError::new(Exit::Usage, &e)
                .hint("this system has one site on its code base; leave --host-folder out"),
            SurveyError::NoHost { ref found, .. } => {
                CommandError::new(Exit::Usage, &e).hint(format!("there are: {}", found.join(", ")))
            }
            SurveyError::Path(e) => e.into(),
        }
    }
}

fn dump_hint(error: CommandError) -> CommandError {
    error.hint("export the database again, as SQL, from the database of this site")
}

impl From<JobError> for CommandError {
    fn from(e: JobError) -> Self {
        match e {
            JobError::Path(e) => e.into(),
            JobError::Missing(ref name) => {
                let typed = match name.as_str() {
                    "source" | "target" | "site" | "input" | "place" | "dump" => name.to_uppercase(),
                    name => format!("--{name}"),
                };
                let out = CommandError::usage(format!("{typed} is missing"));
                match name.as_str() {
                    "address" => out.hint("--address URL is the address that the copy gets"),
                    _ => out.hint("the command with --help lists its options"),
                }
            }
            JobError::Wrong { ref name, ref why, ref cure } => {
                let out = CommandError::usage(format!("{name}: {why}"));
                if cure.is_empty() { out } else { out.hint(cure.clone()) }
            }
            JobError::Unknown { .. } => {
                CommandError::new(Exit::Usage, &e).hint("the command with --help lists its options")
            }
            JobError::NoJob { .. } => {
                CommandError::new(Exit::Usage, &e).hint("--save-job FILE writes one that works")
            }
            JobError::OtherCommand { ref holds, ref path } => {
                let hint =
                    format!("run it with: zporter {holds} --job {}", quoted(&path.display().to_string()));
                CommandError::new(Exit::Usage, &e).hint(hint)
            }
        }
    }
}

impl From<Refused> for CommandError {
    fn from(e: Refused) -> Self {
        let (exit, hint) = match &e {
            Refused::Exists(_) => (
                Exit::Refused,
                "name another file, move the old one away, or replace it with --force".to_string(),
            ),
            Refused::Folder(_) => (Exit::Refused, "name a file in it".into()),
            Refused::NothingToRewrite => (
                Exit::Usage,
                "name at least one --address OLD NEW or --root OLD NEW whose two sides differ".into(),
            ),
            Refused::Prefix(..) => (
                Exit::Usage,
                "a prefix is made of letters, digits and underscores, and the old one is not empty".into(),
            ),
            Refused::Column(_) => (Exit::Usage, "write it as TABLE.COLUMN".into()),
            Refused::NoUser => (Exit::Usage, "write it like mysql://USER@HOST/NAME".into()),
            Refused::NoMove(_) => (Exit::Usage, "name the run of `zporter move SITE TARGET`; `zporter logbook` lists all runs".into()),
            Refused::NoAddress(_) => (
                Exit::Usage,
                "name the address that it shall have with --address, and the one it had with --old-address".into(),
            ),
            Refused::NoAnswer { .. } => (
                Exit::World,
                "name the database with --database URL, or look whether its server answers: zporter database try SITE".into(),
            ),
            Refused::NoDatabase(_) => (Exit::Usage, "name the database by its URL".into()),
            Refused::NotTheFirst { first, .. } => {
                (Exit::Usage, format!("begin with {first}; the other parts follow by themselves"))
            }
            Refused::NoDump(_) => (Exit::Usage, "check the spelling of the path".into()),
            Refused::DumpIsFolder(_) => (Exit::Usage, "name the .sql, .sql.gz or .sql.zst file".into()),
            Refused::Overwrites { .. } => (
                Exit::Refused,
                "nothing was changed; carry over by hand what is needed, then go over the rest with --overwrite (zporter undo brings it back)".into(),
            ),
            Refused::NotADump { is, .. } => (Exit::Damaged, is.cure.into()),
            Refused::EmptyDump(_) => {
                (Exit::Damaged, "export it again, and compare the size of what arrived".into())
            }
            Refused::DumpIsArchive(_) => (
                Exit::Usage,
                "`zporter restore` takes an archive; with `--only database` its database alone".into(),
            ),
            Refused::NamedLikeArchive(_) => {
                (Exit::Usage, "name a file that ends in .sql, .sql.gz or .sql.zst".into())
            }
            Refused::SeveralHosts => (Exit::Usage, "pack them one by one".into()),
            Refused::PartSize(_) => (Exit::Usage, "write it as 50M or 1G; the least is 1M".into()),
            Refused::SeveralIntoPipe => (Exit::Usage, "name a file with -o, or one host".into()),
            Refused::PartsIntoPipe => (Exit::Usage, "name a file with -o, or leave --part-size out".into()),
            Refused::NoOwner { .. } => (Exit::Usage, "name one that `id` knows, or a number".into()),
        };
        CommandError::new(exit, &e).hint(hint)
    }
}

impl From<RunError> for CommandError {
    fn from(e: RunError) -> Self {
        match e {
            RunError::Job(e) => e.into(),
            RunError::Outside(e) => outside(e),
            RunError::Lock(e) => e.into(),
            RunError::Definition(e) => e.into(),
            RunError::Survey(e) => e.into(),
            RunError::Pack(e) => e.into(),
            RunError::Restore(e) => e.into(),
            RunError::Database(e) => e.into(),
            RunError::Dump(e) => e.into(),
            RunError::Place(e) => e.into(),
            RunError::Path(e) => e.into(),
            RunError::Refused(e) => e.into(),
            RunError::Visit(e) => e.into(),
            RunError::StaysQuiet { ref run, .. } => {
                let hint = format!("put it back: `zporter undo {run}`");
                CommandError::new(Exit::World, &e).hint(hint)
            }
            RunError::NotAllowed(e) => {
                let mut out = CommandError::from(e.source).hint(
                    "the log-in may not do this; make the database in the host's own panel, or ask an admin to run:",
                );
                for statement in e.statements {
                    out = out.hint(format!("{statement};"));
                }
                out
            }
        }
    }
}

/// Takes an error back that the core only handed on.
fn outside(e: Outside) -> CommandError {
    match e.downcast::<CommandError>() {
        Ok(ours) => *ours,
        Err(e) => match e.downcast::<SeveralFailed>() {
            Ok(several) => {
                let message = several.to_string();
                let inner = CommandError::from(*several.source);
                let causes = [vec![inner.message], inner.causes].concat();
                CommandError { causes, hints: inner.hints, ..CommandError::of(inner.exit, message) }
            }
            Err(e) => CommandError::new(Exit::World, &*e),
        },
    }
}

impl From<DatabaseError> for CommandError {
    fn from(e: DatabaseError) -> Self {
        match &e {
            DatabaseError::Connect { refusal, .. } => {
                let out = CommandError::new(Exit::World, &e).hint(refusal.cure());
                // The cause in the library's words says nothing that the refusal does not say in plain ones.
                CommandError { causes: Vec::new(), ..out }
            }
            DatabaseError::Forbidden { .. } => CommandError::new(Exit::Refused, &e)
                .hint("only statements that build tables, views, triggers, routines and rows are loaded; take the line out if you trust it"),
            DatabaseError::Unfit { cure, .. } => CommandError::new(Exit::Refused, &e).hint(cure.clone()),
            DatabaseError::InUse { .. } => CommandError::new(Exit::Refused, &e)
                .hint("name an empty database, or empty this one yourself if nothing in it is needed")
                .hint("or let --empty-database remove tables of the same names: a dump of them is kept for `zporter undo`"),
            DatabaseError::ReadOnly { .. } => CommandError::new(Exit::World, &e)
                .hint("load into a server that takes writes, not into its replica"),
            DatabaseError::Lost(_) => CommandError::new(Exit::World, &e)
                .hint("see whether the server runs, and run the same command again"),
            DatabaseError::OtherDialect { .. } | DatabaseError::NotSpoken(_) | DatabaseError::Name { .. } => {
                CommandError::new(Exit::Usage, &e)
            }
            DatabaseError::CutOff { .. } => dump_hint(CommandError::new(Exit::Damaged, &e)),
            DatabaseError::NotKept { .. } => {
                CommandError::new(Exit::World, &e).hint("make room there and run the same command again")
            }
            DatabaseError::Statement { .. } | DatabaseError::Io(_) => CommandError::new(Exit::World, &e),
        }
    }
}

impl From<UndoError> for CommandError {
    fn from(e: UndoError) -> Self {
        match e {
            UndoError::NoRun(_) => {
                CommandError::new(Exit::Usage, &e).hint("`zporter logbook` lists all runs")
            }
            UndoError::Already { .. } | UndoError::Nothing { .. } => CommandError::new(Exit::Usage, &e),
            UndoError::Forgotten { .. } | UndoError::NothingBeside { .. } => {
                CommandError::new(Exit::Usage, &e)
            }
            UndoError::NotOver { ref run } => {
                let hint = format!("go back first: `zporter undo {run}`");
                CommandError::new(Exit::Refused, &e).hint(hint)
            }
            UndoError::Gone { .. } => CommandError::new(Exit::Refused, &e)
                .hint("nothing was changed: the site is as the run left it")
                .hint("bring it back from an archive: zporter restore ARCHIVE --in-place"),
            UndoError::Later { ref later, .. } => {
                let hint = format!("undo that one first: `zporter undo {later}`");
                CommandError::new(Exit::Refused, &e).hint(hint)
            }
            UndoError::Database(e) => e.into(),
            UndoError::Rows(e) => (*e).into(),
            UndoError::Path(e) => e.into(),
        }
    }
}

impl From<DumpError> for CommandError {
    fn from(e: DumpError) -> Self {
        match &e {
            DumpError::Read(e) if e.kind() == ErrorKind::InvalidData => CommandError::new(Exit::Damaged, e),
            DumpError::Dialect(_) | DumpError::DatabaseFile => CommandError::new(Exit::Usage, &e),
            DumpError::Read(_) | DumpError::Write(_) | DumpError::Sink(_) => {
                CommandError::new(Exit::World, &e)
            }
        }
    }
}

impl From<TraceError> for CommandError {
    fn from(e: TraceError) -> Self {
        match e {
            TraceError::Archive(e) => e.into(),
            TraceError::Dump { source: DumpError::DatabaseFile, .. } => CommandError::new(Exit::Usage, &e),
            TraceError::Read { ref source, .. } if source.kind() == ErrorKind::InvalidData => {
                CommandError::new(Exit::Damaged, &e)
            }
            TraceError::Read { .. } | TraceError::Dump { .. } => CommandError::new(Exit::World, &e),
        }
    }
}

impl From<ReadError> for CommandError {
    fn from(e: ReadError) -> Self {
        match &e {
            ReadError::Open { .. } => {
                CommandError::new(Exit::World, &e).hint("check the spelling and your permissions")
            }
            ReadError::NoArchive(_) => CommandError::new(Exit::Damaged, &e),
            ReadError::Stopped(_) => CommandError::new(Exit::World, &e),
            ReadError::Broken { .. } => {
                CommandError::new(Exit::Damaged, &e).hint("transfer it again, in binary mode")
            }
        }
    }
}

impl From<WriteError> for CommandError {
    fn from(e: WriteError) -> Self {
        match e {
            WriteError::Ending(_) => {
                CommandError::new(Exit::Usage, &e).hint("end the name with .tar.zst, .tar.gz or .zip")
            }
            WriteError::Exists(_) => CommandError::new(Exit::Refused, &e)
                .hint("name another file, move the old one away, or replace it with --force"),
            WriteError::Path(e) => e.into(),
            WriteError::Entry { .. } => CommandError::new(Exit::World, &e),
        }
    }
}

impl From<PackError> for CommandError {
    fn from(e: PackError) -> Self {
        match e {
            PackError::InsideSite(_) => {
                CommandError::new(Exit::Refused, &e).hint("name a file outside of the site with -o")
            }
            PackError::Database(e) => e.into(),
            PackError::NoDatabase(_) => CommandError::new(Exit::World, &e)
                .hint("name an exported dump with --dump FILE")
                .hint("or pack the files alone with --without database"),
            PackError::CutOff { .. } | PackError::Dump { .. } => {
                dump_hint(CommandError::new(Exit::Damaged, &e))
            }
            PackError::SeveralDatabases { .. } => {
                CommandError::new(Exit::Usage, &e).hint("export the site's database alone")
            }
            PackError::SeveralHosts { .. } => CommandError::new(Exit::Usage, &e)
                .hint("name the one to pack with --host-folder NAME; each gets an archive of its own"),
            PackError::NoSuchPart(_) => CommandError::new(Exit::Usage, &e)
                .hint("parts are database, code, media and cache; a folder is named as it lies below the site, such as images/banners"),
            PackError::Write(e) => e.into(),
            PackError::Path(e) => e.into(),
        }
    }
}

impl From<RestoreError> for CommandError {
    fn from(e: RestoreError) -> Self {
        match e {
            RestoreError::Read(e) => e.into(),
            RestoreError::Damaged { ref damage, .. } => {
                CommandError::new(Exit::Damaged, &e).hint(damage.cure())
            }
            RestoreError::Unknown { ref looked_for, .. } => {
                CommandError::new(Exit::Usage, &e).looked_for(looked_for)
            }
            RestoreError::NoDefinition(_) => CommandError::new(Exit::Usage, &e)
                .hint("put its definition into the folder that `zporter systems` names"),
            RestoreError::TargetInUse { .. } => {
                CommandError::new(Exit::Refused, &e).hint("name a folder that is missing or empty")
            }
            RestoreError::NotItsCopy { .. } => CommandError::new(Exit::Refused, &e)
                .hint("a copy goes back only over the site that it was made of; it is made with: zporter clone LIVE COPY"),
            RestoreError::OtherSite { .. } => CommandError::new(Exit::Refused, &e)
                .hint("name the folder of the site, or restore the archive into an empty one"),
            RestoreError::NoCopy { .. } => CommandError::new(Exit::Refused, &e)
                .hint("name the folder of a copy that was made before, or leave --refresh out to make one"),
            RestoreError::SourceDatabase { .. } => CommandError::new(Exit::Refused, &e)
                .hint("name another database: a source is only read"),
            RestoreError::TargetInSource { .. } => CommandError::new(Exit::Refused, &e)
                .hint("name a folder beside the site"),
            RestoreError::FileInUse(_) => {
                CommandError::new(Exit::Refused, &e).hint("name another file with --dump-to")
            }
            RestoreError::DumpInTarget(_) => {
                CommandError::new(Exit::Refused, &e).hint("name a file outside of the target with --dump-to")
            }
            RestoreError::Space { needed, free, .. } => CommandError::new(Exit::World, &e)
                .hint(format!("free {} bytes, or choose another disk", number(needed - free))),
            RestoreError::NoAddress { ref candidates } => {
                let mut out = CommandError::new(Exit::Usage, &e);
                out.causes = candidates
                    .iter()
                    .map(|(h, n)| format!("the content names {h} {} times", number(*n)))
                    .collect();
                out.hint("say the old address with --old-address URL")
            }
            RestoreError::NoDatabaseTarget => CommandError::new(Exit::Usage, &e)
                .hint("name the new database with --database mysql://USER@HOST/NAME")
                .hint("or a file for the rewritten dump with --dump-to FILE.sql.gz"),
            RestoreError::Database(e) => e.into(),
            RestoreError::Dump { source: DumpError::Write(_) | DumpError::Read(_), .. } => {
                CommandError::new(Exit::World, &e)
            }
            RestoreError::Dump { .. } => dump_hint(CommandError::new(Exit::Damaged, &e)),
            RestoreError::Config { .. } => CommandError::new(Exit::Damaged, &e),
            RestoreError::Entry { .. } => CommandError::new(Exit::World, &e),
            RestoreError::Switch { .. } => CommandError::new(Exit::Usage, &e),
            RestoreError::Password(_) => CommandError::new(Exit::Usage, &e)
                .hint("leave --admin-password-file out, and reset the password on the new host"),
            RestoreError::Prefix { .. } => CommandError::new(Exit::Usage, &e),
            RestoreError::Joining { .. } => CommandError::new(Exit::Refused, &e),
            RestoreError::SeveralHosts { .. } => {
                CommandError::new(Exit::Usage, &e).hint("name the one to restore with --host-folder NAME")
            }
            RestoreError::NotLoadable(_) => CommandError::new(Exit::Usage, &e)
                .hint("name a file for the rewritten script with --dump-to FILE.sql, and load it with the server's own tool"),
            RestoreError::Place(e) => e.into(),
            RestoreError::Path(e) => e.into(),
        }
    }
}
