//! Keeps tags short before they are taken apart. The tokenizer compares each attribute of a tag with all before it, so that one tag of a few
//! megabytes would keep it for minutes; browsers do the same in time that grows evenly, and no sound page has a thousandth of that.

/// Attributes behind which a tag is closed.
const MOST: usize = 1000;

/// Where a reader stands in a tag, by the states of the HTML standard (section "Tokenization").
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum At {
    TagName,
    BeforeName,
    Name,
    AfterName,
    BeforeValue,
    Quoted(u8),
    Bare,
}

/// Finds the places at which a tag has to be closed because it has too many attributes. Where such a place lies in a script or a comment,
/// closing changes nothing.
pub fn too_long(text: &str) -> Vec<usize> {
    let bytes = text.as_bytes();
    let (mut out, mut from) = (Vec::new(), 0);
    while let Some(at) = memchr::memchr(b'<', &bytes[from..]) {
        from += at + 1;
        if !bytes.get(from).is_some_and(|b| b.is_ascii_alphabetic() || *b == b'/') {
            continue;
        }
        match end_of_tag(bytes, from) {
            Tag::Ends(at) => from = at,
            Tag::TooLong(at) => {
                out.push(at);
                from = at;
            }
            Tag::Open => break,
        }
    }
    out
}

enum Tag {
    /// Behind its end.
    Ends(usize),
    /// Where it has one attribute too many.
    TooLong(usize),
    /// It does not end.
    Open,
}

fn end_of_tag(bytes: &[u8], from: usize) -> Tag {
    let (mut state, mut attributes, mut at) = (At::TagName, 0, from);
    while let Some(&b) = bytes.get(at) {
        let space = b.is_ascii_whitespace();
        if b == b'>' && !matches!(state, At::Quoted(_)) {
            return Tag::Ends(at + 1);
        }
        let next = match state {
            At::TagName if space || b == b'/' => At::BeforeName,
            At::TagName => At::TagName,
            At::BeforeName if space || b == b'/' => At::BeforeName,
            At::AfterName if space => At::AfterName,
            At::AfterName | At::Name if b == b'=' => At::BeforeValue,
            At::AfterName | At::Name if b == b'/' => At::BeforeName,
            At::Name if space => At::AfterName,
            At::Name => At::Name,
            At::BeforeName | At::AfterName => {
                attributes += 1;
                if attributes > MOST {
                    return Tag::TooLong(at);
                }
                At::Name
            }
            At::BeforeValue if space => At::BeforeValue,
            At::BeforeValue if b == b'"' || b == b'\'' => At::Quoted(b),
            At::Bare if space => At::BeforeName,
            At::BeforeValue | At::Bare => At::Bare,
            At::Quoted(quote) => match memchr::memchr(quote, &bytes[at..]) {
                Some(more) => {
                    at += more;
                    At::BeforeName
                }
                None => return Tag::Open,
            },
        };
        state = next;
        at += 1;
    }
    Tag::Open
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_tags_with_too_many_attributes_are_closed() {
        let many = |n: usize, one: &str| format!("<a {}>x</a>", one.repeat(n));
        for one in ["b ", "b=1 ", "b='>' ", "b=\"x y\"", "b = c ", "b/"] {
            assert_eq!(too_long(&many(MOST, one)), [0; 0], "{one}");
            assert_eq!(too_long(&many(MOST + 1, one)).len(), 1, "{one}");
            assert_eq!(too_long(&(many(MOST + 1, one) + &many(2000, one))).len(), 2, "{one}");
        }
        // Many words in one value are one attribute; so is what looks like a quotation in a bare one.
        assert_eq!(too_long(&many(1, &format!("b='{}'", "x ".repeat(5000)))), [0; 0]);
        assert_eq!(too_long(&format!("<a b= =\" {}>", "c ".repeat(2000))).len(), 1);
        assert_eq!(too_long("1 < 2 <3 <!-- <a b"), [0; 0]);
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_looked_through(pieces in proptest::collection::vec(proptest::sample::select(vec![
            "<", ">", "a", " ", "=", "\"", "'", "/", "é", "<a ", "</", "<!--", "b=c ",
        ]), 0..60), times in 1usize..60) {
            let text = pieces.concat().repeat(times);
            for at in too_long(&text) {
                proptest::prop_assert!(text.is_char_boundary(at));
            }
        }
    }
}
