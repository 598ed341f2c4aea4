//! Finds values in PHP config files with a real parser, so that an edit touches exactly one literal.
//!
//! The tree-sitter grammar locates; the bytes are spliced; nothing is printed anew. Commented-out duplicates are no nodes of
//! interest, and CR LF, a byte order mark or a missing last newline never matter. Expressions are evaluated as far as constants
//! go (strings, concatenation, `__DIR__`, `dirname(__FILE__)`, constants defined before); the rest is said, not guessed.

use std::collections::HashMap;
use std::ops::Range;
use tree_sitter::{Node, Parser, Tree};

/// Why a PHP file could not be read.
#[derive(Debug, thiserror::Error)]
pub enum PhpError {
    /// The grammar did not load; a defect of the build.
    #[error("the PHP grammar does not fit the parser")]
    Grammar,
    /// The parser gave up.
    #[error("the PHP text cannot be parsed")]
    Parse,
}

/// What the expression of an assignment comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Expression {
    /// One literal: a quoted string, a number, `true`, `null`.
    Literal,
    /// Built from constants; its value is known. `moves` says that it follows the file's own folder.
    Computed {
        /// Whether `__DIR__` or `__FILE__` takes part.
        moves: bool,
    },
    /// Read from the environment variable.
    Environment(String),
    /// Something that only running the program would tell.
    Unknown,
}

/// One assignment of a config file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Setting {
    /// Name of the property, constant or variable, without sign.
    pub name: String,
    /// Value, as far as it is known.
    pub value: Option<String>,
    /// The expression that gives the value.
    pub span: Range<usize>,
    /// What kind of expression.
    pub expression: Expression,
    /// Line, from 1.
    pub line: usize,
    /// Whether an earlier assignment of the same name takes precedence.
    pub shadowed: bool,
}

/// A quoted string anywhere in the file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Literal {
    /// The string with its quotes.
    pub span: Range<usize>,
    /// Its decoded value.
    pub value: String,
    /// Line, from 1.
    pub line: usize,
}

/// A parsed file.
#[derive(Debug)]
pub struct PhpFile {
    /// Assignments in the order of the file.
    pub settings: Vec<Setting>,
    /// All plain quoted strings.
    pub literals: Vec<Literal>,
    /// Whether the parser met something that is no PHP.
    pub has_errors: bool,
}

/// Parses a PHP file. `folder` is what `__DIR__` would be, if known.
pub fn parse(text: &[u8], folder: Option<&str>) -> Result<PhpFile, PhpError> {
    let mut parser = Parser::new();
    parser.set_language(&tree_sitter_php::LANGUAGE_PHP.into()).map_err(|_| PhpError::Grammar)?;
    let tree: Tree = parser.parse(text, None).ok_or(PhpError::Parse)?;
    let mut reader =
        Reader { text, folder, constants: HashMap::new(), settings: Vec::new(), literals: Vec::new() };
    reader.walk(tree.root_node());
    let Reader { settings, literals, .. } = reader;
    Ok(PhpFile { settings, literals, has_errors: tree.root_node().has_error() })
}

impl PhpFile {
    /// Returns the setting that counts for a name.
    pub fn setting(&self, name: &str) -> Option<&Setting> {
        self.settings.iter().find(|s| s.name == name && !s.shadowed)
    }

    /// Returns the known value of a name.
    pub fn value(&self, name: &str) -> Option<&str> {
        self.setting(name)?.value.as_deref()
    }
}

struct Reader<'t> {
    text: &'t [u8],
    folder: Option<&'t str>,
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
        while let Some(node) = stack.pop() {
            match node.kind() {
                "property_element" => self.property(node),
                "const_element" => self.constant(node),
                "function_call_expression" => self.define(node),
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
        let (value, expression) = self.evaluate(value_node);
        let shadowed = first_wins && self.constants.contains_key(&name);
        if !first_wins {
            for earlier in self.settings.iter_mut().filter(|s| s.name == name) {
                earlier.shadowed = true;
            }
        } else if !shadowed {
            self.constants.insert(name.clone(), value.clone());
        }
        self.settings.push(Setting {
            name,
            value,
            span: value_node.byte_range(),
            expression,
            line: value_node.start_position().row + 1,
            shadowed,
        });
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
            "binary_expression" => self.concatenation(node),
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

    fn concatenation(&self, node: Node<'_>) -> (Option<String>, Expression) {
        let operator = node.child_by_field_name("operator").map(|o| self.source(o));
        let (Some("."), Some(left), Some(right)) =
            (operator, node.child_by_field_name("left"), node.child_by_field_name("right"))
        else {
            return (None, Expression::Unknown);
        };
        let (a, how_a) = self.evaluate(left);
        let (b, how_b) = self.evaluate(right);
        let expression = match (&how_a, &how_b) {
            (Expression::Environment(name), _) | (_, Expression::Environment(name)) => {
                Expression::Environment(name.clone())
            }
            (Expression::Unknown, _) | (_, Expression::Unknown) => Expression::Unknown,
            _ => {
                let moves = |e: &Expression| matches!(e, Expression::Computed { moves: true });
                Expression::Computed { moves: moves(&how_a) || moves(&how_b) }
            }
        };
        (a.zip(b).map(|(a, b)| a + &b), expression)
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
pub fn quoted(value: &str, old: &[u8]) -> String {
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
    fn what_is_quoted_reads_back() {
        for value in ["", "plain", "it's", r"a\b", "\"$x\"", "\\'", "ends\\"] {
            for old in ["'x'", "\"x\"", "25"] {
                let text = format!("<?php define('K', {});", quoted(value, old.as_bytes()));
                assert_eq!(parse(text.as_bytes(), None).unwrap().value("K"), Some(value), "{text}");
            }
        }
    }
}
