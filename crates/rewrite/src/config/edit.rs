//! Plans the edits of one config file: pure, printable, and exactly what a run will do.

use super::connection;
use super::file_plan::Quiet;
pub use super::file_plan::{Change, Context, FilePlan, KeyPut};
use super::format::ValueKind;
use super::place_value::{host_pattern, place_value};
pub use super::preview::MASK;
use super::preview::{finish, mask_of, plain_mask};
use super::settings::{self, ConfigError, Expression, Setting, Settings};
use crate::config;
use crate::config::definition::{Config, ConfigForm, Key, Role};
use crate::edit::{self, Edit};
use crate::finding::{Code, Finding};
use crate::place::Engine;
use crate::text::value;
use std::ops::Range;

/// Plans the edits of a config file.
pub fn plan(config: &Config, path: &str, text: &[u8], cx: &Context<'_>) -> Result<FilePlan, ConfigError> {
    match config.form {
        ConfigForm::Htaccess if cx.put_only => {
            Ok(finish(path, text, Vec::new(), Vec::new(), &mask_of(config)))
        }
        ConfigForm::Htaccess => {
            let edits = super::htaccess::edits(text, cx.relocation, cx.replacements);
            let mut plan = finish(path, text, edits, Vec::new(), &mask_of(config));
            for (line, file) in super::htaccess::files_outside(text, cx.relocation) {
                plan.findings.push(Finding::new(Code::PathOutsideSite,
                    format!("names {file}, which lies outside of the site and is not copied"),
                    format!("{path}, line {line}"),
                    "copy the file and name its new place, or the server answers every request there with an error",
                ));
            }
            Ok(plan)
        }
        _ => plan_settings(config, path, text, cx),
    }
}

/// The same, and carries the edits out to see whether a full reader of the form finds what it should. A file that says otherwise is left.
pub fn plan_checked(
    config: &Config,
    path: &str,
    text: &[u8],
    cx: &Context<'_>,
) -> Result<FilePlan, ConfigError> {
    let plan = plan(config, path, text, cx)?;
    Ok(match apply(&plan, Some(config), text) {
        Ok(_) => plan,
        Err(why) => plan.left(&why),
    })
}

/// Plans the edits of a text file: replacements only.
pub fn plan_text(path: &str, text: &[u8], cx: &Context<'_>) -> FilePlan {
    let edits = match cx.put_only {
        true => Vec::new(),
        false => value::edits(cx.replacements, text, &mut Quiet),
    };
    finish(path, text, edits, Vec::new(), &plain_mask)
}

/// Applies a plan and reads every changed value back.
pub fn apply(plan: &FilePlan, config: Option<&Config>, text: &[u8]) -> Result<Vec<u8>, String> {
    let new = edit::apply(text, &plan.edits);
    if let Some(config) = config.filter(|c| c.form.format().has_keys() && !plan.edits.is_empty()) {
        config.form.format().verify(text, &new, &plan.expected)?;
    }
    Ok(new)
}

fn plan_settings(
    config: &Config,
    path: &str,
    text: &[u8],
    cx: &Context<'_>,
) -> Result<FilePlan, ConfigError> {
    let file = config::read(config.form, text, None)?;
    let mut plan = finish(path, text, Vec::new(), Vec::new(), &mask_of(config));
    let mut secrets: Vec<Range<usize>> = Vec::new();
    let job = Job { config, path, text, file: &file, cx };
    for setting in &file.settings {
        let key = config.key.iter().find(|k| settings::fits(&k.name, &setting.name));
        if is_secret(&setting.name, key) {
            secrets.push(setting.span.clone());
        }
        if let (Some(key), false) = (key, setting.shadowed || cx.put_only) {
            job.key(&mut plan, setting, key);
        }
    }
    if !cx.put_only {
        job.missing(&mut plan);
    }
    for KeyPut { key, value, beside } in cx.put {
        if let Some(setting) = file.setting(key) {
            plan.put.push(key.clone());
            job.set(&mut plan, setting, None, value.clone());
        } else if let Some(neighbour) = beside.as_ref().and_then(|b| file.setting(b)) {
            job.put_beside(&mut plan, neighbour, key, value);
        }
    }
    if !cx.put_only {
        job.engine(&mut plan);
        job.socket(&mut plan);
        job.hosts_let_in(&mut plan);
        job.names_let_in(&mut plan);
        plan_literals(&mut plan, &job, &secrets);
    }
    plan.edits.sort_by_key(|e| e.span.start);
    plan.changes.sort_by_key(|c| c.line);
    let planned = finish(path, text, std::mem::take(&mut plan.edits), secrets, &mask_of(config));
    Ok(FilePlan { edits: planned.edits, diff: planned.diff, ..plan })
}

/// Says whether a setting's value must not be shown.
fn is_secret(name: &str, key: Option<&Key>) -> bool {
    let name = name.to_ascii_lowercase();
    let by_name = ["pass", "secret", "_key", "_iv", "token", "salt"].iter().any(|w| name.contains(w));
    let roles = [Role::DatabasePassword, Role::Secret, Role::DatabaseUrl, Role::DatabaseConnection];
    by_name || key.is_some_and(|k| roles.contains(&k.role))
}

/// One file at work.
struct Job<'a> {
    config: &'a Config,
    path: &'a str,
    text: &'a [u8],
    file: &'a Settings,
    cx: &'a Context<'a>,
}

impl Job<'_> {
    /// Returns the setting that counts for a role in this file.
    fn of_role(&self, role: Role) -> Option<&Setting> {
        self.config.key.iter().filter(|k| k.role == role).find_map(|k| self.file.setting(&k.name))
    }

    /// Computes what a key of the database's access becomes.
    fn database_value(&self, key: &Key, old: Option<&str>) -> Option<String> {
        let access = self.cx.database?;
        let is_file = access.engine.facts().is_file;
        match key.role {
            Role::DatabaseHost if key.or_file && is_file => Some(access.name.clone()),
            Role::DatabaseName if is_file && self.host_is_file() => Some(String::new()),
            Role::DatabaseHost => {
                // A port or socket that has a key of its own does not stand in the host's value.
                let apart = self.has_place_for(Role::DatabasePort);
                let socket_apart = self.has_place_for(Role::DatabaseSocket);
                let mut host = access.clone();
                if apart {
                    host.port = None;
                }
                let number = self.config.key.iter().any(|k| k.role == Role::DatabasePort && k.number);
                if socket_apart || (apart && (number || self.port_takes_sockets())) {
                    host.socket = None;
                }
                Some(host.host_value())
            }
            Role::DatabasePort => Some(match (&access.socket, access.port) {
                (Some(socket), _) if self.port_takes_sockets() => socket.clone(),
                (_, Some(port)) => port.to_string(),
                // The usual port is spelled out only where one stood before.
                _ if old.is_some_and(|o| o.parse::<u16>().is_ok()) => {
                    access.engine.default_port().to_string()
                }
                _ => String::new(),
            }),
            Role::DatabaseSocket => Some(access.socket.clone().unwrap_or_default()),
            Role::DatabaseName => Some(access.name.clone()),
            Role::DatabaseUser => Some(access.user.clone()),
            Role::DatabasePassword => Some(access.password.expose().to_string()),
            Role::DatabaseUrl => {
                let scheme = old.and_then(|o| o.split_once("://")).map_or("mysql", |(scheme, _)| scheme);
                Some(access.url_with_password(scheme))
            }
            Role::DatabaseConnection => old.and_then(|old| connection::with_access(old, access)),
            _ => None,
        }
    }

    /// Says whether a database that is a file stands where others have their host.
    fn host_is_file(&self) -> bool {
        self.config.key.iter().any(|k| k.or_file && self.file.setting(&k.name).is_some())
    }

    /// Says whether the value of the port may be the path of a socket: where no key is there for one.
    fn port_takes_sockets(&self) -> bool {
        !self
            .config
            .key
            .iter()
            .any(|k| k.role == Role::DatabaseSocket || (k.role == Role::DatabasePort && k.number))
    }

    /// Says where the new database is reached by a socket and no value of the file can name one.
    fn socket(&self, plan: &mut FilePlan) {
        let socket = self.cx.database.and_then(|access| access.socket.as_deref());
        let (Some(socket), Some(host)) = (socket, self.of_role(Role::DatabaseHost)) else { return };
        let beside = self.has_place_for(Role::DatabaseSocket);
        let apart = self.has_place_for(Role::DatabasePort);
        if !beside && apart && !self.port_takes_sockets() {
            let what = format!(
                "this config cannot name a socket; the host is written without {socket}, and the program takes its own"
            );
            let place = format!("{}, line {}", self.path, host.line);
            let cure = "name the database by host and port, or make sure that PHP's own socket is the same";
            plan.findings.push(Finding::new(Code::ConfigTakesNoSocket, what, place, cure));
        }
    }

    /// Says whether port or socket have a key of their own here, or get one beside the host.
    fn has_place_for(&self, role: Role) -> bool {
        let known = self.config.key.iter().any(|k| k.role == role);
        let beside = || known && self.of_role(Role::DatabaseHost).is_some_and(|host| host.element);
        self.of_role(role).is_some() || beside()
    }

    fn key(&self, plan: &mut FilePlan, setting: &Setting, key: &Key) {
        let old = setting.value.as_ref().map(|v| self.config.meant(v));
        let old = old.as_deref();
        let place = format!("{}, line {}", self.path, setting.line);
        let tell = |plan: &mut FilePlan, code, what: String, cure: &str| {
            plan.findings.push(Finding::new(code, what, &*place, cure));
        };
        let new = match (&setting.expression, self.database_value(key, old)) {
            (Expression::Environment(variable), Some(_)) => {
                let what = format!("`{}` comes from the environment variable {variable}", setting.name);
                let cure = format!("set {variable} on the new host");
                return tell(plan, Code::ConfigFromEnvironment, what, &cure);
            }
            (Expression::Unknown, Some(_)) => {
                let what = format!("`{}` is computed by the program", setting.name);
                let cure = "look at the line and set the new value by hand";
                return tell(plan, Code::ConfigComputed, what, cure);
            }
            (_, Some(new)) => Some(new),
            (_, None) if key.role == Role::DatabaseConnection && self.cx.database.is_some() => {
                let what = format!("`{}` logs in without user and password", setting.name);
                return tell(plan, Code::ConfigWithoutLogIn, what, "check that it fits the new host");
            }
            (Expression::Literal | Expression::Computed { .. }, None) if key.role == Role::TablePrefix => {
                // A value without the sign that the system adds stays without it.
                let bare = |new: &str| match (&key.tail, old) {
                    (Some(tail), Some(old)) if !old.ends_with(tail.as_str()) => {
                        new.strip_suffix(tail.as_str()).unwrap_or(new).to_string()
                    }
                    _ => new.to_string(),
                };
                self.cx.table_prefix.map(bare)
            }
            (Expression::Literal, None) if key.role == Role::TableName => {
                let prefix = self.of_role(Role::TablePrefix).and_then(|s| s.value.as_deref());
                let rest = old.zip(prefix).and_then(|(old, prefix)| old.strip_prefix(prefix));
                rest.zip(self.cx.table_prefix).map(|(rest, new)| format!("{new}{rest}"))
            }
            (Expression::Literal, None) => old
                // At the bare root a base path may be nothing; elsewhere nothing means that the system finds it out.
                .filter(|o| !o.is_empty() || (key.role == Role::BasePath && self.cx.relocation.at_root()))
                .and_then(|old| place_value(plan, &place, old, setting, key, self.cx)),
            (Expression::EnvironmentOr(_), None) => {
                old.and_then(|old| place_value(plan, &place, old, setting, key, self.cx))
            }
            _ => None,
        };
        // What the program takes where the environment says nothing is changed; what that says counts for more.
        if let (Expression::EnvironmentOr(variable), Some(_)) = (&setting.expression, &new) {
            let what = format!(
                "`{}` comes from the environment variable {variable} where that is set",
                setting.name
            );
            let cure = format!("unset or set {variable} on the new host");
            tell(plan, Code::ConfigFromEnvironment, what, &cure);
        }
        if let Some(new) = new {
            self.set(plan, setting, Some(key), new);
        }
    }

    /// Plans a new value for a setting.
    fn set(&self, plan: &mut FilePlan, setting: &Setting, key: Option<&Key>, new: String) {
        let old = setting.value.as_ref().map(|v| self.config.meant(v));
        let old = old.as_deref();
        let before = &self.text[setting.span.clone()];
        let format = self.config.form.format();
        let kind = ValueKind::for_new(before, &new);
        let literal = format.spelled(&self.config.written(&new), kind, before);
        let new = if kind == ValueKind::Flag { format.flag_value(new == "1").to_string() } else { new };
        let written = self.config.written(&new);
        if setting.value.as_ref() == Some(&written) {
            return;
        }
        let secret = is_secret(&setting.name, key);
        let shown = |v: &str| match key.map(|k| k.role) {
            Some(Role::DatabaseConnection) => connection::masked(v, MASK),
            _ if secret => MASK.to_string(),
            _ => v.to_string(),
        };
        plan.changes.push(Change {
            key: setting.name.clone(),
            line: setting.line,
            old: old.map_or_else(|| "?".into(), shown),
            new: shown(&new),
        });
        plan.edits.retain(|e| e.span != setting.span);
        plan.edits.push(Edit::new(setting.span.clone(), literal));
        plan.expected.retain(|(name, _)| *name != setting.name);
        plan.expected.push((setting.name.clone(), written));
    }

    /// Puts a line for a key behind that of another one.
    fn put_beside(&self, plan: &mut FilePlan, neighbour: &Setting, key: &str, value: &str) {
        let written = self.config.written(value);
        let name = key.rsplit('.').next().unwrap_or(key);
        if let Some(edit) = self.config.form.format().beside(self.text, neighbour, name, &written) {
            plan.put.push(key.to_string());
            plan.changes.push(Change {
                key: key.to_string(),
                line: neighbour.line,
                old: String::new(),
                new: value.to_string(),
            });
            plan.edits.push(edit);
            plan.expected.push((key.to_string(), written));
        }
    }

    /// Says where the config speaks to another kind of server than the new database's.
    fn engine(&self, plan: &mut FilePlan) {
        let (Some(access), Some(setting)) = (self.cx.database, self.of_role(Role::Engine)) else { return };
        let driver = setting.value.as_deref().unwrap_or_default();
        if Engine::of_driver(driver).is_some_and(|engine| engine != access.engine) {
            plan.findings.push(Finding::new(
                Code::ConfigOtherServer,
                format!(
                    "`{}` is {driver:?}, and the new database is one of {}",
                    setting.name,
                    access.engine.name()
                ),
                format!("{}, line {}", self.path, setting.line),
                "a dump of one server does not load into another kind; check both",
            ));
        }
    }

    /// Says where patterns let hosts in and none of them is the new one.
    fn hosts_let_in(&self, plan: &mut FilePlan) {
        let new = host_pattern(&self.cx.relocation.to.address);
        let keys = self.config.key.iter().filter(|k| k.role == Role::HostPattern);
        for key in keys {
            let patterns: Vec<&Setting> = self.file.matching(&key.name).collect();
            let fits = |s: &&Setting| {
                s.value.as_ref().is_some_and(|v| v.contains(&new))
                    || plan.expected.iter().any(|(n, v)| *n == s.name && v.contains(&new))
            };
            if let (Some(first), false) = (patterns.first(), patterns.iter().any(fits)) {
                plan.findings.push(Finding::new(
                    Code::ConfigShutsHostOut,
                    format!(
                        "`{}` names the hosts that are let in, and the new one is none of them",
                        key.name
                    ),
                    format!("{}, line {}", self.path, first.line),
                    format!("add the pattern '^{new}$'"),
                ));
            }
        }
    }

    /// Says where hosts are let in by their names and the new one is none of them.
    fn names_let_in(&self, plan: &mut FilePlan) {
        let new = &self.cx.relocation.to.address;
        let keys = self.config.key.iter().filter(|k| matches!(k.role, Role::Host | Role::HostList));
        for key in keys {
            let settings: Vec<&Setting> =
                self.file.matching(&key.name).filter(|s| s.value.is_some()).collect();
            let lets_in = |s: &&Setting| {
                let planned = plan.expected.iter().find(|(name, _)| *name == s.name).map(|(_, v)| v.as_str());
                let value = planned.or(s.value.as_deref()).unwrap_or_default();
                value.split([',', ' ']).any(|h| {
                    let below = h.strip_prefix('.').is_some_and(|d| new.host().ends_with(d));
                    h == "*" || h == new.host() || h == new.host_port() || below
                })
            };
            if let (Some(first), false) = (settings.first(), settings.iter().any(lets_in)) {
                let what = format!(
                    "`{}` names the hosts that are let in, and the new one is none of them",
                    key.name
                );
                let place = format!("{}, line {}", self.path, first.line);
                plan.findings.push(Finding::new(
                    Code::ConfigShutsHostOut,
                    what,
                    place,
                    format!("add {}", new.host()),
                ));
            }
        }
    }

    /// Says which keys of the database's access are not there, and writes a port beside its host.
    fn missing(&self, plan: &mut FilePlan) {
        let Some(access) = self.cx.database else { return };
        let whole = [Role::DatabaseUrl, Role::DatabaseConnection].iter().any(|r| self.of_role(*r).is_some());
        let roles = [Role::DatabaseName, Role::DatabaseUser, Role::DatabasePassword, Role::DatabaseHost];
        for role in roles.into_iter().filter(|_| !whole) {
            let key = self.config.key.iter().find(|k| k.role == role);
            // A file that names none of them is not the one that holds them.
            let here = self.of_role(Role::DatabaseName).is_some();
            if let Some(key) = key.filter(|_| here && self.of_role(role).is_none()) {
                plan.findings.push(Finding::new(
                    Code::ConfigKeyMissing,
                    format!("the key `{}` is not there", key.name),
                    self.path,
                    "add it by hand",
                ));
            }
        }
        let host = self.of_role(Role::DatabaseHost).filter(|h| h.element);
        let beside = [
            (Role::DatabasePort, access.port.map(|p| p.to_string())),
            (Role::DatabaseSocket, access.socket.clone()),
        ];
        for (role, value) in beside {
            let key = self.config.key.iter().find(|k| k.role == role);
            let (Some(key), Some(host), Some(value)) = (key, host, value) else { continue };
            if self.of_role(role).is_none() {
                let name = key.name.rsplit('.').next().unwrap_or(&key.name);
                let Some(edit) = self.config.form.format().beside(self.text, host, name, &value) else {
                    continue;
                };
                plan.changes.push(Change {
                    key: key.name.clone(),
                    line: host.line,
                    old: String::new(),
                    new: value.clone(),
                });
                plan.edits.push(edit);
                plan.expected.push((key.name.clone(), value));
            }
        }
    }
}

/// Every other quoted string may hold an address or a path, too.
fn plan_literals(plan: &mut FilePlan, job: &Job<'_>, secrets: &[Range<usize>]) {
    for literal in &job.file.literals {
        let within = |span: &Range<usize>| span.start <= literal.span.start && literal.span.end <= span.end;
        if plan.edits.iter().any(|e| within(&e.span)) || secrets.iter().any(within) {
            continue;
        }
        let edits = value::edits(job.cx.replacements, literal.value.as_bytes(), &mut Quiet);
        if edits.is_empty() {
            continue;
        }
        let Ok(new) = String::from_utf8(edit::apply(literal.value.as_bytes(), &edits)) else { continue };
        let key = job.file.settings.iter().find(|s| within(&s.span)).map_or("text", |s| s.name.as_str());
        let change =
            Change { key: key.into(), line: literal.line, old: literal.value.clone(), new: new.clone() };
        plan.changes.push(change);
        let whole = job.file.settings.iter().find(|s| s.span == literal.span && !s.shadowed);
        plan.expected.extend(whole.map(|s| (s.name.clone(), new.clone())));
        let format = job.config.form.format();
        let spelled = format.quoted(&new, &job.text[literal.span.clone()]);
        plan.edits.push(Edit::new(literal.span.clone(), spelled));
    }
}
