//! The rule as tables, and the fast way against a naive one.

use super::*;
use crate::edit;
use crate::place::Address;
use crate::text::spelling::{Spelling, segment_char};

fn replacements(addresses: &[(&str, &str)], roots: &[(&str, &str)]) -> Replacements {
    asking(addresses, roots, RewriteOptions::default())
}

fn asking(addresses: &[(&str, &str)], roots: &[(&str, &str)], asked: RewriteOptions) -> Replacements {
    let address = |t: &str| Address::parse(t).unwrap();
    let root = |t: &str| Root::parse(t).unwrap();
    let pairs = Pairs {
        addresses: addresses.iter().map(|(o, n)| (address(o), address(n))).collect(),
        roots: roots.iter().map(|(o, n)| (root(o), root(n))).collect(),
    };
    Replacements::asking(&pairs, &[], asked)
}

fn rewritten(replacements: &Replacements, text: &str) -> String {
    let edits = replacements.changes(text.as_bytes());
    String::from_utf8(edit::apply(text.as_bytes(), &edits)).unwrap()
}

/// Each row: before, after ("=" for unchanged), why.
#[track_caller]
fn check(replacements: &Replacements, rows: &[(&str, &str, &str)]) {
    for (before, after, why) in rows {
        let after = if *after == "=" { before } else { after };
        assert_eq!(rewritten(replacements, before), *after, "{why}");
    }
}

#[test]
#[rustfmt::skip]
fn addresses_count_exactly_by_the_rule() {
    let n = replacements(&[("https://old.example/shop", "http://dev.new.example:8080/a")], &[]);
    check(&n, &[
        ("http://old.example/shop", "http://dev.new.example:8080/a", "http"),
        ("see https://old.example/shop.", "see http://dev.new.example:8080/a.", "a dot ends the sentence"),
        ("HTTPS://OLD.Example/shop/x?y", "http://dev.new.example:8080/a/x?y", "scheme and host in any case"),
        ("https://old.example/SHOP", "=", "the path in its own case"),
        ("'//old.example/shop'", "'//dev.new.example:8080/a'", "protocol-relative stays so"),
        ("https://old.example:443/shop", "http://dev.new.example:8080/a", "the scheme's own port equals none"),
        ("http://old.example:443/shop", "=", "443 is another port under http"),
        ("https://old.example:8443/shop", "=", "another port"),
        ("https://old.example/shop.html", "=", "another page"),
        ("https://old.example/shopping https://old.example/shop-2 https://old.example/shop~", "=", "longer segments"),
        ("https://old.example/shop%20x", "=", "in plain text a percent sign continues"),
        ("https://old.example/shop\u{e9}", "=", "letters beyond ASCII continue"),
        ("https://old.example/shop\u{201d}", "http://dev.new.example:8080/a\u{201d}", "a typographic quote ends"),
        ("https://cold.example/shop https://old.example.test/shop https://sub.old.example/shop", "=", "other hosts"),
        ("office@old.example user@old.example/shop", "=", "e-mail domains"),
        ("https://old.example@evil.example/shop", "=", "a user name"),
        ("ftp://old.example/shop", "=", "another scheme"),
        ("https://old.example/ https://old.example", "=", "outside the base"),
    ]);
}

#[test]
#[rustfmt::skip]
fn new_text_takes_the_spelling_of_its_level() {
    let n = replacements(&[("http://old.example/shop", "https://new.example/a b")], &[("/home/old/www", "/srv/new site")]);
    check(&n, &[
        (r"http:\/\/old.example\/shop\/x", r"https:\/\/new.example\/a%20b\/x", "JSON"),
        (r"http:\\\/\\\/old.example\\\/shop", r"https:\\\/\\\/new.example\\\/a%20b", "JSON in JSON"),
        ("u=http%3A%2F%2Fold.example%2Fshop%20x", "u=https%3A%2F%2Fnew.example%2Fa%2520b%20x", "percent, upper"),
        ("u=http%3a%2f%2fold.example%2fshop&", "u=https%3a%2f%2fnew.example%2fa%2520b&", "percent, lower"),
        ("x%3Dhttp%3A%2F%2Fold.example%2Fshop%2Dx", "=", "an encoded hyphen continues the segment"),
        ("http%253A%252F%252Fold.example%252Fshop%2520", "https%253A%252F%252Fnew.example%252Fa%252520b%2520", "twice"),
        ("http:&#x2F;&#x2F;old.example&#x2F;shop", "https:&#x2F;&#x2F;new.example&#x2F;a%20b", "entities"),
        (r"http:\u002f\u002fold.example\u002fshop", r"https:\u002f\u002fnew.example\u002fa%20b", "unicode escapes"),
        (r#""\/home\/old\/www\/x""#, r#""\/srv\/new site\/x""#, "root in JSON"),
        ("p=%2Fhome%2Fold%2Fwww%2F", "p=%2Fsrv%2Fnew%20site%2F", "root in percent-encoding"),
        (r"a=1\nhttp://old.example/shop\nb", r"a=1\nhttps://new.example/a%20b\nb", "line breaks spelled out"),
    ]);
}

#[test]
#[rustfmt::skip]
fn roots_count_exactly_by_the_rule() {
    let n = replacements(&[], &[("/home/a", "/home/a/dev"), ("/home/a/www", "/srv/x")]);
    check(&n, &[
        ("/home/a", "/home/a/dev", "alone"),
        ("/home/a/www/tmp:/home/a/x", "/srv/x/tmp:/home/a/dev/x", "longest first, side by side"),
        ("/home/ab /home/a-b /home/a.b", "=", "longer segments"),
        ("/mnt/home/a ./home/a ../home/a", "=", "parts of other paths"),
        ("file:///home/a", "file:///home/a/dev", "file URL"),
        ("http://x.example/home/a", "=", "the path of a URL"),
    ]);
    let w = replacements(&[], &[(r"C:\w\htdocs", "/srv/x")]);
    check(&w, &[
        (r"C:\w\htdocs", "/srv/x", "plain"),
        (r"C:\\w\\htdocs\\tmp", r"/srv/x\\tmp", "doubled"),
        ("c:/w/htdocs/tmp", "/srv/x/tmp", "slashes"),
        (r"C:\w\htdocs2", "=", "longer"),
    ]);
}

#[test]
fn old_and_new_may_contain_each_other() {
    let n = replacements(
        &[
            ("http://x.example/shop", "http://x.example/shop-dev"),
            ("http://x.example", "http://dev.x.example"),
        ],
        &[],
    );
    let once = rewritten(&n, "http://x.example/shop/ http://x.example/ //x.example");
    assert_eq!(once, "http://x.example/shop-dev/ http://dev.x.example/ //dev.x.example");
}

#[test]
fn unicode_hosts_are_found_in_both_spellings() {
    let n = replacements(&[("http://bücher.example", "http://neu.example")], &[]);
    check(
        &n,
        &[
            ("http://bücher.example/x", "http://neu.example/x", "as people write it"),
            ("http://xn--bcher-kva.example/x", "http://neu.example/x", "as machines write it"),
        ],
    );
}

#[test]
#[rustfmt::skip]
fn names_that_a_layer_escapes_are_found_inside_of_it() {
    let n = replacements(&[("http://b\u{fc}cher.example", "http://neu.example")], &[("/home/my site/b\u{fc}ro", "/srv/x y")]);
    check(&n, &[
        (r"http:\/\/b\u00fccher.example\/x", r"http:\/\/neu.example\/x", "an escaped letter in a host"),
        ("u=http%3A%2F%2Fb%C3%BCcher.example%2F", "u=http%3A%2F%2Fneu.example%2F", "an encoded letter in a host"),
        ("p=%2Fhome%2Fmy%20site%2Fb%C3%BCro&", "p=%2Fsrv%2Fx%20y&", "an encoded space and letter in a root"),
        ("/home/my site/b\u{fc}ro/tmp", "/srv/x y/tmp", "plain"),
    ]);
}

#[test]
#[rustfmt::skip]
fn root_relative_references_follow_the_base_path() {
    let n = replacements(&[("http://old.example/shop", "http://new.example/a/b")], &[]);
    check(&n, &[
        (r#"<a href="/shop/x">"#, r#"<a href="/a/b/x">"#, "an attribute"),
        (r#"<a HREF = '/shop'>"#, r#"<a HREF = '/a/b'>"#, "letter case, spaces, single quotes"),
        (r#"<img src=/shop/x.png data-big="/shop/y">"#, r#"<img src=/a/b/x.png data-big="/a/b/y">"#, "no quotes, data-"),
        (r#"srcset="/shop/1.jpg 1x, /shop/2.jpg 2x""#, r#"srcset="/a/b/1.jpg 1x, /a/b/2.jpg 2x""#, "every item of a srcset"),
        ("background:url(/shop/i.png) URL( '/shop/j.png' )", "background:url(/a/b/i.png) URL( '/a/b/j.png' )", "CSS"),
        (r#"<a href=\"\/shop\/x\">"#, r#"<a href=\"\/a\/b\/x\">"#, "in a script's string"),
        ("href=&quot;/shop/x&quot;", "href=&quot;/a/b/x&quot;", "quoted by an entity"),
        (r#"title="/shop/x" <p>/shop/x alt="see /shop""#, "=", "no references"),
        (r#"href="/shopping" href="/x/shop/" href="//shop/" href="http://e.example/shop/""#, "=", "other paths"),
    ]);
    let up = [("http://old.example/shop", "http://new.example")];
    let down = [("http://old.example", "http://new.example/b")];
    for pairs in [up, down] {
        let listed = replacements(&pairs, &[]).findings(br#"<a href="/shop/x">"#);
        assert!(matches!(listed[..], [Judged::Left { reason: LeftReason::RootRelative, .. }]), "{listed:?}");
    }
    let references = RewriteOptions { references: true, ..RewriteOptions::default() };
    check(&asking(&up, &[], references), &[
        (r#"href="/shop/x" href="/shop" href="/shop?a" href="/shop#b""#, r#"href="/x" href="/" href="/?a" href="/#b""#, "to the bare root"),
    ]);
    check(&asking(&down, &[], references), &[
        (r#"href="/" SRC='/x' hReF=/w url(/y) src="//h/" src="x" href=\"\/z\""#, r#"href="/b/" SRC='/b/x' hReF=/b/w url(/b/y) src="//h/" src="x" href=\"\/b\/z\""#, "from the bare root"),
    ]);
    let moved = |n: &Replacements, v: &str| n.moved_reference(v);
    let up = replacements(&up, &[]);
    assert_eq!(["/shop/x", "/shop", "/shopping", "x"].map(|v| moved(&up, v)), [Some("/x".into()), Some("/".into()), None, None]);
    assert_eq!(moved(&replacements(&down, &[]), "/x"), Some("/b/x".into()));
}

#[test]
#[rustfmt::skip]
fn hosts_alone_and_mail_domains_change_only_when_asked() {
    let pair = [("http://old.example:8080/s", "https://new.example:81/t")];
    let text = "old.example:8080, old.example:8080/s/x, office@old.example, old.example, sub.old.example:8080";
    check(&replacements(&pair, &[]), &[(text, "=", "not asked")]);
    let asked = RewriteOptions { bare_hosts: true, mail_domains: true, ..RewriteOptions::default() };
    check(&asking(&pair, &[], asked), &[
        (text, "new.example:81, new.example:81/t/x, office@new.example, old.example, sub.old.example:8080", "asked"),
        ("office@old.example.test office@cold.example", "=", "other domains"),
    ]);
}

/// The rule of the module's head, written down letter by letter for plain text: slow, and obviously right.
mod naive {
    /// Old address parts and new text, as in `fast`.
    const HOST: &str = "old.example";
    const BASE: &str = "/shop";
    const ROOTS: [(&str, &str); 2] = [("/home/a/www", "/srv/x"), ("/home/a", "/home/a/dev")];

    fn continues(rest: &str) -> bool {
        let mut chars = rest.chars();
        match chars.next() {
            Some('.') => chars.next().is_some_and(super::segment_char),
            Some(c) => super::segment_char(c),
            None => false,
        }
    }

    /// The address behind `//`: how many bytes belong to it, if it is ours.
    fn address(rest: &str, usual_port: u32) -> Option<usize> {
        let host = rest.get(..HOST.len())?;
        if !host.eq_ignore_ascii_case(HOST) {
            return None;
        }
        let mut len = HOST.len();
        let digits: String =
            rest[len..].strip_prefix(':')?.chars().take_while(char::is_ascii_digit).take(6).collect();
        if !digits.is_empty() {
            // The needle's own port is 8080, so a port must be there.
            if digits.parse::<u32>().ok()? != 8080 || usual_port == 8080 {
                return None;
            }
            len += 1 + digits.len();
        } else {
            return None;
        }
        if rest[len..].starts_with('@') {
            return None;
        }
        let after = rest[len..].strip_prefix(BASE)?;
        (!continues(after)).then_some(len + BASE.len())
    }

    pub fn rewritten(text: &str) -> String {
        let mut out = String::new();
        let mut at = 0;
        'text: while at < text.len() {
            let (head, rest) = text.split_at(at);
            let before = head.chars().next_back();
            for (scheme, port) in [("https://", 443), ("http://", 80)] {
                let there = rest.get(..scheme.len()).is_some_and(|s| s.eq_ignore_ascii_case(scheme));
                // A sign is part of a scheme only behind a letter or digit.
                let sign = before.filter(|c| matches!(c, '+' | '-' | '.'));
                let behind = if sign.is_some() { head[..at - 1].chars().next_back() } else { before };
                let joined = behind.is_some_and(|c| c.is_ascii_alphanumeric());
                if there
                    && !joined
                    && let Some(len) = address(&rest[scheme.len()..], port)
                {
                    out.push_str("https://new.example/b");
                    at += scheme.len() + len;
                    continue 'text;
                }
            }
            let scheme_of_another = head
                .strip_suffix(':')
                .and_then(|h| h.chars().next_back())
                .is_some_and(|c| c.is_ascii_alphanumeric());
            if rest.starts_with("//")
                && !scheme_of_another
                && let Some(len) = address(&rest[2..], 80)
            {
                out.push_str("//new.example/b");
                at += 2 + len;
                continue;
            }
            for (old, new) in ROOTS {
                let begins = match before {
                    Some('/') => head.ends_with("://"),
                    Some(c) => !super::segment_char(c) && c != '.' && c != '\\',
                    None => true,
                };
                if begins && rest.starts_with(old) && !continues(&rest[old.len()..]) {
                    out.push_str(new);
                    at += old.len();
                    continue 'text;
                }
            }
            let c = rest.chars().next().unwrap();
            out.push(c);
            at += c.len_utf8();
        }
        out
    }
}

mod properties {
    use super::*;
    use proptest::prelude::*;

    const PIECES: [&str; 34] = [
        "http://",
        "https://",
        "HTTP://",
        "//",
        "/",
        ":",
        "ftp://",
        "old.example",
        "OLD.Example",
        "cold.example",
        ":8080",
        ":80",
        ":443",
        "/shop",
        "/shop/",
        "/SHOP",
        "ping",
        ".html",
        ".",
        " ",
        "@",
        "-",
        "_",
        "~",
        "%20",
        "\u{e9}",
        "\u{201d}",
        "/home/a",
        "/home/a/www",
        "/home",
        "/a",
        "b",
        "\"",
        "\n",
    ];

    fn text() -> impl Strategy<Value = String> {
        proptest::collection::vec(proptest::sample::select(&PIECES[..]), 0..14).prop_map(|p| p.concat())
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 20_000, ..ProptestConfig::default() })]
        #[test]
        fn fast_equals_naive_on_every_mixture(text in text()) {
            let fast = replacements(
                &[("http://old.example:8080/shop", "https://new.example/b")],
                &[("/home/a", "/home/a/dev"), ("/home/a/www", "/srv/x")],
            );
            prop_assert_eq!(rewritten(&fast, &text), naive::rewritten(&text));
        }

        #[test]
        fn every_spelling_reads_what_it_wrote(n in 1usize..4, lower in any::<bool>(), tail in "[ a-z?&]{0,3}") {
            use crate::text::spelling::HexCase;
            let case = if lower { HexCase::Lower } else { HexCase::Upper };
            let n_slashes = (1 << n) - 1;
            for spelling in [Spelling::Plain, Spelling::Backslashed(n_slashes), Spelling::Unicode(n_slashes, case), Spelling::Percent(n, case), Spelling::Entity(b"&#x2F;".to_vec())] {
                let address = replacements(&[("http://old.example/s", "https://new.example/t")], &[("/home/old", "/srv/new")]);
                let spell = |plain: &str| String::from_utf8(spelling.spell(plain).to_vec()).unwrap();
                let (before, after) = ("<http://old.example/s> (/home/old)", "<https://new.example/t> (/srv/new)");
                let text = format!("{}{}", spell(before), spell(&tail));
                let expected = format!("{}{}", spell(after), spell(&tail));
                prop_assert_eq!(rewritten(&address, &text), expected, "{:?}", spelling);
            }
        }
    }
}
