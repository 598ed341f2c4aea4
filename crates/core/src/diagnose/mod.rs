//! Why does a site not open? Looks, one after the other, at what usually is the cause, and changes nothing.
//!
//! Each look is a function from what is known of the site to what it found: files ([`files`]), the server and its rows ([`rows`]), the PHP of this
//! machine ([`php`]), what the site's own logs said ([`logs`]). Who calls it puts them in order and adds what a settling would change.

pub mod files;
pub mod logs;
pub mod php;
pub mod rows;

use crate::finding::Finding;
use schemars::JsonSchema;
use serde::Serialize;

/// How sure it is that something found is a cause.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Sureness {
    /// The site cannot work so.
    Certain,
    /// It hardly can.
    Likely,
    /// It may be harmless.
    Possible,
}

impl Sureness {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Sureness::Certain => "certain",
            Sureness::Likely => "likely",
            Sureness::Possible => "possible",
        }
    }
}

/// Something that may be why a site does not open.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Diagnosis {
    /// How sure that is.
    pub sure: Sureness,
    /// What, where, why, and what helps.
    #[serde(flatten)]
    pub finding: Finding,
}

/// What was looked at, and what came of it.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Looked {
    /// What was looked at.
    pub at: &'static str,
    /// What was seen there, or why nobody could look.
    pub saw: String,
}

/// What is gathered on the way.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct Diagnoses {
    /// What was found, the surest first.
    pub found: Vec<Diagnosis>,
    /// What was looked at.
    pub looked: Vec<Looked>,
}

impl Diagnoses {
    /// Adds what a look found.
    pub fn add(&mut self, sure: Sureness, finding: Finding) {
        self.found.push(Diagnosis { sure, finding });
    }

    /// Says what was seen.
    pub fn saw(&mut self, at: &'static str, saw: impl Into<String>) {
        self.looked.push(Looked { at, saw: saw.into() });
    }

    /// Says that a look found nothing, or how much.
    fn looked_at(&mut self, at: &'static str, before: usize) {
        let found = self.found.len() - before;
        let saw = if found == 0 { "nothing wrong".into() } else { format!("{found} found, see above") };
        self.saw(at, saw);
    }
}

/// Runs a look and notes what came of it.
pub fn look(out: &mut Diagnoses, at: &'static str, work: impl FnOnce(&mut Diagnoses)) {
    let (before, told) = (out.found.len(), out.looked.len());
    work(out);
    if out.looked.len() == told {
        out.looked_at(at, before);
    }
}
