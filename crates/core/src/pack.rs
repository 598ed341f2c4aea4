//! Packs a surveyed site: head, files, database parts, manifest, as a stream.

use crate::archive::entry_path::EntryPath;
use crate::archive::format::{DATABASE, FILES, FORMAT, Head, HeadPlace, LeftOut, SystemName};
use crate::archive::write::{ArchiveWriter, Meta, WriteError};
use crate::database::{self, DatabaseError};
use crate::dump::split::{Part, Split, Splitter};
use crate::dump::stream::{CutOff, DumpError, WINDOW};
use crate::event::{Counted, Event, Warning, Warnings, Watch};
use crate::fsx::{AtPath, PathError, absolute};
use crate::place::Address;
use crate::survey::select::{Fate, Selection};
use crate::survey::{Survey, table_rule};
use serde::Serialize;
use std::collections::BTreeSet;
use std::fs::{self, File};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Why a site could not be packed.
#[derive(Debug, thiserror::Error)]
pub enum PackError {
    /// The archive would lie in the site.
    #[error("the archive {0} would lie inside of the site, where a browser could fetch it")]
    InsideSite(PathBuf),
    /// The database could not be read.
    #[error("the site's database cannot be read")]
    Database(#[source] DatabaseError),
    /// There is neither a server nor a dump.
    #[error("the site's database is not to be had: {0}")]
    NoDatabase(String),
    /// The dump ends in the middle of a statement.
    #[error("the dump {path} breaks off in line {}: {}", .cut.line, .cut.what)]
    CutOff {
        /// Dump.
        path: PathBuf,
        /// Where.
        cut: CutOff,
    },
    /// The dump holds more than one database.
    #[error("the dump {path} holds several databases: {}", .names.join(", "))]
    SeveralDatabases {
        /// Dump.
        path: PathBuf,
        /// Names.
        names: Vec<String>,
    },
    /// The dump cannot be read.
    #[error("the dump {path} cannot be used")]
    Dump {
        /// Dump.
        path: PathBuf,
        /// Cause.
        #[source]
        source: DumpError,
    },
    /// Writing failed.
    #[error(transparent)]
    Write(#[from] WriteError),
    /// A path failed.
    #[error(transparent)]
    Path(#[from] PathError),
}

/// Choices of a pack.
#[derive(Debug, Clone)]
pub struct PackOptions {
    /// Archive to write; its ending names the container.
    pub output: PathBuf,
    /// Dump to take the database from, instead of the server.
    pub dump: Option<PathBuf>,
    /// Leave the database out.
    pub without_database: bool,
    /// Note for the head.
    pub note: String,
    /// Time to write into the head, RFC 3339.
    pub packed_at: String,
    /// Name and version of the program.
    pub written_by: String,
    /// Base address, if the survey could not find it or found another.
    pub address: Option<Address>,
}

/// What was packed.
#[derive(Debug, Clone, Serialize)]
pub struct Packed {
    /// The archive.
    pub archive: PathBuf,
    /// Its size in bytes.
    pub size: u64,
    /// Files carried.
    pub files: u64,
    /// Their bytes.
    pub file_bytes: u64,
    /// Tables carried.
    pub tables: u64,
    /// Rows carried.
    pub rows: u64,
    /// Base address that is noted in the head.
    pub address: Option<Address>,
    /// What was left out, and why.
    pub left_out: Vec<LeftOut>,
    /// What needs attention.
    pub warnings: Vec<Warning>,
}

/// Packs a site.
pub fn pack(survey: &Survey, options: &PackOptions, watch: &dyn Watch) -> Result<Packed, PackError> {
    let output = absolute(&options.output);
    let folder = output.parent().map(Path::to_path_buf).unwrap_or_default();
    let real = fs::canonicalize(&folder).at(&folder)?;
    if real.starts_with(&survey.site) {
        return Err(PackError::InsideSite(output));
    }
    let mut warnings = Warnings::new(watch);
    let spool = tempfile::Builder::new().prefix(".zporter-spool-").tempdir_in(&folder).at(&folder)?;
    let parts = database_parts(survey, options, spool.path(), watch, &mut warnings)?;
    let mut left_out = left_out_files(survey);
    for part in parts.iter().filter(|p| p.rows_left_out > 0) {
        let table = part.table.clone().unwrap_or_default();
        let rule = table_rule(&survey.recognised.definition, &survey.config.table_prefix, &table);
        let why = rule.map(|r| r.about.clone()).unwrap_or_default();
        left_out.push(LeftOut { what: format!("rows of {table}"), why, count: part.rows_left_out, bytes: 0 });
    }
    let database_bytes: u64 = parts.iter().map(|p| p.bytes).sum();
    let head = head(survey, options, &left_out, survey.carried_bytes() + database_bytes, !parts.is_empty());
    let address = head.place.address.clone();
    watch.event(Event::StepStarted { step: "packing", total: Some(head.expected_bytes) });
    let mut writer = ArchiveWriter::create(&output, &head)?;
    let (files, file_bytes) = write_files(survey, &mut writer, watch, &mut warnings)?;
    let time = head.time();
    for (number, part) in parts.iter().enumerate() {
        let name = part.table.as_deref().map_or("views-and-routines".into(), file_name);
        let path = EntryPath::trusted(&format!("{DATABASE}/{number:03}-{name}.sql"));
        let reader = part.open().at(spool.path())?;
        writer.file(&Meta { path, mode: 0o600, time }, part.bytes, Counted::new(reader, watch))?;
    }
    let size = writer.finish()?;
    watch.event(Event::StepDone);
    Ok(Packed {
        archive: output,
        size,
        files,
        file_bytes,
        tables: parts.iter().filter(|p| p.table.is_some()).count() as u64,
        rows: parts.iter().map(|p| p.rows).sum(),
        address,
        left_out,
        warnings: warnings.into_vec(),
    })
}

/// A table's name as part of a file name; the table's real name stands in the SQL.
fn file_name(table: &str) -> String {
    table
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '$') { c } else { '_' })
        .collect()
}

fn head(
    survey: &Survey,
    options: &PackOptions,
    left_out: &[LeftOut],
    expected_bytes: u64,
    has_database: bool,
) -> Head {
    let definition = &survey.recognised.definition;
    let address = options.address.clone().or_else(|| survey.base_address().cloned());
    let aliases = survey.address.aliases.iter().filter(|a| Some(*a) != address.as_ref()).cloned().collect();
    Head {
        format: FORMAT,
        written_by: options.written_by.clone(),
        packed_at: options.packed_at.clone(),
        note: options.note.clone(),
        system: SystemName {
            id: definition.id.clone(),
            name: survey.recognised.product.clone(),
            version: survey.recognised.version.clone(),
        },
        place: HeadPlace {
            root: survey.site.display().to_string(),
            config_roots: survey.config.roots.iter().map(ToString::to_string).collect(),
            address,
            aliases,
            database: survey.config.database.clone(),
            table_prefix: survey.config.table_prefix.clone(),
        },
        left_out: left_out.to_vec(),
        expected_bytes,
        has_database,
    }
}

fn database_parts(
    survey: &Survey,
    options: &PackOptions,
    spool: &Path,
    watch: &dyn Watch,
    warnings: &mut Warnings<'_>,
) -> Result<Vec<Part>, PackError> {
    if options.without_database {
        return Ok(Vec::new());
    }
    let without_rows: BTreeSet<String> =
        survey.tables.iter().filter(|t| t.rows_left_out).map(|t| t.name.clone()).collect();
    if let Some(path) = &options.dump {
        return split_dump(path, &without_rows, spool, watch, warnings);
    }
    let access = match (&survey.config.database, &survey.tables_from) {
        (Some(access), crate::survey::TableSource::Server) => access,
        (_, crate::survey::TableSource::None(why)) => return Err(PackError::NoDatabase(why.clone())),
        _ => return Err(PackError::NoDatabase("the config names no database".into())),
    };
    let total = survey.tables.iter().map(|t| t.bytes).sum();
    watch.event(Event::StepStarted { step: "reading the database", total: Some(total) });
    let mut conn = database::connect(access).map_err(PackError::Database)?;
    let parts = database::read::parts(&mut conn, &without_rows, spool, watch, warnings)
        .map_err(PackError::Database)?;
    watch.event(Event::StepDone);
    Ok(parts)
}

fn split_dump(
    path: &Path,
    without_rows: &BTreeSet<String>,
    spool: &Path,
    watch: &dyn Watch,
    warnings: &mut Warnings<'_>,
) -> Result<Vec<Part>, PackError> {
    let wrong = |source| PackError::Dump { path: path.to_path_buf(), source };
    let file = File::open(path).map_err(|e| wrong(DumpError::Read(e)))?;
    let total = file.metadata().map(|m| m.len()).ok();
    watch.event(Event::StepStarted { step: "taking the dump apart", total });
    let reader = crate::dump::open(Counted::new(file, watch)).map_err(|e| wrong(DumpError::Read(e)))?;
    let mut splitter = Splitter::new(spool, without_rows);
    let ending = crate::dump::stream::run(reader, WINDOW, &mut splitter).map_err(wrong)?;
    let Split { parts, databases, left_out } = splitter.finish().map_err(wrong)?;
    watch.event(Event::StepDone);
    if let Some(cut) = ending.cut_off {
        return Err(PackError::CutOff { path: path.to_path_buf(), cut });
    }
    if databases.len() > 1 {
        return Err(PackError::SeveralDatabases {
            path: path.to_path_buf(),
            names: databases.into_iter().collect(),
        });
    }
    for statement in left_out {
        let what = format!("a statement that builds no table was left out ({statement})");
        warnings.push(Warning::at(what, path, "nothing, unless the site depends on it"));
    }
    if parts.is_empty() {
        warnings.push(Warning::at("the dump holds no table", path, "check that it is the dump of this site"));
    }
    Ok(parts)
}

/// Counts what the definition leaves out, folder by folder.
fn left_out_files(survey: &Survey) -> Vec<LeftOut> {
    let definition = &survey.recognised.definition;
    let selection = Selection::new(definition);
    let mut out: Vec<LeftOut> = Vec::new();
    for entry in walkdir::WalkDir::new(&survey.site).min_depth(1).sort_by_file_name().into_iter().flatten() {
        if entry.file_type().is_dir() {
            continue;
        }
        let path = entry.path().strip_prefix(&survey.site).unwrap_or(entry.path());
        let (what, why) = match selection.fate(path, false) {
            Fate::Carry => continue,
            Fate::Transient(i) => {
                (definition.transient[i].path.clone(), "made anew by the system".to_string())
            }
            Fate::Generated(i) => {
                (definition.generated[i].path.clone(), definition.generated[i].about.clone())
            }
        };
        let bytes = entry.metadata().map(|m| m.len()).unwrap_or_default();
        match out.iter_mut().find(|l| l.what == what) {
            Some(known) => {
                known.count += 1;
                known.bytes += bytes;
            }
            None => out.push(LeftOut { what, why, count: 1, bytes }),
        }
    }
    out
}

fn write_files(
    survey: &Survey,
    writer: &mut ArchiveWriter,
    watch: &dyn Watch,
    warnings: &mut Warnings<'_>,
) -> Result<(u64, u64), PackError> {
    let selection = Selection::new(&survey.recognised.definition);
    let files = EntryPath::trusted(FILES);
    let (mut count, mut bytes) = (0, 0);
    let mut walk = walkdir::WalkDir::new(&survey.site).min_depth(1).sort_by_file_name().into_iter();
    while let Some(entry) = walk.next() {
        let entry = match entry {
            Ok(entry) => entry,
            Err(e) => {
                let path = e.path().map(Path::to_path_buf).unwrap_or_default();
                warnings.push(Warning::at(
                    "could not be read and was left out",
                    path,
                    "check its permissions and pack again",
                ));
                continue;
            }
        };
        let below = entry.path().strip_prefix(&survey.site).unwrap_or(entry.path());
        let kind = entry.file_type();
        if selection.fate(below, kind.is_dir()) != Fate::Carry {
            if kind.is_dir() {
                walk.skip_current_dir();
            }
            continue;
        }
        let Ok(meta) = fs::symlink_metadata(entry.path()) else { continue };
        let entry_meta = Meta {
            path: files.join(below.as_os_str().as_bytes()),
            mode: meta.permissions().mode() & 0o7777,
            time: meta.mtime(),
        };
        if kind.is_dir() {
            writer.folder(&entry_meta)?;
        } else if kind.is_symlink() {
            let target = fs::read_link(entry.path()).at(entry.path())?;
            writer.symlink(&entry_meta, &target)?;
            count += 1;
        } else if kind.is_file() {
            match File::open(entry.path()) {
                Ok(file) => writer.file(&entry_meta, meta.len(), Counted::new(file, watch))?,
                Err(_) => {
                    warnings.push(Warning::at(
                        "could not be read and was left out",
                        entry.path(),
                        "check its permissions and pack again",
                    ));
                    continue;
                }
            }
            count += 1;
            bytes += meta.len();
        } else {
            warnings.push(Warning::at("is a device, pipe or socket and was left out", entry.path(), ""));
        }
    }
    Ok((count, bytes))
}
