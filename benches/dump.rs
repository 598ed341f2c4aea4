//! Generates a realistic dump of any size: articles with HTML, serialized and JSON values, statistics rows, in extended inserts.

use crate::OLD;
use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;

/// A small generator of pseudo-random numbers, the same on every machine.
pub struct Noise(u64);

impl Noise {
    /// Starts from a seed.
    pub fn new(seed: u64) -> Self {
        Noise(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1)
    }

    /// Returns the next number.
    pub fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    /// Returns a number below a bound.
    pub fn below(&mut self, bound: u64) -> u64 {
        (self.next() >> 11) % bound
    }

    /// Returns so many bytes.
    pub fn bytes(&mut self, count: usize) -> Vec<u8> {
        (0..count.div_ceil(8)).flat_map(|_| self.next().to_le_bytes()).take(count).collect()
    }
}

const WORDS: [&str; 24] = [
    "the",
    "night",
    "sky",
    "over",
    "Fernhollow",
    "is",
    "dark",
    "and",
    "clear",
    "telescope",
    "members",
    "observe",
    "a",
    "nebula",
    "with",
    "care",
    "Orion",
    "it\\'s",
    "lens",
    "mirror",
    "of",
    "dome",
    "für",
    "évening",
];

fn sentence(noise: &mut Noise, words: u64, out: &mut String) {
    for _ in 0..words {
        out.push_str(WORDS[noise.below(WORDS.len() as u64) as usize]);
        out.push(' ');
    }
}

fn row(noise: &mut Noise, id: u64, with_address: bool, out: &mut String) {
    out.push_str(&format!("({id},{},'", id % 7));
    let words = 4 + noise.below(6);
    sentence(noise, words, out);
    out.push_str("','<p class=\\\"lead\\\">");
    let words = 20 + noise.below(80);
    sentence(noise, words, out);
    if with_address {
        out.push_str(&format!("<a href=\\\"{OLD}/sky/{id}\\\">map</a> "));
    }
    out.push_str("<img src=\\\"images/m31.jpg\\\" /></p>\\r\\n','");
    let url = if with_address { format!("{OLD}/x/{id}") } else { format!("images/{id}.jpg") };
    if noise.below(2) == 0 {
        let len = url.len();
        out.push_str(&format!("a:2:{{s:3:\\\"url\\\";s:{len}:\\\"{url}\\\";s:1:\\\"n\\\";i:{id};}}"));
    } else {
        out.push_str(&format!("{{\\\"url\\\":\\\"{}\\\",\\\"n\\\":{id}}}", url.replace('/', "\\\\/")));
    }
    out.push_str("','2026-03-01 20:15:00',NULL,0.50)");
}

/// Writes a dump of about `size` bytes in which `percent` of the rows hold the old address.
pub fn write(path: &Path, size: u64, percent: u64) {
    let mut noise = Noise::new(42);
    let mut out = BufWriter::new(File::create(path).expect("the dump can be written"));
    let mut written = 0;
    let (mut id, mut table) = (0, 0);
    while written < size {
        table += 1;
        let mut text = format!(
            "--\n-- Table structure\n--\nDROP TABLE IF EXISTS `ps_t{table}`;\nCREATE TABLE `ps_t{table}` (\n  `id` int NOT NULL,\n  `kind` int NOT NULL,\n  \
             `title` varchar(255) NOT NULL,\n  `body` mediumtext,\n  `params` text,\n  `made` datetime DEFAULT NULL,\n  `gone` datetime DEFAULT NULL,\n  `rate` decimal(5,2),\n  PRIMARY KEY (`id`)\n) ENGINE=InnoDB;\n"
        );
        for _ in 0..16 {
            text.push_str(&format!("INSERT INTO `ps_t{table}` VALUES "));
            let start = text.len();
            while text.len() - start < 1 << 20 {
                id += 1;
                let with_address = noise.below(100) < percent;
                row(&mut noise, id, with_address, &mut text);
                text.push(',');
            }
            text.pop();
            text.push_str(";\n");
            out.write_all(text.as_bytes()).expect("the dump can be written");
            written += text.len() as u64;
            text.clear();
            if written >= size {
                break;
            }
        }
    }
}
