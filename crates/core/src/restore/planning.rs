//! Makes the plan of a restore: everything that can be known and refused before the first byte is written.

use super::RestoreError;
use super::copy_settings::{self, PlannedKey, PlannedSettings};
use super::difference;
use super::edits::{cells, coded, file_plans, packed};
use super::guards::{guard_space, guard_target, other_copy};
use super::hosts::Joining;
use super::in_place;
use super::job::{Reach, RestoreJob};
use super::locate::{Locate, each_part};
use super::old_place::{find_address, hosts_of, named_outside, other_sites, outside, relocation, system_of};
use super::owner::Owner;
use super::plan::RestorePlan;
use super::push;
use super::refresh::Outlook;
use super::row_by_row::RowByRow;
use super::source::{self, ArchiveKind, Source, look};
use super::target_tables::{SiteTables, TargetTables};
use crate::config;
use crate::config::edit::{Context, FilePlan, KeyPut};
use crate::copy_record::{self, Record};
use crate::database::load::plain_name;
use crate::database::servers;
use crate::dump::inspect;
use crate::dump::prefix::PrefixChange;
use crate::dump::rules::is_table;
use crate::event::{Findings, Silent, Watch};
use crate::finding::{Code, Finding};
use crate::machine;
use crate::options::values::{SwitchChoice, Written};
use crate::select::{Part, PathChoice, Selection};
use crate::survey::recognise::{ConfigFacts, config_facts, config_files, recognise};
use crate::survey::site_files::FolderFiles;
use crate::survey::{inspect_dump, material, risks};
use crate::system::schema::TextFile;
use crate::system::{Definition, Known};
use crate::table_scope::{self, Whose};
use crate::text::replacements::Replacements;
use std::collections::BTreeMap;
use std::path::Path;

/// Looks at the archive and plans. Nothing is written; the target database is only asked whether it is empty.
pub fn plan(mut job: RestoreJob, known: &[Known], watch: &dyn Watch) -> Result<RestorePlan, RestoreError> {
    if let (Some(access), None) = (&job.database, &job.options.dump_to)
        && !access.engine.facts().serves
    {
        return Err(RestoreError::NotLoadable(access.engine.name()));
    }
    if job.in_place.is_none() && job.over.is_none() {
        guard_target(&job)?;
    }
    let source = look(&job, known, watch)?;
    let has_database = (source.has_database || job.dump.is_some()) && job.scope.has(&Part::Database);
    if has_database
        && job.database.is_none()
        && job.options.dump_to.is_none()
        && job.in_place.is_none()
        && !job.comes_back()
    {
        return Err(RestoreError::NoDatabaseTarget);
    }
    let mut findings = Findings::new(watch);
    if !has_database
        && job.scope.has(&Part::Database)
        && job.database.is_some()
        && job.options.host_as.is_none()
    {
        let what = "there is no database to be restored: the one that was named was not touched";
        let cure = "name the dump of its database with --dump FILE, if the site has one";
        findings.push(Finding::new(Code::NoDatabase, what, job.options.source.display().to_string(), cure));
    }
    let (definition, product, version) = system_of(&job, &source, known)?;
    if job.options.refresh {
        let there = recognise(&FolderFiles(job.tree.clone()), known).map(|r| r.definition.id);
        let why = match there {
            Ok(id) if id == definition.id => None,
            Ok(id) => Some(format!("it is one of {id}")),
            Err(_) => Some("no known system is there".into()),
        };
        if let Some(why) = why.or_else(|| other_copy(&job, &definition)) {
            return Err(RestoreError::NoCopy { path: job.options.target.to_path_buf(), why });
        }
    }
    if let (ArchiveKind::Ours(head), None) = (&source.kind, job.in_place) {
        // What was set only while the site was read is as it was before, if nobody asks for something else.
        let former = head.place.former_switches.iter().filter_map(|text| SwitchChoice::read(text).ok());
        let former: Vec<SwitchChoice> =
            former.filter(|f| !job.options.set.iter().any(|s| s.name == f.name)).collect();
        job.options.set.extend(former);
    }
    let root = match &source.kind {
        ArchiveKind::Ours(head) => Some(head.place.root.as_str()),
        ArchiveKind::Plain { .. } => None,
    };
    in_place::guard(&job, &definition.id, root, known)?;
    let mut definition = definition;
    definition.text.extend(job.options.text.iter().map(|path| TextFile { path: path.clone() }));
    let hosts = hosts_of(&job, &source, &definition)?;
    let definition = hosts.definition.clone();
    let joining = match &job.options.host_as {
        Some(name) => Some(Joining::check(&hosts, &*job.tree, name)?),
        None => None,
    };
    if let Some(joining) = &joining {
        job.scope.only = vec![Part::Database, Part::Path(PathChoice::folder(&joining.old))];
    }
    let mut facts = config_facts(&source.files, &definition);
    if let ArchiveKind::Ours(head) = &source.kind
        && facts.files.is_empty()
    {
        facts.table_prefix.clone_from(&head.place.table_prefix);
        facts.database.clone_from(&head.place.database);
    }
    if let (Some(_), Some(prefix)) = (job.in_place, &job.options.table_prefix) {
        // The tables are there under this one; the config follows.
        facts.table_prefix.clone_from(prefix);
    }
    let mut own_access = false;
    if job.options.in_place && has_database && job.database.is_none() {
        let (access, other) = in_place::choose_database(&job, &facts, known)?;
        own_access = other.is_none();
        other.into_iter().for_each(|finding| findings.push(finding));
        job.database = Some(access);
    }
    if let (true, ArchiveKind::Ours(head)) = (job.options.in_place, &source.kind)
        && let Some(was) = head.packed_on.as_ref().filter(|was| was.host != machine::host())
    {
        let server = job.database.as_ref().filter(|_| has_database);
        let server = server.and_then(|access| servers::snapshot(access).and_then(|mut s| s.server()).ok());
        let here = machine::here(server);
        let site = &job.options.target;
        machine::differences(was, &here, &facts, site, &*job.tree).into_iter().for_each(|f| findings.push(f));
    }
    // What runs of this program keep at the target is not what an archive holds; both are nobody's to carry.
    let names = source.tables.iter().map(String::as_str);
    job.whose = Whose::of(&facts.table_prefix, names, &facts.shared_tables, &job.whose);
    let moved = facts.moved_folders(&definition, None);
    let definition = definition.with_folders_at(&moved);
    // Of a clone it was said when the site was looked at.
    if job.contents.is_none() {
        let tables: Vec<&str> = source.tables.iter().map(|t| plain_name(t)).collect();
        job.tables().in_vain(&facts.table_prefix, &tables).into_iter().for_each(|f| findings.push(f));
    }
    let (found, mut tables) = find_address(&job, &source, &definition, &facts, watch, &mut findings)?;
    // A pipe can be read once.
    if let (Some(dump), ArchiveKind::Ours(_)) = (&job.dump, &source.kind)
        && dump.is_file()
    {
        let wrong = |e: crate::survey::SurveyError| RestoreError::Config {
            path: dump.display().to_string(),
            why: e.to_string(),
        };
        tables.extend(inspect_dump(dump, &[], watch).map_err(wrong)?.tables.into_keys());
    }
    // Of a clone it was said when the site was looked at.
    if job.contents.is_none() {
        let scope = job.tables();
        let others = tables.iter().filter(|t| scope.is_others(&definition, &facts.table_prefix, t));
        let left: Vec<_> = others.map(|t| table_scope::left_out(&job.whose, plain_name(t), 0, 0)).collect();
        scope.tell_of_others(&left).into_iter().for_each(|finding| findings.push(finding));
    }
    let place = job.dump.as_deref().unwrap_or(&job.options.source).display().to_string();
    if let Some(foreign) = material::foreign(&definition, &facts.table_prefix, &tables, known, place) {
        findings.push(foreign);
    }
    let mut relocation = relocation(&job, &source, &facts, &found, &mut findings)?;
    let settings_only = job.in_place == Some(Reach::Settings);
    let stays = job.options.in_place && relocation.is_nowhere();
    if stays {
        // What comes back where it was is as it was.
        relocation = relocation.to_itself();
    }
    if settings_only {
        // What is set does not hang on the place, and nothing else is looked at.
        relocation = relocation.to_itself();
        findings = Findings::new(watch);
    }
    let outside = outside(&job, &source)?;
    let storage = outside.as_ref().map(|(_, new)| job.tree.beside(Path::new(&new.to_string())));
    relocation.outside.extend(outside);
    if let Some(joining) = &joining {
        joining.extend(&mut relocation)?;
    }
    let stay = other_sites(&job, &source, &found);
    let needed = source.file_bytes + if job.options.dump_to.is_some() { source.database_bytes } else { 0 };
    if !job.options.refresh && job.in_place.is_none() {
        guard_space(&job, needed)?;
    }
    let cells = if stays || settings_only { Vec::new() } else { cells(&definition, &facts.table_prefix) };
    let packed = packed(&definition, &facts.table_prefix);
    let coded = coded(&definition, &facts.table_prefix);
    let prefix = prefix_change(&job, &facts)?;
    let mut target = match job.options.dump_to.is_none() && has_database && job.in_place.is_none() {
        true => {
            let site = SiteTables { definition: &definition, facts: &facts, prefix: prefix.as_ref() };
            TargetTables::of(&job, &source, tables, &site, &mut findings)?
        }
        false => TargetTables::default(),
    };
    let admin = if job.changes_admin() {
        admin(&job, &source, &definition, version.as_deref(), &facts.table_prefix)?
    } else {
        None
    };
    let new_scheme = Some(relocation.to.address.scheme());
    let site = copy_settings::Site {
        definition: &definition,
        version: version.as_deref(),
        prefix: &facts.table_prefix,
        secret: facts.secret.as_ref(),
        new_scheme: new_scheme.filter(|s| *s != relocation.from.address.scheme()),
    };
    let mut planned = copy_settings::plan(&job, &site, admin.as_deref())?;
    if let Some(live) = &job.live {
        // The live site knows best what belongs to it.
        let copy = job.contents.as_ref().map(|c| &c.survey);
        let rows = match job.database {
            Some(_) => push::rows_that_stay(live, copy, &facts.table_prefix)?,
            None => Vec::new(),
        };
        planned = PlannedSettings { rows, ..PlannedSettings::default() };
    }
    if let (true, Some(access), Some(contents)) = (job.options.refresh, &job.database, &job.contents)
        && let Some(record) = Record::read(&*job.tree)
    {
        let set = |table: &str| planned.rows.iter().any(|r| is_table(&r.setting.table, table));
        let (change, there) = (prefix.as_ref(), &target.replaced);
        let standing = difference::standing(&record, contents, access, &definition, change, there);
        target.leave_unchanged(standing.unchanged.into_iter().filter(|(table, _)| !set(table)));
        // What is declared of a table is judged by all of its rows.
        let plain = |table: &str| !set(table) && !cells.iter().any(|c| is_table(&c.table, table));
        let changed = standing.changed.into_iter().filter(|(table, _)| plain(table));
        target.compare(RowByRow::among(changed.collect(), contents, access));
        target.prints = standing.copy;
    }
    if let (Some(named), Some(new), false) = (named_outside(&source), &storage, stays) {
        planned.name_folder(named, new.root(), &facts, &site);
    }
    beaten(&planned, &source, &definition, &facts.table_prefix, &mut findings);
    for finding in risks::other_servers(&facts).filter(|_| job.in_place.is_none()) {
        findings.push(finding);
    }
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let put =
        |k: &PlannedKey| KeyPut { key: k.key.clone(), value: k.value.clone(), beside: k.beside.clone() };
    let keys: Vec<KeyPut> = planned.config.iter().map(put).collect();
    let cx = Context {
        relocation: &relocation,
        // What the archive's config says already stays as it says it.
        database: job.database.as_ref().filter(|_| !own_access),
        replacements: &replacements,
        table_prefix: job.options.table_prefix.as_deref(),
        put: &keys,
        put_only: settings_only,
    };
    let selection = Selection::of(&definition, &job.scope, &hosts.others());
    let mut files = file_plans(&source, &definition, &cx, &selection, &mut findings)?;
    if let Some(joining) = &joining {
        joining.place(&mut files);
    }
    // Only a copy of a site tells later what has changed at its source.
    let of_a_site = job.contents.is_some() || job.options.refresh;
    let settings =
        if of_a_site { copy_record::settings(&source.files, &definition) } else { BTreeMap::new() };
    if job.options.refresh {
        // A copy keeps its own settings.
        for file in Record::read(&*job.tree).unwrap_or_default().changed_settings(&settings) {
            findings.push(Finding::new(Code::ConfigChangedAtSource,
                "has changed at the source since the copy was made or brought up to date; the copy keeps its own",
                file.clone(),
                "compare the two, and take over what the copy needs",
            ));
        }
        let own = definition.config_files();
        files.retain(|f| !own.is_match(&f.path));
    }
    if job.live.is_some() {
        let own = push::files_that_stay(&definition);
        files.retain(|f| !own.is_match(&f.path));
    }
    let of_files = files.iter().filter(|_| !settings_only).flat_map(|f| &f.findings);
    for warning in of_files.chain(&planned.findings) {
        findings.push(warning.clone());
    }
    if job.scope.has(&Part::Code) {
        missing_keys(&planned, &files, &mut findings);
    }
    let host_mapping = match (&definition.hosts, &hosts.folder) {
        (Some(h), Some(folder)) => {
            super::hosts::way(h, job.options.host_as.as_ref().unwrap_or(folder), &job.address)
        }
        _ => None,
    };
    let old_password = facts.database.as_ref().map(|d| d.password.clone()).unwrap_or_default();
    let said_before = if settings_only { Vec::new() } else { source.findings.clone() };
    let mut plan = RestorePlan {
        relocation,
        learned_from: found.learned_from,
        files,
        cells,
        packed,
        coded,
        table_prefix: facts.table_prefix,
        prefix,
        stay,
        settings: planned,
        hosts,
        storage,
        joining,
        host_mapping,
        tables: target,
        there: job.over.as_ref().map(|_| job.tree.beside(&job.options.target)),
        owner: Owner::of(&job),
        source_settings: settings,
        outlook: None,
        needed,
        // What was said while the site was gathered is not said again, only kept.
        findings: [said_before, findings.into_vec()].concat(),
        old_password,
        definition,
        product,
        version,
        source,
        job,
    };
    if plan.job.options.refresh {
        let outlook = Outlook::of(&plan, plan.job.options.delete_gone)?;
        plan.needed = outlook.bytes;
        plan.outlook = Some(outlook);
        guard_space(&plan.job, plan.needed)?;
    }
    if !plan.source.verified && plan.shows_at_once() {
        source::whole(&plan.job.options.source, watch)?;
        plan.source.verified = true;
    }
    // What was taken for missing may be there.
    for tree in plan.trees() {
        tree.untroubled()?;
    }
    Ok(plan)
}

/// Says which rows are set in vain because a line of the config counts for more.
fn beaten(
    planned: &PlannedSettings,
    source: &Source,
    definition: &Definition,
    prefix: &str,
    findings: &mut Findings<'_>,
) {
    if definition.beaten.is_empty() || planned.rows.is_empty() {
        return;
    }
    let files = config_files(&source.files, definition).into_iter();
    let read: Vec<_> =
        files.filter_map(|f| Some((f.path, config::read(f.config.form, &f.text, None).ok()?))).collect();
    for row in &planned.rows {
        let of_table =
            definition.beaten.iter().filter(|b| format!("{prefix}{}", b.table) == row.setting.table);
        for rule in of_table {
            let Some((_, value)) = row.setting.only.iter().find(|(column, _)| *column == rule.column) else {
                continue;
            };
            let way = row.setting.within.iter().map(|w| format!(".{w}")).collect::<String>();
            let key = format!("{}{way}", rule.key.replace("{value}", value));
            let there = read.iter().find_map(|(path, file)| Some((path, file.setting(&key)?)));
            if let Some((path, setting)) = there {
                findings.push(Finding::new(
                    Code::ConfigBeatsRow,
                    format!("{}: the row is set, but `{key}` in the config counts for more", row.what),
                    format!("{path}, line {}", setting.line),
                    "change that line, or take it out",
                ));
            }
        }
    }
}

/// Says which keys were to be set and stand in no config file.
fn missing_keys(planned: &PlannedSettings, files: &[FilePlan], findings: &mut Findings<'_>) {
    for PlannedKey { key, value, what, optional, .. } in &planned.config {
        if !optional && !files.iter().any(|f| f.put.contains(key)) {
            let message = format!("{what}: no config file holds the key `{key}`, which would get {value:?}");
            findings.push(Finding::new(Code::ConfigKeyMissing, message, "", "add it by hand if you need it"));
        }
    }
}

fn prefix_change(job: &RestoreJob, facts: &ConfigFacts) -> Result<Option<PrefixChange>, RestoreError> {
    let Some(new) = job.options.table_prefix.clone().filter(|new| *new != facts.table_prefix) else {
        return Ok(None);
    };
    let old = facts.table_prefix.clone();
    let wrong = |why: &str| Err(RestoreError::Prefix { new: new.clone(), why: why.into() });
    if old.is_empty() {
        return wrong("the site has none now, so its tables cannot be told from other names");
    }
    if new.is_empty() || !new.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_') {
        return wrong("a prefix is made of letters, digits and underscores");
    }
    Ok(Some(PrefixChange { old, new }))
}

/// Reads which account is the administrator's.
fn admin(
    job: &RestoreJob,
    source: &Source,
    definition: &Definition,
    version: Option<&str>,
    prefix: &str,
) -> Result<Option<String>, RestoreError> {
    let locate = Locate::of(source, job);
    copy_settings::find_admin(definition, version, prefix, &mut |wanted| {
        let wanted = [wanted];
        let mut rows = Vec::new();
        each_part(job, &locate, &|_| true, &Silent, &mut |name, reader| {
            let found = inspect::inspect(reader, &wanted, false)
                .map_err(|source| RestoreError::Dump { name: name.into(), source })?;
            rows.extend(found.rows.into_iter().flatten());
            Ok(())
        })?;
        Ok(rows)
    })
}
