//! Connection strings of .NET programs: `Data Source=host,1433;Initial Catalog=name;User ID=user;Password=secret`.
//!
//! Keys have synonyms and any letter case; a value with `;` or quotes stands in quotes, doubled inside. Keys that are not ours stay
//! where they are, byte for byte. (Format: the connection string syntax of ADO.NET.)

use crate::place::DatabaseAccess;
use crate::secret::Secret;
use std::ops::Range;

const HOST: [&str; 6] = ["data source", "server", "address", "addr", "network address", "host"];
const NAME: [&str; 2] = ["initial catalog", "database"];
const USER: [&str; 4] = ["user id", "uid", "user", "user name"];
const PASSWORD: [&str; 2] = ["password", "pwd"];

struct Part {
    key: String,
    value: String,
    span: Range<usize>,
}

/// Takes a connection string apart.
fn parts(text: &str) -> Vec<Part> {
    let mut out = Vec::new();
    let bytes = text.as_bytes();
    let mut at = 0;
    while let Some(equals) = memchr::memchr(b'=', &bytes[at..]).map(|e| at + e) {
        let key = text[at..equals].trim_matches([' ', ';']).to_ascii_lowercase();
        let mut start = equals + 1;
        while bytes.get(start) == Some(&b' ') {
            start += 1;
        }
        let (value, end) = match bytes.get(start) {
            Some(quote @ (b'"' | b'\'')) => quoted(text, start, *quote),
            _ => {
                let end = memchr::memchr(b';', &bytes[start..]).map_or(bytes.len(), |e| start + e);
                let value = text[start..end].trim_end();
                (value.to_string(), start + value.len())
            }
        };
        out.push(Part { key, value, span: start..end });
        at = memchr::memchr(b';', &bytes[end..]).map_or(bytes.len(), |e| end + e + 1);
    }
    out
}

fn quoted(text: &str, start: usize, quote: u8) -> (String, usize) {
    let mut value = String::new();
    let mut chars = text[start + 1..].char_indices().peekable();
    while let Some((at, c)) = chars.next() {
        let doubled = chars.peek().is_some_and(|(_, n)| *n == quote as char);
        match c == quote as char {
            true if doubled => {
                value.push(c);
                chars.next();
            }
            true => return (value, start + 1 + at + 1),
            false => value.push(c),
        }
    }
    (value, text.len())
}

/// Reads host, name, user and password. `host,port`, `tcp:host`, `(local)` and `host\\instance` are host forms.
pub fn read(text: &str, access: &mut DatabaseAccess) {
    for part in parts(text) {
        let key = part.key.as_str();
        if HOST.contains(&key) {
            let host = part.value.strip_prefix("tcp:").unwrap_or(&part.value);
            let (host, port) = match host.rsplit_once(',') {
                Some((host, port)) => (host, port.trim().parse().ok()),
                None => (host, None),
            };
            access.host = host.to_string();
            access.port = port;
        } else if NAME.contains(&key) {
            access.name = part.value;
        } else if USER.contains(&key) {
            access.user = part.value;
        } else if PASSWORD.contains(&key) {
            access.password = Secret::new(part.value);
        }
    }
}

/// Puts a new access into a connection string. Nothing where the user logs in by the operating system (no user or password stands
/// there to be replaced).
pub fn with_access(text: &str, access: &DatabaseAccess) -> Option<String> {
    let host = match access.port {
        Some(port) => format!("{},{port}", access.host),
        None => access.host.clone(),
    };
    let parts = parts(text);
    let mut out = String::new();
    let (mut done, mut met) = (0, 0);
    for part in parts {
        let key = part.key.as_str();
        let new = if HOST.contains(&key) {
            &host
        } else if NAME.contains(&key) {
            &access.name
        } else if USER.contains(&key) {
            &access.user
        } else if PASSWORD.contains(&key) {
            access.password.expose()
        } else {
            continue;
        };
        met += 1;
        out += &text[done..part.span.start];
        out += &spelled(new);
        done = part.span.end;
    }
    out += &text[done..];
    (met == 4).then_some(out)
}

/// Replaces the password by a mask.
pub fn masked(text: &str, mask: &str) -> String {
    let mut out = String::new();
    let mut done = 0;
    for part in parts(text).into_iter().filter(|p| PASSWORD.contains(&p.key.as_str())) {
        out += &text[done..part.span.start];
        out += mask;
        done = part.span.end;
    }
    out + &text[done..]
}

fn spelled(value: &str) -> String {
    let plain = !value.contains([';', '"', '\'', '=']) && value.trim() == value && !value.starts_with('{');
    if plain { value.to_string() } else { format!("\"{}\"", value.replace('"', "\"\"")) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_new_access_goes_into_its_places_and_reads_back() {
        let text = "Data Source=db.fern.example,1433; Initial Catalog=old ;uid=web;PWD=\"a;b\"\"c\";Encrypt=True;Max Pool Size=20";
        let mut access = DatabaseAccess::parse("sqlserver://u@h/n").unwrap();
        read(text, &mut access);
        assert_eq!(
            (access.host.as_str(), access.port, access.name.as_str(), access.user.as_str()),
            ("db.fern.example", Some(1433), "old", "web")
        );
        assert_eq!(access.password.expose(), "a;b\"c");
        assert_eq!(masked(text, "***").matches("a;b").count(), 0);
        for password in ["plain", "n'e\"w\\P$1 ü", ";=", " x "] {
            let mut new = DatabaseAccess::parse("sqlserver://new_user@h2/new_db").unwrap();
            new.password = Secret::new(password);
            let out = with_access(text, &new).unwrap();
            assert!(
                out.ends_with(";Encrypt=True;Max Pool Size=20")
                    && out.starts_with("Data Source=h2; Initial Catalog=new_db ;uid=new_user;PWD=")
            );
            let mut back = DatabaseAccess::parse("sqlserver://u@h/n").unwrap();
            read(&out, &mut back);
            assert_eq!(back, new);
        }
        assert_eq!(with_access("Server=.;Database=x;Trusted_Connection=True", &access), None);
    }
}
