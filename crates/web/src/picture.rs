//! Compares two pictures, and puts them side by side with the area marked in which they differ.

use std::io::Cursor;

/// A picture in memory: red, green, blue.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Picture {
    /// Width.
    pub width: u32,
    /// Height.
    pub height: u32,
    pixels: Vec<u8>,
}

/// Where two pictures differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Difference {
    /// The least box that holds all of it: left, top, right, bottom.
    pub area: (u32, u32, u32, u32),
    /// Points that differ.
    pub points: u64,
}

/// Steps of a colour that nobody sees.
const UNSEEN: u8 = 24;
/// Largest picture that is read, in points.
const LARGEST: u64 = 40_000_000;
/// Between two pictures side by side.
const GAP: u32 = 16;
const MARK: [u8; 3] = [220, 30, 90];
const GROUND: [u8; 3] = [120, 120, 128];

impl Picture {
    /// Reads a PNG.
    pub fn read(bytes: &[u8]) -> Option<Picture> {
        let mut decoder = png::Decoder::new(Cursor::new(bytes));
        decoder.set_transformations(png::Transformations::normalize_to_color8());
        let mut reader = decoder.read_info().ok()?;
        let (width, height) = (reader.info().width, reader.info().height);
        if u64::from(width) * u64::from(height) > LARGEST {
            return None;
        }
        let mut raw = vec![0; reader.output_buffer_size()?];
        let info = reader.next_frame(&mut raw).ok()?;
        let step = info.color_type.samples();
        let mut pixels = Vec::with_capacity((width * height * 3) as usize);
        for point in raw[..info.buffer_size()].chunks_exact(step) {
            match step {
                1 | 2 => pixels.extend([point[0]; 3]),
                _ => pixels.extend(&point[..3]),
            }
        }
        Some(Picture { width, height, pixels })
    }

    /// Writes a PNG; nothing if it cannot be.
    pub fn write(&self) -> Option<Vec<u8>> {
        let mut out = Vec::new();
        let mut encoder = png::Encoder::new(&mut out, self.width, self.height);
        encoder.set_color(png::ColorType::Rgb);
        encoder.write_header().ok()?.write_image_data(&self.pixels).ok()?;
        Some(out)
    }

    fn at(&self, x: u32, y: u32) -> Option<&[u8]> {
        let at = (u64::from(y) * u64::from(self.width) + u64::from(x)) as usize * 3;
        (x < self.width && y < self.height).then(|| &self.pixels[at..at + 3])
    }

    /// Where two pictures differ; nothing where they look the same.
    pub fn difference(&self, other: &Picture) -> Option<Difference> {
        let (width, height) = (self.width.max(other.width), self.height.max(other.height));
        let mut found: Option<Difference> = None;
        for y in 0..height {
            for x in 0..width {
                let same = match (self.at(x, y), other.at(x, y)) {
                    (Some(a), Some(b)) => a.iter().zip(b).all(|(a, b)| a.abs_diff(*b) <= UNSEEN),
                    (a, b) => a.is_none() && b.is_none(),
                };
                if same {
                    continue;
                }
                let seen = found.get_or_insert(Difference { area: (x, y, x, y), points: 0 });
                let (left, top, right, _) = seen.area;
                seen.area = (left.min(x), top, right.max(x), y);
                seen.points += 1;
            }
        }
        found
    }

    /// Both side by side, with a frame around what differs.
    pub fn beside(&self, other: &Picture, difference: Option<Difference>) -> Picture {
        let (width, height) = (self.width + GAP + other.width, self.height.max(other.height));
        let mut pixels = GROUND.repeat((width * height) as usize);
        let mut put = |x: u32, y: u32, colour: &[u8]| {
            let at = (y * width + x) as usize * 3;
            if x < width && y < height {
                pixels[at..at + 3].copy_from_slice(colour);
            }
        };
        for (picture, left) in [(self, 0), (other, self.width + GAP)] {
            for y in 0..picture.height {
                for x in 0..picture.width {
                    if let Some(colour) = picture.at(x, y) {
                        put(left + x, y, colour);
                    }
                }
            }
            let Some(Difference { area: (l, t, r, b), .. }) = difference else { continue };
            for line in 0..3 {
                let (l, t) = (l.saturating_sub(line + 1), t.saturating_sub(line + 1));
                let (r, b) = (
                    (r + line + 1).min(picture.width.saturating_sub(1)),
                    (b + line + 1).min(picture.height.saturating_sub(1)),
                );
                (l..=r).for_each(|x| [t, b].iter().for_each(|y| put(left + x, *y, &MARK)));
                (t..=b).for_each(|y| [l, r].iter().for_each(|x| put(left + x, y, &MARK)));
            }
        }
        Picture { width, height, pixels }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plain(width: u32, height: u32, colour: u8) -> Picture {
        Picture { width, height, pixels: vec![colour; (width * height * 3) as usize] }
    }

    #[test]
    fn the_area_that_differs_is_found_and_marked() {
        let old = plain(40, 30, 200);
        let mut new = old.clone();
        assert_eq!(old.difference(&plain(40, 30, 210)), None, "nobody sees that");
        for (x, y) in [(5, 7), (12, 9)] {
            let at = (y * 40 + x) * 3;
            new.pixels[at..at + 3].copy_from_slice(&[0, 0, 0]);
        }
        let found = old.difference(&new).unwrap();
        assert_eq!(found, Difference { area: (5, 7, 12, 9), points: 2 });
        let both = old.beside(&new, Some(found));
        assert_eq!((both.width, both.height), (96, 30));
        assert!(
            both.at(4, 6) == Some(&MARK[..])
                && both.at(40 + 16 + 4, 6) == Some(&MARK[..])
                && both.at(44, 3) == Some(&GROUND[..])
        );
        assert_eq!(Picture::read(&both.write().unwrap()), Some(both));
        assert_eq!(plain(4, 4, 0).difference(&plain(4, 5, 0)).unwrap().area, (0, 4, 3, 4));
    }
}
