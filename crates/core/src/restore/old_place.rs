//! Where the site lived, and what it is: as the archive's head says, or as its config, its rows and its content tell.

use super::RestoreError;
use super::job::RestoreJob;
use super::source::{ArchiveKind, Source, inspect_inner_dump};
use crate::event::{Findings, Watch};
use crate::finding::{Code, Finding};
use crate::place::{Address, Place, Relocation, Root};
use crate::select::Part;
use crate::survey::address::{self, AddressFinding};
use crate::survey::hosts::{self, Hosts};
use crate::survey::inspect_dump;
use crate::survey::recognise::{ConfigFacts, recognise};
use crate::system::{Definition, Known};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// Chooses the host that is meant: ours says it in its head, a plain archive with several needs to be told.
pub(super) fn hosts_of(
    job: &RestoreJob,
    source: &Source,
    definition: &Definition,
) -> Result<Hosts, RestoreError> {
    let asked = match &source.kind {
        ArchiveKind::Ours(head) => head.place.host_folder.clone(),
        ArchiveKind::Plain { .. } => job.options.host_folder.clone(),
    };
    let hosts = match hosts::choose(&source.files, definition, asked.as_deref()) {
        Ok(hosts) => hosts,
        // The archive may hold no config file at all.
        Err(folder) => Hosts {
            definition: definition.for_site(&folder),
            folder: Some(folder),
            found: Vec::new(),
            copies: Vec::new(),
        },
    };
    if asked.is_none() && hosts.found.len() > 1 {
        return Err(RestoreError::SeveralHosts {
            found: hosts.found.into_iter().map(|h| h.folder).collect(),
        });
    }
    Ok(hosts)
}

/// Tells the system of an archive: its definition, product and version.
pub(super) fn system_of(
    job: &RestoreJob,
    source: &Source,
    known: &[Known],
) -> Result<(Definition, String, Option<String>), RestoreError> {
    match &source.kind {
        // Our head says which system it is; the markers could fit more than one definition, or be left out.
        ArchiveKind::Ours(head) => {
            if head.system.id == crate::system::ANY {
                return Ok((crate::system::any(), head.system.name.clone(), None));
            }
            let by_id = known.iter().find(|k| k.definition.id == head.system.id);
            let known = by_id.ok_or_else(|| RestoreError::NoDefinition(head.system.id.clone()))?;
            let definition = known.definition.below(&head.place.document_root);
            let definition = definition.with_folders_at(&head.place.moved_folders);
            Ok((definition, head.system.name.clone(), head.system.version.clone()))
        }
        ArchiveKind::Plain { .. } => {
            let recognised = recognise(&source.files, known).map_err(|looked_for| RestoreError::Unknown {
                path: job.options.source.to_path_buf(),
                looked_for,
            })?;
            Ok((recognised.definition, recognised.product, recognised.version))
        }
    }
}

/// Returns the sites of the same database that stay where they are.
pub(super) fn other_sites(job: &RestoreJob, source: &Source, found: &AddressFinding) -> Vec<Address> {
    let mut others = match &source.kind {
        ArchiveKind::Ours(head) => head.place.other_sites.clone(),
        ArchiveKind::Plain { .. } => found.others.clone(),
    };
    others.retain(|o| !job.options.map.iter().any(|(old, _)| old == o));
    others
}

pub(super) fn find_address(
    job: &RestoreJob,
    source: &Source,
    definition: &Definition,
    facts: &ConfigFacts,
    watch: &dyn Watch,
    findings: &mut Findings<'_>,
) -> Result<(AddressFinding, BTreeSet<String>), RestoreError> {
    let mut tables = BTreeSet::new();
    let mut found = match &source.kind {
        ArchiveKind::Ours(head) => AddressFinding {
            address: head.place.address.clone(),
            learned_from: match &job.contents {
                Some(contents) => contents.survey.address.learned_from.clone(),
                None => "the archive's head".into(),
            },
            aliases: head.place.aliases.clone(),
            others: head.place.other_sites.clone(),
            candidates: source.hosts.iter().map(|(h, n)| (h.clone(), *n)).collect(),
            concluded: false,
        },
        ArchiveKind::Plain { dump } => {
            let wanted = address::wanted_rows(definition, &facts.table_prefix);
            let inspection = match (&job.dump, dump) {
                (Some(path), _) => Some(inspect_dump(path, &wanted, watch).map_err(|e| match e {
                    crate::survey::SurveyError::Dump { path, source } => {
                        RestoreError::Dump { name: path.display().to_string(), source }
                    }
                    other => {
                        RestoreError::Config { path: path.display().to_string(), why: other.to_string() }
                    }
                })?),
                (None, Some(inner)) => Some(inspect_inner_dump(&job.options.source, inner, &wanted, watch)?),
                (None, None) => None,
            };
            tables.extend(inspection.iter().flat_map(|i| i.tables.keys().cloned()));
            address::find(definition, facts, inspection.as_ref())
        }
    };
    if let (Some(main), ArchiveKind::Ours(_)) = (&found.address, &source.kind) {
        // A database that was packed from a server was not looked through for them.
        let named: Vec<Address> = source.hosts.keys().filter_map(|h| Address::parse(h).ok()).collect();
        found.aliases.extend(address::www_variants(main, named.iter()));
    }
    found.candidates.sort_by_key(|(_, n)| std::cmp::Reverse(*n));
    found.candidates.truncate(5);
    if let Some(given) = &job.options.old_address {
        match &job.contents {
            // It was taken when the site was looked at.
            Some(contents) if contents.survey.base_address() == found.address.as_ref() => {}
            Some(_) => found.learned_from = "your own word".into(),
            None => {
                if let Some(warning) = found.given(given) {
                    findings.push(warning);
                }
            }
        }
    }
    found.aliases.extend(job.options.old_alias.iter().cloned());
    Ok((found, tables))
}

pub(super) fn relocation(
    job: &RestoreJob,
    source: &Source,
    facts: &ConfigFacts,
    found: &AddressFinding,
    findings: &mut Findings<'_>,
) -> Result<Relocation, RestoreError> {
    let address = match &found.address {
        Some(address) => address.clone(),
        None if found.candidates.is_empty() => {
            let what = "the old base address stands nowhere, and the content names no host";
            findings.push(Finding::new(
                Code::AddressUnknown,
                what,
                "",
                "nothing, if the site uses relative links only",
            ));
            job.address.clone()
        }
        None => return Err(RestoreError::NoAddress { candidates: found.candidates.clone() }),
    };
    let new_root = Root::parse(&job.options.target.display().to_string())?;
    let mut roots: Vec<Root> = Vec::new();
    if let ArchiveKind::Ours(head) = &source.kind {
        roots.push(Root::parse(&head.place.root)?);
        roots.extend(head.place.config_roots.iter().filter_map(|r| Root::parse(r).ok()));
    }
    roots.extend(facts.roots.iter().cloned());
    roots.extend(job.options.old_root.iter().cloned());
    let mut seen = Vec::new();
    roots.retain(|r| {
        let new = !seen.contains(r);
        seen.push(r.clone());
        new
    });
    let root = if roots.is_empty() { new_root.clone() } else { roots.remove(0) };
    let mut aliases = found.aliases.clone();
    aliases.retain(|a| *a != address);
    let from = Place { address, root, database: facts.database.clone() };
    let to = Place { address: job.address.clone(), root: new_root, database: job.database.clone() };
    Ok(Relocation {
        from,
        aliases,
        other_roots: roots,
        further: job.options.map.clone(),
        outside: Vec::new(),
        to,
    })
}

/// Returns how the site names that folder where that is a path from the document root.
pub(super) fn named_outside(source: &Source) -> Option<&str> {
    match &source.kind {
        ArchiveKind::Ours(head) => head.place.outside_named.as_deref(),
        _ => None,
    }
}

/// Returns old and new place of the folder that belongs to the site outside of its root.
pub(super) fn outside(job: &RestoreJob, source: &Source) -> Result<Option<(Root, Root)>, RestoreError> {
    let ArchiveKind::Ours(head) = &source.kind else { return Ok(None) };
    // Where nothing is copied it stays where it is.
    let Some(old) = head.place.outside.as_ref().filter(|_| job.in_place.is_none()) else { return Ok(None) };
    let beside = || {
        let name = job.options.target.file_name().unwrap_or_default().to_string_lossy().into_owned();
        job.options.target.with_file_name(format!("{name}-storage"))
    };
    // What is brought back to its place has its folder where it had it.
    let same = job.options.in_place && Path::new(&head.place.root) == &*job.options.target;
    let own = same.then(|| PathBuf::from(old));
    let new = job.options.storage.as_deref().map(Path::to_path_buf).or(own).unwrap_or_else(beside);
    if !job.replaces()
        && job.scope.has(&Part::Code)
        && job.tree.list(&new).is_ok_and(|listed| !listed.is_empty())
    {
        return Err(RestoreError::TargetInUse { path: new, found: vec!["files".into()] });
    }
    Ok(Some((Root::parse(old)?, Root::parse(&new.display().to_string())?)))
}
