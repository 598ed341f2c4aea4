//! Site maps (sitemaps.org: XML of up to 50,000 addresses, or an index of such files, plain or gzip, or a text with an address a line) and
//! what `robots.txt` says (RFC 9309).

use quick_xml::Reader;
use quick_xml::events::Event;
use std::io::Read;

/// What a site map names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SiteMap {
    /// Addresses of pages.
    pub pages: Vec<String>,
    /// Addresses of further site maps.
    pub maps: Vec<String>,
    /// Whether it could not be read to its end, or holds more than is kept.
    pub cut: bool,
}

/// Largest text of a site map, unpacked: what the standard allows.
const LARGEST: u64 = 50 << 20;

/// Reads a site map. At most `most` addresses are kept.
pub fn read(body: &[u8], most: usize) -> SiteMap {
    let mut out = SiteMap::default();
    if body.starts_with(&[0x1f, 0x8b]) {
        let mut text = Vec::new();
        let unpacked = flate2::read::GzDecoder::new(body).take(LARGEST).read_to_end(&mut text);
        parse(&text, most, &mut out);
        out.cut |= unpacked.is_err();
    } else {
        parse(body, most, &mut out);
    }
    out
}

fn parse(body: &[u8], most: usize, out: &mut SiteMap) {
    let body = body.strip_prefix(b"\xef\xbb\xbf").unwrap_or(body).trim_ascii_start();
    if !body.starts_with(b"<") {
        let lines = std::str::from_utf8(body).unwrap_or_default().lines().map(str::trim);
        let mut pages = lines.filter(|l| l.starts_with("http://") || l.starts_with("https://"));
        out.pages = pages.by_ref().take(most).map(str::to_string).collect();
        out.cut = pages.next().is_some();
        return;
    }
    let body = String::from_utf8_lossy(body);
    let mut reader = Reader::from_str(&body);
    // `loc` of what: of a page or a further map, not of a picture.
    let (mut page, mut map, mut loc) = (false, false, false);
    let mut text = String::new();
    loop {
        match reader.read_event() {
            Ok(Event::Start(tag)) => match tag.name().as_ref() {
                "url" => page = true,
                "sitemap" => map = true,
                "loc" => loc = true,
                _ => (),
            },
            Ok(Event::Text(piece)) if loc => text.push_str(&piece),
            Ok(Event::CData(piece)) if loc => text.push_str(&piece),
            Ok(Event::GeneralRef(name)) if loc => text.push_str(match &*name {
                "amp" => "&",
                "lt" => "<",
                "gt" => ">",
                "quot" => "\"",
                "apos" => "'",
                _ => "",
            }),
            Ok(Event::End(tag)) => match tag.name().as_ref() {
                "url" => page = false,
                "sitemap" => map = false,
                "loc" => {
                    loc = false;
                    let url = std::mem::take(&mut text).trim().to_string();
                    if out.pages.len() + out.maps.len() >= most {
                        out.cut = true;
                        return;
                    }
                    if map {
                        out.maps.push(url);
                    } else if page {
                        out.pages.push(url);
                    }
                }
                _ => (),
            },
            Ok(Event::Eof) => return,
            Err(_) => {
                out.cut = true;
                return;
            }
            _ => (),
        }
    }
}

/// What `robots.txt` says to everybody.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Robots {
    /// Site maps that it names.
    pub maps: Vec<String>,
    /// Paths that nobody should ask for.
    pub closed: Vec<String>,
}

impl Robots {
    /// Whether it closes the whole site.
    pub fn closes_all(&self) -> bool {
        self.closed.iter().any(|p| p == "/" || p == "/*")
    }
}

/// Reads `robots.txt`.
pub fn robots(text: &str) -> Robots {
    let mut out = Robots::default();
    // A group begins with lines of agents, and holds until the next such lines behind its rules.
    let (mut ours, mut in_rules) = (false, false);
    for line in text.lines() {
        let line = line.split('#').next().unwrap_or_default();
        let Some((name, value)) = line.split_once(':') else { continue };
        let value = value.trim();
        match name.trim().to_ascii_lowercase().as_str() {
            "sitemap" => out.maps.push(value.to_string()),
            "user-agent" => {
                ours = value == "*" || (ours && !in_rules);
                in_rules = false;
            }
            "disallow" => {
                in_rules = true;
                if ours && !value.is_empty() {
                    out.closed.push(value.to_string());
                }
            }
            "allow" => in_rules = true,
            _ => (),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn site_maps_are_read_in_every_form() {
        let map = read(b"<?xml version='1.0'?><urlset><url><loc> https://a.test/?a=1&amp;b=2 </loc><image:image><image:loc>https://a.test/p.png</image:loc></image:image></url><url><loc><![CDATA[https://a.test/c]]></loc></url></urlset>", 9);
        assert_eq!(map.pages, ["https://a.test/?a=1&b=2", "https://a.test/c"]);
        let index =
            read(b"<sitemapindex><sitemap><loc>https://a.test/m.xml</loc></sitemap></sitemapindex>", 9);
        assert_eq!(index.maps, ["https://a.test/m.xml"]);
        let text = read(b"https://a.test/1\nhttps://a.test/2\nhttps://a.test/3\n", 2);
        assert!(text.pages.len() == 2 && text.cut);
        assert!(read(b"<urlset><url><loc>https://a.test/x</loc></wrong>", 9).cut);
    }

    #[test]
    fn robots_close_for_all_or_for_others() {
        assert!(robots("User-agent: *\nDisallow: /\n").closes_all());
        assert!(robots("User-agent: a\nUser-Agent: *\nDisallow: / # all\n").closes_all());
        assert!(
            !robots("User-agent: a\nDisallow: /\n\nUser-agent: *\nDisallow:\nSitemap: https://a.test/m.xml")
                .closes_all()
        );
        assert!(!robots("User-agent: *\nDisallow: /cart\nUser-agent: bad\nDisallow: /").closes_all());
    }
}
