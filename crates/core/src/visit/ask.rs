//! Asks for one address of a site and goes where it is sent, step by step, as long as that is the site's own host.

use super::bounds::{Belongs, Bounds};
use std::time::Duration;
use zporter_web::Url;
use zporter_web::client::{Answer, Client, NoAnswer};

/// Steps behind which nobody is sent on.
const MOST_STEPS: usize = 10;

/// A redirect.
#[derive(Debug, Clone)]
pub struct Hop {
    /// From where.
    pub from: Url,
    /// Status.
    pub status: u16,
    /// To where.
    pub to: Url,
}

/// How a visitor came to an answer, or to none.
#[derive(Debug)]
pub struct Journey {
    /// Redirects on the way.
    pub hops: Vec<Hop>,
    /// Where it ended.
    pub url: Url,
    /// How.
    pub end: End,
}

/// How a journey ends.
#[derive(Debug)]
pub enum End {
    /// With an answer.
    Answer(Box<Answer>),
    /// Nobody answered.
    None(NoAnswer),
    /// In a circle, or after more steps than anybody makes.
    Circle,
    /// The last redirect leads away from the site.
    Away(Belongs),
}

/// A way to a site, and what is kept of each answer.
#[derive(Debug, Clone)]
pub struct Asker {
    /// How the server is asked.
    pub client: Client,
    /// What belongs to the site.
    pub bounds: Bounds,
    /// Rest behind each answer.
    pub delay: Duration,
}

impl Asker {
    /// Goes to an address.
    pub fn go(&self, url: &Url, most: usize) -> Journey {
        let mut journey = Journey { hops: Vec::new(), url: url.clone(), end: End::Circle };
        loop {
            let asked = self.client.get(&journey.url, most);
            if !self.delay.is_zero() {
                std::thread::sleep(self.delay);
            }
            let answer = match asked {
                Ok(answer) => answer,
                Err(e) => {
                    journey.end = End::None(e);
                    return journey;
                }
            };
            let Some(next) = answer.leads_to(&journey.url) else {
                journey.end = End::Answer(Box::new(answer));
                return journey;
            };
            journey.hops.push(Hop { from: journey.url.clone(), status: answer.status, to: next.clone() });
            match self.bounds.belongs(&next) {
                Belongs::Inside | Belongs::Beside => (),
                away => {
                    journey.end = End::Away(away);
                    return journey;
                }
            }
            // Once more may be to show a cookie; twice is a circle.
            let before = journey.hops.iter().filter(|h| h.from == next).count();
            if before > 1 || journey.hops.len() >= MOST_STEPS {
                return journey;
            }
            journey.url = next;
        }
    }
}
