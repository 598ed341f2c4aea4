//! The page's plots, as SVG: bars for times, a map of rectangles for sizes. Colours are the page's own, by class, so that light and dark both fit.

use crate::error::CommandError;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use treemap::{MapItem, Mappable, Rect, TreemapLayout};

/// Width of every plot, in points.
const WIDTH: u32 = 860;
/// Height of a bar with its room.
const BAR: u32 = 26;
/// Room for the names before the bars, and for values behind them.
const NAMES: i32 = 250;
const VALUES: i32 = 110;
/// Height of the map.
const MAP: u32 = 260;
/// Rectangles of the map; the rest is one.
const PARTS: usize = 40;
/// Width of a letter, on the safe side.
const LETTER: f64 = 7.8;

/// Colours that stand for a class of the page.
const INK: RGBColor = RGBColor(1, 1, 1);
const FILLS: [(RGBColor, &str); 6] = [
    (RGBColor(2, 2, 1), "fill-1"),
    (RGBColor(2, 2, 2), "fill-2"),
    (RGBColor(2, 2, 3), "fill-3"),
    (RGBColor(2, 2, 4), "fill-4"),
    (RGBColor(2, 2, 5), "fill-5"),
    (RGBColor(2, 2, 6), "fill-6"),
];
const ON_FILL: RGBColor = RGBColor(3, 3, 3);

fn broken(e: impl std::fmt::Display) -> CommandError {
    CommandError::world("a plot cannot be drawn", std::io::Error::other(e.to_string()))
}

/// Puts classes in the place of colours, and lets the page say the font.
fn classed(svg: String) -> String {
    let mut out = svg;
    for (colour, class) in FILLS.iter().copied().chain([(INK, "ink"), (ON_FILL, "on-fill")]) {
        let RGBColor(r, g, b) = colour;
        out = out.replace(&format!("fill=\"#{r:02X}{g:02X}{b:02X}\""), &format!("class=\"{class}\""));
    }
    out.replace("font-family=\"sans-serif\"", "")
}

/// A text that fits into so many points.
fn fitting(text: &str, points: f64) -> String {
    let most = (points / LETTER).max(0.0) as usize;
    match text.chars().count() {
        n if n <= most => text.to_string(),
        _ if most < 4 => String::new(),
        // The end of a path says more than its beginning.
        n => format!("…{}", text.chars().skip(n - most + 1).collect::<String>()),
    }
}

fn styled(size: i32, colour: &'static RGBColor, at: HPos) -> TextStyle<'static> {
    let style = TextStyle::from(("sans-serif", size).into_font());
    style.color(colour).pos(Pos::new(at, VPos::Center))
}

/// Bars, one below the other, each with its name and value.
pub fn bars(values: &[(String, f64)], spelled: &dyn Fn(f64) -> String) -> Result<String, CommandError> {
    let height = BAR * values.len() as u32 + 8;
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, (WIDTH, height)).into_drawing_area();
        let most = values.iter().map(|(_, v)| *v).fold(f64::MIN_POSITIVE, f64::max);
        let room = f64::from(WIDTH as i32 - NAMES - VALUES);
        for (i, (name, value)) in values.iter().enumerate() {
            let (top, middle) = (i as i32 * BAR as i32 + 8, i as i32 * BAR as i32 + 16);
            let long = (value / most * room).max(2.0) as i32;
            let name = fitting(name, f64::from(NAMES - 12));
            area.draw(&Text::new(name, (NAMES - 10, middle), styled(14, &INK, HPos::Right)))
                .map_err(broken)?;
            let bar =
                Rectangle::new([(NAMES, top), (NAMES + long, top + BAR as i32 - 10)], FILLS[0].0.filled());
            area.draw(&bar).map_err(broken)?;
            area.draw(&Text::new(spelled(*value), (NAMES + long + 8, middle), styled(14, &INK, HPos::Left)))
                .map_err(broken)?;
        }
        area.present().map_err(broken)?;
    }
    Ok(classed(svg))
}

/// Rectangles, each as large as its share.
pub fn tree_map(values: &[(String, f64)], spelled: &dyn Fn(f64) -> String) -> Result<String, CommandError> {
    let mut sorted: Vec<(String, f64)> = values.to_vec();
    sorted.sort_by(|a, b| b.1.total_cmp(&a.1));
    if sorted.len() > PARTS {
        let rest: f64 = sorted.drain(PARTS..).map(|(_, v)| v).sum();
        sorted.push(("all others".into(), rest));
    }
    let mut items: Vec<MapItem> = sorted.iter().map(|(_, v)| MapItem::with_size(*v)).collect();
    TreemapLayout::new()
        .layout_items(&mut items, Rect::from_points(0.0, 0.0, f64::from(WIDTH), f64::from(MAP)));
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, (WIDTH, MAP)).into_drawing_area();
        for (i, (item, (name, value))) in items.iter().zip(&sorted).enumerate() {
            let Rect { x, y, w, h } = *item.bounds();
            let (left, top) = (x as i32 + 1, y as i32 + 1);
            let (right, bottom) = (((x + w) as i32 - 1).max(left), ((y + h) as i32 - 1).max(top));
            let fill = FILLS[i % FILLS.len()].0;
            area.draw(&Rectangle::new([(left, top), (right, bottom)], fill.filled())).map_err(broken)?;
            if h > 18.0 {
                let text = Text::new(
                    fitting(name, w - 12.0),
                    (left + 6, top + 10),
                    styled(12, &ON_FILL, HPos::Left),
                );
                area.draw(&text).map_err(broken)?;
            }
            let value = spelled(*value);
            if h > 34.0 && value.chars().count() as f64 * LETTER < w - 8.0 {
                let text = Text::new(value, (left + 6, top + 26), styled(12, &ON_FILL, HPos::Left));
                area.draw(&text).map_err(broken)?;
            }
        }
        area.present().map_err(broken)?;
    }
    Ok(classed(svg))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn plots_hold_names_as_text_and_colours_as_classes() {
        let values =
            vec![("<b>images</b>".to_string(), 3000.0), ("media".to_string(), 10.0), ("x".repeat(200), 1.0)];
        for svg in [
            bars(&values, &|v| format!("{v} ms")).unwrap(),
            tree_map(&values, &|v| format!("{v} B")).unwrap(),
        ] {
            assert!(svg.contains("&lt;b&gt;images&lt;/b&gt;") && !svg.contains("<b>"), "{svg}");
            assert!(svg.contains("class=\"fill-1\"") && !svg.contains("#0202"), "{svg}");
        }
    }
}
