//! A first definition of a system that nobody knows, from what is seen in a site of it: config files with an access to a database, addresses and paths
//! in them, folders that look like caches and uploads. It is a beginning: somebody has to read every line.

use crate::config::{self, definition::ConfigForm};
use crate::limits::CONFIG_FILE;
use crate::tree::{Links, Tree, read_small};
use std::collections::BTreeSet;
use std::fmt::Write;
use std::path::Path;

/// Names deep in which config files are looked for, and how many are looked at.
const DEPTH: usize = 3;
const FILES: usize = 2000;

/// The form of a config file, by its name.
fn form_of(name: &str) -> Option<ConfigForm> {
    let lower = name.to_ascii_lowercase();
    if lower == ".env" || lower.starts_with(".env.") {
        return Some(ConfigForm::Env);
    }
    Some(match lower.rsplit_once('.')?.1 {
        "php" | "inc" => ConfigForm::Php,
        "yml" | "yaml" => ConfigForm::Yaml,
        "json" => ConfigForm::Json,
        "ini" | "cfg" => ConfigForm::Ini,
        "py" => ConfigForm::Python,
        _ => return None,
    })
}

/// What a key means, by the words in its name and by its value.
fn role_of(name: &str, value: &str, root: &str) -> Option<&'static str> {
    let lower = name.to_ascii_lowercase();
    let last = lower.rsplit(['.', ':']).next().unwrap_or(&lower).trim_matches('_').to_string();
    let bare: String = last.chars().filter(char::is_ascii_alphanumeric).collect();
    let bare = ["database", "mysql", "db"].iter().find_map(|p| bare.strip_prefix(p)).unwrap_or(&bare);
    let of_database = bare.len() < last.len() || lower.contains("database") || lower.contains("db");
    let plain = |words: &[&str]| words.contains(&bare);
    if plain(&["host", "hostname", "server"]) && of_database {
        Some("database-host")
    } else if plain(&["name", "dbname", ""]) && of_database && !value.is_empty() {
        Some("database-name")
    } else if plain(&["user", "username", "login"]) && of_database {
        Some("database-user")
    } else if plain(&["pass", "password", "passwd", "pwd", "passwort"]) && of_database {
        Some("database-password")
    } else if plain(&["port"]) && of_database {
        Some("database-port")
    } else if plain(&["prefix", "tableprefix", "tblprefix"]) || last.ends_with("prefix") && of_database {
        Some("table-prefix")
    } else if value.starts_with("http://") || value.starts_with("https://") {
        Some("address")
    } else if value.starts_with(root) || (value.starts_with('/') && value.matches('/').count() > 2) {
        Some("path")
    } else if ["secret", "salt", "securekey"].iter().any(|w| last.contains(w)) {
        Some("secret")
    } else {
        None
    }
}

/// Words of folders whose content is made anew, and of folders with what users uploaded.
const CACHES: [&str; 7] = ["cache", "tmp", "temp", "logs", "log", "compile", "sessions"];
const UPLOADS: [&str; 6] = ["uploads", "upload", "media", "images", "files", "img"];

/// Writes the definition.
pub fn draft(tree: &dyn Tree) -> String {
    let root = tree.root();
    let shown = root.display().to_string();
    let id: String = root.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
    let id: String = id.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    let id = format!("my-{}", id.trim_matches('-'));
    let (mut configs, mut caches, mut uploads) = (Vec::new(), BTreeSet::new(), BTreeSet::new());
    let below = |path: &Path| path.strip_prefix(root).unwrap_or(path).display().to_string();
    for found in tree.walk(root).flatten().take(100_000) {
        let path = below(&found.path);
        let depth = path.matches('/').count() + 1;
        let name = found.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        if found.meta.is_folder() {
            let lower = name.to_lowercase();
            if depth <= 2 && CACHES.contains(&&*lower) {
                caches.insert(path);
            } else if depth <= 2 && UPLOADS.contains(&&*lower) {
                uploads.insert(path);
            }
            continue;
        }
        let Some(form) = form_of(&name).filter(|_| depth <= DEPTH && configs.len() < FILES) else { continue };
        if !found.meta.is_file() || found.meta.size > CONFIG_FILE.bytes() {
            continue;
        }
        let Ok(text) = read_small(tree, &found.path, Links::Stay, CONFIG_FILE.bytes()) else { continue };
        let Ok(read) = config::read(form, &text, None) else { continue };
        let keys: Vec<(String, &'static str, String)> = read
            .settings
            .iter()
            .filter(|s| !s.shadowed)
            .filter_map(|s| {
                let value = s.value.clone()?;
                Some((s.name.clone(), role_of(&s.name, &value, &shown)?, value))
            })
            .collect();
        let has = |role: &str| keys.iter().any(|(_, r, _)| *r == role);
        let access = ["database-host", "database-name", "database-user", "database-password"];
        let weight = access.iter().filter(|r| has(r)).count();
        if weight >= 3 {
            configs.push((weight, depth, path, form, keys));
        }
    }
    configs.sort_by(|a, b| (b.0, a.1, &a.2).cmp(&(a.0, b.1, &b.2)));
    configs.truncate(3);
    let mut out = String::new();
    let q = |text: &str| format!("{text:?}");
    let _ = writeln!(out, "# A first definition, made from what lies in {shown}.");
    let _ = writeln!(
        out,
        "# Read every line; what is not said here is not changed. Then: zporter systems --check FILE"
    );
    let _ = writeln!(out, "id = {}\nname = {}\nabout = \"what it is, and which versions\"\n", q(&id), q(&id));
    let _ = writeln!(
        out,
        "# What tells this system from all others: name files that every site of it has, best with a text in them."
    );
    let marks: Vec<String> = configs.iter().map(|c| c.2.clone()).take(1).collect();
    let index = ["index.php", "manage.py", "index.html"].iter().find(|f| tree.exists(&root.join(f)));
    for mark in marks.iter().map(String::as_str).chain(index.copied()) {
        let _ = writeln!(out, "[[recognise]]\npath = {}", q(mark));
    }
    for (_, _, path, form, keys) in &configs {
        let form = form.word();
        let _ = writeln!(out, "\n[[config]]\npath = {}\nform = {}\nkey = [", q(path), q(&form));
        let mut seen = BTreeSet::new();
        for (name, role, value) in keys.iter().filter(|(name, ..)| seen.insert(name.clone())) {
            let hidden = ["database-password", "secret"].contains(role);
            let value: String = value.chars().filter(|c| !c.is_control()).take(60).collect();
            let value = if hidden { "***".into() } else { value };
            let more = if *role == "address" { ", form = \"url\"" } else { "" };
            let _ = writeln!(out, "    {{ name = {}, role = {}{more} }}, # {value}", q(name), q(role));
        }
        let _ = writeln!(out, "]");
    }
    if configs.is_empty() {
        let _ = writeln!(
            out,
            "\n# No file was found that names host, user and password of a database. Where is it?\n# [[config]]\n# path = \"config.php\"\n# form = \"php\"\n# key = [{{ name = \"DB_HOST\", role = \"database-host\" }}]"
        );
    }
    for path in &caches {
        let _ = writeln!(
            out,
            "\n# It looks as if the system fills it again by itself.\n[[cache]]\npath = {}",
            q(path)
        );
    }
    for path in &uploads {
        let _ = writeln!(
            out,
            "\n# It looks like what users uploaded.\n[[media]]\npath = {}\nabout = \"what is missing without it\"",
            q(path)
        );
    }
    let _ = writeln!(
        out,
        "\n# Rows with addresses: `zporter trace DUMP --old-address URL` tells the columns. Declared ones follow in exact forms:\n# [[cell]]\n# table = \"settings\"\n# column = \"value\"\n# form = \"url\""
    );
    out
}
