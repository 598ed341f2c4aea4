//! How deep a config file may nest, and how long what it computes may become: whoever wrote the file decides neither.

use std::cell::Cell;

/// Expressions in expressions, or arrays in arrays, that are looked into. No program writes a tenth of it.
pub const MOST: usize = 200;

/// Values that a file may set. Each is compared with those before it.
pub const VALUES: usize = 10_000;

/// Bytes of a value that is put together.
pub const LONGEST: usize = 64 << 10;

/// Counts how deep a reader stands in a file.
#[derive(Debug, Default)]
pub struct Depth(Cell<usize>);

/// One step down, until it is dropped.
#[derive(Debug)]
pub struct Step<'d>(&'d Depth);

impl Depth {
    /// Goes a step down; nothing where that is too deep.
    pub fn enter(&self) -> Option<Step<'_>> {
        (self.0.get() < MOST).then(|| {
            self.0.set(self.0.get() + 1);
            Step(self)
        })
    }
}

impl Drop for Step<'_> {
    fn drop(&mut self) {
        self.0.0.set(self.0.0.get() - 1);
    }
}

/// Puts two texts together, unless that becomes too long.
pub fn joined(a: String, b: &str) -> Option<String> {
    (a.len() + b.len() <= LONGEST).then(|| a + b)
}

/// Says why a text of brackets or of YAML's blocks must not be given to a reader that calls itself for each level. What stands in strings
/// counts as well: no file of settings holds as many there.
pub fn too_deep(text: &[u8], blocks: bool) -> Option<String> {
    let (mut depth, mut deepest) = (0usize, 0);
    for b in text {
        match b {
            b'[' | b'{' => depth += 1,
            b']' | b'}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        deepest = deepest.max(depth);
    }
    if blocks {
        let marks = |line: &[u8]| line.iter().take_while(|b| matches!(b, b' ' | b'-' | b'?' | b':')).count();
        deepest = deepest.max(text.split(|b| *b == b'\n').map(marks).max().unwrap_or_default());
    }
    (deepest > 2 * MOST).then(|| format!("it nests more than {} levels deep", 2 * MOST))
}

#[cfg(test)]
mod tests {
    use crate::config::definition::ConfigForm;
    use crate::config::read;

    #[test]
    fn files_that_nest_at_will_or_grow_at_will_are_read_or_refused_and_never_end_the_program() {
        let (n, m) = (40_000, 2_000);
        let deep =
            |open: &str, inner: &str, close: &str| [open.repeat(n), inner.into(), close.repeat(n)].concat();
        let doubling: String = (0..64).map(|i| format!("define('C{}', C{i} . C{i});\n", i + 1)).collect();
        let python: String = (0..64).map(|i| format!("C{} = C{i} + C{i}\n", i + 1)).collect();
        let cases = [
            (ConfigForm::Php, format!("<?php\n$a = {};\ndefine('X', 'y');", deep("(", "'1'", ")"))),
            (ConfigForm::Php, format!("<?php\n$a = {};", deep("[", "'1'", "]"))),
            (ConfigForm::Php, format!("<?php\n$a = {}'z';", "'x' . ".repeat(n))),
            (ConfigForm::Php, format!("<?php\n$a = {}'z';", "$b ?? ".repeat(n))),
            (ConfigForm::Php, format!("<?php\n$a = {};", deep("f(", "'1'", ")"))),
            (ConfigForm::Php, format!("<?php\n{}'1';", "$a = ".repeat(m))),
            (ConfigForm::Php, format!("<?php\n$a{} = 1;", "['x']".repeat(n))),
            (ConfigForm::Php, format!("<?php\n$a = {}1;", "!".repeat(n))),
            (ConfigForm::Php, format!("<?php\ndefine('C0', 'x');\n{doubling}")),
            (ConfigForm::Python, format!("A = {}\nB = 'x'\n", deep("(", "'1'", ")"))),
            (ConfigForm::Python, format!("A = {}\n", deep("[", "'1'", "]"))),
            (ConfigForm::Python, format!("A = {}'z'\n", "'x' + ".repeat(n))),
            (ConfigForm::Python, format!("A = os{}\n", ".path".repeat(n))),
            (ConfigForm::Python, format!("A = {}\n", deep("int(", "'1'", ")"))),
            (ConfigForm::Python, format!("A{} = 1\n", "['x']".repeat(n))),
            (ConfigForm::Python, format!("C0 = 'x'\n{python}")),
            (ConfigForm::Json, deep("[", "1", "]")),
            (ConfigForm::Json, deep("{\"a\":", "1", "}")),
            (ConfigForm::Yaml, format!("a: {}", deep("[", "1", "]"))),
            (ConfigForm::Yaml, format!("{}x", "- ".repeat(n))),
            (ConfigForm::Xml, deep("<a>", "", "</a>")),
            (ConfigForm::Env, format!("A={}\n", "${A}".repeat(n))),
            (ConfigForm::Ini, format!("a{} = 1\n", "[x]".repeat(n))),
        ];
        for (form, text) in cases {
            // In a thread, whose stack is smaller than that of a program.
            let read = std::thread::spawn(move || {
                let start = text[..text.len().min(60)].to_string();
                let done = read(form, text.as_bytes(), Some("/srv/site"));
                let verified = form.format().verify(text.as_bytes(), text.as_bytes(), &[]);
                (start, done.is_ok(), verified.is_ok())
            });
            read.join().unwrap();
        }
    }
}
