//! Edits of config files as the built-in definitions plan them.

use crate::test_support::context;
use zporter_core::config::edit::{FilePlan, apply, plan};
use zporter_core::place::{Address, DatabaseAccess, Place, Relocation, Root};
use zporter_core::secret::Secret;
use zporter_core::text::replacements::Replacements;

fn relocation() -> Relocation {
    let place = |a: &str, r: &str| Place {
        address: Address::parse(a).unwrap(),
        root: Root::parse(r).unwrap(),
        database: None,
    };
    Relocation {
        from: place("https://www.old.example/cms", "/home/old/www"),
        aliases: vec![],
        other_roots: vec![],
        further: vec![],
        outside: vec![],
        to: place("http://dev.example:8080", "/srv/dev site"),
    }
}

fn planned(definition: &str, text: &str) -> (FilePlan, Vec<u8>) {
    let known = zporter_core::system::load(None).unwrap();
    let definition = known.into_iter().find(|k| k.definition.id == definition).unwrap().definition;
    let relocation = relocation();
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let mut access = DatabaseAccess::parse("mysql://new_user@127.0.0.1:3310/new_db").unwrap();
    access.password = Secret::new(r"n'e\w$");
    let cx = context(&relocation, &replacements, Some(&access));
    let plan = plan(&definition.config[0], "c.php", text.as_bytes(), &cx).unwrap();
    let new = apply(&plan, Some(&definition.config[0]), text.as_bytes()).unwrap();
    (plan, new)
}

#[test]
fn exactly_the_values_change_and_secrets_are_masked() {
    let old = "<?php\r\nclass JConfig {\r\n\tpublic $host = 'localhost'; // db\r\n\tpublic $user = \"old\";\r\n\tpublic $password = 'old-pass';\r\n\
        \tpublic $smtppass = 'other-pass';\tpublic $db = 'old_db';\r\n\tpublic $live_site = 'https://www.old.example/cms';\r\n\tpublic $log_path = '/home/old/www/logs';\r\n\
        \tpublic $cookie_domain = '.old.example';\r\n\tpublic $custom = 'see https://www.old.example/cms/x';\r\n\tpublic $mailfrom = 'a@www.old.example';\r\n}";
    let new = "<?php\r\nclass JConfig {\r\n\tpublic $host = '127.0.0.1:3310'; // db\r\n\tpublic $user = \"new_user\";\r\n\tpublic $password = 'n\\'e\\\\w$';\r\n\
        \tpublic $smtppass = 'other-pass';\tpublic $db = 'new_db';\r\n\tpublic $live_site = 'http://dev.example:8080';\r\n\tpublic $log_path = '/srv/dev site/logs';\r\n\
        \tpublic $cookie_domain = '';\r\n\tpublic $custom = 'see http://dev.example:8080/x';\r\n\tpublic $mailfrom = 'a@www.old.example';\r\n}";
    let (plan, out) = planned("joomla", old);
    assert_eq!(String::from_utf8(out).unwrap(), new);
    for secret in ["old-pass", "other-pass", "n\\'e"] {
        assert!(!plan.diff.contains(secret), "{}", plan.diff);
        assert!(!format!("{:?}", plan.changes).contains(secret));
    }
    assert!(plan.diff.contains("+\tpublic $password = '*** (new)';"), "{}", plan.diff);
    assert!(plan.findings.is_empty(), "{:?}", plan.findings);
}

#[test]
fn what_is_no_literal_is_replaced_or_reported_with_its_line() {
    let (plan, out) = planned(
        "prestashop",
        "<?php\ndefine('_DB_SERVER_', getenv('SHOP_DB'));\ndefine('_DB_NAME_', 'a' . '_b');\ndefine('_DB_USER_', user());\ndefine('__PS_BASE_URI__', '/cms/');",
    );
    let out = String::from_utf8(out).unwrap();
    assert!(
        out.contains("getenv('SHOP_DB')") && out.contains("'_DB_NAME_', 'new_db')") && out.contains("'/');"),
        "{out}"
    );
    let said: Vec<_> = plan.findings.iter().map(|w| (w.place.as_str(), w.what.as_str())).collect();
    assert_eq!(said[0], ("c.php, line 2", "`_DB_SERVER_` comes from the environment variable SHOP_DB"));
    assert_eq!(said[1].0, "c.php, line 4");
    assert!(said[2].1.contains("_DB_PASSWD_"));
}
