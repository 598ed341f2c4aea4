//! Config files: values located by parsers, changed by splices.

pub mod edit;
pub mod htaccess;
pub mod php;
