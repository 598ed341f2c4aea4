//! What can be wrong with a definition that reads: every mistake with its line, so that one look at the file mends them all.

mod files;

use super::Mistake;
use super::copy::{HashScheme, SetPlace};
use super::schema::Definition;
use crate::place::AddressForm;

/// States that the words of switches know.
const STATES: [&str; 3] = ["on", "off", "plain"];

/// Checks a definition against the text it was read from.
pub(super) fn mistakes(definition: &Definition, text: &str) -> Vec<Mistake> {
    let mut check = Check { text, found: Vec::new() };
    check.whole(definition);
    check.files(definition);
    check.rows(definition);
    check.switches(definition);
    check.knowledge(definition);
    check.found.sort_by_key(|m| m.line);
    check.found
}

struct Check<'t> {
    text: &'t str,
    found: Vec<Mistake>,
}

impl Check<'_> {
    fn wrong(&mut self, line: usize, message: impl Into<String>) {
        self.found.push(Mistake { line, message: message.into() });
    }

    /// Returns the line of the nth table of a kind, such as `[[switch]]`; of the kind's key where it is written in another way.
    fn line(&self, kind: &str, index: usize) -> usize {
        let header = format!("[[{kind}]]");
        let mut lines = self.text.lines().enumerate().filter(|(_, l)| l.trim_start().starts_with(&header));
        lines.nth(index).map_or_else(|| self.line_of(kind), |(i, _)| i + 1)
    }

    /// Returns the line that names something first.
    fn line_of(&self, what: &str) -> usize {
        1 + self.text.lines().position(|l| l.contains(what)).unwrap_or(0)
    }

    /// Returns the line from another one on that names something; that other one if none does.
    fn line_in(&self, from: usize, what: &str) -> usize {
        let mut lines = self.text.lines().enumerate().skip(from - 1);
        lines.find(|(_, l)| l.contains(what)).map_or(from, |(i, _)| i + 1)
    }

    fn whole(&mut self, d: &Definition) {
        let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
        if d.id.is_empty() || !d.id.chars().all(plain) {
            self.wrong(
                self.line_of("id"),
                format!("the id {:?} is made of more than small letters, digits and hyphens", d.id),
            );
        }
        if d.recognise.is_empty() {
            self.wrong(
                self.line_of("recognise"),
                "`recognise` names no file, so no site would be recognised",
            );
        }
        for (i, version) in d.version.iter().enumerate() {
            let ways = [!version.keys.is_empty(), version.from_name, version.line.is_some()];
            if ways.iter().filter(|way| **way).count() != 1 {
                let message = "a version is read from `keys`, from a `line`, or from the file's name with `from_name = true`: by one of them";
                self.wrong(self.line("version", i), message);
            }
            if version.line.as_ref().is_some_and(|l| !l.contains("{version}") || l.starts_with("{version}")) {
                let message = "a `line` holds the text before the version, and `{version}` in its place";
                self.wrong(self.line("version", i), message);
            }
            if !version.keys.is_empty() && !version.form.format().has_keys() {
                self.wrong(
                    self.line("version", i),
                    "a file of this `form` has no keys from which a version could be read",
                );
            }
        }
    }

    fn rows(&mut self, d: &Definition) {
        for (i, cell) in d.cell.iter().enumerate() {
            if cell.key.is_some() == cell.values.is_empty() {
                let message = format!(
                    "the cell {}.{} needs both `key` and `values`, or neither",
                    cell.table, cell.column
                );
                self.wrong(self.line("cell", i), message);
            }
        }
        for (i, cell) in d.cell.iter().enumerate() {
            if !cell.within.is_empty() && (cell.form != AddressForm::Reference || cell.beside_host.is_some())
            {
                let message = format!(
                    "the cell {}.{}: `within` is for the form `reference` without `beside_host`",
                    cell.table, cell.column
                );
                self.wrong(self.line("cell", i), message);
            }
        }
        for (i, cell) in d.cell.iter().enumerate() {
            let whole = [AddressForm::Url, AddressForm::HostBase, AddressForm::Origin].contains(&cell.form);
            use AddressForm::{BaseLeading, BaseSlashes, BaseTrailing, Port, Reference};
            let part = [BaseSlashes, BaseLeading, BaseTrailing, Port, Reference].contains(&cell.form);
            if cell.beside_host.is_some() && !part {
                let message = format!(
                    "the cell {}.{}: `beside_host` is for base paths and ports",
                    cell.table, cell.column
                );
                self.wrong(self.line("cell", i), message);
            }
            if cell.tail && !whole {
                let message = format!(
                    "the cell {}.{}: `tail` is for the forms `url`, `host/base` and `origin`",
                    cell.table, cell.column
                );
                self.wrong(self.line("cell", i), message);
            }
        }
        for (i, rows) in d.address.iter().enumerate() {
            use AddressForm::{Host, HostBase, Hostname, Url, UrlSlash};
            if ![Host, Hostname, HostBase, Url, UrlSlash].contains(&rows.form) {
                let message = "the `form` of rows that tell an address is `host`, `hostname`, `host/base`, `url` or `url/`";
                self.wrong(self.line("address", i), message);
            } else if (rows.base.is_some() || rows.port.is_some()) && ![Host, Hostname].contains(&rows.form) {
                let message = "`base` and `port` complete a `host`: the `form` has them already";
                self.wrong(self.line("address", i), message);
            }
            if rows.chosen.is_some() && rows.group.is_none() {
                let message =
                    "`chosen` tells which site is meant; `group` has to name the column of its number";
                self.wrong(self.line("address", i), message);
            }
            if rows.beside.is_some() && rows.only.is_none() {
                self.wrong(
                    self.line("address", i),
                    "`beside` names further rows; `only` has to name the one with the host",
                );
            }
        }
        for (i, table) in d.table.iter().enumerate() {
            if table.name.trim_matches('*').is_empty() {
                self.wrong(self.line("table", i), format!("the table `{}` means every table", table.name));
            }
            if !table.except.is_empty() && !table.name.contains('*') {
                let message = format!("the table `{}` is one: there is nothing to except", table.name);
                self.wrong(self.line("table", i), message);
            }
        }
        for (i, admin) in d.admin.iter().enumerate() {
            let line = self.line("admin", i);
            if admin.hash.is_empty() {
                self.wrong(line, "`hash` names no scheme for the administrator's password");
            }
            if admin.only.is_some() == admin.named_by.is_some() {
                self.wrong(line, "the administrator's row is told by `only` or by `named_by`, one of them");
            }
            if admin.salt.is_none() && admin.hash.iter().any(|h| h.scheme == HashScheme::Sha1Utf16) {
                self.wrong(line, "the scheme `sha1-utf16` needs the column of the `salt`");
            }
        }
    }

    fn switches(&mut self, d: &Definition) {
        for (i, switch) in d.switch.iter().enumerate() {
            let line = self.line("switch", i);
            for (state, value) in &switch.states {
                if !STATES.contains(&state.as_str()) {
                    self.wrong(line, format!("the state {state:?} is none of on, off, plain"));
                }
                if switch.set.file.is_some() && value != "write" && value != "remove" {
                    self.wrong(line, format!("a file can be `write` or `remove` in a state, not {value:?}"));
                }
            }
            if switch.states.is_empty() {
                self.wrong(line, "a switch without `states` switches nothing");
            }
            self.set(line, &switch.set);
        }
        for (i, tls) in d.tls.iter().enumerate() {
            let line = self.line("tls", i);
            if tls.http.is_none() && tls.https.is_none() {
                self.wrong(line, "`http` or `https` says what is set; without both nothing is");
            }
            self.set(line, &tls.set);
        }
        for (i, identity) in d.identity.iter().enumerate() {
            self.set(self.line("identity", i), &identity.set);
        }
    }

    fn knowledge(&mut self, d: &Definition) {
        for (i, log_in) in d.log_in.iter().enumerate() {
            let line = self.line("log_in", i);
            if log_in.success.is_empty() || log_in.failure.is_empty() {
                self.wrong(line, "a log-in needs a sign of its `success` and one of its `failure`");
            }
            if log_in.success == log_in.failure {
                self.wrong(line, "`success` and `failure` have the same sign");
            }
            if log_in.script.as_ref().is_some_and(|s| s.shows.is_empty() || s.to.is_empty()) {
                let message = "a `script` needs what its page `shows`, and where it sends the log-in `to`";
                self.wrong(line, message);
            }
            self.versions(line, &log_in.from, &log_in.below);
        }
        for (i, symptom) in d.symptom.iter().enumerate() {
            if symptom.sign.is_empty() {
                self.wrong(self.line("symptom", i), "the `sign` of a symptom names nothing");
            }
        }
        for (i, growing) in d.growing.iter().enumerate() {
            if growing.table.trim_matches('*').is_empty() {
                self.wrong(self.line("growing", i), "`table` means every table");
            }
        }
        for (i, beaten) in d.beaten.iter().enumerate() {
            if !beaten.key.contains("{value}") {
                let message = "the `key` holds `{value}` where the value of the column stands";
                self.wrong(self.line("beaten", i), message);
            }
        }
        for (i, copy) in d.copy_only.iter().enumerate() {
            self.set(self.line("copy_only", i), &copy.set);
        }
    }

    fn versions(&mut self, line: usize, from: &Option<String>, below: &Option<String>) {
        for version in [from, below].into_iter().flatten() {
            if !version.starts_with(|c: char| c.is_ascii_digit()) {
                self.wrong(line, format!("{version:?} is no version"));
            }
        }
    }

    fn set(&mut self, line: usize, set: &SetPlace) {
        let places = [set.config.is_some(), set.row.is_some(), set.file.is_some()];
        if places.iter().filter(|p| **p).count() != 1 {
            self.wrong(line, "`set` names one place: `config`, `row` or `file`");
        }
        if set.beside.is_some() && set.config.is_none() {
            self.wrong(line, "`beside` says where a line of the config is put; `config` has to name its key");
        }
        if set.row.as_ref().is_some_and(|r| r.only.is_empty()) {
            self.wrong(line, "`only` of a row tells which row is meant; without it every row would change");
        }
        if set.row.as_ref().is_some_and(|r| r.make && !r.within.is_empty()) {
            self.wrong(line, "a row whose value is one item of an array cannot be made");
        }
        self.versions(line, &set.from, &set.below);
    }
}
