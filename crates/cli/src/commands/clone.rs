//! `zporter clone`: a site becomes another one elsewhere, without an archive in between.

use super::restore;
use crate::copy_args::CopyArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use std::path::PathBuf;
use zporter_core::restore::record::Record;

/// Clone a site straight to another place: the same as packing and restoring it, without the archive
#[derive(Debug, Args)]
pub struct CloneArgs {
    /// Folder of the site; it is only read
    #[arg(required_unless_present = "waybill", conflicts_with = "waybill")]
    site: Option<PathBuf>,
    /// Target folder; missing or empty, or with --refresh a copy
    #[arg(required_unless_present = "waybill", conflicts_with = "waybill")]
    target: Option<PathBuf>,
    /// Bring the copy in TARGET up to date: changed files and the whole database; its own settings stay
    #[arg(long, help_heading = "A copy that is there")]
    refresh: bool,
    /// Take away what is no longer at the source; it is kept for `zporter undo`
    #[arg(long, requires = "refresh", help_heading = "A copy that is there")]
    delete_gone: bool,
    /// Where and as what the copy lives
    #[command(flatten)]
    copy: CopyArgs,
}

/// Runs the command.
pub fn run(ui: &Ui, args: &CloneArgs) -> Result<Exit, CommandError> {
    let mut copy = args.copy.clone();
    // A copy knows what it was made with.
    if let Some(record) = args.target.as_deref().filter(|_| args.refresh).and_then(Record::read) {
        copy.address.get_or_insert(record.address);
        copy.table_prefix = copy.table_prefix.or(record.table_prefix);
        if copy.dump_to.is_none() {
            copy.database = copy.database.or(record.database);
        }
    }
    let mut bill = copy.waybill("clone", args.site.as_deref(), args.target.as_deref())?;
    bill.refresh |= args.refresh;
    bill.delete_gone |= args.delete_gone;
    restore::run_bill(ui, &bill, &copy)
}
