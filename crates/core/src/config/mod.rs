//! Config files: values located by parsers, changed by splices.

pub mod connection;
pub mod edit;
pub mod env;
pub mod htaccess;
pub mod php;
pub mod settings;
pub mod xml;
pub mod yaml;

use crate::system::schema::ConfigForm;
use settings::{ConfigError, Settings};

/// Reads a config file of a form. `folder` is where it lies, if known. Nothing is executed.
pub fn read(form: ConfigForm, text: &[u8], folder: Option<&str>) -> Result<Settings, ConfigError> {
    match form {
        ConfigForm::Php => php::parse(text, folder),
        ConfigForm::Xml => xml::parse(text),
        ConfigForm::Yaml => Ok(yaml::parse(text)),
        ConfigForm::Env => Ok(env::parse(text)),
        ConfigForm::Htaccess => Ok(Settings::default()),
    }
}

/// Spells a value for a form, in the quotes of the one it replaces.
pub fn spelled(form: ConfigForm, value: &str, old: &[u8]) -> String {
    match form {
        ConfigForm::Php => php::quoted(value, old),
        ConfigForm::Xml => xml::escaped(value),
        ConfigForm::Yaml => yaml::quoted(value),
        ConfigForm::Env => env::quoted(value),
        ConfigForm::Htaccess => value.to_string(),
    }
}
