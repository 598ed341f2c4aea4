//! A complete place, and the way from one to another.

use super::access::DatabaseAccess;
use super::address::{Address, AddressForm};
use super::error::Scheme;
use super::root::Root;

/// A place: everything that must be known of where a site lives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// Base address.
    pub address: Address,
    /// Document root.
    pub root: Root,
    /// Database access; none for a site whose database is handled elsewhere.
    pub database: Option<DatabaseAccess>,
}

/// The way from one place to another. Both places are complete; the old one may have further names.
#[derive(Debug, Clone)]
pub struct Relocation {
    /// Where the site was.
    pub from: Place,
    /// Further addresses that the old site answered to.
    pub aliases: Vec<Address>,
    /// Further roots that the old site's values speak of (it lay elsewhere than its config believed).
    pub other_roots: Vec<Root>,
    /// Further sites of the same database that move as well: old and new address.
    pub further: Vec<(Address, Address)>,
    /// Folders outside of the root that move as well: old and new path.
    pub outside: Vec<(Root, Root)>,
    /// Where the site will be.
    pub to: Place,
}

impl Relocation {
    /// Returns every old address, the canonical one first.
    pub fn old_addresses(&self) -> impl Iterator<Item = &Address> {
        std::iter::once(&self.from.address).chain(&self.aliases)
    }

    /// Says whether the site was at the bare root of its host.
    pub fn at_root(&self) -> bool {
        self.from.address.base().is_empty()
    }

    /// Says whether address and folder stay what they were.
    pub fn is_nowhere(&self) -> bool {
        self.from.address == self.to.address && self.from.root == self.to.root
    }

    /// The way that leads nowhere else: from the new place to itself.
    pub fn to_itself(self) -> Relocation {
        Relocation {
            from: self.to.clone(),
            aliases: Vec::new(),
            other_roots: Vec::new(),
            further: Vec::new(),
            outside: Vec::new(),
            to: self.to,
        }
    }

    /// Returns every old root, the canonical one first.
    pub fn old_roots(&self) -> impl Iterator<Item = &Root> {
        std::iter::once(&self.from.root).chain(&self.other_roots)
    }

    /// Returns the old-new pairs of which the rewriter's replacements are made.
    pub fn pairs(&self) -> Pairs {
        let addresses = self.old_addresses().map(|a| (a.clone(), self.to.address.clone()));
        let roots = self.old_roots().map(|r| (r.clone(), self.to.root.clone()));
        Pairs {
            addresses: addresses.chain(self.further.iter().cloned()).collect(),
            roots: roots.chain(self.outside.iter().cloned()).collect(),
        }
    }

    /// Computes the new value of a cell that holds `old` in the declared form, if it speaks of the old place.
    pub fn respell(&self, old: &str, form: AddressForm) -> Option<String> {
        let further = self.further.iter().find_map(|(from, to)| respell([from].into_iter(), to, old, form));
        respell(self.old_addresses(), &self.to.address, old, form).or(further)
    }

    /// The same for a declared cell: with a `tail` something may follow the address, behind a slash, and stays; of a `unique` one only the
    /// main address moves, because two that become one would be refused.
    pub fn respell_cell(&self, old: &str, form: AddressForm, tail: bool, unique: bool) -> Option<String> {
        let main = [&self.from.address].into_iter();
        let respelled = |old: &str| {
            let further =
                || self.further.iter().find_map(|(from, to)| respell([from].into_iter(), to, old, form));
            let own = match unique {
                true => respell(main.clone(), &self.to.address, old, form),
                false => respell(self.old_addresses(), &self.to.address, old, form),
            };
            own.or_else(further)
        };
        if let Some(new) = respelled(old) {
            return Some(new);
        }
        // The longest beginning that is an address counts.
        let ends = old.rmatch_indices('/').filter(|_| tail).map(|(at, _)| at);
        ends.filter(|at| *at > 0).find_map(|at| {
            let new = respelled(&old[..at])?;
            Some(format!("{}{}", new.trim_end_matches('/'), &old[at..]))
        })
    }

    /// The same for a value that is a whole address although another form is usual there.
    pub fn respell_whole(&self, old: &str) -> Option<String> {
        let (_, rest) = old.split_once("://")?;
        let form = if rest.ends_with('/') { AddressForm::UrlSlash } else { AddressForm::Url };
        self.respell(old, form)
    }

    /// The same for a path that stands beside a host: only the sites of that host can be meant. A reference keeps what follows the
    /// longest base path that it begins with.
    pub fn respell_beside(&self, host: &str, old: &str, form: AddressForm) -> Option<String> {
        let main = self.old_addresses().map(|a| (a, &self.to.address));
        let pairs = main.chain(self.further.iter().map(|(a, b)| (a, b)));
        let ours = pairs.filter(|(a, _)| a.host_port().eq_ignore_ascii_case(host));
        if form != AddressForm::Reference {
            return ours.into_iter().find_map(|(a, b)| respell([a].into_iter(), b, old, form));
        }
        let below = ours.filter_map(|(a, b)| {
            let rest = old.strip_prefix(a.base())?;
            (rest.is_empty() || rest.starts_with('/')).then_some((a.base().len(), b, rest))
        });
        let (_, new, rest) = below.max_by_key(|(len, ..)| *len)?;
        let moved = format!("{}{rest}", new.base());
        Some(if moved.is_empty() { "/".into() } else { moved })
    }
}

/// Old and new addresses and roots, without the rest of a place: what a text rewriter needs.
#[derive(Debug, Clone, Default)]
pub struct Pairs {
    /// Old and new addresses.
    pub addresses: Vec<(Address, Address)>,
    /// Old and new roots.
    pub roots: Vec<(Root, Root)>,
}

/// Computes the new domain of cookies, if the old one is the old host's or one above it.
fn cookie_domain(from: &Address, to: &Address, old: &str) -> Option<String> {
    let (dot, domain) = old.strip_prefix('.').map_or(("", old), |d| (".", d));
    if from.host().eq_ignore_ascii_case(domain) {
        return Some(format!("{dot}{}", to.host()));
    }
    // A domain above the old host: it stays where it is above the new one as well; else nothing is right for any host.
    let domain = domain.to_ascii_lowercase();
    let above = |host: &str| host.ends_with(&format!(".{domain}"));
    let stays = to.host() == domain || above(to.host());
    above(from.host()).then(|| if stays { old.to_string() } else { String::new() })
}

fn respell<'a>(
    old_addresses: impl Iterator<Item = &'a Address>,
    new: &Address,
    old: &str,
    form: AddressForm,
) -> Option<String> {
    for address in old_addresses {
        if form == AddressForm::CookieDomain {
            match cookie_domain(address, new, old) {
                Some(domain) => return Some(domain),
                None => continue,
            }
        }
        if let (AddressForm::Origin, Some(old)) = (form, old.strip_prefix("//")) {
            // Whatever the scheme is: that stays so.
            match old.eq_ignore_ascii_case(&address.host_port()) {
                true => return Some(format!("//{}", new.host_port())),
                false => continue,
            }
        }
        for scheme in [address.scheme(), Scheme::Http, Scheme::Https] {
            if address.with_scheme(scheme).spelled(form).eq_ignore_ascii_case(old) {
                return Some(new.spelled(form));
            }
        }
    }
    None
}
