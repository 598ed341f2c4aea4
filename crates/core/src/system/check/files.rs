//! What can be wrong with what a definition says of files: their paths, how they are written, what their keys mean.

use super::Check;
use crate::config::definition::{ConfigForm, Key};
use crate::place::AddressForm;
use crate::system::glob;
use crate::system::schema::{Definition, Role};

impl Check<'_> {
    pub(super) fn files(&mut self, d: &Definition) {
        for (i, config) in d.config.iter().enumerate() {
            let line = self.line("config", i);
            self.path("config", i, &config.path);
            if let Some(other) =
                config.like.as_ref().filter(|path| !d.config.iter().any(|c| c.path == **path))
            {
                self.wrong(line, format!("{} is like `{other}`, and no `config` has that path", config.path));
            }
            if !config.form.format().has_keys() && !config.key.is_empty() {
                self.wrong(line, format!("{}: a file of the form `htaccess` has no keys", config.path));
            }
            for key in &config.key {
                let line = self.line_in(line, &key.name);
                self.key(line, key);
                if key.name.contains('@') && config.form != ConfigForm::Xml {
                    let message = format!(
                        "the key `{}` is an attribute, and the file is not of the form `xml`",
                        key.name
                    );
                    self.wrong(line, message);
                }
            }
        }
        let lists: [(&str, Vec<&String>); 7] = [
            ("version", d.version.iter().map(|v| &v.path).collect()),
            ("recognise", d.recognise.iter().map(|m| &m.path).collect()),
            ("cache", d.cache.iter().map(|t| &t.path).collect()),
            ("generated", d.generated.iter().map(|g| &g.path).collect()),
            ("text", d.text.iter().map(|t| &t.path).collect()),
            ("leftover", d.leftover.iter().map(|l| &l.path).collect()),
            ("media", d.media.iter().map(|m| &m.path).collect()),
        ];
        for (kind, paths) in lists {
            for (i, path) in paths.into_iter().enumerate() {
                self.path(kind, i, path);
                if path.contains("{site}") && d.hosts.is_none() {
                    self.wrong(
                        self.line(kind, i),
                        format!("the path `{path}` speaks of `{{site}}`, but there are no `hosts`"),
                    );
                }
            }
        }
    }

    /// Checks that a key says of its value only what its role can take.
    fn key(&mut self, line: usize, key: &Key) {
        use AddressForm::{
            BaseLeading, BaseSlashes, BaseTrailing, Host, HostBase, Hostname, Origin, Url, UrlSlash,
        };
        let forms: &[AddressForm] = match key.role {
            Role::Address | Role::Link => &[Url, UrlSlash, Origin, Host, Hostname, HostBase],
            Role::BasePath => &[BaseSlashes, BaseLeading, BaseTrailing],
            _ => &[],
        };
        let name = &key.name;
        match key.form {
            None if !forms.is_empty() => {
                let message =
                    format!("the key `{name}` holds an address but no `form` says how it is spelled");
                self.wrong(line, message);
            }
            Some(_) if forms.is_empty() => {
                self.wrong(line, format!("the key `{name}` holds no address, so it takes no `form`"));
            }
            Some(form) if !forms.contains(&form) => {
                self.wrong(line, format!("the key `{name}`: its role does not take this `form`"));
            }
            _ => {}
        }
        let only = [
            ("at_root", key.at_root.is_some(), key.role == Role::BasePath),
            ("below_root", !key.below_root.is_empty(), matches!(key.role, Role::Path | Role::Storage)),
            ("tail", key.tail.is_some(), key.role == Role::TablePrefix),
            ("number", key.number, key.role == Role::DatabasePort),
            ("own", key.own, key.role == Role::Secret),
            ("stands_for", key.stands_for.is_some(), key.role == Role::Path),
            ("or_file", key.or_file, key.role == Role::DatabaseHost),
        ];
        for (word, said, fits) in only {
            if said && !fits {
                self.wrong(line, format!("the key `{name}`: its role does not take `{word}`"));
            }
        }
    }

    fn path(&mut self, kind: &str, index: usize, path: &str) {
        let line = self.line_in(self.line(kind, index), path);
        if path.starts_with('/') || path.split('/').any(|s| s == "..") {
            self.wrong(line, format!("the path `{path}` must lie under the site"));
        }
        if path.split('/').any(|s| s.contains("**") && s != "**") {
            self.wrong(
                line,
                format!(
                    "in the path `{path}` a `**` stands beside other letters: it stands for whole folders"
                ),
            );
        }
        if let Err(e) = glob(&path.replace("{site}", "x")) {
            self.wrong(line, e.to_string());
        }
    }
}
