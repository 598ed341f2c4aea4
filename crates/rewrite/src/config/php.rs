//! Finds values in PHP config files with a real parser, so that an edit touches exactly one literal.
//!
//! The tree-sitter grammar locates; the bytes are spliced; nothing is printed anew. Commented-out duplicates are no nodes of
//! interest, and CR LF, a byte order mark or a missing last newline never matter. Expressions are evaluated as far as constants
//! go (strings, concatenation, `__DIR__`, `dirname(__FILE__)`, constants defined before); the rest is said, not guessed.

use super::depth::{self, Depth};
use super::format::Format;
use super::settings::{ConfigError, Expression, Literal, Setting, Settings};
use crate::edit::Edit;
use std::collections::HashMap;
use tree_sitter::{Node, Parser, Tree};

/// The form. Names are those of properties, constants and variables, and the keys' way below them, joined by dots.
pub struct Php;

impl Format for Php {
    fn read(&self, text: &[u8], folder: Option<&str>) -> Result<Settings, ConfigError> {
        parse(text, folder)
    }

    fn quoted(&self, value: &str, old: &[u8]) -> String {
        quoted(value, old)
    }

    fn flag_value(&self, on: bool) -> &'static str {
        if on { "1" } else { "" }
    }

    fn beside(&self, text: &[u8], neighbour: &Setting, name: &str, value: &str) -> Option<Edit> {
        let end = neighbour.span.end;
        if !neighbour.element {
            return line_like(text, neighbour, name, value);
        }
        Some(Edit::new(end..end, format!(", {} => {}", quoted(name, b"'"), quoted(value, b"'"))))
    }

    /// A constant may be made of others.
    fn changes_stay_put(&self) -> bool {
        false
    }
}

/// Makes a line like a neighbour's, which has to be one whole line: a property, a constant, an assignment.
fn line_like(text: &[u8], neighbour: &Setting, name: &str, value: &str) -> Option<Edit> {
    let start = text[..neighbour.span.start].iter().rposition(|b| *b == b'\n').map_or(0, |at| at + 1);
    let end =
        text[neighbour.span.end..].iter().position(|b| *b == b'\n').map(|at| neighbour.span.end + at)?;
    let before = std::str::from_utf8(&text[start..neighbour.span.start]).ok()?;
    let after = std::str::from_utf8(&text[neighbour.span.end..end]).ok()?;
    let ends = after.find(';').filter(|at| after[..*at].trim_matches([' ', ')']).is_empty())?;
    let old = neighbour.name.rsplit('.').next()?;
    let (first, last) = before.rsplit_once(old)?;
    let line = format!("\n{first}{name}{last}{}{};", quoted(value, b"'"), &after[..ends]);
    // A comment or a return behind the statement stays where it is.
    let at = if text[..end].ends_with(b"\r") { end - 1 } else { end };
    Some(Edit::new(at..at, line))
}

/// Parses a PHP file. `folder` is what `__DIR__` would be, if known.
fn parse(text: &[u8], folder: Option<&str>) -> Result<Settings, ConfigError> {
    let mut parser = Parser::new();
    parser.set_language(&tree_sitter_php::LANGUAGE_PHP.into()).map_err(|_| ConfigError::Grammar)?;
    let tree: Tree =
        parser.parse(text, None).ok_or_else(|| ConfigError::Unreadable("the parser gave up".into()))?;
    let mut reader = Reader {
        text,
        folder,
        depth: Depth::default(),
        constants: HashMap::new(),
        settings: Vec::new(),
        literals: Vec::new(),
    };
    reader.walk(tree.root_node());
    let Reader { settings, literals, .. } = reader;
    if settings.len() > depth::VALUES {
        return Err(ConfigError::Unreadable(format!("it sets more than {} values", depth::VALUES)));
    }
    Ok(Settings { settings, literals, has_errors: tree.root_node().has_error() })
}

struct Reader<'t> {
    text: &'t [u8],
    folder: Option<&'t str>,
    depth: Depth,
    constants: HashMap<String, Option<String>>,
    settings: Vec<Setting>,
    literals: Vec<Literal>,
}

impl Reader<'_> {
    fn source(&self, node: Node<'_>) -> &str {
        std::str::from_utf8(&self.text[node.byte_range()]).unwrap_or_default()
    }

    /// Walks the tree in order, without recursion: config files may nest arrays at will.
    fn walk(&mut self, root: Node<'_>) {
        let mut stack = vec![root];
        while let Some(node) = stack.pop().filter(|_| self.settings.len() <= depth::VALUES) {
            match node.kind() {
                "property_element" => self.property(node),
                "const_element" => self.constant(node),
                "function_call_expression" => self.define(node),
                "assignment_expression" => self.assignment(node),
                "return_statement" => {
                    if let Some(array) = node.named_child(0).filter(|n| n.kind() == ARRAY) {
                        self.array("", array);
                    }
                }
                "string" | "encapsed_string" => {
                    if let (Some(value), Expression::Literal) = self.evaluate(node) {
                        let line = node.start_position().row + 1;
                        self.literals.push(Literal { span: node.byte_range(), value, line });
                    }
                }
                _ => {}
            }
            let mut cursor = node.walk();
            let children: Vec<_> = node.named_children(&mut cursor).collect();
            stack.extend(children.into_iter().rev());
        }
    }

    fn note(&mut self, name: String, value_node: Node<'_>, first_wins: bool) {
        let (value, mut expression) = self.evaluate(value_node);
        let mut span = value_node.byte_range();
        if let Expression::EnvironmentOr(_) = expression {
            // What can be set is what stands for an unset variable.
            match fallback(value_node).filter(|n| matches!(self.evaluate(*n).1, Expression::Literal)) {
                Some(literal) => span = literal.byte_range(),
                None => expression = Expression::Unknown,
            }
        }
        let shadowed = first_wins && self.constants.contains_key(&name);
        if !first_wins {
            self.shadow(&name);
        } else if !shadowed {
            self.constants.insert(name.clone(), value.clone());
        }
        self.settings.push(Setting {
            name,
            value,
            span,
            expression,
            line: value_node.start_position().row + 1,
            shadowed,
            element: value_node.parent().is_some_and(|p| p.kind() == "array_element_initializer"),
        });
    }

    /// What was assigned to a name before, or to something inside of it, no longer counts.
    fn shadow(&mut self, name: &str) {
        let inside =
            |s: &Setting| s.name.strip_prefix(name).is_some_and(|r| r.is_empty() || r.starts_with('.'));
        for earlier in self.settings.iter_mut().filter(|s| inside(s)) {
            earlier.shadowed = true;
        }
    }

    /// `$name = value;`, `$name['key'] = value;`, `$name = array('key' => value);`
    fn assignment(&mut self, node: Node<'_>) {
        let (Some(left), Some(right)) = (node.child_by_field_name("left"), node.child_by_field_name("right"))
        else {
            return;
        };
        let Some(name) = self.path_of(left) else { return };
        if right.kind() == ARRAY {
            self.shadow(&name);
            self.array(&name, right);
        } else {
            self.note(name, right, false);
        }
    }

    /// Names what stands left of an assignment, if that can be told.
    fn path_of(&self, left: Node<'_>) -> Option<String> {
        let mut keys = Vec::new();
        let mut node = left;
        while node.kind() == "subscript_expression" {
            keys.push(node.named_child(1));
            node = node.named_child(0)?;
        }
        if node.kind() != "variable_name" {
            return None;
        }
        let mut name = self.source(node).trim_start_matches('$').to_string();
        if keys.len() > depth::MOST {
            return None;
        }
        for key in keys.into_iter().rev() {
            let key = match key {
                Some(key) => self.key(key)?,
                // `[]` appends: the first number that is free.
                None => {
                    let taken = |n: &usize| self.settings.iter().any(|s| s.name == format!("{name}.{n}"));
                    (0..).find(|n| !taken(n))?.to_string()
                }
            };
            name = format!("{name}.{key}");
        }
        Some(name)
    }

    fn key(&self, node: Node<'_>) -> Option<String> {
        match self.evaluate(node) {
            (Some(key), Expression::Literal) => Some(key),
            _ => None,
        }
    }

    /// Notes the elements of an array that is written out, at every depth.
    fn array(&mut self, name: &str, array: Node<'_>) {
        let mut stack = vec![(name.to_string(), array)];
        while let Some((name, array)) = stack.pop() {
            if name.matches('.').count() > depth::MOST || self.settings.len() > depth::VALUES {
                continue;
            }
            let mut next = 0;
            let mut cursor = array.walk();
            let elements: Vec<_> = array.named_children(&mut cursor).collect();
            for element in elements.into_iter().filter(|n| n.kind() == "array_element_initializer") {
                let (key, value) = match (element.named_child(0), element.named_child(1)) {
                    (Some(key), Some(value)) => (self.key(key), value),
                    (Some(value), None) => {
                        next += 1;
                        (Some((next - 1).to_string()), value)
                    }
                    _ => continue,
                };
                let Some(key) = key else { continue };
                let path = if name.is_empty() { key } else { format!("{name}.{key}") };
                if value.kind() == ARRAY {
                    stack.push((path, value));
                } else {
                    self.note(path, value, false);
                }
            }
        }
    }

    /// `public $name = value;` of a class, or `var $name = value;`.
    fn property(&mut self, node: Node<'_>) {
        let name = node.child_by_field_name("name").or_else(|| node.named_child(0));
        let value = node.child_by_field_name("default_value").or_else(|| last_value(node));
        if let (Some(name), Some(value)) = (name, value) {
            let name = self.source(name).trim_start_matches('$').to_string();
            self.note(name, value, false);
        }
    }

    /// `const NAME = value;`
    fn constant(&mut self, node: Node<'_>) {
        if let (Some(name), Some(value)) = (node.named_child(0), last_value(node)) {
            let name = self.source(name).to_string();
            self.note(name, value, true);
        }
    }

    /// `define('NAME', value)`. A second define of a name does nothing in PHP, so the first one counts.
    fn define(&mut self, node: Node<'_>) {
        let Some(function) = node.child_by_field_name("function") else { return };
        if !self.source(function).eq_ignore_ascii_case("define") {
            return;
        }
        let Some(arguments) = node.child_by_field_name("arguments") else { return };
        let mut cursor = arguments.walk();
        let values: Vec<_> = arguments
            .named_children(&mut cursor)
            .filter(|n| n.kind() == "argument")
            .filter_map(|n| n.named_child(0))
            .collect();
        if let [name, value, ..] = values[..]
            && let (Some(name), Expression::Literal) = self.evaluate(name)
        {
            self.note(name, value, true);
        }
    }

    fn evaluate(&self, node: Node<'_>) -> (Option<String>, Expression) {
        let Some(_step) = self.depth.enter() else { return (None, Expression::Unknown) };
        match node.kind() {
            "string" => {
                let raw = self.source(node);
                let inside = raw.strip_prefix('\'').and_then(|r| r.strip_suffix('\''));
                (
                    inside.map(unescape_single),
                    if inside.is_some() { Expression::Literal } else { Expression::Unknown },
                )
            }
            "encapsed_string" => self.encapsed(node),
            "integer" | "float" => (Some(self.source(node).to_string()), Expression::Literal),
            "boolean" => {
                let on = self.source(node).eq_ignore_ascii_case("true");
                (Some(if on { "1".into() } else { String::new() }), Expression::Literal)
            }
            "null" => (Some(String::new()), Expression::Literal),
            "parenthesized_expression" => match node.named_child(0) {
                Some(inner) => match self.evaluate(inner) {
                    (value, Expression::Literal) => (value, Expression::Computed { moves: false }),
                    other => other,
                },
                None => (None, Expression::Unknown),
            },
            "binary_expression" => self.operation(node),
            "conditional_expression" if node.child_by_field_name("body").is_none() => {
                self.or_else(node.child_by_field_name("condition"), node.child_by_field_name("alternative"))
            }
            // `$_ENV['NAME']`
            "subscript_expression"
                if node.named_child(0).is_some_and(|n| matches!(self.source(n), "$_ENV" | "$_SERVER")) =>
            {
                match node.named_child(1).and_then(|key| self.key(key)) {
                    Some(variable) => (None, Expression::Environment(variable)),
                    None => (None, Expression::Unknown),
                }
            }
            "name" | "qualified_name" => match self.source(node) {
                "__DIR__" => (self.folder.map(str::to_string), Expression::Computed { moves: true }),
                "DIRECTORY_SEPARATOR" => (Some("/".into()), Expression::Computed { moves: false }),
                name => match self.constants.get(name) {
                    Some(value) => (value.clone(), Expression::Computed { moves: false }),
                    None => (None, Expression::Unknown),
                },
            },
            "function_call_expression" => self.call(node),
            _ => (None, Expression::Unknown),
        }
    }

    fn encapsed(&self, node: Node<'_>) -> (Option<String>, Expression) {
        let mut cursor = node.walk();
        let plain = node
            .named_children(&mut cursor)
            .all(|n| matches!(n.kind(), "string_content" | "string_value" | "escape_sequence"));
        let inside = self.source(node).strip_prefix('"').and_then(|r| r.strip_suffix('"'));
        match inside {
            Some(inside) if plain => (Some(unescape_double(inside)), Expression::Literal),
            _ => (None, Expression::Unknown),
        }
    }

    /// What the environment says, else something else: known is what stands for an unset variable.
    fn or_else(&self, first: Option<Node<'_>>, otherwise: Option<Node<'_>>) -> (Option<String>, Expression) {
        let (Some(first), Some(otherwise)) = (first, otherwise) else { return (None, Expression::Unknown) };
        match (self.evaluate(first).1, self.evaluate(otherwise)) {
            (Expression::Environment(variable), (value, Expression::Literal)) => {
                (value, Expression::EnvironmentOr(variable))
            }
            (Expression::Environment(variable), _) => (None, Expression::Environment(variable)),
            _ => (None, Expression::Unknown),
        }
    }

    fn operation(&self, node: Node<'_>) -> (Option<String>, Expression) {
        let operator = node.child_by_field_name("operator").map(|o| self.source(o));
        let (left, right) = (node.child_by_field_name("left"), node.child_by_field_name("right"));
        if operator == Some("??") {
            return self.or_else(left, right);
        }
        let (Some("."), Some(left), Some(right)) = (operator, left, right) else {
            return (None, Expression::Unknown);
        };
        let (a, how_a) = self.evaluate(left);
        let (b, how_b) = self.evaluate(right);
        let expression = match (&how_a, &how_b) {
            (Expression::Environment(name) | Expression::EnvironmentOr(name), _)
            | (_, Expression::Environment(name) | Expression::EnvironmentOr(name)) => {
                return (None, Expression::Environment(name.clone()));
            }
            (Expression::Unknown, _) | (_, Expression::Unknown) => Expression::Unknown,
            _ => {
                let moves = |e: &Expression| matches!(e, Expression::Computed { moves: true });
                Expression::Computed { moves: moves(&how_a) || moves(&how_b) }
            }
        };
        (a.zip(b).and_then(|(a, b)| depth::joined(a, &b)), expression)
    }

    fn call(&self, node: Node<'_>) -> (Option<String>, Expression) {
        let name = node.child_by_field_name("function").map(|f| self.source(f).to_ascii_lowercase());
        let argument = node
            .child_by_field_name("arguments")
            .and_then(|a| a.named_child(0))
            .and_then(|a| a.named_child(0));
        match (name.as_deref(), argument) {
            (Some("getenv"), Some(argument)) => match self.evaluate(argument) {
                (Some(variable), Expression::Literal) => (None, Expression::Environment(variable)),
                _ => (None, Expression::Unknown),
            },
            // A container's own function of that kind: variable and what to take without it.
            (Some(name), Some(argument)) if name.starts_with("getenv_") => {
                match (self.evaluate(argument), fallback(node).map(|n| self.evaluate(n))) {
                    ((Some(variable), Expression::Literal), Some((value, Expression::Literal))) => {
                        (value, Expression::EnvironmentOr(variable))
                    }
                    ((Some(variable), Expression::Literal), _) => (None, Expression::Environment(variable)),
                    _ => (None, Expression::Unknown),
                }
            }
            (Some("dirname"), Some(argument)) if self.source(argument) == "__FILE__" => {
                (self.folder.map(str::to_string), Expression::Computed { moves: true })
            }
            (Some("dirname"), Some(argument)) => match self.evaluate(argument) {
                (value, how @ Expression::Computed { .. }) => {
                    (value.and_then(|v| v.rsplit_once('/').map(|(up, _)| up.to_string())), how)
                }
                _ => (None, Expression::Unknown),
            },
            _ => (None, Expression::Unknown),
        }
    }
}

/// Kind of an array that is written out.
const ARRAY: &str = "array_creation_expression";

/// What an expression comes to where the environment variable in it is not set.
fn fallback(node: Node<'_>) -> Option<Node<'_>> {
    match node.kind() {
        "conditional_expression" => node.child_by_field_name("alternative"),
        "binary_expression" => node.child_by_field_name("right"),
        _ => node.child_by_field_name("arguments")?.named_child(1)?.named_child(0),
    }
}

/// The last named child, if there is something before it.
fn last_value(node: Node<'_>) -> Option<Node<'_>> {
    let count = u32::try_from(node.named_child_count()).ok()?;
    let last = node.named_child(count.checked_sub(1)?)?;
    // Some grammar versions wrap the value of a property.
    let last = if last.kind() == "property_initializer" { last.named_child(0)? } else { last };
    (count > 1).then_some(last)
}

fn unescape_single(inside: &str) -> String {
    let mut out = String::with_capacity(inside.len());
    let mut chars = inside.chars().peekable();
    while let Some(c) = chars.next() {
        match (c, chars.peek()) {
            ('\\', Some('\\' | '\'')) => out.extend(chars.next()),
            _ => out.push(c),
        }
    }
    out
}

fn unescape_double(inside: &str) -> String {
    let mut out = String::with_capacity(inside.len());
    let mut chars = inside.chars().peekable();
    while let Some(c) = chars.next() {
        if c != '\\' {
            out.push(c);
            continue;
        }
        match chars.next() {
            Some('n') => out.push('\n'),
            Some('r') => out.push('\r'),
            Some('t') => out.push('\t'),
            Some('e') => out.push('\u{1b}'),
            Some(c @ ('\\' | '"' | '$')) => out.push(c),
            Some('x') => {
                let digits: String =
                    std::iter::from_fn(|| chars.next_if(char::is_ascii_hexdigit)).take(2).collect();
                out.extend(u8::from_str_radix(&digits, 16).ok().map(char::from));
            }
            Some(c) => out.extend(['\\', c]),
            None => out.push('\\'),
        }
    }
    out
}

/// Spells a value as a literal in the quotes of the one it replaces (single quotes where there were none).
fn quoted(value: &str, old: &[u8]) -> String {
    if old.first() == Some(&b'"') {
        let mut out = String::from('"');
        for c in value.chars() {
            match c {
                '\\' | '"' | '$' => out.extend(['\\', c]),
                '\n' => out.push_str("\\n"),
                '\r' => out.push_str("\\r"),
                c => out.push(c),
            }
        }
        out.push('"');
        return out;
    }
    let mut out = String::from('\'');
    for c in value.chars() {
        if matches!(c, '\\' | '\'') {
            out.push('\\');
        }
        out.push(c);
    }
    out.push('\'');
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_found_in_every_usual_form() {
        let text = "\u{feff}<?php\r\n// define('A', 'commented');\r\ndefine('A', 'one');\ndefine(\"A\", 'second is ignored');\nif (!defined('B')) {\n define( 'B' , \"t\\\"w\\$o\" ) ;\n}\n\
            const C = 'fake\\'pass\\\\15';\nclass J { var $x = 'v'; public $n = 25; public $off = false; /* public $x = 'no'; */\n public static $s = array('0' => 'all'); }\n\
            define('D', A . '/sub');\ndefine('E', __DIR__ . '/tmp');\ndefine('F', dirname(__FILE__).'/x');\ndefine('G', getenv('DB_PASS'));\ndefine('H', strtoupper('x'));";
        let file = parse(text.as_bytes(), Some("/srv/www")).unwrap();
        assert!(!file.has_errors);
        let value = |n: &str| file.value(n).map(str::to_string);
        let found =
            ["A", "B", "C", "x", "n", "off", "D", "E", "F"].map(|n| value(n).unwrap_or_else(|| "-".into()));
        assert_eq!(
            found,
            ["one", "t\"w$o", "fake'pass\\15", "v", "25", "", "one/sub", "/srv/www/tmp", "/srv/www/x"]
        );
        assert_eq!(file.setting("G").unwrap().expression, Expression::Environment("DB_PASS".into()));
        assert_eq!(file.setting("H").unwrap().expression, Expression::Unknown);
        assert_eq!(file.setting("E").unwrap().expression, Expression::Computed { moves: true });
        assert_eq!(file.setting("A").unwrap().line, 3);
        let span = file.setting("C").unwrap().span.clone();
        assert_eq!(&text.as_bytes()[span], br"'fake\'pass\\15'");
    }

    #[test]
    fn variables_arrays_and_returned_arrays_are_named_by_their_way() {
        let text = r#"<?php
$table_prefix = "fh_" . 'a_';
$databases = [];
$databases['default']['default'] = array('host' => 'old', 'list' => ['x', 'y'],);
$databases['default']['default'] = array('host' => 'db', 'port' => '', 'prefix' => array('default' => 'p_'));
$conf["site"] = 'one'; $conf["site"] = 'two';
$yes[] = 'a'; $yes[] = 'b';
define('H', getenv('DB_HOST') ?: 'localhost:3307'); define('U', $_ENV['DB_USER'] ?? 'web');
define('N', getenv_docker('DB_NAME', 'blog')); define('P', getenv('DB_PASS') ?: pass());
return array('parameters' => ['database_host' => "h", 'user' => NULL]);"#;
        let file = parse(text.as_bytes(), None).unwrap();
        assert!(!file.has_errors);
        let names = [
            ("table_prefix", "fh_a_"),
            ("databases.default.default.host", "db"),
            ("databases.default.default.prefix.default", "p_"),
            ("conf.site", "two"),
            ("yes.1", "b"),
            ("H", "localhost:3307"),
            ("U", "web"),
            ("N", "blog"),
            ("parameters.database_host", "h"),
            ("parameters.user", ""),
        ];
        for (name, value) in names {
            assert_eq!(file.value(name), Some(value), "{name}");
        }
        assert_eq!(file.setting("databases.default.default.list.0"), None, "assigned anew as a whole");
        assert!(file.setting("databases.default.default.host").unwrap().element);
        let host = file.setting("H").unwrap();
        assert_eq!(host.expression, Expression::EnvironmentOr("DB_HOST".into()));
        assert_eq!(&text[host.span.clone()], "'localhost:3307'");
        assert_eq!(file.setting("P").unwrap().expression, Expression::Environment("DB_PASS".into()));
        assert_eq!(file.matching("yes.*").count(), 2);
    }

    #[test]
    fn what_is_quoted_reads_back() {
        for value in ["", "plain", "it's", r"a\b", "\"$x\"", "\\'", "ends\\"] {
            for old in ["'x'", "\"x\"", "25"] {
                let text = format!("<?php define('K', {});", quoted(value, old.as_bytes()));
                assert_eq!(parse(text.as_bytes(), None).unwrap().value("K"), Some(value), "{text}");
            }
        }
    }
}
