//! Where a site lives, and the way from one place to another.
//!
//! A [`Relocation`] is the central value of the tool: replacements, cells, config edits and checks all derive from it.
//! A [`Place`] is complete by construction: a root, a base address and a database access.

mod access;
mod address;
mod engine;
mod error;
mod relocation;
mod root;

pub use access::{DatabaseAccess, Tls};
pub use address::{Address, AddressForm};
pub use engine::{Engine, EngineFacts};
pub use error::{CURE, PlaceError, Scheme, wrong};
pub use relocation::{Pairs, Place, Relocation};
pub use root::Root;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_normalised_and_spelled_in_every_form() {
        let a = Address::parse("HTTPS://Shop.Example:443/a/b/").unwrap();
        assert_eq!(a.to_string(), "https://shop.example/a/b");
        let b = Address::parse("http://bücher.example:8080").unwrap();
        assert_eq!(b.to_string(), "http://xn--bcher-kva.example:8080");
        assert_eq!(b.host_unicode().as_deref(), Some("bücher.example"));
        let forms = [
            (AddressForm::Host, "shop.example", "xn--bcher-kva.example:8080"),
            (AddressForm::Origin, "https://shop.example", "http://xn--bcher-kva.example:8080"),
            (AddressForm::UrlSlash, "https://shop.example/a/b/", "http://xn--bcher-kva.example:8080/"),
            (AddressForm::BaseSlashes, "/a/b/", "/"),
            (AddressForm::BaseLeading, "/a/b", "/"),
            (AddressForm::BaseTrailing, "a/b/", ""),
        ];
        for (form, one, two) in forms {
            assert_eq!((a.spelled(form).as_str(), b.spelled(form).as_str()), (one, two), "{form:?}");
        }
    }

    #[test]
    fn texts_that_are_no_place_are_refused() {
        for bad in
            ["shop.example", "ftp://a.example", "http://", "http://a.example/?q=1", "http://u:p@a.example/"]
        {
            assert!(Address::parse(bad).is_err(), "{bad}");
        }
        for bad in ["home/a", "", "/home/../etc", "C:relative"] {
            assert!(Root::parse(bad).is_err(), "{bad}");
        }
        for bad in [
            "mysql://u@h/n?tls=perhaps",
            "mysql://u@h/",
            "oracle://u@h/n",
            "mysql://u:p@h/n",
            "mysql://u@h:99999/n",
        ] {
            assert!(DatabaseAccess::parse(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn database_urls_and_host_values_carry_port_and_socket() {
        let a = DatabaseAccess::parse("mysql://sky%40web@db.example:3307/cms?socket=/run/m.sock").unwrap();
        assert_eq!(
            (a.user.as_str(), a.port, a.socket.as_deref()),
            ("sky@web", Some(3307), Some("/run/m.sock"))
        );
        let mut b = a.clone();
        for (value, host, port, socket) in [
            ("localhost:/s", "localhost", None, Some("/s")),
            (":/s", "localhost", None, Some("/s")),
            ("[::1]:3306", "[::1]", Some(3306), None),
            ("h", "h", None, None),
        ] {
            b.set_host_value(value);
            assert_eq!((b.host.as_str(), b.port, b.socket.as_deref()), (host, port, socket), "{value}");
        }
    }
}
