//! The shapes of what commands print with `--json` and of job files, each under a name. They are kept in `docs/schemas`, where a test
//! compares them with what is printed.

use crate::commands::copies::{CopyResult, FinishResult};
use crate::commands::database::sizes::SizesResult;
use crate::commands::database::{attempt::TryResult, logins::LogInsResult};
use crate::commands::live::LiveResult;
use crate::commands::logbook::RunResult;
use crate::commands::undo::UndoPreview;
use crate::commands::verify::VerifyResult;
use crate::render::json::Document;
use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, Schema};
use zporter_core::job::Kind;
use zporter_core::job::run::{
    CreateOutcome, CreatePreview, DumpOutcome, DumpPreview, LoadOutcome, LoadPreview, PackPreview, PackedRun,
    Readdressed, SwitchState,
};
use zporter_core::logbook::Summary;
use zporter_core::survey::SurveyReport;
use zporter_core::system::Definition;
use zporter_core::trace::Traced;
use zporter_core::undo::Done;

/// One or several: who packs one host gets one result, who packs more a list of them.
#[derive(JsonSchema)]
#[serde(untagged)]
#[expect(dead_code, reason = "only its shape is of use")]
enum OneOrMore<T> {
    /// One.
    One(Box<T>),
    /// Several.
    More(Vec<T>),
}

/// A name, and what makes the shape.
type Named = (&'static str, fn() -> Schema);

fn of<T: JsonSchema>() -> Schema {
    // As it is written, not as it could be read: what may be left out is not needed.
    let settings = SchemaSettings::draft2020_12().for_serialize();
    settings.into_generator().into_root_schema_for::<Document<T>>()
}

const DOCUMENTS: [Named; 30] = [
    ("diagnose", of::<crate::commands::diagnose::DiagnoseResult<'static>>),
    ("survey", of::<SurveyReport<'static>>),
    ("pack", of::<OneOrMore<PackedRun>>),
    ("pack-preview", of::<Vec<PackPreview>>),
    ("verify", of::<Vec<VerifyResult>>),
    ("restore", of::<CopyResult<'static>>),
    ("clone", of::<CopyResult<'static>>),
    ("move", of::<CopyResult<'static>>),
    ("move-finish", of::<FinishResult<'static>>),
    ("settle", of::<LiveResult<'static>>),
    ("switch", of::<LiveResult<'static>>),
    ("switch-states", of::<Vec<SwitchState>>),
    ("visit", of::<zporter_core::visit::Visited>),
    ("readdress", of::<Readdressed>),
    ("trace", of::<Traced>),
    ("undo", of::<Done>),
    ("undo-preview", of::<UndoPreview>),
    ("logbook", of::<Vec<Summary>>),
    ("logbook-run", of::<RunResult>),
    ("systems", of::<Vec<Definition>>),
    ("system", of::<Definition>),
    ("database-try", of::<TryResult<'static>>),
    ("database-sizes", of::<SizesResult<'static>>),
    ("database-dump", of::<DumpOutcome>),
    ("database-dump-preview", of::<DumpPreview>),
    ("database-load", of::<LoadOutcome>),
    ("database-load-preview", of::<LoadPreview>),
    ("database-create", of::<CreateOutcome>),
    ("database-create-preview", of::<CreatePreview>),
    ("database-logins", of::<LogInsResult>),
];

/// The name of the shape of a command's job file.
fn job_name(kind: Kind) -> String {
    format!("job-{}", kind.command().replace(' ', "-"))
}

/// All names.
pub fn names() -> Vec<String> {
    let documents = DOCUMENTS.iter().map(|(name, _)| name.to_string());
    documents.chain(Kind::ALL.into_iter().map(job_name)).collect()
}

/// The shape of that name.
pub fn named(name: &str) -> Option<Schema> {
    let document = DOCUMENTS.iter().find(|(n, _)| *n == name).map(|(_, make)| make());
    document.or_else(|| Kind::ALL.into_iter().find(|k| job_name(*k) == name).map(Kind::schema))
}
