//! Config edits on any values a config can hold, and readers that no bytes can bring to a fall.

use proptest::prelude::*;
use zporter_core::config::edit::{Context, apply, plan, plan_text};
use zporter_core::config::{htaccess, php, settings};
use zporter_core::place::{Address, DatabaseAccess, Place, Relocation, Root};
use zporter_core::secret::Secret;
use zporter_core::survey::recognise::{config_facts, recognise};
use zporter_core::survey::tree::HeldTree;
use zporter_core::system::schema::ConfigForm;
use zporter_core::system::{self, Definition};
use zporter_core::text::needles::Needles;
use zporter_core::text::{json, serialized};

fn relocation() -> Relocation {
    let place = |a: &str, r: &str| Place {
        address: Address::parse(a).unwrap(),
        root: Root::parse(r).unwrap(),
        database: None,
    };
    Relocation {
        from: place("http://www.old.example/cms", "/home/old"),
        aliases: vec![Address::parse("http://old.example/cms").unwrap()],
        other_roots: vec![Root::parse(r"D:\sites\old").unwrap()],
        further: vec![],
        outside: vec![],
        to: place("https://new.example", "/srv/new"),
    }
}

fn access(password: &str) -> DatabaseAccess {
    let mut access = DatabaseAccess::parse("mysql://nu@[::1]:3310/nn").unwrap();
    access.password = Secret::new(password);
    access
}

fn definition(id: &str) -> Definition {
    system::load(None).unwrap().into_iter().find(|k| k.definition.id == id).unwrap().definition
}

/// Plans and applies the edit of a config text; returns the new text and the preview.
fn edited(id: &str, text: &str, password: &str) -> (String, String) {
    let (definition, relocation, access) = (definition(id), relocation(), access(password));
    let needles = Needles::new(&relocation.pairs(), &[]);
    let cx = Context {
        relocation: &relocation,
        database: Some(&access),
        needles: &needles,
        table_prefix: None,
        put: &[],
    };
    let plan = plan(&definition.config[0], "c.php", text.as_bytes(), &cx).unwrap();
    let new = apply(&plan, Some(&definition.config[0]), text.as_bytes()).unwrap();
    (String::from_utf8(new).unwrap(), plan.diff)
}

fn value() -> impl Strategy<Value = String> {
    // A letter right before an address would make it another one, so every piece that ends in a letter has a space behind it.
    let piece = prop_oneof![
        Just("'"),
        Just("\""),
        Just("\\"),
        Just("$x "),
        Just("\n"),
        Just("é "),
        Just("http://www.old.example/cms/x "),
        Just("/home/old "),
        Just("#"),
        Just("// "),
        Just("?>"),
        Just("word "),
        Just("http://www.old.example.test "),
        Just("D:\\sites\\old\\tmp "),
    ];
    proptest::collection::vec(piece, 0..5).prop_map(|p| p.concat())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    #[test]
    fn exactly_the_keys_that_are_meant_change(values in proptest::collection::vec((value(), any::<bool>()), 4), password in value(), old_password in value(), crlf in any::<bool>()) {
        let quote = |v: &str, double: bool| php::quoted(v, if double { b"\"" } else { b"'" });
        let mut text = String::from("<?php\nclass JConfig {\n\t/* it's a comment */\n\tpublic $host = 'localhost';\n");
        for (i, (v, double)) in values.iter().enumerate() {
            text += &format!("\tpublic $k{i} = {}; // {i}\n", quote(v, *double));
        }
        text += &format!("\tpublic $db = \"o\";\n\tpublic $user = 'o';\n\tpublic $password = {};\n}}", quote(&old_password, crlf));
        if crlf {
            text = text.replace('\n', "\r\n");
        }
        let before = settings::read(ConfigForm::Php, text.as_bytes(), None).unwrap();
        let (new, diff) = edited("joomla", &text, &password);
        let after = settings::read(ConfigForm::Php, new.as_bytes(), None).unwrap();
        prop_assert_eq!(after.has_errors, before.has_errors);
        let got: Vec<_> = ["host", "db", "user", "password"].map(|k| after.value(k).unwrap_or("?").to_string()).to_vec();
        prop_assert_eq!(got, ["[::1]:3310", "nn", "nu", password.as_str()]);
        for i in 0..values.len() {
            let key = format!("k{i}");
            let old = before.value(&key).unwrap();
            let expected = old
                .replace("http://www.old.example/cms/x ", "https://new.example/x ");
            let new = after.value(&key).unwrap();
            // Paths have rules of their own about what stands before them; addresses are compared in full.
            if !old.contains("/home") && !old.contains("D:") {
                prop_assert_eq!(new, expected);
            }
        }
        if password.len() > 4 && !text.contains(&password) {
            prop_assert!(!diff.contains(&php::quoted(&password, b"'")), "{}", diff);
        }
        prop_assert_eq!(new.matches("\r\n").count() >= 4, crlf);
    }

    #[test]
    fn no_bytes_bring_a_reader_to_a_fall(bytes in proptest::collection::vec(prop_oneof![any::<u8>(), proptest::sample::select(&b"'\"\\{}[]:;%/<>?a0sOCd.\n(),"[..])], 0..300)) {
        let relocation = relocation();
        let needles = Needles::new(&relocation.pairs(), &[]);
        let cx = Context { relocation: &relocation, database: None, needles: &needles, table_prefix: None, put: &[] };
        let _ = serialized::leaves(&bytes);
        let _ = serialized::payload_leaves(&bytes);
        let _ = json::strings(&bytes);
        let _ = needles.findings(&bytes);
        let _ = htaccess::edits(&bytes, &relocation, &needles);
        prop_assert!(plan_text("t", &bytes, &cx).edits.is_empty(), "no random text names the old place");
        let php = [&b"<?php "[..], &bytes].concat();
        prop_assert!(settings::read(ConfigForm::Php, &php, None).is_ok());
        // With the old place in its middle it is found, whatever stands around a space.
        let named = [&bytes[..], b" http://www.old.example/cms ", &bytes].concat();
        let plain = needles.findings(&named).len();
        prop_assert!(plain >= 1);
    }
}

#[test]
fn windows_paths_and_aliases_move_and_an_address_of_others_is_said() {
    let text = "<?php class JConfig { var $live_site = 'http://old.example/cms/'; var $tmp_path = 'D:\\\\sites\\\\old\\\\tmp'; var $log_path = '/var/log/web';\
        var $host=''; var $db=''; var $user=''; var $password=''; var $cookie_path = '/cms/'; var $cookie_domain = '.other.example'; }";
    let (new, _) = edited("joomla", text, "p");
    assert!(new.contains("$live_site = 'https://new.example/'"), "{new}");
    // The part behind the root keeps its own separators: PHP takes both.
    assert!(new.contains(r"$tmp_path = '/srv/new\\tmp'"), "{new}");
    assert!(
        new.contains("$log_path = '/var/log/web'")
            && new.contains("$cookie_path = '/'")
            && new.contains("'.other.example'"),
        "{new}"
    );
    let relocation = relocation();
    let needles = Needles::new(&relocation.pairs(), &[]);
    let cx =
        Context { relocation: &relocation, database: None, needles: &needles, table_prefix: None, put: &[] };
    let definition = definition("joomla");
    let text = text.replace("http://old.example/cms/", "http://other.example");
    let plan = plan(&definition.config[0], "c.php", text.as_bytes(), &cx).unwrap();
    let said: Vec<&str> = plan.warnings.iter().map(|w| w.what.as_str()).collect();
    assert!(said[0].contains("none of the old addresses") && said[1].contains("/var/log/web"), "{said:?}");
}

#[test]
fn a_site_is_recognised_by_its_files_alone_and_its_config_is_read() {
    let known = system::load(None).unwrap();
    let mut tree = HeldTree::default();
    let hold = |tree: &mut HeldTree, path: &str, text: &str| {
        let path = zporter_core::archive::entry_path::EntryPath::check(path.as_bytes()).unwrap().unwrap();
        tree.held.insert(path, (text.as_bytes().to_vec(), 0o644));
    };
    let missing = recognise(&tree, &known).unwrap_err();
    assert_eq!(missing.len(), known.len());
    hold(
        &mut tree,
        "configuration.php",
        "<?php class JConfig { public $host='db:3307'; public $db='n'; public $user='u'; public $password='fake'; \
        public $log_path='/home/a/www/administrator/logs'; public $tmp_path='/home/a/www/tmp'; public $cache_path='/mnt/cache'; }",
    );
    assert!(recognise(&tree, &known).is_err(), "a config alone is no site");
    tree.seen.insert("administrator".into());
    let found = recognise(&tree, &known).unwrap();
    assert_eq!((found.product.as_str(), found.version), ("Joomla", None));
    hold(
        &mut tree,
        "includes/version.php",
        "<?php class JVersion { public $RELEASE = '1.7'; public $DEV_LEVEL = '5'; }",
    );
    assert_eq!(recognise(&tree, &known).unwrap().version.as_deref(), Some("1.7.5"));
    let facts = config_facts(&tree, &found.definition);
    let roots: Vec<String> = facts.roots.iter().map(ToString::to_string).collect();
    assert_eq!(roots, ["/home/a/www"]);
    let database = facts.database.unwrap();
    assert_eq!(
        (database.host.as_str(), database.port, database.password.expose()),
        ("db", Some(3307), "fake")
    );
    assert!(!format!("{database:?}").contains("fake"), "a secret cannot be printed");
}
