//! Words that people try because they would call the thing so: they are told which word is meant here.

/// Options that are none, and the ones that are meant.
const OPTIONS: [(&[&str], &str); 22] = [
    (&["comment", "message", "description", "label", "title"], "--note"),
    (&["exclude", "skip", "ignore", "no"], "--without"),
    (&["include", "parts", "part"], "--only"),
    (&["url", "new-url", "new-address", "to", "domain", "host", "base-url", "site-url"], "--address"),
    (&["old-url", "from", "from-address", "source-url", "old-domain"], "--old-address"),
    (&["old-path", "from-root", "old-folder", "old-dir"], "--old-root"),
    (&["db", "database-url", "dsn", "mysql"], "--database"),
    (&["password", "db-password", "database-password", "pass"], "--database-password-file"),
    (&["prefix", "db-prefix"], "--table-prefix"),
    (&["overwrite", "yes", "clobber"], "--force"),
    (&["replace", "drop", "drop-tables", "clean", "wipe"], "--empty-database"),
    (&["test", "simulate", "preview", "plan", "check-only", "what-if", "dryrun", "pretend"], "--dry-run"),
    (&["file", "out", "archive", "to-file", "dest", "destination"], "--output"),
    (&["email", "mail", "admin-mail"], "--admin-email"),
    (&["admin-password", "new-password"], "--admin-password-file"),
    (&["name", "sitename"], "--site-name"),
    (&["sql", "dump-file", "from-dump"], "--dump"),
    (&["user", "chown", "group"], "--owner"),
    (&["threads", "parallel", "workers", "jobs"], "--connections"),
    (&["split", "chunk-size", "max-size", "size"], "--part-size"),
    (&["config", "job-file", "load-job", "profile"], "--job"),
    (&["silent", "less"], "--quiet"),
];

/// Commands that are none, and the ones that are meant.
const COMMANDS: [(&[&str], &str); 12] = [
    (&["backup", "archive", "save", "export", "create"], "pack"),
    (&["copy", "duplicate", "stage", "staging", "sync", "migrate", "transfer"], "clone"),
    (&["unpack", "extract", "import", "deploy", "recover"], "restore"),
    (&["check", "test", "prove", "validate", "proof"], "verify"),
    (&["info", "scan", "inspect", "analyse", "analyze", "show", "look", "detect"], "survey"),
    (&["rollback", "revert", "back"], "undo"),
    (&["log", "logs", "history", "runs", "list"], "logbook"),
    (&["replace", "rewrite", "rename", "search", "sed"], "readdress"),
    (&["find", "grep", "leftovers"], "trace"),
    (&["db", "mysql", "sql"], "database"),
    (&["cms", "definitions", "types"], "systems"),
    (&["example", "tutorial", "try"], "demo"),
];

fn meant(table: &[(&[&str], &'static str)], word: &str) -> Option<&'static str> {
    table.iter().find(|(words, _)| words.contains(&word)).map(|(_, meant)| *meant)
}

/// The option that is meant, if the command has it.
pub fn option(typed: &str, has: &dyn Fn(&str) -> bool) -> Option<&'static str> {
    let word = typed.trim_start_matches('-').split('=').next()?.to_ascii_lowercase();
    meant(&OPTIONS, &word).filter(|option| has(option.trim_start_matches('-')))
}

/// The command that is meant.
pub fn command(typed: &str) -> Option<&'static str> {
    meant(&COMMANDS, &typed.to_ascii_lowercase())
}
