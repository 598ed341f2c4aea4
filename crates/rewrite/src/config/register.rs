//! The forms of config files that are there: which file of this folder reads which.

use super::format::Format;
use super::settings::{ConfigError, Settings};
use super::{env, ini, json, php, python, shell, xml, yaml};
use crate::config::definition::ConfigForm;

/// The web server's own files have directives in place of keys; [`super::htaccess`] edits them.
struct Directives;

impl Format for Directives {
    fn read(&self, _: &[u8], _: Option<&str>) -> Result<Settings, ConfigError> {
        Ok(Settings::default())
    }
    fn quoted(&self, value: &str, _: &[u8]) -> String {
        value.to_string()
    }
    fn has_keys(&self) -> bool {
        false
    }
}

impl ConfigForm {
    /// Returns what the form can be asked for.
    pub fn format(self) -> &'static dyn Format {
        match self {
            ConfigForm::Php => &php::Php,
            ConfigForm::Xml => &xml::Xml,
            ConfigForm::Yaml => &yaml::YamlFile,
            ConfigForm::Env => &env::Env,
            ConfigForm::Shell => &shell::Shell,
            ConfigForm::Json => &json::Json,
            ConfigForm::Ini => &ini::Ini,
            ConfigForm::Python => &python::Python,
            ConfigForm::Htaccess => &Directives,
        }
    }
}
