//! Config files: values located by parsers, changed by splices.

pub mod connection;
pub mod definition;
mod depth;
pub mod edit;
mod env;
mod file_plan;
pub mod format;
pub mod htaccess;
mod ini;
mod json;
mod php;
mod place_value;
mod preview;
mod python;
mod register;
pub mod settings;
mod shell;
mod xml;
mod yaml;

use crate::config::definition::ConfigForm;
use settings::{ConfigError, Settings};

/// Reads a config file of a form. `folder` is where it lies, if known. Nothing is executed.
pub fn read(form: ConfigForm, text: &[u8], folder: Option<&str>) -> Result<Settings, ConfigError> {
    form.format().read(text, folder)
}
