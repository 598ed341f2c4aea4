//! Settings modules in Python, as frameworks read them: assignments, dictionaries, lists, paths put together, values of the environment
//! with something to take without them. A parser locates; nothing is executed; what only a run would tell is said, not guessed.

use super::depth::{self, Depth};
use super::format::Format;
use super::settings::{ConfigError, Expression, Literal, Setting, Settings};
use crate::edit::Edit;
use std::collections::HashMap;
use tree_sitter::{Node, Parser};

/// The form. Names are the variable and the keys' way below it, joined by dots; items of lists are numbers.
pub struct Python;

impl Format for Python {
    fn read(&self, text: &[u8], folder: Option<&str>) -> Result<Settings, ConfigError> {
        let mut parser = Parser::new();
        parser.set_language(&tree_sitter_python::LANGUAGE.into()).map_err(|_| ConfigError::Grammar)?;
        let tree =
            parser.parse(text, None).ok_or_else(|| ConfigError::Unreadable("the parser gave up".into()))?;
        let mut reader =
            Reader { text, folder, depth: Depth::default(), known: HashMap::new(), out: Settings::default() };
        reader.walk(tree.root_node());
        if reader.out.settings.len() > depth::VALUES {
            return Err(ConfigError::Unreadable(format!("it sets more than {} values", depth::VALUES)));
        }
        reader.out.has_errors = tree.root_node().has_error();
        Ok(reader.out)
    }

    fn quoted(&self, value: &str, old: &[u8]) -> String {
        // Behind letters such as `r` stand the quotes that the author likes.
        let quote = old.iter().find(|b| matches!(b, b'"' | b'\'')).copied().unwrap_or(b'"') as char;
        let mut out = String::from(quote);
        for c in value.chars() {
            match c {
                '\\' => out.push_str("\\\\"),
                '\n' => out.push_str("\\n"),
                '\r' => out.push_str("\\r"),
                '\t' => out.push_str("\\t"),
                c if c == quote => out.extend(['\\', c]),
                c => out.push(c),
            }
        }
        out.push(quote);
        out
    }

    fn flag(&self, on: bool) -> &'static str {
        if on { "True" } else { "False" }
    }

    fn flag_value(&self, on: bool) -> &'static str {
        if on { "1" } else { "" }
    }

    fn beside(&self, text: &[u8], neighbour: &Setting, name: &str, value: &str) -> Option<Edit> {
        let (end, old) = (neighbour.span.end, &text[neighbour.span.clone()]);
        Some(Edit::new(end..end, format!(", {}: {}", self.quoted(name, old), self.quoted(value, old))))
    }

    /// A value may be made of others.
    fn changes_stay_put(&self) -> bool {
        false
    }
}

/// A value as far as it is known, and what kind of expression gives it.
type Found = (Option<String>, Expression);

const UNKNOWN: Found = (None, Expression::Unknown);

struct Reader<'t> {
    text: &'t [u8],
    folder: Option<&'t str>,
    depth: Depth,
    /// Names that were set before.
    known: HashMap<String, Found>,
    out: Settings,
}

fn named<'n>(node: Node<'n>) -> Vec<Node<'n>> {
    let mut cursor = node.walk();
    node.named_children(&mut cursor).filter(|n| n.kind() != "comment").collect()
}

/// The folder above a path.
fn above(path: &str) -> String {
    match path.rsplit_once('/') {
        Some(("", _)) | None => "/".into(),
        Some((folder, _)) => folder.into(),
    }
}

fn joined(folder: &str, name: &str) -> String {
    if name.starts_with('/') { name.into() } else { format!("{}/{name}", folder.trim_end_matches('/')) }
}

/// What two parts of an expression come to together.
fn both(a: &Expression, b: &Expression) -> Expression {
    match (a, b) {
        (Expression::Environment(name) | Expression::EnvironmentOr(name), _)
        | (_, Expression::Environment(name) | Expression::EnvironmentOr(name)) => {
            Expression::Environment(name.clone())
        }
        (Expression::Unknown, _) | (_, Expression::Unknown) => Expression::Unknown,
        _ => {
            let moves = |e: &Expression| matches!(e, Expression::Computed { moves: true });
            Expression::Computed { moves: moves(a) || moves(b) }
        }
    }
}

impl Reader<'_> {
    fn source(&self, node: Node<'_>) -> &str {
        std::str::from_utf8(&self.text[node.byte_range()]).unwrap_or_default()
    }

    /// Walks the statements in order, without recursion, but for the bodies of functions: they run whenever somebody calls them.
    fn walk(&mut self, root: Node<'_>) {
        // With whether it is a statement of its own: a node finds what is around it from the top alone.
        let mut stack = vec![(root, false)];
        while let Some((node, alone)) = stack.pop().filter(|_| self.out.settings.len() <= depth::VALUES) {
            match node.kind() {
                "function_definition" | "lambda" => continue,
                "assignment" | "augmented_assignment" => self.assignment(node),
                "call" => self.appended(node),
                "string" if !alone => {
                    if let (Some(value), Expression::Literal) = self.string(node) {
                        let line = node.start_position().row + 1;
                        self.out.literals.push(Literal { span: node.byte_range(), value, line });
                    }
                }
                _ => {}
            }
            let alone = node.kind() == "expression_statement";
            stack.extend(named(node).into_iter().rev().map(|n| (n, alone)));
        }
    }

    /// `NAME = value`, `NAME["key"] = value`, `NAME += [value]`
    fn assignment(&mut self, node: Node<'_>) {
        let (Some(left), Some(right)) = (node.child_by_field_name("left"), node.child_by_field_name("right"))
        else {
            return;
        };
        let Some(name) = self.path_of(left) else { return };
        let adds = node.kind() == "augmented_assignment";
        if !adds {
            self.shadow(&name);
        }
        self.note(name, right, adds);
    }

    /// `NAME.append(value)`, `NAME.extend([value])`
    fn appended(&mut self, node: Node<'_>) {
        let Some(function) = node.child_by_field_name("function").filter(|f| f.kind() == "attribute") else {
            return;
        };
        let (Some(object), Some(method)) =
            (function.child_by_field_name("object"), function.child_by_field_name("attribute"))
        else {
            return;
        };
        let method = self.source(method).to_string();
        let argument = node.child_by_field_name("arguments").and_then(|a| named(a).first().copied());
        let (Some(name), Some(argument)) = (self.path_of(object), argument) else { return };
        match method.as_str() {
            "append" | "insert" => {
                let place = format!("{name}.{}", self.next(&name));
                let value = named_last(node).unwrap_or(argument);
                self.note(place, value, false);
            }
            "extend" => self.note(name, argument, true),
            _ => {}
        }
    }

    /// The first number that is free below a name.
    fn next(&self, name: &str) -> usize {
        (0..).find(|n| !self.out.settings.iter().any(|s| s.name == format!("{name}.{n}"))).unwrap_or(0)
    }

    /// What was assigned to a name before, or to something inside of it, no longer counts.
    fn shadow(&mut self, name: &str) {
        let inside =
            |s: &Setting| s.name.strip_prefix(name).is_some_and(|r| r.is_empty() || r.starts_with('.'));
        for earlier in self.out.settings.iter_mut().filter(|s| inside(s)) {
            earlier.shadowed = true;
        }
    }

    fn path_of(&self, left: Node<'_>) -> Option<String> {
        let _step = self.depth.enter()?;
        match left.kind() {
            "identifier" => Some(self.source(left).to_string()),
            "subscript" => {
                let object = self.path_of(left.child_by_field_name("value")?)?;
                match self.evaluate(left.child_by_field_name("subscript")?) {
                    (Some(key), Expression::Literal) => Some(format!("{object}.{key}")),
                    _ => None,
                }
            }
            _ => None,
        }
    }

    /// Notes a value, and what is in it at every depth. `adds` says that items of a list come behind those that are there.
    fn note(&mut self, name: String, value: Node<'_>, adds: bool) {
        let mut stack = vec![(name, value, adds)];
        while let Some((name, value, adds)) = stack.pop() {
            if name.matches('.').count() > depth::MOST || self.out.settings.len() > depth::VALUES {
                continue;
            }
            match value.kind() {
                "dictionary" => {
                    let pairs = named(value).into_iter().filter(|n| n.kind() == "pair");
                    for pair in pairs.collect::<Vec<_>>().into_iter().rev() {
                        let key = pair.child_by_field_name("key").map(|k| self.evaluate(k));
                        let of = pair.child_by_field_name("value");
                        if let (Some((Some(key), Expression::Literal)), Some(of)) = (key, of) {
                            stack.push((format!("{name}.{key}"), of, false));
                        }
                    }
                }
                "list" | "tuple" | "set" => {
                    let first = if adds { self.next(&name) } else { 0 };
                    for (i, item) in named(value).into_iter().enumerate().rev() {
                        stack.push((format!("{name}.{}", first + i), item, false));
                    }
                }
                "parenthesized_expression" => {
                    stack.extend(named(value).first().map(|inner| (name, *inner, adds)));
                }
                "call" if self.source_of_function(value) == "dict" => {
                    for argument in
                        named(value.child_by_field_name("arguments").unwrap_or(value)).into_iter().rev()
                    {
                        let key = argument.child_by_field_name("name").map(|k| self.source(k).to_string());
                        if let (Some(key), Some(of)) = (key, argument.child_by_field_name("value")) {
                            stack.push((format!("{name}.{key}"), of, false));
                        }
                    }
                }
                _ => self.leaf(name, value),
            }
        }
    }

    fn leaf(&mut self, name: String, node: Node<'_>) {
        let (value, mut expression) = self.evaluate(node);
        let mut span = node.byte_range();
        if let Expression::EnvironmentOr(variable) = &expression {
            // What can be set is what stands for an unset variable.
            match self.fallback(node) {
                Some(list) if list.kind() == "list" || list.kind() == "tuple" => {
                    let variable = variable.clone();
                    for (i, item) in named(list).into_iter().enumerate() {
                        let (value, inner) = self.evaluate(item);
                        if inner == Expression::Literal {
                            let expression = Expression::EnvironmentOr(variable.clone());
                            self.push(format!("{name}.{i}"), value, item, item.byte_range(), expression);
                        }
                    }
                    return;
                }
                Some(literal) if self.evaluate(literal).1 == Expression::Literal => {
                    span = literal.byte_range()
                }
                _ => expression = Expression::Unknown,
            }
        }
        self.known.insert(name.clone(), (value.clone(), expression.clone()));
        self.push(name, value, node, span, expression);
    }

    fn push(
        &mut self,
        name: String,
        value: Option<String>,
        node: Node<'_>,
        span: std::ops::Range<usize>,
        expression: Expression,
    ) {
        let element = expression == Expression::Literal && node.parent().is_some_and(|p| p.kind() == "pair");
        let line = node.start_position().row + 1;
        self.out.settings.push(Setting { name, value, span, expression, line, shadowed: false, element });
    }

    /// What a call takes where a variable of the environment is not set.
    fn fallback<'n>(&self, node: Node<'n>) -> Option<Node<'n>> {
        let _step = self.depth.enter()?;
        match node.kind() {
            "boolean_operator" => node.child_by_field_name("right"),
            "parenthesized_expression" => named(node).first().and_then(|n| self.fallback(*n)),
            "call" => {
                let function = node.child_by_field_name("function")?;
                let chained = function.child_by_field_name("object").filter(|o| o.kind() == "call");
                if let Some(inner) = chained {
                    return self.fallback(inner);
                }
                let arguments = named(node.child_by_field_name("arguments")?);
                let keyword = arguments.iter().find(|a| {
                    a.kind() == "keyword_argument"
                        && a.child_by_field_name("name").is_some_and(|n| self.source(n) == "default")
                });
                let inner = match keyword {
                    Some(keyword) => keyword.child_by_field_name("value"),
                    None => arguments.iter().filter(|a| a.kind() != "keyword_argument").nth(1).copied(),
                };
                // int(os.environ.get("X", "1"))
                inner.or_else(|| arguments.first().and_then(|a| self.fallback(*a)))
            }
            _ => None,
        }
    }

    fn source_of_function(&self, call: Node<'_>) -> String {
        call.child_by_field_name("function").map(|f| self.source(f).to_string()).unwrap_or_default()
    }

    fn evaluate(&self, node: Node<'_>) -> Found {
        let Some(_step) = self.depth.enter() else { return UNKNOWN };
        match node.kind() {
            "string" => self.string(node),
            "concatenated_string" => {
                let parts: Vec<Found> = named(node).into_iter().map(|n| self.string(n)).collect();
                match parts.iter().all(|(_, e)| *e == Expression::Literal) {
                    true => (parts.into_iter().map(|(v, _)| v).collect(), Expression::Literal),
                    false => UNKNOWN,
                }
            }
            "integer" | "float" => (Some(self.source(node).to_string()), Expression::Literal),
            "true" => (Some("1".into()), Expression::Literal),
            "false" | "none" => (Some(String::new()), Expression::Literal),
            "identifier" if self.source(node) == "__file__" => {
                let file = self.folder.map(|f| joined(f, "settings.py"));
                (file, Expression::Computed { moves: true })
            }
            "identifier" => match self.known.get(self.source(node)) {
                Some((value, Expression::Literal)) => (value.clone(), Expression::Computed { moves: false }),
                Some(found) => found.clone(),
                None => UNKNOWN,
            },
            "parenthesized_expression" => named(node).first().map_or(UNKNOWN, |n| self.evaluate(*n)),
            "binary_operator" => self.operation(node),
            "boolean_operator" => self.or_else(node),
            "attribute" => self.attribute(node),
            "subscript" => self.subscript(node),
            "call" => self.call(node),
            _ => UNKNOWN,
        }
    }

    /// `os.environ.get("X") or "value"`
    fn or_else(&self, node: Node<'_>) -> Found {
        let (left, right) = (node.child_by_field_name("left"), node.child_by_field_name("right"));
        match (left.map(|n| self.evaluate(n)), right.map(|n| self.evaluate(n))) {
            (Some((_, Expression::Environment(variable))), Some((value, Expression::Literal))) => {
                (value, Expression::EnvironmentOr(variable))
            }
            (Some((_, Expression::Environment(variable))), _) => (None, Expression::Environment(variable)),
            _ => UNKNOWN,
        }
    }

    fn operation(&self, node: Node<'_>) -> Found {
        let operator = node.child_by_field_name("operator").map(|o| self.source(o));
        let (Some(left), Some(right)) = (node.child_by_field_name("left"), node.child_by_field_name("right"))
        else {
            return UNKNOWN;
        };
        let ((a, how_a), (b, how_b)) = (self.evaluate(left), self.evaluate(right));
        let expression = both(&how_a, &how_b);
        let value = a.zip(b).and_then(|(a, b)| match operator {
            Some("/") => Some(joined(&a, &b)).filter(|w| w.len() <= depth::LONGEST),
            Some("+") => depth::joined(a, &b),
            Some("%") if a.matches("%s").count() == 1 && a.len() + b.len() <= depth::LONGEST => {
                Some(a.replacen("%s", &b, 1))
            }
            _ => None,
        });
        match operator {
            Some("/" | "+" | "%") => (value, expression),
            _ => UNKNOWN,
        }
    }

    /// `path.parent`
    fn attribute(&self, node: Node<'_>) -> Found {
        let (Some(object), Some(name)) =
            (node.child_by_field_name("object"), node.child_by_field_name("attribute"))
        else {
            return UNKNOWN;
        };
        match self.source(name) {
            "parent" => {
                let (value, how) = self.evaluate(object);
                (value.map(|v| above(&v)), how)
            }
            _ => UNKNOWN,
        }
    }

    /// `os.environ["X"]`, `path.parents[1]`
    fn subscript(&self, node: Node<'_>) -> Found {
        let (Some(object), Some(key)) =
            (node.child_by_field_name("value"), node.child_by_field_name("subscript"))
        else {
            return UNKNOWN;
        };
        let (Some(key), Expression::Literal) = self.evaluate(key) else { return UNKNOWN };
        if matches!(self.source(object), "os.environ" | "environ" | "env") {
            return (None, Expression::Environment(key));
        }
        let parents = object.child_by_field_name("attribute").is_some_and(|a| self.source(a) == "parents");
        match (parents, object.child_by_field_name("object"), key.parse::<usize>()) {
            (true, Some(path), Ok(n)) if n < depth::MOST => {
                let (value, how) = self.evaluate(path);
                (value.map(|v| (0..=n).fold(v, |path, _| above(&path))), how)
            }
            _ => UNKNOWN,
        }
    }

    fn call(&self, node: Node<'_>) -> Found {
        let Some(function) = node.child_by_field_name("function") else { return UNKNOWN };
        let all = node.child_by_field_name("arguments").map(named).unwrap_or_default();
        let plain: Vec<Node<'_>> = all.iter().filter(|a| a.kind() != "keyword_argument").copied().collect();
        let first = || plain.first().map_or(UNKNOWN, |n| self.evaluate(*n));
        let source = self.source(function);
        match source {
            "Path" | "pathlib.Path" | "str" | "os.fspath" | "os.path.abspath" | "os.path.realpath"
            | "os.path.normpath" | "abspath" | "realpath" | "int" | "bool" | "float" => return first(),
            "os.path.dirname" | "dirname" => {
                let (value, how) = first();
                return (value.map(|v| above(&v)), how);
            }
            "os.path.join" | "join" => return self.join(first(), &plain[1.min(plain.len())..]),
            _ => {}
        }
        let (object, method) = match function.kind() {
            "attribute" => (
                function.child_by_field_name("object"),
                function.child_by_field_name("attribute").map_or("", |a| self.source(a)),
            ),
            _ => (None, source),
        };
        let object_source = object.map_or("", |o| self.source(o));
        if reads_environment(object_source, method) {
            let usual = (method == "config" || method == "db") && plain.is_empty();
            let variable = match first() {
                (Some(variable), Expression::Literal) => variable,
                // A database's URL has a usual name.
                _ if usual => "DATABASE_URL".into(),
                _ => return UNKNOWN,
            };
            return match self.fallback(node).map(|n| (n.kind(), self.evaluate(n))) {
                Some(("list" | "tuple", _)) => (None, Expression::EnvironmentOr(variable)),
                Some((_, (value, Expression::Literal))) => (value, Expression::EnvironmentOr(variable)),
                _ => (None, Expression::Environment(variable)),
            };
        }
        match (method, object) {
            ("parse", Some(_)) if object_source.ends_with("database_url") => first(),
            (
                "resolve" | "absolute" | "as_posix" | "expanduser" | "split" | "strip" | "rstrip" | "lower",
                Some(of),
            ) => self.evaluate(of),
            ("joinpath", Some(of)) => self.join(self.evaluate(of), &plain),
            _ => UNKNOWN,
        }
    }

    fn join(&self, start: Found, rest: &[Node<'_>]) -> Found {
        rest.iter().fold(start, |(path, how), node| {
            let (name, other) = self.evaluate(*node);
            let whole = path.zip(name).map(|(path, name)| joined(&path, &name));
            (whole.filter(|w| w.len() <= depth::LONGEST), both(&how, &other))
        })
    }

    fn string(&self, node: Node<'_>) -> Found {
        let raw = self.source(node);
        let prefix = raw.find(['"', '\'']).map_or("", |at| &raw[..at]).to_ascii_lowercase();
        let mut cursor = node.walk();
        let parts: Vec<Node<'_>> = node.children(&mut cursor).collect();
        let mut value = Some(String::new());
        let mut expression = Expression::Literal;
        for part in parts.iter().filter(|p| !matches!(p.kind(), "string_start" | "string_end")) {
            let piece = match part.kind() {
                "interpolation" => {
                    let (piece, how) = named(*part).first().map_or(UNKNOWN, |n| self.evaluate(*n));
                    expression = both(&Expression::Computed { moves: false }, &both(&expression, &how));
                    piece
                }
                _ if prefix.contains('r') => Some(self.source(*part).to_string()),
                _ => unescaped(self.source(*part), prefix.contains('f')),
            };
            value = value.zip(piece).map(|(value, piece)| value + &piece);
        }
        if prefix.contains('b') {
            return UNKNOWN;
        }
        let known = value.is_some() || !matches!(expression, Expression::Literal);
        if known { (value, expression) } else { UNKNOWN }
    }
}

fn named_last(call: Node<'_>) -> Option<Node<'_>> {
    named(call.child_by_field_name("arguments")?).last().copied()
}

/// Says whether a call asks the environment, by the usual names of such functions.
fn reads_environment(object: &str, method: &str) -> bool {
    match object {
        "os.environ" | "environ" => matches!(method, "get" | "pop" | "setdefault"),
        "os" => method == "getenv",
        "env" | "environ.Env" => true,
        "dj_database_url" => method == "config",
        "" => matches!(method, "env" | "getenv" | "config" | "get_env" | "getenv_or" | "env_value"),
        _ => false,
    }
}

/// Undoes the escapes of a string. Source: the Python language reference, "String and Bytes literals".
fn unescaped(text: &str, doubles_braces: bool) -> Option<String> {
    let text = if doubles_braces { text.replace("{{", "{").replace("}}", "}") } else { text.to_string() };
    let mut out = String::new();
    let mut letters = text.chars();
    while let Some(c) = letters.next() {
        if c != '\\' {
            out.push(c);
            continue;
        }
        let digits = |letters: &mut std::str::Chars<'_>, n: usize| {
            let hex: String = letters.by_ref().take(n).collect();
            u32::from_str_radix(&hex, 16).ok().and_then(char::from_u32)
        };
        let letter = match letters.next()? {
            '\n' => continue,
            'n' => '\n',
            'r' => '\r',
            't' => '\t',
            'x' => digits(&mut letters, 2)?,
            'u' => digits(&mut letters, 4)?,
            'U' => digits(&mut letters, 8)?,
            c @ ('\\' | '\'' | '"') => c,
            // Octal digits, names of letters, bells.
            '0'..='7' | 'N' | 'a' | 'b' | 'f' | 'v' => return None,
            c => {
                out.push('\\');
                c
            }
        };
        out.push(letter);
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_modules_are_read_without_running_them() {
        let text = r#"
import os
from pathlib import Path
BASE_DIR = Path(__file__).resolve().parent.parent
PROJECT_DIR = os.path.dirname(os.path.abspath(__file__))
DATABASES = {
    "default": {"ENGINE": "django.db.backends.sqlite3", "NAME": BASE_DIR / "db.sqlite3", 'PORT': 5432},
}
DATABASES["other"] = dict(NAME=os.environ["OTHER_DB"], HOST=os.getenv("H", "localhost"))
ALLOWED_HOSTS = ["old.example", ".old.example"]
ALLOWED_HOSTS += ['www.old.example']
ALLOWED_HOSTS.append("m.old.example")
CSRF = env.list("CSRF", default=["https://old.example"])
HOSTS = os.environ.get("HOSTS", "a,b").split(",")
URL = os.environ.get('URL') or "https://old.example/x"
MEDIA_ROOT = os.path.join(BASE_DIR, "media")
STATIC = BASE_DIR.joinpath("static", f"{'v1'}")
DEBUG = True
NOTE = ("https://old"
        ".example")
RAW = r"C:\www"
NOW = now()
def late():
    DEBUG = False
if DEBUG:
    NAME = f"x-{URL}"
"#;
        let file = Python.read(text.as_bytes(), Some("/srv/site/site")).unwrap();
        for (name, value) in [
            ("BASE_DIR", Some("/srv/site")),
            ("PROJECT_DIR", Some("/srv/site/site")),
            ("DATABASES.default.ENGINE", Some("django.db.backends.sqlite3")),
            ("DATABASES.default.NAME", Some("/srv/site/db.sqlite3")),
            ("DATABASES.default.PORT", Some("5432")),
            ("DATABASES.other.NAME", None),
            ("DATABASES.other.HOST", Some("localhost")),
            ("ALLOWED_HOSTS.0", Some("old.example")),
            ("ALLOWED_HOSTS.2", Some("www.old.example")),
            ("ALLOWED_HOSTS.3", Some("m.old.example")),
            ("CSRF.0", Some("https://old.example")),
            ("HOSTS", Some("a,b")),
            ("URL", Some("https://old.example/x")),
            ("MEDIA_ROOT", Some("/srv/site/media")),
            ("STATIC", Some("/srv/site/static/v1")),
            ("DEBUG", Some("1")),
            ("NOTE", Some("https://old.example")),
            ("RAW", Some(r"C:\www")),
            ("NOW", None),
        ] {
            assert_eq!(file.value(name), value, "{name}");
        }
        let how = |name: &str| file.setting(name).unwrap().expression.clone();
        assert_eq!(how("DATABASES.other.NAME"), Expression::Environment("OTHER_DB".into()));
        assert_eq!(how("CSRF.0"), Expression::EnvironmentOr("CSRF".into()));
        assert_eq!(how("MEDIA_ROOT"), Expression::Computed { moves: true });
        assert_eq!(&text[file.setting("DATABASES.other.HOST").unwrap().span.clone()], "\"localhost\"");
        for value in ["", "it's \"q\"", "a\\b\n", "ü"] {
            for old in ["'x'", "\"x\"", "3"] {
                let text = format!("K = {}", Python.quoted(value, old.as_bytes()));
                assert_eq!(Python.read(text.as_bytes(), None).unwrap().value("K"), Some(value), "{text}");
            }
        }
    }
}
