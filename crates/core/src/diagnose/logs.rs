//! What the site's own logs said last.

use super::{Diagnoses, Sureness};
use crate::finding::{Code, Finding};
use crate::survey::Survey;
use crate::tree::{Links, Meta};
use std::io::Read;
use std::path::{Path, PathBuf};

/// Bytes at the end of a log that are read, and logs that are looked at.
const TAIL: u64 = 64 << 10;
const LOGS: usize = 20;
/// Seconds after which what a log says is old.
const RECENT: u64 = 30 * 24 * 3600;

/// Says whether a file is a log by its name.
fn is_log(path: &Path) -> bool {
    let name = path.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
    let named = name == "error_log" || name == "php_errorlog" || name.ends_with(".log");
    let folder = path.parent().and_then(Path::file_name).unwrap_or_default().to_string_lossy().to_lowercase();
    let in_logs = ["log", "logs"].contains(&&*folder);
    named
        || (in_logs && (name.ends_with(".log.php") || name.ends_with(".txt") || name.ends_with("error.php")))
}

/// Words of a line that tells why a page failed.
const TELLING: [&str; 8] = [
    "fatal error",
    "uncaught",
    "parse error",
    "out of memory",
    "allowed memory size",
    "maximum execution time",
    "sqlstate",
    "critical",
];

/// Reads the last lines of the newest logs.
pub fn logs(survey: &Survey, out: &mut Diagnoses) {
    let found = survey.tree.walk(&survey.site).flatten().filter(|f| f.meta.is_file());
    let mut logs: Vec<(PathBuf, Meta)> =
        found.map(|f| (f.path, f.meta)).filter(|(path, meta)| is_log(path) && meta.size > 0).collect();
    logs.sort_by_key(|(_, meta)| std::cmp::Reverse(meta.modified));
    if logs.is_empty() {
        return out.saw("logs", "none is in the site's folder; the host may keep one elsewhere");
    }
    let mut told = 0;
    for (path, meta) in logs.iter().take(LOGS) {
        let recent = meta.modified.elapsed().is_ok_and(|age| age.as_secs() < RECENT);
        let Some(line) = last_telling(survey, path, meta.size) else { continue };
        told += 1;
        let below = path.strip_prefix(&survey.site).unwrap_or(path);
        let sign = survey.recognised.definition.symptom.iter().find(|s| {
            s.sign.text.as_ref().is_some_and(|text| line.to_lowercase().contains(&text.to_lowercase()))
        });
        let shown: String = line.chars().filter(|c| !c.is_control()).take(240).collect();
        let mut finding = Finding::at(Code::LogSays, format!("its last failure: {shown}"), below, "");
        if let Some(symptom) = sign {
            finding.cause.clone_from(&symptom.cause);
            finding.cure.clone_from(&symptom.cure);
        }
        out.add(if recent { Sureness::Likely } else { Sureness::Possible }, finding);
    }
    if told == 0 {
        out.saw("logs", format!("none of {} tells of a failure at its end", logs.len()));
    }
}

fn last_telling(survey: &Survey, path: &Path, size: u64) -> Option<String> {
    let mut file = survey.tree.open(path, Links::Stay).ok()?;
    // A tree reads from the front; what lies before the end is passed over.
    std::io::copy(&mut file.by_ref().take(size.saturating_sub(TAIL)), &mut std::io::sink()).ok()?;
    let mut tail = Vec::new();
    file.by_ref().take(TAIL).read_to_end(&mut tail).ok()?;
    let text = String::from_utf8_lossy(&tail);
    let telling = |line: &&str| {
        let lower = line.to_lowercase();
        TELLING.iter().any(|word| lower.contains(word))
    };
    text.lines().rev().find(telling).map(|line| line.trim().to_string())
}
