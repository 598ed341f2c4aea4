//! Looks at what pages need besides themselves: whether it is there, and is what it should be.

use super::ask::{End, Journey};
use super::gather::Sight;
use super::look::{Known, led_away};
use super::old;
use crate::diagnose::Sureness::{Certain, Likely};
use crate::finding::Code;
use zporter_web::client::{Answer, Cut};
use zporter_web::page::Kind;

/// Bytes that are read of something that is not searched.
pub const SAMPLE: usize = 1 << 20;

/// What is wrong with something that a page needs.
pub fn look(known: &Known, kind: Kind, journey: &Journey) -> Vec<Sight> {
    let mut out = Vec::new();
    let missing = |why: String, cure: &str| {
        Sight::new(Code::AssetMissing, Certain, format!("a {} is missing: {why}", kind.word()), cure)
    };
    match &journey.end {
        End::Answer(answer) if answer.status >= 400 => out.push(missing(
            format!("status {}", answer.status),
            "look whether the file was carried, and whether its address is right",
        )),
        End::Answer(answer)
            if answer.body.is_empty()
                && answer.status != 204
                && kind != Kind::Frame
                && kind != Kind::Script
                && kind != Kind::Style =>
        {
            out.push(missing("nothing comes".into(), "the file is empty: carry it again"));
        }
        End::Answer(answer) if is_page(kind, answer) => out.push(
            Sight::new(
                Code::AssetIsPage,
                Certain,
                format!("a page comes where a {} should be", kind.word()),
                "look whether the file was carried: the site answers for everything that is not there",
            )
            .because("browsers drop it"),
        ),
        End::Answer(answer) if !is_kind(kind, answer) => out.push(Sight::new(
            Code::AssetIsPage,
            Likely,
            format!("what comes is no {}", kind.word()),
            "look at the file: it may have been damaged on the way, or carried as text",
        )),
        End::Answer(answer) => {
            if answer.cut == Some(Cut::Broken) || answer.cut == Some(Cut::Slow) {
                out.push(missing(
                    "it breaks off before its end".into(),
                    "carry the file again; read the server's log",
                ));
            }
            if matches!(kind, Kind::Style | Kind::Script) {
                old::place(known, &answer.body, kind.word(), &mut out);
            }
        }
        End::None(e) => out.push(missing(e.to_string(), "look at the server's log")),
        End::Circle => {
            out.push(missing("it is sent in a circle".into(), "look at the rules of the web server"))
        }
        // What other hosts serve on purpose is theirs.
        End::Away(whose) => out.extend(
            journey
                .hops
                .last()
                .map(|hop| led_away(known, &hop.to, *whose, &format!("a {} leads", kind.word())))
                .filter(|sight| sight.code == Code::RedirectToOld),
        ),
    }
    for sight in &mut out {
        if sight.subject.is_empty() {
            sight.subject = journey.hops.first().map_or(&journey.url, |h| &h.from).to_string();
        }
    }
    out
}

/// Whether a page came instead.
fn is_page(kind: Kind, answer: &Answer) -> bool {
    if kind == Kind::Frame {
        return false;
    }
    let head = answer.body[..answer.body.len().min(512)].trim_ascii_start().to_ascii_lowercase();
    let looks = head.starts_with(b"<!doctype html") || head.starts_with(b"<html");
    let told = answer.kind().contains("html");
    looks || told && kind != Kind::Media
}

/// Whether a picture begins like one.
fn is_kind(kind: Kind, answer: &Answer) -> bool {
    let body = answer.body.as_slice();
    match kind {
        Kind::Picture => {
            let head = body[..body.len().min(1024)].trim_ascii_start();
            const BEGINNINGS: [&[u8]; 11] = [
                b"\x89PNG",
                b"GIF8",
                b"\xff\xd8\xff",
                b"RIFF",
                b"BM",
                b"\0\0\x01\0",
                b"\0\0\x02\0",
                b"II*\0",
                b"MM\0*",
                b"\xff\x0a",
                b"\0\0\0\x0cJXL ",
            ];
            BEGINNINGS.iter().any(|b| head.starts_with(b))
                // AVIF and HEIC say what they are behind a length.
                || head.get(4..8) == Some(b"ftyp")
                || String::from_utf8_lossy(head).contains("<svg")
                || head.starts_with(b"<?xml")
                || head.starts_with(b"\x1f\x8b")
        }
        Kind::Font => {
            const BEGINNINGS: [&[u8]; 6] = [b"wOFF", b"wOF2", b"\0\x01\0\0", b"OTTO", b"true", b"ttcf"];
            // The old form for one browser has its mark further on.
            BEGINNINGS.iter().any(|b| body.starts_with(b))
                || body.get(34..36) == Some(b"LP")
                || body.trim_ascii_start().starts_with(b"<")
        }
        _ => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use zporter_web::client::Answer;

    #[test]
    fn things_are_known_by_their_first_bytes() {
        let answer = |body: &[u8]| Answer::made(200, "application/octet-stream", body.to_vec());
        for (kind, body) in [
            (Kind::Picture, &b"\x89PNG\r\n"[..]),
            (Kind::Picture, b"<?xml version='1.0'?><svg/>"),
            (Kind::Picture, b"  <svg xmlns=''>"),
            (Kind::Picture, b"\0\0\0\x1cftypavif"),
            (Kind::Picture, b"RIFF....WEBP"),
            (Kind::Font, b"wOF2"),
            (Kind::Font, b"\0\x01\0\0"),
            (Kind::Script, b"anything"),
        ] {
            assert!(is_kind(kind, &answer(body)) && !is_page(kind, &answer(body)), "{kind:?} {body:?}");
        }
        assert!(
            !is_kind(Kind::Picture, &answer(b"not a picture")) && !is_kind(Kind::Font, &answer(b"no font"))
        );
        assert!(
            is_page(Kind::Style, &answer(b" <!DOCTYPE html>")) && !is_page(Kind::Frame, &answer(b"<html>"))
        );
        assert!(is_page(Kind::Script, &Answer::made(200, "text/html", b"x".to_vec())));
    }
}
