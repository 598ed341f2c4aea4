//! What years of use add to a site: pages, drawn pictures, and orders, in any number. All of it is computed from its number, so that equal
//! sites are equal byte for byte, and nothing large has to be kept.

use crate::sql::{FILE_TAIL, TAIL, plain_text, serialized, serialized_array, table, text as escaped_text};
use crate::{Kind, Site, SiteFile, Variant, file};
use std::fmt::Write as _;

/// Width and height of a picture, in pixels.
const SIZE: (u32, u32) = (240, 160);

const OBJECTS: [&str; 12] = [
    "the Pleiades",
    "Saturn",
    "the Orion Nebula",
    "Albireo",
    "the Double Cluster",
    "Jupiter",
    "the Ring Nebula",
    "a young Moon",
    "Mizar and Alcor",
    "the Andromeda Galaxy",
    "Venus",
    "a bright Perseid",
];
const PLACES: [&str; 8] = [
    "from the dome",
    "above the mill pond",
    "through the old refractor",
    "over Harrow Hill",
    "from the car park",
    "low in the haze",
    "between two clouds",
    "with bare eyes",
];
const GUESTS: [&str; 8] = [
    "two school classes",
    "our oldest member",
    "a couple from Brännö",
    "the choir",
    "nobody but the owl",
    "half the village",
    "the new apprentice",
    "eleven visitors",
];

/// Numbers that look thrown, the same ones each time.
struct Dice(u64);

impl Dice {
    fn new(of: usize) -> Dice {
        Dice(of as u64 ^ 0x9E37_79B9_7F4A_7C15)
    }

    fn throw(&mut self, sides: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % sides
    }

    fn of<'a>(&mut self, words: &[&'a str]) -> &'a str {
        words[self.throw(words.len() as u64) as usize]
    }
}

/// Draws a night sky over hills, as a PNG.
pub(crate) fn picture(number: usize) -> Vec<u8> {
    let (width, height) = SIZE;
    let mut dice = Dice::new(number);
    let (tint, peak) = (dice.throw(50) as u8, dice.throw(60) as f32);
    let mut pixels = Vec::with_capacity((width * height * 3) as usize);
    for y in 0..height {
        for x in 0..width {
            let hill = 95.0 + 30.0 * ((x as f32 + peak * 9.0) / (37.0 + peak)).sin();
            let noise = dice.throw(7) as u8;
            let glow = (y * 70 / height) as u8 + noise;
            if y as f32 > hill + 20.0 {
                pixels.extend([6 + noise / 2, 12 + noise, 9 + noise / 2]);
            } else if dice.throw(260) == 0 {
                let bright = 140 + dice.throw(115) as u8;
                pixels.extend([bright, bright, bright.saturating_sub(tint / 3)]);
            } else {
                pixels.extend([glow / 2 + tint / 3, glow / 2, 28 + glow]);
            }
        }
    }
    let mut out = Vec::new();
    let mut encoder = png::Encoder::new(&mut out, width, height);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_compression(png::Compression::Fast);
    // Nothing but memory is written to.
    let drawn = encoder.write_header().and_then(|mut head| head.write_image_data(&pixels));
    debug_assert!(drawn.is_ok());
    out
}

/// A sentence about a night.
pub(crate) fn sentence(number: usize) -> String {
    let mut dice = Dice::new(number);
    let (what, how, who) = (dice.of(&OBJECTS), dice.of(&PLACES), dice.of(&GUESTS));
    format!("On night {number} we saw {what} {how}, and so did {who}. ")
}

/// Folder of the pictures, in which the system keeps what its users upload.
fn folder(variant: Variant) -> &'static str {
    match variant.kind() {
        Kind::Joomla => "images/nights",
        Kind::PrestaShop => "img/cms/nights",
        Kind::OpenCart if variant == Variant::OpenCart15 => "image/data/nights",
        Kind::OpenCart => "image/catalog/nights",
        Kind::PhpBb => "images/avatars/gallery/nights",
        Kind::Drupal => "sites/default/files/nights",
        Kind::WordPress => "wp-content/uploads/2026/nights",
        Kind::Dnn => "Portals/0/Images/nights",
    }
}

/// One picture for every second page.
pub(crate) fn pictures(site: &Site) -> Vec<SiteFile> {
    let folder = folder(site.variant);
    (1..=site.pages / 2).map(|n| file(format!("{folder}/night-{n:04}.png"), picture(n))).collect()
}

/// A page: title and text. One in ten names the site's own address.
fn page(site: &Site, number: usize) -> (String, String) {
    let mut dice = Dice::new(number);
    let title = format!("Night {number}: {} {}", dice.of(&OBJECTS), dice.of(&PLACES));
    let mut body = String::new();
    for _ in 0..2 + dice.throw(5) {
        let (what, how, who) = (dice.of(&OBJECTS), dice.of(&PLACES), dice.of(&GUESTS));
        let _ = writeln!(
            body,
            "<p>At {}:{:02} we saw {what} {how}, and so did {who}. The seeing was {} of 10, and it's {} °C outside.</p>",
            18 + dice.throw(6),
            dice.throw(60),
            1 + dice.throw(10),
            dice.throw(30) as i64 - 12
        );
    }
    if site.pages > 1 && number.is_multiple_of(2) {
        let (_, base) = site.host_and_base();
        let _ = writeln!(
            body,
            "<img src=\"{base}/{}/night-{:04}.png\" alt=\"\" />",
            folder(site.variant),
            number / 2
        );
    }
    if number.is_multiple_of(10) {
        let _ = writeln!(body, "<a href=\"{}/nights?page={number}&amp;of=all\">all nights</a>", site.address);
    }
    (title, body)
}

/// How the dump quotes text.
fn quoting(site: &Site) -> fn(&str) -> String {
    if site.is_in_a_file() { plain_text } else { escaped_text }
}

/// Rows of pages, in the table where the system keeps them: its name, and the row of each number.
fn rows_of_pages(site: &Site) -> (&'static str, Vec<String>) {
    let text = quoting(site);
    let row = |number: usize| {
        let (title, body) = page(site, number);
        let id = 1000 + number;
        let (title_text, body_text) = (text(&title), text(&body));
        match site.variant {
            Variant::Drupal6 | Variant::Drupal7 | Variant::Drupal10 => format!("({id},{body_text})"),
            Variant::PhpBb30 | Variant::PhpBb33 => {
                format!("({id},{})", text(&format!("<r>{}</r>", body.replace(['<', '>'], " "))))
            }
            Variant::WordPress | Variant::WordPressNetwork => {
                format!("({id},{title_text},{body_text},{})", text(&format!("{}/?p={id}", site.address)))
            }
            _ => match site.variant.kind() {
                Kind::Joomla => format!("({id},{title_text},{body_text},'','{{}}','2026-03-01 20:00:00')"),
                Kind::PrestaShop => format!("({id},{title_text},'night-{number}',{body_text})"),
                _ => {
                    let escaped = body
                        .replace('&', "&amp;")
                        .replace('<', "&lt;")
                        .replace('>', "&gt;")
                        .replace('"', "&quot;");
                    format!("({id},{title_text},{})", text(&escaped))
                }
            },
        }
    };
    let table = match (site.variant, site.variant.kind()) {
        (Variant::Drupal6, _) => "node_revisions",
        (Variant::Drupal7, _) => "field_data_body",
        (_, Kind::Drupal) => "node__body",
        (_, Kind::PhpBb | Kind::WordPress) => "posts",
        (_, Kind::Joomla) => "content",
        (_, Kind::PrestaShop) => "product_lang",
        _ => "information_description",
    };
    (table, (1..=site.pages).map(row).collect())
}

/// What visitors ordered, or booked where nothing is sold: three for each page.
fn rows_of_orders(site: &Site) -> (&'static str, Vec<String>) {
    let text = quoting(site);
    let row = |number: usize| {
        let mut dice = Dice::new(number);
        let basket = serialized_array(&[
            ("night", format!("i:{};", dice.throw(site.pages as u64))),
            ("guests", serialized(dice.of(&GUESTS))),
            ("paid", format!("d:{}.5;", dice.throw(90))),
        ]);
        let day = format!("2026-{:02}-{:02}", 1 + dice.throw(10), 1 + dice.throw(28));
        let hour = format!("{:02}:{:02}:00", dice.throw(24), dice.throw(60));
        format!("({number},'guest{number}@visitors.example',{},'{day} {hour}')", text(&basket))
    };
    let table = match site.variant.kind() {
        Kind::PrestaShop => "orders",
        Kind::OpenCart => "order",
        _ => "dome_bookings",
    };
    (table, (1..=3 * site.pages).map(row).collect())
}

/// Adds everything to a dump.
pub(crate) fn added(site: &Site, dump: String) -> String {
    let in_a_file = site.is_in_a_file();
    let tail = if in_a_file { FILE_TAIL } else { TAIL };
    // The portal's dump is a script of another server's.
    let Some(head) = dump.strip_suffix(tail).filter(|_| site.pages > 0) else { return dump };
    let mut out = head.to_string();
    let quote = if in_a_file { "" } else { "`" };
    let (pages, rows) = rows_of_pages(site);
    for rows in rows.chunks(100) {
        let _ = writeln!(out, "INSERT INTO {quote}{}{pages}{quote} VALUES {};", site.prefix, rows.join(","));
    }
    let (orders, rows) = rows_of_orders(site);
    let columns = "  `id` int NOT NULL,\n  `email` varchar(128) NOT NULL,\n  `basket` text NOT NULL,\n  `date_added` datetime NOT NULL,\n  PRIMARY KEY (`id`)";
    if in_a_file {
        let columns = columns.replace('`', "");
        let _ = writeln!(
            out,
            "CREATE TABLE {orders} ({columns});\nINSERT INTO {orders} VALUES {};",
            rows.join(",")
        );
    } else {
        out += &table(&format!("{}{orders}", site.prefix), columns, &rows);
    }
    out + tail
}
