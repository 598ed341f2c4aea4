//! Takes a page apart as a browser's tokenizer does: what it links, what it needs, its forms, and the text that a reader sees, block by block.
//! No tree is built, so a page costs what its text costs.

use crate::attributes::too_long;
use crate::client::Answer;
use crate::style;
use encoding_rs::{Encoding, UTF_8, WINDOWS_1252};
use html5ever::tendril::StrTendril;
use html5ever::tokenizer::states::RawKind;
use html5ever::tokenizer::{
    BufferQueue, CharacterTokens, EndTag, StartTag, Tag, TagToken, Token, TokenSink, TokenSinkResult,
    Tokenizer, TokenizerOpts,
};
use std::cell::RefCell;
use std::collections::HashSet;
use url::Url;

/// What a page needs besides itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// Style sheet.
    Style,
    /// Script.
    Script,
    /// Picture, also of a style, an icon or a film's cover.
    Picture,
    /// Font.
    Font,
    /// Film or sound.
    Media,
    /// Page in a frame.
    Frame,
}

impl Kind {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Style => "style sheet",
            Kind::Script => "script",
            Kind::Picture => "picture",
            Kind::Font => "font",
            Kind::Media => "media",
            Kind::Frame => "frame",
        }
    }
}

/// A link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// As it is written.
    pub href: String,
    /// Whether it stands in a menu or in the head of the page's body.
    pub menu: bool,
    /// Whether the page asks programs not to follow it.
    pub shy: bool,
}

/// A field of a form.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Field {
    /// Name.
    pub name: String,
    /// Value.
    pub value: String,
    /// Kind, in lower case: `text`, `hidden`, `password`, `textarea`.
    pub kind: String,
}

/// A form.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Form {
    /// Where it is sent, as it is written.
    pub action: String,
    /// Whether it is sent as a message rather than in the address.
    pub post: bool,
    /// Its fields.
    pub fields: Vec<Field>,
}

/// What a page holds.
#[derive(Debug, Clone, Default)]
pub struct Page {
    /// Title.
    pub title: String,
    /// Base address, as it is written.
    pub base: Option<String>,
    /// Canonical address, as it is written.
    pub canonical: Option<String>,
    /// The address under which other programs are to share it, as it is written.
    pub shared_as: Option<String>,
    /// Pictures that other programs show beside a link to it, as they are written.
    pub shared_with: Vec<String>,
    /// What it says to search engines, in lower case.
    pub robots: Option<String>,
    /// The program that made it, by its own words.
    pub generator: Option<String>,
    /// Where it leads by itself after a while, as it is written.
    pub refresh: Option<String>,
    /// Links, each once, as many as are kept.
    pub links: Vec<Link>,
    /// What it needs, each once, as it is written.
    pub needs: Vec<(Kind, String)>,
    /// Forms.
    pub forms: Vec<Form>,
    /// Pictures in the text, all of them.
    pub pictures: usize,
    /// Links in the text, all of them.
    pub anchors: usize,
    /// Whether there are more links or needs than are kept.
    pub more: bool,
    /// What a reader sees, block by block.
    pub blocks: Vec<Block>,
}

/// A piece of text between two tags that break the line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Block {
    /// Text, with single spaces.
    pub text: String,
    /// Whether it is a quotation, program text, or in a field: shown, but not said.
    pub quoted: bool,
}

impl Page {
    /// The address from which its relative ones count.
    pub fn base_at(&self, own: &Url) -> Url {
        self.base.as_deref().and_then(|base| own.join(base).ok()).unwrap_or_else(|| own.clone())
    }

    /// Where a form is sent; one that does not say is sent to the page itself, whatever its base.
    pub fn sent_to(&self, form: &Form, own: &Url) -> Option<Url> {
        match form.action.as_str() {
            "" => Some(own.clone()),
            action => self.base_at(own).join(action).ok(),
        }
    }

    /// Letters of the text that a reader sees.
    pub fn letters(&self) -> usize {
        self.blocks.iter().map(|b| b.text.len()).sum()
    }

    /// Adds what the server says of it beside it: where it leads after a while, and its canonical address.
    pub fn heed(&mut self, answer: &Answer) {
        if self.refresh.is_none() {
            self.refresh = answer.header("refresh").and_then(refreshed_to);
        }
        if self.canonical.is_none() {
            let links = answer.all("link").flat_map(|l| l.split(", <"));
            let canonical = |link: &str| {
                let (to, rel) = link.trim_start_matches('<').split_once('>')?;
                let rel = rel.to_ascii_lowercase().replace('"', "");
                rel.contains("rel=canonical").then(|| to.to_string())
            };
            self.canonical = links.into_iter().find_map(canonical);
        }
    }

    /// Whether it asks not to be listed by search engines.
    pub fn unlisted(&self) -> bool {
        self.robots.as_deref().is_some_and(|r| r.split(',').any(|w| matches!(w.trim(), "noindex" | "none")))
    }
}

/// Where a page leads after a while, by what its line or header says: `5; url=ADDRESS`, also without the word.
fn refreshed_to(content: &str) -> Option<String> {
    let to = content.split_once([';', ','])?.1.trim();
    let word = to.get(..3).is_some_and(|w| w.eq_ignore_ascii_case("url"));
    let to = to.get(3..).filter(|_| word).and_then(|rest| rest.trim_start().strip_prefix('=')).unwrap_or(to);
    let to = to.trim().trim_matches(['"', '\'']);
    (!to.is_empty()).then(|| to.to_string())
}

/// Decodes the bytes of a page: by its mark, by what the server said, by what the page says of itself, else as UTF-8 if it is that.
pub fn decoded(body: &[u8], told: Option<&'static Encoding>) -> (String, &'static Encoding) {
    let by_mark = Encoding::for_bom(body).map(|(e, _)| e);
    let encoding = by_mark.or(told).or_else(|| said_by_itself(body)).unwrap_or_else(|| {
        // A cut in the middle of a letter does not count.
        match std::str::from_utf8(body) {
            Err(e) if e.error_len().is_some() => WINDOWS_1252,
            _ => UTF_8,
        }
    });
    (encoding.decode(body).0.into_owned(), encoding)
}

/// Looks for the character set that a page names in its first bytes, as browsers do.
pub fn said_by_itself(body: &[u8]) -> Option<&'static Encoding> {
    let head = String::from_utf8_lossy(&body[..body.len().min(2048)]).to_ascii_lowercase();
    let mut rest = head.as_str();
    while let Some(at) = rest.find("<meta") {
        rest = &rest[at + 5..];
        let tag = &rest[..rest.find('>').unwrap_or(rest.len())];
        if let Some(at) = tag.find("charset") {
            let value =
                tag[at + 7..].trim_start().strip_prefix('=')?.trim_start().trim_start_matches(['"', '\'']);
            let end = value
                .find(|c: char| !c.is_ascii_alphanumeric() && !"-_:.".contains(c))
                .unwrap_or(value.len());
            let named = Encoding::for_label(&value.as_bytes()[..end])?;
            // A page whose first bytes could be read is not of two bytes a letter.
            return Some(if named == encoding_rs::UTF_16LE || named == encoding_rs::UTF_16BE {
                UTF_8
            } else {
                named
            });
        }
    }
    None
}

/// Takes a page apart. At most `most` links and as many needs are kept.
pub fn read(text: &str, most: usize) -> Page {
    let sink = Reader(RefCell::new(State { most, ..State::default() }));
    let input = BufferQueue::default();
    let tokenizer = Tokenizer::new(sink, TokenizerOpts::default());
    // In pieces: a tendril holds at most 4 GiB, and less is held twice.
    let feed = |piece: &str| {
        let mut rest = piece;
        while !rest.is_empty() {
            let mut end = rest.len().min(1 << 16);
            while !rest.is_char_boundary(end) {
                end += 1;
            }
            input.push_back(StrTendril::from_slice(&rest[..end]));
            let _ = tokenizer.feed(&input);
            rest = &rest[end..];
        }
    };
    let mut from = 0;
    for at in too_long(text) {
        feed(&text[from..at]);
        feed(">");
        from = at;
    }
    feed(&text[from..]);
    tokenizer.end();
    let mut state = tokenizer.sink.0.into_inner();
    state.flush();
    state.end_form();
    state.page.title = squeezed(&state.title);
    state.page
}

/// Text with single spaces.
fn squeezed(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

struct Reader(RefCell<State>);

/// What the text between two tags belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum Inside {
    #[default]
    Text,
    Title,
    Style,
    Field,
    Nothing,
}

#[derive(Default)]
struct State {
    page: Page,
    most: usize,
    inside: Inside,
    title: String,
    style: String,
    text: String,
    quoting: usize,
    menu: usize,
    form: Option<Form>,
    seen_links: HashSet<String>,
    seen_needs: HashSet<(Kind, String)>,
}

/// Elements that do not break a line.
const INLINE: [&str; 31] = [
    "a", "abbr", "acronym", "b", "bdi", "bdo", "big", "cite", "code", "data", "del", "dfn", "em", "font",
    "i", "ins", "kbd", "label", "mark", "q", "s", "samp", "small", "span", "strong", "sub", "sup", "time",
    "tt", "u", "var",
];

/// Elements whose text is shown but not said.
const QUOTING: [&str; 7] = ["pre", "code", "blockquote", "samp", "kbd", "q", "xmp"];

fn attribute<'t>(tag: &'t Tag, name: &str) -> Option<&'t str> {
    tag.attrs.iter().find(|a| &*a.name.local == name).map(|a| a.value.trim())
}

impl TokenSink for Reader {
    type Handle = ();

    fn process_token(&self, token: Token, _line: u64) -> TokenSinkResult<()> {
        let mut state = self.0.borrow_mut();
        match token {
            CharacterTokens(text) => state.said(&text),
            TagToken(tag) if tag.kind == StartTag => {
                return state.opened(&tag);
            }
            TagToken(tag) if tag.kind == EndTag => {
                state.closed(&tag.name);
            }
            _ => (),
        }
        TokenSinkResult::Continue
    }
}

impl State {
    fn said(&mut self, text: &str) {
        match self.inside {
            Inside::Text => self.text.push_str(text),
            Inside::Title => self.title.push_str(text),
            Inside::Style => self.style.push_str(text),
            Inside::Field => {
                if let Some(field) = self.form.as_mut().and_then(|f| f.fields.last_mut()) {
                    field.value.push_str(text);
                }
            }
            Inside::Nothing => (),
        }
    }

    /// Keeps a form that is whole; a hostile page may have any number.
    fn end_form(&mut self) {
        let form = self.form.take();
        self.page.forms.extend(form.filter(|_| self.page.forms.len() < FORMS));
    }

    /// Ends a block of text.
    fn flush(&mut self) {
        if self.text.bytes().all(|b| b.is_ascii_whitespace()) {
            self.text.clear();
            return;
        }
        let text = squeezed(&std::mem::take(&mut self.text));
        if !text.is_empty() {
            self.page.blocks.push(Block { text, quoted: self.quoting > 0 });
        }
    }

    fn opened(&mut self, tag: &Tag) -> TokenSinkResult<()> {
        let name = &*tag.name;
        // In a menu each link is a line of its own.
        if !INLINE.contains(&name) || QUOTING.contains(&name) || name == "a" && self.menu > 0 {
            self.flush();
        }
        if let Some(style) = attribute(tag, "style") {
            self.need_of_style(style);
        }
        if let Some(at) = attribute(tag, "background") {
            self.need(Kind::Picture, at);
        }
        self.need_of_script(tag);
        match name {
            "title" => {
                // A picture made of text has titles of its own.
                self.inside = if self.title.is_empty() { Inside::Title } else { Inside::Nothing };
                return TokenSinkResult::RawData(RawKind::Rcdata);
            }
            "textarea" => {
                self.field(tag, "textarea");
                self.inside = Inside::Field;
                return TokenSinkResult::RawData(RawKind::Rcdata);
            }
            "script" => {
                if let Some(src) = attribute(tag, "src") {
                    self.need(Kind::Script, src);
                }
                self.inside = Inside::Nothing;
                return TokenSinkResult::RawData(RawKind::ScriptData);
            }
            "style" => {
                self.inside = Inside::Style;
                return TokenSinkResult::RawData(RawKind::Rawtext);
            }
            "iframe" | "noembed" | "noframes" => {
                if let Some(src) = attribute(tag, "src") {
                    self.need(Kind::Frame, src);
                }
                self.inside = Inside::Nothing;
                return TokenSinkResult::RawData(RawKind::Rawtext);
            }
            "frame" => self.need_in(tag, "src", Kind::Frame),
            "base" if self.page.base.is_none() => self.page.base = attribute(tag, "href").map(str::to_string),
            "meta" => self.meta(tag),
            "link" => self.link(tag),
            "a" | "area" => {
                if let Some(href) = attribute(tag, "href") {
                    self.anchor(href, attribute(tag, "rel").unwrap_or_default());
                }
            }
            "img" => {
                self.page.pictures += 1;
                self.need_in(tag, "src", Kind::Picture);
                self.need_of_set(tag, "srcset");
            }
            "input" => {
                self.field(tag, attribute(tag, "type").unwrap_or("text"));
                if attribute(tag, "type").is_some_and(|t| t.eq_ignore_ascii_case("image")) {
                    self.need_in(tag, "src", Kind::Picture);
                }
            }
            "select" => self.field(tag, "select"),
            "button" => self.field(tag, attribute(tag, "type").unwrap_or("submit")),
            "source" => {
                let kind = if attribute(tag, "srcset").is_some() { Kind::Picture } else { Kind::Media };
                self.need_in(tag, "src", kind);
                self.need_of_set(tag, "srcset");
            }
            "video" | "audio" | "embed" | "track" => {
                self.need_in(tag, "src", Kind::Media);
                self.need_in(tag, "poster", Kind::Picture);
            }
            "object" => self.need_in(tag, "data", Kind::Media),
            "image" | "use" => {
                self.need_in(tag, "href", Kind::Picture);
                self.need_in(tag, "xlink:href", Kind::Picture);
            }
            "form" => {
                self.end_form();
                let post = attribute(tag, "method").is_some_and(|m| m.eq_ignore_ascii_case("post"));
                let action = attribute(tag, "action").unwrap_or_default().to_string();
                self.form = Some(Form { action, post, fields: Vec::new() });
            }
            "nav" | "header" | "menu" => self.menu += 1,
            _ => (),
        }
        if QUOTING.contains(&name) && !tag.self_closing {
            self.quoting += 1;
        }
        TokenSinkResult::Continue
    }

    fn closed(&mut self, name: &str) {
        match name {
            "style" => {
                let style = std::mem::take(&mut self.style);
                self.need_of_style(&style);
            }
            "form" => {
                self.end_form();
            }
            "nav" | "header" | "menu" => self.menu = self.menu.saturating_sub(1),
            _ => (),
        }
        if !INLINE.contains(&name) || QUOTING.contains(&name) {
            self.flush();
        }
        if QUOTING.contains(&name) {
            self.quoting = self.quoting.saturating_sub(1);
        }
        self.inside = Inside::Text;
    }

    fn meta(&mut self, tag: &Tag) {
        let content = attribute(tag, "content").unwrap_or_default();
        match attribute(tag, "name").unwrap_or_default().to_ascii_lowercase().as_str() {
            // Each engine may be told by its own name as well.
            "robots" | "googlebot" | "bingbot" => {
                let before = self.page.robots.take().map_or(String::new(), |b| b + ",");
                self.page.robots = Some(before + &content.to_ascii_lowercase());
            }
            "generator" => self.page.generator = Some(content.to_string()),
            _ => (),
        }
        if attribute(tag, "http-equiv").is_some_and(|e| e.eq_ignore_ascii_case("refresh")) {
            self.page.refresh = refreshed_to(content);
        }
        match attribute(tag, "property").or_else(|| attribute(tag, "name")).unwrap_or_default() {
            "og:url" => self.page.shared_as = Some(content.to_string()),
            "og:image" | "og:image:secure_url" | "twitter:image" | "msapplication-TileImage"
                if self.page.shared_with.len() < 20 && content.len() < LONGEST =>
            {
                self.page.shared_with.push(content.to_string());
            }
            _ => (),
        }
    }

    fn link(&mut self, tag: &Tag) {
        let Some(href) = attribute(tag, "href") else { return };
        let rels = attribute(tag, "rel").unwrap_or_default().to_ascii_lowercase();
        for rel in rels.split_whitespace() {
            match rel {
                "stylesheet" => self.need(Kind::Style, href),
                "icon" | "apple-touch-icon" | "mask-icon" => self.need(Kind::Picture, href),
                "canonical" if self.page.canonical.is_none() => self.page.canonical = Some(href.to_string()),
                "next" | "prev" => self.keep_link(href, false, false),
                "preload" => match attribute(tag, "as") {
                    Some("style") => self.need(Kind::Style, href),
                    Some("script") => self.need(Kind::Script, href),
                    Some("font") => self.need(Kind::Font, href),
                    Some("image") => self.need(Kind::Picture, href),
                    _ => (),
                },
                "modulepreload" => self.need(Kind::Script, href),
                _ => (),
            }
        }
    }

    fn anchor(&mut self, href: &str, rel: &str) {
        self.page.anchors += 1;
        let shy = rel.split_whitespace().any(|r| r.eq_ignore_ascii_case("nofollow"));
        self.keep_link(href, self.menu > 0, shy);
    }

    fn keep_link(&mut self, href: &str, menu: bool, shy: bool) {
        if href.is_empty() || href.starts_with('#') || self.seen_links.contains(href) {
            return;
        }
        if self.page.links.len() >= self.most || href.len() > LONGEST {
            self.page.more = true;
            return;
        }
        self.seen_links.insert(href.to_string());
        self.page.links.push(Link { href: href.to_string(), menu, shy });
    }

    fn need(&mut self, kind: Kind, url: &str) {
        let url = url.trim();
        if url.is_empty()
            || url.starts_with('#')
            || url.get(..5).is_some_and(|s| s.eq_ignore_ascii_case("data:"))
        {
            return;
        }
        if self.page.needs.len() >= self.most || url.len() > LONGEST {
            self.page.more = true;
            return;
        }
        if self.seen_needs.insert((kind, url.to_string())) {
            self.page.needs.push((kind, url.to_string()));
        }
    }

    fn need_in(&mut self, tag: &Tag, name: &str, kind: Kind) {
        if let Some(url) = attribute(tag, name) {
            self.need(kind, url);
        }
    }

    /// A list of pictures for several widths: addresses, each with a width or density behind a space.
    fn need_of_set(&mut self, tag: &Tag, name: &str) {
        let mut rest = attribute(tag, name).unwrap_or_default();
        loop {
            rest = rest.trim_start_matches(|c: char| c.is_ascii_whitespace() || c == ',');
            if rest.is_empty() {
                return;
            }
            // A comma is part of an address unless it ends it.
            let end = rest.find(|c: char| c.is_ascii_whitespace()).unwrap_or(rest.len());
            let url = rest[..end].trim_end_matches(',');
            self.need(Kind::Picture, url);
            let ended = url.len() < end;
            rest = &rest[end..];
            if !ended {
                rest = rest.find(',').map_or("", |at| &rest[at..]);
            }
        }
    }

    /// Pictures that a script puts in their place when somebody comes near: under names that many such scripts share.
    fn need_of_script(&mut self, tag: &Tag) {
        let is_picture = matches!(&*tag.name, "img" | "source");
        for attribute in &tag.attrs {
            let value = attribute.value.trim();
            let name = &*attribute.name.local;
            // Scripts fill in what stands in braces.
            if !name.starts_with("data-") || value.contains(['{', '<']) || !value.contains('/') {
                continue;
            }
            match name {
                "data-src" | "data-lazy-src" | "data-original" if is_picture => {
                    self.need(Kind::Picture, value)
                }
                "data-srcset" | "data-lazy-srcset" if is_picture => self.need_of_set(tag, name),
                "data-bg" | "data-background" | "data-background-image" => match value.starts_with("url(") {
                    true => self.need_of_style(value),
                    false => self.need(Kind::Picture, value),
                },
                _ => (),
            }
        }
    }

    fn need_of_style(&mut self, text: &str) {
        for (kind, url) in style::needs(text) {
            self.need(kind, &url);
        }
    }

    fn field(&mut self, tag: &Tag, kind: &str) {
        let Some(form) = self.form.as_mut() else { return };
        let name = attribute(tag, "name").unwrap_or_default().to_string();
        let value = tag.attrs.iter().find(|a| &*a.name.local == "value").map(|a| a.value.to_string());
        let field = Field { name, value: value.unwrap_or_default(), kind: kind.to_ascii_lowercase() };
        // A form of a hostile page may have any number.
        if form.fields.len() < 1000 {
            form.fields.push(field);
        }
    }
}

/// Forms that are kept.
const FORMS: usize = 1000;

/// Longest address that is kept.
const LONGEST: usize = 4096;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_scripts_and_other_programs_show_is_needed_too() {
        let page = read(
            "<meta name=robots content=index><meta name=Googlebot content=NoIndex><meta property=og:url content=/u><meta property=og:image content=/o.png>\
             <meta http-equiv=refresh content='0; /next?a=b'><img src=data:, data-src=/l.png data-srcset='/m.png 1x, /n.png 2x' data-original='{x}/y'>\
             <div data-bg=/bg.png data-src=/no.html></div><svg><use xlink:href='/s.svg#a'/><use href='#b'/></svg>",
            50,
        );
        let needs: Vec<_> = page.needs.iter().map(|(_, u)| u.as_str()).collect();
        assert_eq!(needs, ["/l.png", "/m.png", "/n.png", "/bg.png", "/s.svg#a"]);
        assert_eq!(
            (page.shared_as.as_deref(), &page.shared_with[..]),
            (Some("/u"), &["/o.png".to_string()][..])
        );
        assert!(page.unlisted() && page.refresh.as_deref() == Some("/next?a=b"));
        for (content, to) in
            [("5", None), ("0;URL='x'", Some("x")), ("3, url = y", Some("y")), ("0; urls/z", Some("urls/z"))]
        {
            assert_eq!(refreshed_to(content).as_deref(), to, "{content}");
        }
    }

    #[test]
    fn a_page_tells_what_it_links_needs_and_says() {
        let page = read(
            r##"<!doctype html><title>Öl &amp; Sterne</title><base href="/b/"><link rel="shortcut icon" href="i.ico"><link rel=stylesheet href=s.css>
            <style>@font-face{src:url("f.woff2")} body{background:url(bg.png)}</style><script src="a.js">var x = "<a href='no'>";</script>
            <nav><a href="/menu">Menu</a></nav><a href="x?a=1&amp;b=2" rel="nofollow">x</a><a href="#top">t</a><a href="x?a=1&amp;b=2">again</a>
            <img src="p.png" srcset="p,1.png 1x, p2.png 2x,p3.png 3x" style="background:url('in.gif')"><!-- <a href="c">c</a> -->
            <p>Some <b>bold</b> text<br>next</p><pre>Warning: quoted</pre>
            <form method=POST action="/send"><input type=hidden name=t value=" v "><input name=mail type=email><textarea name=m>hi <b>there</b></textarea></form>
            <svg><title>not this</title></svg>"##,
            100,
        );
        assert_eq!((page.title.as_str(), page.base.as_deref()), ("Öl & Sterne", Some("/b/")));
        let links: Vec<_> = page.links.iter().map(|l| (l.href.as_str(), l.menu, l.shy)).collect();
        assert_eq!(links, [("/menu", true, false), ("x?a=1&b=2", false, true)]);
        let needs: Vec<_> = page.needs.iter().map(|(k, u)| (k.word(), u.as_str())).collect();
        let wanted = [
            ("picture", "i.ico"),
            ("style sheet", "s.css"),
            ("font", "f.woff2"),
            ("picture", "bg.png"),
            ("script", "a.js"),
            ("picture", "in.gif"),
            ("picture", "p.png"),
            ("picture", "p,1.png"),
            ("picture", "p2.png"),
            ("picture", "p3.png"),
        ];
        assert_eq!(needs, wanted);
        let blocks: Vec<_> = page.blocks.iter().map(|b| (b.text.as_str(), b.quoted)).collect();
        assert!(
            blocks.contains(&("Some bold text", false)) && blocks.contains(&("Warning: quoted", true)),
            "{blocks:?}"
        );
        let form = &page.forms[0];
        assert!(form.post && form.action == "/send", "{form:?}");
        assert_eq!(
            (form.fields[0].value.as_str(), form.fields[2].value.as_str()),
            (" v ", "hi <b>there</b>")
        );
        assert_eq!((page.pictures, page.anchors), (1, 4));
    }

    #[test]
    fn a_base_counts_for_all_but_a_form_that_does_not_say_where() {
        let own = Url::parse("https://www.fernhollow.example/shop/in?x=1").unwrap();
        let forms = "<form action='go'></form><form action=''></form><form></form>";
        for (base, go) in [
            ("", "https://www.fernhollow.example/shop/go"),
            ("<base href='http://www.fernhollow.example/old/'>", "http://www.fernhollow.example/old/go"),
            ("<base href='../b/'>", "https://www.fernhollow.example/b/go"),
        ] {
            let page = read(&format!("{base}{forms}"), 10);
            let sent: Vec<_> =
                page.forms.iter().map(|f| page.sent_to(f, &own).unwrap().to_string()).collect();
            assert_eq!(sent, [go, own.as_str(), own.as_str()], "{base}");
        }
    }

    #[test]
    fn a_page_of_a_million_links_keeps_a_few() {
        let text: String = (0..1_000_000).map(|i| format!("<a href=/{i}>x</a>")).collect();
        let page = read(&text, 500);
        assert!(page.links.len() == 500 && page.more && page.anchors == 1_000_000);
    }

    proptest::proptest! {
        #[test]
        fn hostile_answers_come_to_an_end(pieces in proptest::collection::vec(proptest::sample::select(vec![
            "<", ">", "<a href=", "<img srcset='", "x 1x,", "'", "\"", "<style>", "url(", "@import ", "@font-face", "/*", "<script>", "</", "<!--", "-->", "<title>",
            "<textarea name=a>", "<meta charset=", "utf-8", "<form>", "&#", "&amp;", "\u{a0}", "ü", "Ã", "â€", "?", "\u{fffd}", "\0", "<![CDATA[", "<urlset><url><loc>",
            "Disallow: ", "User-agent: *\n", "a", " ", "\n", "\u{1f52d}", ")", "}", "\\", "é?é",
        ]), 0..60), cut in 0usize..200) {
            let text = pieces.concat();
            let bytes = &text.as_bytes()[..cut.min(text.len())];
            let (decoded, _) = decoded(bytes, None);
            let page = read(&decoded, 10);
            crate::letters::damaged(page.blocks.iter().map(|b| b.text.as_str()).chain([text.as_str()]));
            crate::style::needs(&text);
            crate::site_map::read(bytes, 5);
            crate::site_map::robots(&text);
            proptest::prop_assert!(page.links.len() <= 10 && page.needs.len() <= 10);
        }
    }

    #[test]
    fn the_character_set_is_found_where_browsers_find_it() {
        let latin = b"<meta http-equiv=content-type content='text/html; charset=iso-8859-1'>Stra\xdfe";
        assert_eq!(decoded(latin, None).0.split('>').nth(1), Some("Straße"));
        assert_eq!(decoded("<p>Straße".as_bytes(), None).1, UTF_8);
        assert_eq!(decoded(b"Stra\xdfe", None).0, "Straße");
        assert!(decoded("Straße".as_bytes(), Some(WINDOWS_1252)).0.contains("ÃŸ"));
    }
}
