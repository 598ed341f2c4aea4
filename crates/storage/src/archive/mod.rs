//! Archives: one file that holds a whole site. Written as a stream, verified without unpacking, read by stock tools.

pub mod blob;
pub mod clash;
pub mod container;
pub mod entry_path;
pub mod format;
pub mod read;
pub mod verify;
pub mod write;
