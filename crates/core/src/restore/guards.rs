//! What is looked at before anything is written: the target's folder, its space, its database. What does not fit is refused here.

use super::RestoreError;
use super::job::RestoreJob;
use super::source::Source;
use crate::copy_record::{self, Record};
use crate::database::load::{contents, must_be_empty, plain_name, shortened};
use crate::database::servers::same_database;
use crate::dump::prefix::PrefixChange;
use crate::dump::rules::Keep;
use crate::select::Part;
use crate::survey::recognise::{ConfigFacts, config_facts};
use crate::survey::site_files::FolderFiles;
use crate::system::Definition;
use std::collections::BTreeSet;
use std::path::Path;

/// Says why a folder is not the copy that is to be brought up to date: one of another site, or with other settings than were asked for.
pub(super) fn other_copy(job: &RestoreJob, definition: &Definition) -> Option<String> {
    let site = &job.contents.as_ref()?.survey.site;
    let Some(record) = Record::read(&*job.tree) else {
        return Some(format!(
            "nothing in it says that it is a copy of {} (the file {} is missing)",
            site.display(),
            copy_record::NAME
        ));
    };
    if Path::new(&record.source) != site {
        return Some(format!("it is a copy of {}", record.source));
    }
    // What it was made with stands in its own settings; only its rows would follow another word.
    let has = |what: &str, own: &str, asked: &str| {
        format!("its {what} is {own}, and {asked} was asked for; leave the option out, or make a new copy")
    };
    if record.address != job.address.to_string() {
        return Some(has("address", &record.address, &job.address.to_string()));
    }
    let facts = config_facts(&FolderFiles(job.tree.clone()), definition);
    let prefix =
        job.options.table_prefix.clone().unwrap_or_else(|| record.table_prefix.clone().unwrap_or_default());
    if job.options.table_prefix != record.table_prefix
        || (!facts.files.is_empty() && !prefix.is_empty() && facts.table_prefix != prefix)
    {
        let own =
            if facts.files.is_empty() { record.table_prefix.unwrap_or_default() } else { facts.table_prefix };
        return Some(has("table prefix", &own, &prefix));
    }
    if let (Some(own), Some(asked)) = (&record.database, &job.database)
        && *own != asked.url()
        // The site's own database is refused by whoever looks at that.
        && !job.contents.as_ref().and_then(|c| c.survey.config.database.as_ref()).is_some_and(|source| same_database(source, asked))
    {
        return Some(has("database", own, &asked.url()));
    }
    None
}

pub(super) fn guard_target(job: &RestoreJob) -> Result<(), RestoreError> {
    let dump_into_site = |dump: &Path| dump.starts_with(&job.options.target);
    if job.options.refresh {
        if !job.tree.is_folder(&job.options.target) {
            return Err(RestoreError::NoCopy {
                path: job.options.target.to_path_buf(),
                why: "there is no such folder".into(),
            });
        }
    } else if !job.scope.has(&Part::Code) || job.options.host_as.is_some() {
        // Into a site that is there: nothing of it is ever overwritten.
    } else if let Ok(listed) = job.tree.list(&job.options.target) {
        let mut found: Vec<String> =
            listed.into_iter().map(|l| l.name.to_string_lossy().into_owned()).collect();
        if !found.is_empty() {
            found.sort();
            return Err(RestoreError::TargetInUse {
                path: job.options.target.to_path_buf(),
                found: shortened(found),
            });
        }
    } else if job.tree.exists(&job.options.target) {
        return Err(RestoreError::TargetInUse {
            path: job.options.target.to_path_buf(),
            found: vec!["it is a file".into()],
        });
    }
    if let Some(contents) = &job.contents {
        let site = &contents.survey.site;
        // A host may join the code base that it comes from.
        let joins = job.options.host_as.is_some() && *job.options.target == **site;
        // A copy in a folder of the site is left out where the site is read.
        let nested = *job.options.target == **site || site.starts_with(&job.options.target);
        if !joins && nested && job.tree.host() == contents.survey.tree.host() {
            return Err(RestoreError::TargetInSource {
                target: job.options.target.to_path_buf(),
                site: site.clone(),
            });
        }
    }
    if let Some(dump) = &job.options.dump_to {
        if dump.exists() {
            return Err(RestoreError::FileInUse(dump.to_path_buf()));
        }
        if dump_into_site(dump) {
            return Err(RestoreError::DumpInTarget(dump.to_path_buf()));
        }
    }
    Ok(())
}

pub(super) fn guard_space(job: &RestoreJob, needed: u64) -> Result<(), RestoreError> {
    match job.tree.free_space() {
        Some(free) if free < needed => {
            Err(RestoreError::Space { path: job.options.target.to_path_buf(), needed, free })
        }
        _ => Ok(()),
    }
}

/// Names, in the target's database, of the tables that come.
pub(super) fn carried_tables(
    job: &RestoreJob,
    source: &Source,
    mut tables: BTreeSet<String>,
    definition: &Definition,
    facts: &ConfigFacts,
    prefix: Option<&PrefixChange>,
) -> BTreeSet<String> {
    tables.extend(source.tables.iter().cloned());
    let comes =
        tables.iter().filter(|t| job.tables().keeps(definition, &facts.table_prefix, t) != Keep::Nothing);
    let named = comes.map(|table| {
        let plain = plain_name(table);
        prefix.map_or_else(|| plain.to_string(), |change| change.renamed(plain))
    });
    named.collect()
}

/// Says whether the copy's database is the one that its site lives in.
pub(super) fn in_source_database(job: &RestoreJob) -> bool {
    let source = job.contents.as_ref().and_then(|contents| contents.survey.config.database.as_ref());
    source.zip(job.database.as_ref()).is_some_and(|(source, access)| same_database(source, access))
}

/// Returns what is in the target's database. Tables of other prefixes than the copy's are nobody's business.
pub(super) fn guard_database(
    job: &RestoreJob,
    prefix: &str,
    change: Option<&PrefixChange>,
) -> Result<Vec<String>, RestoreError> {
    let Some(access) = &job.database else { return Ok(Vec::new()) };
    let found = contents(access).map_err(RestoreError::Database)?;
    if in_source_database(job) {
        let apart = |change: &PrefixChange| {
            !change.new.starts_with(&change.old) && !change.old.starts_with(&change.new)
        };
        match change {
            _ if access.engine.facts().is_file => {
                return Err(RestoreError::SourceDatabase { url: access.url() });
            }
            Some(change) if apart(change) => {}
            Some(change) => {
                let why = format!("the site's own is {}, and neither may begin with the other", change.old);
                return Err(RestoreError::Prefix { new: change.new.clone(), why });
            }
            None => return Err(RestoreError::SourceDatabase { url: access.url() }),
        }
    }
    if job.replaces() {
        return Ok(found);
    }
    let own = change.map_or(prefix, |c| &c.new);
    let in_the_way = found.iter().filter(|t| change.is_none() || t.starts_with(own)).cloned().collect();
    must_be_empty(access, in_the_way).map_err(RestoreError::Database)?;
    Ok(found)
}
