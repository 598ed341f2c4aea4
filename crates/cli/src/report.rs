//! What a command has to say in the end: one shape for all of them. Commands fill it, renderers draw it (`render`), and neither knows the
//! other: text on a terminal, a JSON document, whatever comes.

use crate::error::CommandError;
use crate::exit::Exit;
use serde::Serialize;
use std::path::PathBuf;
use zporter_core::finding::{Finding, need_attention};

/// What came of a command.
#[derive(Debug)]
pub struct Report {
    /// The command, as people write it.
    pub command: &'static str,
    /// Whether nothing was done, only shown.
    pub dry_run: bool,
    /// The run that is recorded, if one is.
    pub run: Option<String>,
    /// What came of it, in one line.
    pub verdict: String,
    /// What a person should know.
    pub findings: Vec<Finding>,
    /// The facts.
    pub sections: Vec<Section>,
    /// What can be done next.
    pub next: Vec<String>,
    /// The exit code, where it is not what the findings say.
    pub exit: Option<Exit>,
    /// The result for programs.
    pub result: serde_json::Value,
    /// How many findings are drawn before the rest is folded.
    pub unfolded: usize,
    /// A file that gets the JSON document as well.
    pub copy_to: Option<PathBuf>,
    /// A file that gets the report as a page.
    pub page_to: Option<PathBuf>,
}

/// A part of the facts.
#[derive(Debug)]
pub struct Section {
    /// Heading; may be empty.
    pub title: String,
    /// Whether it is only drawn when somebody wants all.
    pub only_verbose: bool,
    /// What is in it.
    pub blocks: Vec<Block>,
}

/// Something that can be drawn.
#[derive(Debug)]
pub enum Block {
    /// Names and values.
    Facts(Vec<(String, String)>),
    /// Rows and columns.
    Table(Table),
    /// The lines of a diff.
    Diff(String),
    /// Lines as they are.
    Lines(Vec<String>),
    /// Pictures, each with what it shows.
    Pictures(Vec<(String, PathBuf)>),
}

/// Rows and columns.
#[derive(Debug, Default)]
pub struct Table {
    /// Headers. One that begins with `>` stands over numbers, one that begins with `#` over bars: sizes in bytes,
    /// and `~` over milliseconds.
    pub header: Vec<&'static str>,
    /// Cells.
    pub rows: Vec<Vec<String>>,
    /// Rows that are drawn before the rest is folded; 0 draws all.
    pub shown: usize,
    /// What a row is, in the singular, for what is said of the rest.
    pub unit: &'static str,
}

impl Report {
    /// Begins a report with its result and what came of it.
    pub fn new(
        command: &'static str,
        verdict: impl Into<String>,
        result: &impl Serialize,
    ) -> Result<Self, CommandError> {
        let result = serde_json::to_value(result)
            .map_err(|e| CommandError::world("the result has no JSON form", e))?;
        Ok(Report {
            command,
            dry_run: false,
            run: None,
            verdict: verdict.into(),
            findings: Vec::new(),
            sections: Vec::new(),
            next: Vec::new(),
            exit: None,
            result,
            unfolded: 8,
            copy_to: None,
            page_to: None,
        })
    }

    /// Adds a section, unless there is nothing in it.
    pub fn section(&mut self, title: impl Into<String>, block: Block) {
        self.part(title, false, block);
    }

    /// Adds a section that is only drawn when somebody wants all.
    pub fn detail(&mut self, title: impl Into<String>, block: Block) {
        self.part(title, true, block);
    }

    fn part(&mut self, title: impl Into<String>, only_verbose: bool, block: Block) {
        if !block.is_empty() {
            self.sections.push(Section { title: title.into(), only_verbose, blocks: vec![block] });
        }
    }

    /// The exit code.
    pub fn exit(&self) -> Exit {
        let found = if need_attention(&self.findings) { Exit::Findings } else { Exit::Done };
        self.exit.unwrap_or(found)
    }
}

impl Block {
    fn is_empty(&self) -> bool {
        match self {
            Block::Facts(facts) => facts.is_empty(),
            Block::Table(table) => table.rows.is_empty(),
            Block::Diff(text) => text.is_empty(),
            Block::Lines(lines) => lines.is_empty(),
            Block::Pictures(pictures) => pictures.is_empty(),
        }
    }

    /// Makes a table with all of its rows.
    pub fn table(header: &[&'static str], rows: impl IntoIterator<Item = Vec<String>>) -> Block {
        Block::folded(header, 0, "", rows)
    }

    /// Makes a table of which the first rows are drawn.
    pub fn folded(
        header: &[&'static str],
        shown: usize,
        unit: &'static str,
        rows: impl IntoIterator<Item = Vec<String>>,
    ) -> Block {
        Block::Table(Table { header: header.to_vec(), rows: rows.into_iter().collect(), shown, unit })
    }
}

/// Collects facts, leaving out what is not there.
#[derive(Debug, Default)]
pub struct Facts(Vec<(String, String)>);

impl Facts {
    /// Adds a fact.
    pub fn add(&mut self, name: &str, value: impl Into<String>) -> &mut Self {
        self.0.push((name.into(), value.into()));
        self
    }

    /// Adds a fact, if there is one.
    pub fn maybe(&mut self, name: &str, value: Option<impl Into<String>>) -> &mut Self {
        if let Some(value) = value {
            self.add(name, value);
        }
        self
    }

    /// All of them.
    pub fn block(self) -> Block {
        Block::Facts(self.0)
    }
}
