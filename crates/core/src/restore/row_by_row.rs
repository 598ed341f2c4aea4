//! Tables of a copy in which only the rows are changed that differ from the source. Both servers tell the prints of their rows, in the order
//! of their keys; rows whose prints differ are read, and compared as the rewriter leaves those of the source.
//!
//! Invariant: what differs stands in a list on the disk before the first row is changed, and the list can be walked back (`live`).

use super::RestoreError;
use super::live::{self, Changed, ROWS};
use super::plan::RestorePlan;
use super::restored::Restored;
use super::rows::{rewrite_through, with_rules};
use crate::contents::SiteContents;
use crate::database::DatabaseError;
use crate::database::servers;
use crate::database::snapshot::{DumpOut, RowKey, Snapshot};
use crate::database::stream::{DatabaseStream, as_text};
use crate::dump::dialect::Dialect;
use crate::dump::literal::Quoting;
use crate::dump::row::{self, Value};
use crate::dump::row_change::{ColumnChange, RowChange, RowFate};
use crate::dump::rules::{Rewritten, Rules};
use crate::dump::stream::{At, DumpError, Piece, Sink, Source, WINDOW, run_source};
use crate::event::{Event, Watch};
use crate::finding::{Code, Finding};
use crate::fsx::{AtPath, private_folder};
use crate::logbook::{self, StepKind};
use crate::path_text::to_text;
use crate::pipe::pipe;
use crate::place::DatabaseAccess;
use crate::spool;
use std::cmp::Ordering;
use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Seek, SeekFrom, Write};
use std::iter::{Flatten, Peekable};
use std::sync::Arc;
use std::sync::mpsc::{IntoIter, Receiver, SyncSender, sync_channel};

/// A table whose rows are compared.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RowByRow {
    /// Its name at the source.
    pub table: String,
    /// Its name in the copy.
    pub here: String,
    /// Columns of its key.
    pub key: Vec<String>,
    /// Columns of other unique indexes.
    unique: Vec<String>,
}

impl RowByRow {
    /// Those of some tables, by their names at the source and in the copy, whose rows can be compared.
    pub(super) fn among(
        tables: Vec<(String, String)>,
        contents: &SiteContents,
        access: &DatabaseAccess,
    ) -> Vec<RowByRow> {
        let (Some(live), false) = (contents.live(), tables.is_empty()) else { return Vec::new() };
        let Ok(mut copy) = servers::snapshot(access) else { return Vec::new() };
        let one = |(table, here): (String, String)| {
            let RowKey { columns: key, unique } = live.ask(|source| source.row_key(&table)).ok()??;
            let same = copy.row_key(&here).ok()??.columns == key;
            same.then_some(RowByRow { table, here, key, unique })
        };
        tables.into_iter().filter_map(one).collect()
    }
}

/// More rows than so many are not fetched by their keys: all are read then.
const MOST_KEYS: usize = 100_000;

/// A key with the print of its row.
type Print = (Vec<i128>, u64);

/// Prints of the rows of a side come in bundles.
fn prints(
    snapshot: &mut dyn Snapshot,
    table: &str,
    key: &[String],
    send: &SyncSender<Vec<Print>>,
) -> Result<(), DatabaseError> {
    let mut bundle = Vec::new();
    snapshot.row_prints(table, key, &mut |key, print| {
        bundle.push((key, print));
        bundle.len() < 4096 || send.send(std::mem::take(&mut bundle)).is_ok()
    })?;
    // Nobody listens any more where too many differ.
    let _ = send.send(bundle);
    Ok(())
}

/// The keys whose rows have other prints on both sides, in order: of rows that changed, came or went, and of those that a rewrite changes.
/// None where there are too many, or nobody can tell.
fn differing(table: &RowByRow, live: &DatabaseStream, copy: &mut dyn Snapshot) -> Option<Vec<Vec<i128>>> {
    std::thread::scope(|scope| {
        let (send_new, new) = sync_channel(WAITING);
        let (send_old, old) = sync_channel(WAITING);
        let source = crate::threads::start_in(scope, move || {
            live.ask(|source| prints(source, &table.table, &table.key, &send_new))
        });
        let copy = crate::threads::start_in(scope, move || prints(copy, &table.here, &table.key, &send_old));
        let mut out: Vec<Vec<i128>> = Vec::new();
        {
            let mut pairs = Pairs::of(new, old, |(key, _): &Print| key);
            while let (true, Some((new, old))) = (out.len() <= MOST_KEYS, pairs.next()) {
                if new != old {
                    out.extend(new.or(old).map(|(key, _)| key));
                }
            }
            // Whoever sends more finds nobody there.
        }
        let ended = [source.ok()?.join().ok()?, copy.ok()?.join().ok()?];
        (out.len() <= MOST_KEYS && ended.iter().all(Result::is_ok)).then_some(out)
    })
}

/// Both sides, key by key: what has a key at the source, in the copy, or on both.
struct Pairs<T, K> {
    new: Peekable<Flatten<IntoIter<Vec<T>>>>,
    old: Peekable<Flatten<IntoIter<Vec<T>>>>,
    key: K,
}

impl<T, K: Fn(&T) -> &Vec<i128>> Pairs<T, K> {
    fn of(new: Receiver<Vec<T>>, old: Receiver<Vec<T>>, key: K) -> Self {
        let side = |received: Receiver<Vec<T>>| received.into_iter().flatten().peekable();
        Pairs { new: side(new), old: side(old), key }
    }
}

impl<T, K: Fn(&T) -> &Vec<i128>> Iterator for Pairs<T, K> {
    type Item = (Option<T>, Option<T>);

    fn next(&mut self) -> Option<Self::Item> {
        let order = match (self.new.peek(), self.old.peek()) {
            (None, None) => return None,
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
            (Some(new), Some(old)) => (self.key)(new).cmp((self.key)(old)),
        };
        let new = if order.is_le() { self.new.next() } else { None };
        let old = if order.is_ge() { self.old.next() } else { None };
        Some((new, old))
    }
}

/// How the rows of a side are spelled: their columns, and the rules of their quotes.
type Spelled = Arc<(Arc<[String]>, Quoting)>;

/// A row with its key.
struct Keyed {
    key: Vec<i128>,
    row: Vec<u8>,
    spelled: Spelled,
}

impl Keyed {
    /// What happens to this row as a whole.
    fn change(&self, table: &RowByRow, fate: RowFate) -> Result<RowChange, DumpError> {
        let none = || DumpError::Sink("a row cannot be read again".into());
        let (columns, quoting) = &*self.spelled;
        let mut values = Vec::new();
        row::cut(&self.row, *quoting, &mut values);
        if values.len() != columns.len() {
            return Err(none());
        }
        let (mut key, mut others) = (Vec::new(), Vec::new());
        for (column, value) in columns.iter().zip(&values) {
            let text = std::str::from_utf8(&self.row[value.span.clone()]).map_err(|_| none())?.trim();
            match table.key.contains(column) {
                true => key.push((column.clone(), text.into())),
                false => {
                    others.push(ColumnChange { column: column.clone(), old: text.into(), new: text.into() })
                }
            }
        }
        Ok(RowChange { fate, table: table.here.clone(), keyless: false, key, columns: others })
    }

    /// What changes in a row that becomes another one, if its columns are the same.
    fn becomes(&self, new: &Keyed, table: &RowByRow) -> Result<Option<RowChange>, DumpError> {
        let mut change = self.change(table, RowFate::Changes)?;
        if self.spelled.0 != new.spelled.0 {
            return Ok(None);
        }
        for (column, becomes) in change.columns.iter_mut().zip(new.change(table, RowFate::Comes)?.columns) {
            column.new = becomes.new;
        }
        change.columns.retain(|c| c.old != c.new);
        Ok(Some(change))
    }
}

/// Rows come in bundles of about so many bytes.
const BUNDLE: usize = 256 << 10;

/// Bundles that wait to be compared.
const WAITING: usize = 4;

/// Takes the rows out of a dump of one table.
struct Rows<'k> {
    key: &'k [String],
    /// Where in a row the values of the key stand, once the columns are known.
    places: Vec<usize>,
    spelled: Option<Spelled>,
    values: Vec<Value>,
    bundle: Vec<Keyed>,
    bytes: usize,
    send: SyncSender<Vec<Keyed>>,
}

impl<'k> Rows<'k> {
    fn new(key: &'k [String], send: SyncSender<Vec<Keyed>>) -> Self {
        let (places, values, bundle) = (Vec::new(), Vec::new(), Vec::new());
        Rows { key, places, spelled: None, values, bundle, bytes: 0, send }
    }

    fn pass_on(&mut self) -> Result<(), DumpError> {
        self.bytes = 0;
        let gone = |_| DumpError::Sink("nobody compares these rows any more".into());
        self.send.send(std::mem::take(&mut self.bundle)).map_err(gone)
    }

    fn read(mut self, reader: impl Read) -> Result<(), DumpError> {
        let reader = BufReader::with_capacity(1 << 16, reader);
        let ending = run_source(Source::new(reader, WINDOW, Some(Dialect::Mysql))?, &mut self)?;
        match ending.cut_off {
            Some(cut) => Err(DumpError::Sink(format!("it breaks off at line {}", cut.line).into())),
            None => self.pass_on(),
        }
    }
}

impl Sink for Rows<'_> {
    fn piece(&mut self, piece: Piece<'_>, at: At<'_>) -> Result<(), DumpError> {
        let Piece::Rows(rows) = piece else { return Ok(()) };
        let spelled = match &self.spelled {
            Some(known) => known.clone(),
            None => {
                let columns = at.statement.columns.clone().unwrap_or_else(|| Arc::from([]));
                self.places = self.key.iter().filter_map(|k| columns.iter().position(|c| c == k)).collect();
                self.spelled.insert(Arc::new((columns, at.quoting))).clone()
            }
        };
        for row in rows.each() {
            row::cut(row, at.quoting, &mut self.values);
            let number = |place: &usize| {
                let text = row.get(self.values.get(*place)?.span.clone())?;
                std::str::from_utf8(text).ok()?.trim().parse::<i128>().ok()
            };
            let key: Option<Vec<i128>> = self.places.iter().map(number).collect();
            let Some(key) = key.filter(|k| k.len() == self.key.len()) else {
                return Err(DumpError::Sink("a row has no key".into()));
            };
            self.bytes += row.len();
            self.bundle.push(Keyed { key, row: row.to_vec(), spelled: spelled.clone() });
        }
        if self.bytes >= BUNDLE { self.pass_on() } else { Ok(()) }
    }
}

/// Where changes are written: rows that go or change, and rows that come, which have to wait until all others went.
struct Lists {
    goes: BufWriter<File>,
    comes: BufWriter<File>,
}

impl Lists {
    fn write(&mut self, change: &RowChange) -> Result<(), DumpError> {
        let out = if change.fate == RowFate::Comes { &mut self.comes } else { &mut self.goes };
        serde_json::to_writer(&mut *out, change).map_err(io::Error::from).map_err(DumpError::Write)?;
        out.write_all(b"\n").map_err(DumpError::Write)
    }
}

/// Writes down what differs.
fn differences(
    table: &RowByRow,
    new: Receiver<Vec<Keyed>>,
    old: Receiver<Vec<Keyed>>,
    lists: &mut Lists,
) -> Result<(), DumpError> {
    for (new, old) in Pairs::of(new, old, |keyed: &Keyed| &keyed.key) {
        if let (Some(new), Some(old)) = (&new, &old) {
            if new.row == old.row {
                continue;
            }
            // Where another row may have had the value, all rows go before any comes.
            let alone = |c: &RowChange| !c.columns.iter().any(|c| table.unique.contains(&c.column));
            if let Some(change) = old.becomes(new, table)?.filter(alone) {
                lists.write(&change)?;
                continue;
            }
        }
        for (keyed, fate) in [(old, RowFate::Goes), (new, RowFate::Comes)] {
            keyed.map_or(Ok(()), |keyed| lists.write(&keyed.change(table, fate)?))?;
        }
    }
    Ok(())
}

/// Writes a table as a text of its own, its rows in the order of a key: all, or those of some keys.
fn in_order(
    snapshot: &mut dyn Snapshot,
    table: &str,
    key: &[String],
    only: Option<&[Vec<i128>]>,
    out: &mut dyn DumpOut,
) -> Result<(), DatabaseError> {
    as_text(snapshot, out, |snapshot, out| snapshot.table_in_order(table, key, only, out).map(drop))
}

/// Compares a table.
fn compare(
    table: &RowByRow,
    contents: &SiteContents,
    copy: &mut dyn Snapshot,
    rules: &Rules<'_>,
    lists: &mut Lists,
) -> Result<(Rewritten, Dialect), RestoreError> {
    let wrong = |source: DumpError| RestoreError::Dump { name: table.table.clone(), source };
    let no_thread = |e: io::Error| RestoreError::Database(DatabaseError::Io(e));
    let stopped =
        || RestoreError::Database(DatabaseError::Io(io::Error::other("a comparing thread stopped")));
    let Some(live) = contents.live() else { return Err(stopped()) };
    let only = differing(table, live, copy);
    let only = only.as_deref();
    std::thread::scope(|scope| {
        let (from_source, mut to_source) = pipe();
        let (from_rewriter, to_rewriter) = pipe();
        let (from_copy, mut to_copy) = pipe();
        let (send_new, new) = sync_channel(WAITING);
        let (send_old, old) = sync_channel(WAITING);
        let reading = crate::threads::start_in(scope, move || {
            live.ask(|source| in_order(source, &table.table, &table.key, only, &mut to_source))
        })
        .map_err(no_thread)?;
        let copying = crate::threads::start_in(scope, move || {
            in_order(copy, &table.here, &table.key, only, &mut to_copy)
        })
        .map_err(no_thread)?;
        let rewriting = crate::threads::start_in(scope, move || {
            rewrite_through(&table.table, from_source, None, rules, to_rewriter)
        })
        .map_err(no_thread)?;
        let (news, olds) = (Rows::new(&table.key, send_new), Rows::new(&table.key, send_old));
        let news = crate::threads::start_in(scope, move || news.read(from_rewriter)).map_err(no_thread)?;
        let olds = crate::threads::start_in(scope, move || olds.read(from_copy)).map_err(no_thread)?;
        let compared = differences(table, new, old, lists);
        // Whoever reads from a server knows best what went wrong.
        let source = reading.join().map_err(|_| stopped())?;
        let copy = copying.join().map_err(|_| stopped())?;
        let rewritten = rewriting.join().map_err(|_| stopped())?;
        let (news, olds) = (news.join().map_err(|_| stopped())?, olds.join().map_err(|_| stopped())?);
        compared.map_err(wrong)?;
        copy.map_err(RestoreError::Database)?;
        source.map_err(RestoreError::Database)?;
        news.and(olds).map_err(wrong)?;
        rewritten
    })
}

/// Compares the tables of a plan, and changes the rows that differ.
pub(super) fn carry(
    plan: &RestorePlan,
    samples: usize,
    book: &logbook::Run,
    total: &mut Restored,
    watch: &dyn Watch,
) -> Result<(), RestoreError> {
    let tables = &plan.tables.row_by_row;
    let (Some(contents), Some(access), false) = (&plan.job.contents, &plan.job.database, tables.is_empty())
    else {
        return Ok(());
    };
    private_folder(&book.kept()).at(book.kept())?;
    let path = book.kept().join(ROWS);
    watch.event(Event::StepStarted { step: "comparing rows", total: None });
    let comes = tempfile::tempfile_in(book.kept()).at(book.kept())?;
    let goes = spool::private_file(&path, false).at(&path)?;
    let mut lists = Lists { goes: BufWriter::new(goes), comes: BufWriter::new(comes) };
    let mut copy = servers::snapshot(access).map_err(RestoreError::Database)?;
    for table in tables {
        let (rewritten, dialect) = with_rules(plan, samples, |rules| {
            // All of it is read, whatever stays.
            let keep = |_: &str| crate::dump::rules::Keep::All;
            compare(table, contents, &mut *copy, &Rules { keep: &keep, ..rules.clone() }, &mut lists)
        })?;
        total.add(rewritten, dialect);
    }
    let written = |e: io::IntoInnerError<BufWriter<File>>| e.into_error();
    let mut goes = lists.goes.into_inner().map_err(written).at(&path)?;
    let mut comes = lists.comes.into_inner().map_err(written).at(&path)?;
    comes
        .seek(SeekFrom::Start(0))
        .and_then(|_| io::copy(&mut comes, &mut goes))
        .and_then(|_| goes.sync_data())
        .at(&path)?;
    // What is changed now is not hindered by who looks.
    drop(copy);
    watch.event(Event::StepDone);
    book.step(StepKind::ChangeRows, serde_json::json!({ "database": access.url(), "rows": to_text(&path) }))?;
    watch.event(Event::StepStarted { step: "changing rows", total: Some(goes.metadata().at(&path)?.len()) });
    let mut editor = servers::editor(access).map_err(RestoreError::Database)?;
    let mut changed = Changed::default();
    let mut list = BufReader::new(File::open(&path).at(&path)?);
    let missed = live::apply(&mut *editor, &mut list, &mut changed, watch)?;
    watch.event(Event::StepDone);
    for table in missed {
        let what = "rows that others were changing meanwhile were left as they are";
        total.findings.push(Finding::new(Code::RowMissing, what, table, "bring the copy up to date again"));
    }
    total.row_by_row = changed.rows;
    Ok(())
}
