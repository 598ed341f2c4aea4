//! Lets a browser draw the home page and chosen pages, old and new side by side, in the width of a desktop and of a telephone.

use super::bounds::Bounds;
use super::gather::Sight;
use crate::diagnose::Sureness::{Certain, Possible};
use crate::finding::Code;
use crate::fsx::{AtPath, PathError};
use crate::options::values::At;
use crate::tree::write_atomically;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::time::Duration;
use zporter_web::Url;
use zporter_web::browser::{Browser, BrowserError, WINDOWS, find};
use zporter_web::client::Pass;
use zporter_web::picture::Picture;

/// Share of the points that may differ without anybody being told, in percent.
const UNTOLD: f64 = 1.0;

/// A picture of a page.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Pictured {
    /// The page, below the address; nothing for the home page.
    pub page: String,
    /// The window: `desktop` or `phone`.
    pub window: &'static str,
    /// The page as it is.
    #[serde(with = "crate::path_text")]
    #[schemars(with = "PathBuf")]
    pub new: PathBuf,
    /// The old site's page.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Option<PathBuf>")]
    pub old: Option<PathBuf>,
    /// Old and new side by side, with what differs marked.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(with = "crate::path_text")]
    #[schemars(with = "Option<PathBuf>")]
    pub beside: Option<PathBuf>,
    /// Points that differ, in percent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub differs: Option<f64>,
}

/// A site that is drawn.
#[derive(Debug)]
pub struct Side<'s> {
    /// What belongs to it.
    pub bounds: &'s Bounds,
    /// Where it is asked.
    pub at: Option<At>,
    /// What its server wants to know before it shows anything.
    pub pass: Option<&'s Pass>,
}

impl Side<'_> {
    /// How the browser finds its hosts.
    fn rules(&self) -> Vec<(String, String)> {
        let Some(at) = self.at else { return Vec::new() };
        let own = self.bounds.home.port_or_known_default().unwrap_or(80);
        let ip = if at.ip.is_ipv6() { format!("[{}]", at.ip) } else { at.ip.to_string() };
        let hosts = self.bounds.hosts().iter();
        hosts
            .flat_map(|host| {
                let by_port = at.port.map(|port| (format!("{host}:{own}"), format!("{ip}:{port}")));
                by_port.into_iter().chain([(host.clone(), ip.clone())])
            })
            .collect()
    }
}

/// What came of it.
#[derive(Debug, Default)]
pub struct Taken {
    /// Pictures.
    pub pictures: Vec<Pictured>,
    /// What is wrong, by page.
    pub sights: Vec<(String, Sight)>,
}

/// Takes the pictures. A page that cannot be drawn is told, and the others go on.
pub fn take(
    new: &Side<'_>,
    old: Option<&Side<'_>>,
    pages: &[String],
    folder: &Path,
    patience: Duration,
) -> Result<Taken, PathError> {
    let mut out = Taken::default();
    let home = new.bounds.home.to_string();
    let missing = |what: String, cure: &str| {
        (home.clone(), Sight::new(Code::PicturesMissing, Certain, what, cure).as_note())
    };
    let Some(program) = find() else {
        out.sights.push(missing(
            "no pictures were taken: they need Chromium on this machine".into(),
            "install the package chromium",
        ));
        return Ok(out);
    };
    std::fs::create_dir_all(folder).at(folder)?;
    let started = Browser::start(&program, &new.rules(), patience);
    let (mut browser, mut other) =
        match (started, old.map(|old| Browser::start(&program, &old.rules(), patience))) {
            (Ok(browser), None) => (browser, None),
            (Ok(browser), Some(Ok(other))) => (browser, Some(other)),
            (Err(e), _) | (_, Some(Err(e))) => {
                out.sights.push(missing(
                    format!("no pictures were taken: {e}"),
                    "look whether chromium runs on this machine",
                ));
                return Ok(out);
            }
        };
    let below =
        std::iter::once(String::new()).chain(pages.iter().map(|p| p.trim_start_matches('/').to_string()));
    for page in below {
        for window in WINDOWS {
            let Some(url) = new.bounds.at(&page) else { continue };
            let draw = |browser: &mut Browser, url: &Url| browser.draw(url, window);
            let shown = new.pass.map_or_else(|| url.clone(), |pass| pass.within(&url));
            let drawn = match draw(&mut browser, &shown) {
                Ok(drawn) => drawn,
                Err(e) => {
                    out.sights.push(undrawn(&url, &e));
                    continue;
                }
            };
            let name = format!("{}-{}", slug(&page), window.name);
            let mut pictured = Pictured {
                page: page.clone(),
                window: window.name,
                new: put(folder, &name, "new", &drawn)?,
                old: None,
                beside: None,
                differs: None,
            };
            let old_url = old.and_then(|old| old.bounds.at(&page));
            if let (Some(other), Some(old_url)) = (&mut other, old_url) {
                match draw(other, &old_url) {
                    Ok(before) => {
                        pictured.old = Some(put(folder, &name, "old", &before)?);
                        compare(&mut pictured, &before, &drawn, folder, &name, &url, &mut out)?;
                    }
                    Err(e) => out.sights.push(undrawn(&old_url, &e)),
                }
            }
            out.pictures.push(pictured);
        }
    }
    Ok(out)
}

fn compare(
    pictured: &mut Pictured,
    before: &[u8],
    now: &[u8],
    folder: &Path,
    name: &str,
    url: &Url,
    out: &mut Taken,
) -> Result<(), PathError> {
    let (Some(before), Some(now)) = (Picture::read(before), Picture::read(now)) else { return Ok(()) };
    let difference = before.difference(&now);
    let all = f64::from(before.width.max(now.width)) * f64::from(before.height.max(now.height));
    let share = difference.map_or(0.0, |d| d.points as f64 * 100.0 / all);
    pictured.differs = Some((share * 100.0).round() / 100.0);
    if let Some(both) = before.beside(&now, difference).write() {
        pictured.beside = Some(put(folder, name, "beside", &both)?);
    }
    if share > UNTOLD {
        let what = format!(
            "looks different from the old site in the window of a {}: {share:.1} % of the points",
            pictured.window
        );
        out.sights.push((
            url.to_string(),
            Sight::new(Code::PictureDiffers, Possible, what, "look at the picture of both side by side")
                .about(name),
        ));
    }
    Ok(())
}

fn undrawn(url: &Url, why: &BrowserError) -> (String, Sight) {
    let cure = "look whether the page opens in a browser";
    (
        url.to_string(),
        Sight::new(Code::PicturesMissing, Certain, format!("the page could not be drawn: {why}"), cure)
            .as_note(),
    )
}

fn put(folder: &Path, name: &str, which: &str, png: &[u8]) -> Result<PathBuf, PathError> {
    let path = folder.join(format!("{name}-{which}.png"));
    write_atomically(&path, png)?;
    Ok(path)
}

/// A page's name as that of a file.
fn slug(page: &str) -> String {
    let plain: String =
        page.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).take(60).collect();
    let plain = plain.trim_matches('-');
    if plain.is_empty() { "home".into() } else { plain.to_ascii_lowercase() }
}
