//! What belongs to a site, as its addresses tell: pages of it, what only shares its host, and what is somebody else's; and which addresses a
//! visitor who only looks must never open.

use crate::options::values::At;
use crate::place::{Address, Scheme};
use zporter_web::Url;
use zporter_web::guard::{Guard, Pin};

/// Where an address leads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Belongs {
    /// To the site.
    Inside,
    /// To its host, but not below its base path.
    Beside,
    /// To the old site.
    Old,
    /// To somebody else.
    Elsewhere,
    /// Nowhere on the web.
    NoPage,
}

/// The addresses of a site.
#[derive(Debug, Clone)]
pub struct Bounds {
    /// Home page.
    pub home: Url,
    /// Base path, with a slash at its end.
    base: String,
    /// Its hosts, in lower case.
    hosts: Vec<String>,
    old: Vec<Address>,
}

/// Names of parameters that hold a visitor's session.
const SESSIONS: [&str; 10] = [
    "phpsessid",
    "sid",
    "session",
    "sessionid",
    "session_id",
    "jsessionid",
    "oscsid",
    "zenid",
    "aspsessionid",
    "cfid",
];

/// Words of an address that end a visit or change something.
const CHANGING: [&str; 34] = [
    "delete",
    "del",
    "remove",
    "destroy",
    "purge",
    "trash",
    "unsubscribe",
    "uninstall",
    "install",
    "deactivate",
    "activate",
    "disable",
    "enable",
    "clear",
    "flush",
    "reset",
    "unpublish",
    "publish",
    "cancel",
    "confirm",
    "approve",
    "reject",
    "ban",
    "drop",
    "empty",
    "restore",
    "rebuild",
    "abmelden",
    "ausloggen",
    "loeschen",
    "deconnexion",
    "desconectar",
    "uitloggen",
    "wyloguj",
];

/// Words that mean this wherever they stand.
const LEAVING: [&str; 7] = ["logout", "log-out", "log_out", "logoff", "signout", "sign-out", "sign_out"];

impl Bounds {
    /// The bounds of a site.
    pub fn of(address: &Address, more: &[String], old: &[Address]) -> Option<Self> {
        let home = Url::parse(&format!("{address}/")).ok()?;
        let own = address.host().to_ascii_lowercase();
        let twin = address.twin().map(|t| t.host().to_string());
        let more = more.iter().map(|h| h.trim().to_ascii_lowercase());
        let mut hosts: Vec<String> = std::iter::once(own).chain(more).collect();
        // The other name of the host, unless that is the old site's.
        hosts.extend(twin.filter(|t| !old.iter().any(|o| o.host() == t)));
        Some(Bounds { base: home.path().to_string(), home, hosts, old: old.to_vec() })
    }

    /// Its hosts.
    pub fn hosts(&self) -> &[String] {
        &self.hosts
    }

    /// Where an address leads.
    pub fn belongs(&self, url: &Url) -> Belongs {
        let Some(host) = url.host_str().filter(|_| matches!(url.scheme(), "http" | "https")) else {
            return Belongs::NoPage;
        };
        let own = self.hosts.iter().any(|h| h == host) && self.has_port(url);
        if own && (url.path().starts_with(&self.base) || url.path() == self.base.trim_end_matches('/')) {
            return Belongs::Inside;
        }
        let is_old = |old: &Address| {
            old.host() == host
                && (url.path().starts_with(&format!("{}/", old.base())) || url.path() == old.base())
                && url.port() == old.port()
        };
        if self.old.iter().any(is_old) {
            return Belongs::Old;
        }
        if own { Belongs::Beside } else { Belongs::Elsewhere }
    }

    /// Whether a port is the site's: the same one, or the usual one of the other scheme.
    fn has_port(&self, url: &Url) -> bool {
        if url.scheme() == self.home.scheme() {
            url.port_or_known_default() == self.home.port_or_known_default()
        } else {
            url.port() == self.home.port()
        }
    }

    /// The same address by the site's own scheme, without what belongs to one visitor or one place in the page.
    pub fn plain(&self, url: &Url) -> Url {
        let mut url = url.clone();
        url.set_fragment(None);
        if url.scheme() != self.home.scheme() && self.has_port(&url) {
            let _ = url.set_scheme(self.home.scheme());
        }
        if url.query().is_some_and(|q| SESSIONS.iter().any(|s| q.to_ascii_lowercase().contains(s))) {
            let kept: Vec<String> = url
                .query()
                .unwrap_or_default()
                .split('&')
                .filter(|p| !is_session(p))
                .map(str::to_string)
                .collect();
            url.set_query(Some(kept.join("&")).filter(|q| !q.is_empty()).as_deref());
        }
        if let Some(at) = url.path().to_ascii_lowercase().find(";jsessionid=") {
            let path = url.path()[..at].to_string();
            url.set_path(&path);
        }
        url
    }

    /// The address below the site's own, by which two places of a site are compared.
    pub fn below<'u>(&self, url: &'u Url) -> Option<&'u str> {
        let whole = &url[zporter_web::url::Position::BeforePath..zporter_web::url::Position::AfterQuery];
        whole
            .strip_prefix(&self.base)
            .or_else(|| (url.path() == self.base.trim_end_matches('/')).then_some(""))
    }

    /// The address of something below the site's own.
    pub fn at(&self, below: &str) -> Option<Url> {
        // Joined to the base path, as a path: what stands there may begin with a slash or look like a scheme.
        Url::parse(&format!("{}{below}", self.home)).ok().filter(|u| u.host_str() == self.home.host_str())
    }
}

fn is_session(pair: &str) -> bool {
    let name = pair.split('=').next().unwrap_or_default().to_ascii_lowercase();
    let long = pair.len() > name.len() + 16;
    SESSIONS.contains(&name.as_str())
        && (long || name.contains("sess") || name == "oscsid" || name == "zenid")
}

/// Path and query, in lower case.
fn whole(url: &Url) -> String {
    format!("{}?{}", url.path(), url.query().unwrap_or_default()).to_ascii_lowercase()
}

/// Says whether an address is the way out for somebody who is logged in.
pub fn leaves(url: &Url) -> bool {
    LEAVING.iter().any(|w| whole(url).contains(w))
}

/// Says whether opening an address may end the visit, or change something: who only looks must not.
pub fn changes_something(url: &Url) -> bool {
    let whole = whole(url);
    if leaves(url) || whole.contains("add-to-cart") {
        return true;
    }
    // A whole part of the path; in a page's name it is only a word.
    let in_path = |part: &str| CHANGING.contains(&part.split('.').next().unwrap_or_default());
    if url.path().to_ascii_lowercase().split('/').any(in_path) {
        return true;
    }
    let cart = ["cart", "basket", "wishlist", "compare", "order"];
    let adds = whole.contains("add=1")
        || whole.contains("/add")
        || whole.contains("action=add")
        || whole.contains("=buy");
    if adds && cart.iter().any(|w| whole.contains(w)) {
        return true;
    }
    let query = url.query().unwrap_or_default().to_ascii_lowercase();
    query.split(['&', '=', '.', '/', ';']).any(|word| {
        CHANGING.contains(&word)
            || CHANGING.iter().any(|c| {
                word.strip_prefix(c).is_some_and(|r| r.starts_with(['_', '-'])) && !word.contains("--")
            })
    })
}

/// Where a site's names may be asked. Inner addresses only where the site itself is at one.
pub fn guard(bounds: &Bounds, at: Option<At>) -> Guard {
    let own = bounds.home.port_or_known_default().unwrap_or_default();
    let pin = |at: At| Pin { hosts: bounds.hosts.clone(), ip: at.ip, port: at.port.map(|to| (own, to)) };
    let host = bounds.home.host_str().unwrap_or_default();
    Guard::new(at.map(pin).into_iter().collect(), false).open_to(host, own)
}

/// The scheme of a site's address is the encrypted one.
pub fn is_secure(address: &Address) -> bool {
    address.scheme() == Scheme::Https
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bounds(address: &str, old: &str) -> Bounds {
        Bounds::of(&Address::parse(address).unwrap(), &[], &[Address::parse(old).unwrap()]).unwrap()
    }

    #[test]
    fn addresses_are_sorted_by_whose_they_are() {
        let site = bounds("https://www.new.test/shop", "http://old.test/shop");
        for (url, is) in [
            ("https://www.new.test/shop/a?b", Belongs::Inside),
            ("https://www.new.test/shop", Belongs::Inside),
            ("http://new.test/shop/", Belongs::Inside),
            ("https://www.new.test/shopping", Belongs::Beside),
            ("https://www.new.test/", Belongs::Beside),
            ("https://www.new.test:8443/shop/", Belongs::Elsewhere),
            ("http://old.test/shop/x", Belongs::Old),
            ("http://old.test/other", Belongs::Elsewhere),
            ("mailto:a@new.test", Belongs::NoPage),
            ("https://evil.test/www.new.test/shop/", Belongs::Elsewhere),
        ] {
            assert_eq!(site.belongs(&Url::parse(url).unwrap()), is, "{url}");
        }
        // The old site below the new one's host, and the other way round.
        let site = bounds("https://new.test", "https://new.test/old");
        assert_eq!(site.belongs(&Url::parse("https://new.test/older").unwrap()), Belongs::Inside);
    }

    #[test]
    fn sessions_do_not_make_another_page() {
        let site = bounds("https://new.test", "http://old.test");
        let plain = |url: &str| site.plain(&Url::parse(url).unwrap()).to_string();
        assert_eq!(
            plain("http://new.test/a?x=1&PHPSESSID=0123456789abcdef0123#top"),
            "https://new.test/a?x=1"
        );
        assert_eq!(
            plain("https://new.test/viewforum.php?f=2&sid=0123456789abcdef0123456789abcdef"),
            "https://new.test/viewforum.php?f=2"
        );
        assert_eq!(plain("https://new.test/a;jsessionid=AB12?x=1"), "https://new.test/a?x=1");
        assert_eq!(plain("https://new.test/a?sid=7"), "https://new.test/a?sid=7");
    }

    #[test]
    fn links_that_change_something_are_told() {
        for url in [
            "/user/logout",
            "/index.php?option=com_users&task=user.logout",
            "/ucp.php?mode=logout&sid=1",
            "/wp-login.php?action=logout",
            "/?add-to-cart=7",
            "/cart?add=1&id_product=2",
            "/index.php?route=checkout/cart/add&id=2",
            "/admin/delete",
            "/item/5/delete",
            "/x.php?do=delete_item&id=4",
            "/Default.aspx?ctl=Logoff",
            "/newsletter?unsubscribe=abc",
            "/?mylogout",
            "/index.php?route=account/logout",
        ] {
            assert!(changes_something(&Url::parse(&format!("https://a.test{url}")).unwrap()), "{url}");
        }
        for url in [
            "/how-to-remove-stains",
            "/?page=delete-nothing-here--guide",
            "/cart",
            "/index.php?route=product/product&id=2",
            "/orders-and-delivery",
            "/blog/reset-your-telescope",
        ] {
            assert!(!changes_something(&Url::parse(&format!("https://a.test{url}")).unwrap()), "{url}");
        }
    }
}
