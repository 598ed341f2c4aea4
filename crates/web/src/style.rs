//! What a style sheet needs: other sheets, pictures, fonts.

use crate::page::Kind;

/// Lists what a style sheet names, as it is written.
pub fn needs(text: &str) -> Vec<(Kind, String)> {
    let mut out = Vec::new();
    let bytes = text.as_bytes();
    let mut at = 0;
    // Whether the rule at hand is one for a font.
    let mut font = false;
    while at < bytes.len() {
        let rest = &text[at..];
        if rest.starts_with("/*") {
            at += rest.find("*/").map_or(rest.len(), |end| end + 2);
        } else if begins(rest, "@font-face") {
            font = true;
            at += 10;
        } else if begins(rest, "@import") {
            let value = rest[7..].trim_start();
            at += 7;
            if let Some(url) = quoted(value) {
                out.push((Kind::Style, url));
                at += rest[7..].len() - value.len() + 1;
                // Its end, so that the same text is not read again.
                at += text[at..].find(['"', '\'']).map_or(0, |end| end + 1);
            } else if begins(value, "url(") {
                let (url, end) = inside(&value[4..]);
                out.push((Kind::Style, url));
                at += rest[7..].len() - value.len() + 4 + end;
            }
        } else if begins(rest, "url(") {
            let (url, end) = inside(&rest[4..]);
            out.push((if font { Kind::Font } else { Kind::Picture }, url));
            at += 4 + end;
        } else {
            font = font && bytes[at] != b'}';
            at += rest.chars().next().map_or(1, char::len_utf8);
        }
    }
    out.retain(|(_, url)| !url.is_empty() && !url.starts_with("data:") && !url.starts_with('#'));
    out
}

fn begins(text: &str, word: &str) -> bool {
    text.get(..word.len()).is_some_and(|start| start.eq_ignore_ascii_case(word))
}

fn quoted(text: &str) -> Option<String> {
    let quote = text.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    text[1..].split(quote).next().map(|url| unescaped(url.trim()))
}

/// The address inside of `url(…)` and where it ends.
fn inside(text: &str) -> (String, usize) {
    let value = text.trim_start();
    let before = text.len() - value.len();
    match value.chars().next() {
        Some(quote @ ('"' | '\'')) => {
            let end = value[1..].find(quote).map_or(value.len(), |at| at + 1);
            (unescaped(value[1..end].trim()), before + end)
        }
        _ => {
            let end = value.find(')').unwrap_or(value.len());
            (unescaped(value[..end].trim()), before + end)
        }
    }
}

/// Takes backslashes out that only keep a letter from meaning something.
fn unescaped(text: &str) -> String {
    if text.contains('\\') { text.replace('\\', "") } else { text.to_string() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_style_sheet_tells_sheets_pictures_and_fonts() {
        let text = "@import 'a.css'; @IMPORT url( \"b.css\" ) screen; /* url(no.png) */ a{background:URL(p.png)}\n\
            @font-face { font-family: X; src: url(f.eot?#x) format('x'), url('f.woff2') } b{cursor:url(\"c,1.cur\"),auto} c{background:url(data:x)} d{mask:url(#m)} ü{content:'url'}";
        let found: Vec<_> = needs(text).into_iter().map(|(k, u)| (k.word(), u)).collect();
        let wanted = [
            ("style sheet", "a.css"),
            ("style sheet", "b.css"),
            ("picture", "p.png"),
            ("font", "f.eot?#x"),
            ("font", "f.woff2"),
            ("picture", "c,1.cur"),
        ];
        assert_eq!(found, wanted.map(|(k, u)| (k, u.to_string())));
    }

    #[test]
    fn broken_sheets_come_to_an_end() {
        for text in
            ["url(", "@import", "@import '", "/*", "url('", "@import url(", "ü url(ü", "@font-face{src:url("]
        {
            needs(text);
        }
    }
}
