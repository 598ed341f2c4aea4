//! Config files: values located by parsers, changed by splices.

pub mod connection;
pub mod edit;
pub mod env;
pub mod htaccess;
pub mod php;
pub mod settings;
pub mod xml;
pub mod yaml;
