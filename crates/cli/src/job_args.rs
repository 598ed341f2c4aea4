//! Arguments of the commands that run jobs. They are made from the options of the job itself (`zporter_core::job::options`), so that an
//! option stands in one place; what is said on the command line goes over what a job file says.

use crate::error::CommandError;
use clap::builder::{OsStringValueParser, PossibleValuesParser, TypedValueParser};
use clap::{Arg, ArgAction, ArgMatches, Args, Command, FromArgMatches};
use serde_json::{Map, Value};
use std::ffi::OsString;
use std::marker::PhantomData;
use std::path::PathBuf;
use zporter_core::fsx::absolute;
use zporter_core::job::{Job, JobError, Kind, read_file};
use zporter_core::path_text::words_to_text;

/// A command that runs jobs.
pub trait Runs {
    /// Which.
    const KIND: Kind;
}

macro_rules! runs {
    ($($name:ident)+) => {
        $(
            /// The command of that name.
            #[derive(Debug, Clone)]
            pub struct $name;
            impl Runs for $name {
                const KIND: Kind = Kind::$name;
            }
        )+
    };
}
runs! { Restore Clone Move Pack Settle Switch Visit Readdress DatabaseDump DatabaseLoad DatabaseCreate }

/// The options of a job as they were typed, and what to do with the job.
#[derive(Debug)]
pub struct JobArgs<R> {
    options: Map<String, Value>,
    saved: Option<PathBuf>,
    save_as: Option<PathBuf>,
    /// Show what would be done, and change nothing.
    pub dry_run: bool,
    runs: PhantomData<R>,
}

/// What an option's schema says of how it is typed.
struct Shape {
    name: String,
    about: String,
    property: Value,
}

impl Shape {
    fn word(&self, key: &str) -> Option<&str> {
        self.property.get(key).and_then(Value::as_str)
    }

    /// The kind of a value: that of the items of a list, and of an option the one that is not nothing.
    fn kind(&self) -> (Option<String>, bool) {
        let of = |p: &Value| match p.get("type") {
            Some(Value::String(kind)) => Some(kind.clone()),
            Some(Value::Array(kinds)) => {
                kinds.iter().filter_map(Value::as_str).find(|k| *k != "null").map(str::to_string)
            }
            _ => p.get("anyOf").and_then(|any| any.get(0)?.get("type")?.as_str()).map(str::to_string),
        };
        let own = of(&self.property);
        match (own.as_deref(), self.property.get("items")) {
            (Some("array"), Some(items)) => (of(items), true),
            _ => (own, false),
        }
    }

    /// Whether a value is a pair of two words.
    fn is_pair(&self) -> bool {
        self.kind().0.as_deref() == Some("array")
    }

    /// The words that it may be, if they are few.
    fn words(&self) -> Vec<String> {
        let any = self.property.get("anyOf").and_then(|any| any.get(0)).unwrap_or(&self.property);
        let plain = any.get("enum").and_then(Value::as_array).cloned().unwrap_or_default();
        let each = any.get("oneOf").and_then(Value::as_array).cloned().unwrap_or_default();
        let each = each.into_iter().filter_map(|one| one.get("const").cloned());
        plain.into_iter().chain(each).filter_map(|v| v.as_str().map(str::to_string)).collect()
    }

    fn argument(&self, needed: bool, instead: &[&'static str]) -> Arg {
        let mut arg = Arg::new(self.name.clone()).help(self.about.clone());
        let (kind, many) = self.kind();
        if let Some(group) = self.word("x-group") {
            arg = arg.help_heading(group.to_string());
        }
        if let Some(short) = self.word("x-short").and_then(|s| s.chars().next()) {
            arg = arg.short(short);
        }
        if let Some(other) = self.word("x-needs") {
            arg = arg.requires(other.to_string());
        }
        for other in self.property.get("x-excludes").and_then(Value::as_array).into_iter().flatten() {
            arg = arg.conflicts_with(other.as_str().unwrap_or_default().to_string());
        }
        if needed {
            arg = match instead {
                [] => arg.required(true),
                other => arg.required_unless_present_any(other),
            };
        }
        match self.property.get("x-index").and_then(Value::as_u64) {
            Some(index) if many => arg = arg.index(index as usize).num_args(0..),
            Some(index) => arg = arg.index(index as usize),
            None => arg = arg.long(self.name.clone()),
        }
        let names = self.word("x-value").unwrap_or("VALUE").to_string();
        match kind.as_deref() {
            Some("boolean") => arg.action(ArgAction::SetTrue),
            _ if self.is_pair() => {
                let names: Vec<String> = names.split(' ').map(str::to_string).collect();
                arg.num_args(2).value_names(names).action(if many {
                    ArgAction::Append
                } else {
                    ArgAction::Set
                })
            }
            _ => {
                let mut arg = arg.value_name(names);
                let words = self.words();
                // A name may hold bytes that are not UTF-8.
                let as_text = |typed: OsString| words_to_text(&typed).into_owned();
                arg = match words.is_empty() {
                    true => arg.value_parser(OsStringValueParser::new().map(as_text)),
                    false => arg.value_parser(PossibleValuesParser::new(words)),
                };
                if self.property.get("x-comma").is_some() {
                    arg = arg.value_delimiter(',');
                }
                arg.action(if many { ArgAction::Append } else { ArgAction::Set })
            }
        }
    }

    /// Reads what was typed.
    fn typed(&self, matches: &ArgMatches) -> Option<Value> {
        let (kind, many) = self.kind();
        let number = |text: &String| match kind.as_deref() {
            Some("integer") => text.parse::<u64>().map_or_else(|_| text.clone().into(), Value::from),
            _ => Value::from(text.clone()),
        };
        if kind.as_deref() == Some("boolean") {
            return matches.get_flag(&self.name).then_some(Value::Bool(true));
        }
        let words: Vec<&String> = matches.get_many(&self.name)?.collect();
        Some(match (self.is_pair(), many) {
            (true, true) => {
                words.chunks(2).map(|pair| pair.iter().map(|w| number(w)).collect::<Value>()).collect()
            }
            (true, false) | (false, true) => words.into_iter().map(number).collect(),
            (false, false) => number(words.last()?),
        })
    }
}

fn shapes(kind: Kind) -> (Vec<Shape>, Vec<String>) {
    let schema = kind.schema();
    let needed = schema.get("required").and_then(Value::as_array).cloned().unwrap_or_default();
    let needed = needed.iter().filter_map(|v| v.as_str().map(str::to_string)).collect();
    let properties = schema.get("properties").and_then(Value::as_object).cloned().unwrap_or_default();
    let shape = |(name, property): (String, Value)| {
        let about = property.get("description").and_then(Value::as_str).unwrap_or_default().to_string();
        Shape { about, name, property }
    };
    (properties.into_iter().map(shape).collect(), needed)
}

impl<R: Runs> Args for JobArgs<R> {
    fn augment_args(mut command: Command) -> Command {
        let (shapes, needed) = shapes(R::KIND);
        let instead: &[&str] = if R::KIND == Kind::Move { &["job", "finish"] } else { &["job"] };
        for shape in shapes {
            command = command.arg(shape.argument(needed.contains(&shape.name), instead));
        }
        let dry_run = Arg::new("dry-run")
            .long("dry-run")
            .action(ArgAction::SetTrue)
            .help_heading("The job")
            .help("Show what would be done, and change nothing")
            // Who only looks changes nothing anyway.
            .hide(R::KIND == Kind::Visit);
        command
            .arg(dry_run)
            .arg(
                Arg::new("save-job")
                    .long("save-job")
                    .value_name("FILE")
                    .value_parser(clap::value_parser!(PathBuf))
                    .help_heading("The job")
                    .help("Save these options as a job file before the work begins"),
            )
            .arg(
                Arg::new("job")
                    .long("job")
                    .value_name("FILE")
                    .value_parser(clap::value_parser!(PathBuf))
                    .help_heading("The job")
                    .help("Run the job of this file; options that are given besides go over those in it"),
            )
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl<R: Runs> FromArgMatches for JobArgs<R> {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, clap::Error> {
        let mut options = Map::new();
        for shape in shapes(R::KIND).0 {
            if let Some(value) = shape.typed(matches) {
                options.insert(shape.name, value);
            }
        }
        Ok(JobArgs {
            options,
            saved: matches.get_one("job").cloned(),
            save_as: matches.get_one("save-job").cloned(),
            dry_run: matches.get_flag("dry-run"),
            runs: PhantomData,
        })
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
        *self = Self::from_arg_matches(matches)?;
        Ok(())
    }
}

impl<R: Runs> JobArgs<R> {
    /// Puts the job together: what the file says, and over it what was typed. It is saved if that was asked for.
    pub fn job(&self) -> Result<Job, CommandError> {
        let mut options = Map::new();
        if let Some(path) = &self.saved {
            let (kind, saved) = read_file(path)?;
            if kind != R::KIND {
                let holds = kind.command().to_string();
                return Err(JobError::OtherCommand { path: path.clone(), holds }.into());
            }
            options = saved;
        }
        options.extend(self.options.clone());
        let job = R::KIND.job(options)?;
        if let Some(path) = &self.save_as {
            job.write(&absolute(path))?;
        }
        Ok(job)
    }

    /// The options that were typed.
    pub fn typed(&self) -> &Map<String, Value> {
        &self.options
    }

    /// Where the job was saved, if it was.
    pub fn saved_as(&self) -> Option<PathBuf> {
        self.save_as.as_deref().map(absolute)
    }
}
