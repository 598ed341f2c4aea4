//! Gathers what a visit sees. The same thing on many pages is one sighting: told with the first page, and counted.

use crate::diagnose::Sureness;
use crate::finding::{Code, Finding};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::HashMap;

/// Most sightings of one kind that are told one by one.
const OF_A_KIND: usize = 100;

/// Something that one page shows.
#[derive(Debug, Clone)]
pub struct Sight {
    /// Its kind.
    pub code: Code,
    /// How sure it is.
    pub sure: Sureness,
    /// What is the same on other pages.
    pub subject: String,
    /// What was seen, in one sentence without a full stop.
    pub what: String,
    /// Why it is so, where that is known.
    pub cause: String,
    /// What helps.
    pub cure: String,
    /// Whether nobody has to look at it.
    pub note: bool,
}

impl Sight {
    /// Makes one that is about the page itself.
    pub fn new(code: Code, sure: Sureness, what: impl Into<String>, cure: impl Into<String>) -> Self {
        Sight {
            code,
            sure,
            subject: String::new(),
            what: what.into(),
            cause: String::new(),
            cure: cure.into(),
            note: false,
        }
    }

    /// The same about something that other pages may show as well.
    pub fn about(self, subject: impl Into<String>) -> Self {
        Sight { subject: subject.into(), ..self }
    }

    /// The same with its cause.
    pub fn because(self, cause: impl Into<String>) -> Self {
        Sight { cause: cause.into(), ..self }
    }

    /// The same, which nobody has to look at.
    pub fn as_note(self) -> Self {
        Sight { note: true, ..self }
    }
}

/// Something that was seen.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Sighting {
    /// How sure it is that this is a fault.
    pub sure: Sureness,
    /// The first page that shows it.
    pub page: String,
    /// The page that links there; nothing for the home page and what was asked for directly.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Pages that show it.
    pub pages: u64,
    /// What, where, why, and what helps.
    #[serde(flatten)]
    pub finding: Finding,
}

/// What is gathered.
#[derive(Debug, Default)]
pub struct Gathered {
    seen: Vec<Sighting>,
    known: HashMap<(Code, String), usize>,
    kinds: HashMap<Code, usize>,
    /// Sightings that are counted only.
    pub untold: u64,
}

impl Gathered {
    /// Adds what a page shows.
    pub fn add(&mut self, page: &str, from: Option<&str>, sight: Sight) {
        let subject = if sight.subject.is_empty() { page.to_string() } else { sight.subject.clone() };
        if let Some(at) = self.known.get(&(sight.code, subject.clone())) {
            self.seen[*at].pages += 1;
            return;
        }
        let kind = self.kinds.entry(sight.code).or_default();
        *kind += 1;
        if *kind > OF_A_KIND {
            self.untold += 1;
            return;
        }
        let finding = Finding::new(sight.code, sight.what, page, sight.cure).because(sight.cause);
        let finding = if sight.note { finding.as_note() } else { finding };
        self.known.insert((sight.code, subject), self.seen.len());
        let from = from.map(str::to_string);
        self.seen.push(Sighting { sure: sight.sure, page: page.to_string(), from, pages: 1, finding });
    }

    /// All of them: what needs attention before what is good to know, the surest first, in the order in which it was seen.
    pub fn sorted(mut self) -> Vec<Sighting> {
        self.seen.sort_by_key(|s| (!s.finding.needs_attention(), s.sure));
        self.seen
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use Sureness::{Certain, Possible};

    #[test]
    fn the_same_on_many_pages_is_told_once_and_much_of_a_kind_is_counted() {
        let mut gathered = Gathered::default();
        for i in 0..300 {
            let page = format!("http://a.test/{i}");
            gathered.add(
                &page,
                Some("http://a.test/"),
                Sight::new(Code::OldPlaceOnPage, Certain, "old", "mend").about("the same"),
            );
            gathered.add(&page, None, Sight::new(Code::PageSlow, Possible, "slow", "").as_note());
        }
        assert_eq!(gathered.untold, 200);
        let told = gathered.sorted();
        assert_eq!(told.len(), 101);
        assert!(
            told[0].pages == 300 && told[0].page == "http://a.test/0" && told[0].finding.needs_attention(),
            "{:?}",
            told[0]
        );
    }
}
