//! Config edits on any values a config can hold, and readers that no bytes can bring to a fall.

use crate::test_support::context;
use proptest::prelude::*;
use zporter_core::config::edit::{Context, FilePlan, apply, plan, plan_checked, plan_text};
use zporter_core::config::{self, htaccess};
use zporter_core::place::{Address, DatabaseAccess, Place, Relocation, Root};
use zporter_core::secret::Secret;
use zporter_core::survey::recognise::{config_facts, recognise};
use zporter_core::survey::site_files::HeldFiles;
use zporter_core::system::schema::{Config, ConfigForm};
use zporter_core::system::{self, Definition};
use zporter_core::text::replacements::Replacements;
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

/// Plans and applies the edit of a config text; returns the new text and the plan.
fn rewritten(
    config: &Config,
    text: &str,
    access: &DatabaseAccess,
    prefix: Option<&str>,
) -> (String, FilePlan) {
    let relocation = relocation();
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let cx = Context { table_prefix: prefix, ..context(&relocation, &replacements, Some(access)) };
    let plan = plan(config, "c.php", text.as_bytes(), &cx).unwrap();
    let new = apply(&plan, Some(config), text.as_bytes()).unwrap();
    (String::from_utf8(new).unwrap(), plan)
}

/// The same for a system's main config file; returns the new text and the preview.
fn edited(id: &str, text: &str, password: &str) -> (String, String) {
    let (new, plan) = rewritten(&definition(id).config[0], text, &access(password), None);
    (new, plan.diff)
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
        let quote = |v: &str, double: bool| php_quoted(v, if double { b"\"" } else { b"'" });
        let mut text = String::from("<?php\nclass JConfig {\n\t/* it's a comment */\n\tpublic $host = 'localhost';\n");
        for (i, (v, double)) in values.iter().enumerate() {
            text += &format!("\tpublic $k{i} = {}; // {i}\n", quote(v, *double));
        }
        text += &format!("\tpublic $db = \"o\";\n\tpublic $user = 'o';\n\tpublic $password = {};\n}}", quote(&old_password, crlf));
        if crlf {
            text = text.replace('\n', "\r\n");
        }
        let before = config::read(ConfigForm::Php, text.as_bytes(), None).unwrap();
        let (new, diff) = edited("joomla", &text, &password);
        let after = config::read(ConfigForm::Php, new.as_bytes(), None).unwrap();
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
        let elsewhere = [b"'", b"\""].iter().any(|q| text.contains(&php_quoted(&password, *q)));
        if password.len() > 4 && !text.contains(&password) && !elsewhere {
            prop_assert!(!diff.contains(&php_quoted(&password, b"'")), "{}", diff);
        }
        prop_assert_eq!(new.matches("\r\n").count() >= 4, crlf);
    }

    #[test]
    fn no_bytes_bring_a_reader_to_a_fall(bytes in proptest::collection::vec(prop_oneof![any::<u8>(), proptest::sample::select(&b"'\"\\{}[]:;%/<>?a0sOCd.\n(),"[..])], 0..300)) {
        let relocation = relocation();
        let replacements = Replacements::new(&relocation.pairs(), &[]);
        let cx = context(&relocation, &replacements, None);
        let _ = serialized::leaves(&bytes);
        let _ = serialized::payload_leaves(&bytes);
        let _ = json::strings(&bytes);
        let _ = replacements.findings(&bytes);
        let _ = htaccess::edits(&bytes, &relocation, &replacements);
        prop_assert!(plan_text("t", &bytes, &cx).edits.is_empty(), "no random text names the old place");
        let php = [&b"<?php "[..], &bytes].concat();
        prop_assert!(config::read(ConfigForm::Php, &php, None).is_ok());
        // With the old place in its middle it is found, whatever stands around a space.
        let named = [&bytes[..], b" http://www.old.example/cms ", &bytes].concat();
        let plain = replacements.findings(&named).len();
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
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let cx = context(&relocation, &replacements, None);
    let definition = definition("joomla");
    let text = text.replace("http://old.example/cms/", "http://other.example");
    let plan = plan(&definition.config[0], "c.php", text.as_bytes(), &cx).unwrap();
    let said: Vec<&str> = plan.findings.iter().map(|w| w.what.as_str()).collect();
    assert!(said[0].contains("none of the old addresses") && said[1].contains("/var/log/web"), "{said:?}");
}

#[test]
fn a_site_is_recognised_by_its_files_alone_and_its_config_is_read() {
    let known = system::load(None).unwrap();
    let mut tree = HeldFiles::default();
    let hold = |tree: &mut HeldFiles, path: &str, text: &str| {
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

/// Spells a PHP string in the quotes of an old one.
fn php_quoted(value: &str, old: &[u8]) -> String {
    ConfigForm::Php.format().quoted(value, old)
}

/// A config file of every form, with a name for each of its values.
fn written(form: ConfigForm, values: &[(&str, String)]) -> String {
    let spelled = |v: &str| match form {
        ConfigForm::Php => php_quoted(v, b"'"),
        ConfigForm::Xml => format!("\"{}\"", form.format().quoted(v, b"")),
        _ => form.format().quoted(v, b""),
    };
    let lines: Vec<String> = values
        .iter()
        .map(|(k, v)| (k, spelled(v)))
        .map(|(k, v)| match form {
            ConfigForm::Php => format!("    '{k}' => {v}, // {k}"),
            ConfigForm::Xml => format!("  <add key=\"{k}\" value={v} /> <!-- {k} -->"),
            ConfigForm::Yaml => format!("    {k}: {v} # {k}"),
            ConfigForm::Json => format!("    \"{k}\": {v}, // {k}"),
            ConfigForm::Python => format!("    '{k}': {v},  # {k}"),
            ConfigForm::Ini => format!("; {k}\n{k} = {v}"),
            _ => format!("{k}={v} # {k}"),
        })
        .collect();
    let body = lines.join("\n");
    match form {
        ConfigForm::Php => format!("<?php\n$db = array(\n  'default' => array(\n{body}\n  ),\n);\n"),
        ConfigForm::Xml => format!("<?xml version=\"1.0\"?>\n<configuration>\n {}\n</configuration>\n", body),
        ConfigForm::Yaml => format!("# a comment: x\ndb:\n{body}\n"),
        ConfigForm::Json => format!("{{\n  \"db\": {{\n{body}\n  }},\n}}\n"),
        ConfigForm::Python => format!("import os\ndb = {{\n{body}\n}}\n"),
        ConfigForm::Ini => format!("[db]\n{body}\n"),
        _ => format!("# A=b\n{body}\n"),
    }
}

/// The name under which a form knows a value.
fn named(form: ConfigForm, key: &str) -> String {
    match form {
        ConfigForm::Php => format!("db.default.{key}"),
        ConfigForm::Xml => format!("add[{key}]/@value"),
        ConfigForm::Yaml | ConfigForm::Json | ConfigForm::Python | ConfigForm::Ini => format!("db.{key}"),
        _ => key.to_string(),
    }
}

const FORMS: [ConfigForm; 8] = [
    ConfigForm::Php,
    ConfigForm::Xml,
    ConfigForm::Yaml,
    ConfigForm::Env,
    ConfigForm::Shell,
    ConfigForm::Json,
    ConfigForm::Ini,
    ConfigForm::Python,
];

proptest! {
    #![proptest_config(ProptestConfig { cases: 800, ..ProptestConfig::default() })]

    #[test]
    fn every_form_reads_back_what_was_written_and_keeps_the_rest(
        form in proptest::sample::select(&FORMS[..]),
        old in value(), other in value(), password in value(),
    ) {
        // These keep a value in one line.
        let one_line = matches!(form, ConfigForm::Yaml | ConfigForm::Ini | ConfigForm::Shell);
        let line = |v: String| if one_line { v.replace('\n', " ") } else { v };
        let (old, other, password) = (line(old), line(other), line(password));
        let keys = [("HOST", "localhost".to_string()), ("NAME", "o".into()), ("USER", "o".into()), ("PASS", old), ("OTHER", other.clone()), ("PREFIX", "fh_".into())];
        let text = written(form, &keys);
        let key = |name: &str, role: &str| format!("{{ name = \"{}\", role = \"{role}\" }},", named(form, name));
        let word = serde_json::to_value(form).unwrap();
        let definition = format!(
            "id='x'\nname='X'\n[[recognise]]\npath='c'\n[[config]]\npath='c'\nform={word}\nkey=[{}{}{}{}{}]\n",
            key("HOST", "database-host"), key("NAME", "database-name"), key("USER", "database-user"), key("PASS", "database-password"), key("PREFIX", "table-prefix")
        );
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("x.toml");
        std::fs::write(&file, definition).unwrap();
        let definition = system::read(&file).unwrap();
        let mut access = DatabaseAccess::parse("mysql://nu@dbh:3310/nn").unwrap();
        access.password = Secret::new(password.clone());
        let (new, _) = rewritten(&definition.config[0], &text, &access, Some("nu_"));
        let read = config::read(form, new.as_bytes(), None).unwrap();
        let got = ["HOST", "NAME", "USER", "PASS", "PREFIX"].map(|k| read.value(&named(form, k)).unwrap_or("?").to_string());
        prop_assert_eq!(got, ["dbh:3310".to_string(), "nn".into(), "nu".into(), password, "nu_".into()]);
        // What has no role changes by the replacements alone, and comments never do.
        if !other.contains("old") {
            prop_assert_eq!(read.value(&named(form, "OTHER")), Some(other.as_str()));
        }
        for (key, _) in &keys {
            let comment = if form == ConfigForm::Xml { format!("<!-- {key} -->") } else if matches!(form, ConfigForm::Php | ConfigForm::Json) { format!("// {key}") } else if form == ConfigForm::Ini { format!("; {key}") } else { format!("# {key}") };
            prop_assert!(new.contains(&comment), "{}", new);
        }
        prop_assert_eq!(new.lines().count(), text.lines().count() + new.matches('\n').count() - text.matches('\n').count());
    }
}

#[test]
fn a_port_or_socket_goes_where_the_config_has_a_place_for_it() {
    let edited = |id: &str, at: usize, text: &str, url: &str| {
        let mut access = DatabaseAccess::parse(url).unwrap();
        access.password = Secret::new("p");
        let (new, plan) = rewritten(&definition(id).for_site("default").config[at], text, &access, None);
        (new, plan.findings)
    };
    let drupal = "<?php $databases['default']['default'] = array('database' => 'o', 'username' => 'o', 'password' => 'o', 'host' => 'localhost', 'prefix' => '');";
    let (out, _) = edited("drupal-7", 1, drupal, "mysql://u@h:3310/n");
    assert!(out.contains("'host' => 'h', 'port' => '3310', 'prefix'"), "{out}");
    let (out, _) = edited("drupal-7", 1, drupal, "mysql://u@localhost/n?socket=/run/s");
    assert!(out.contains("'host' => 'localhost', 'unix_socket' => '/run/s', 'prefix'"), "{out}");
    let forum = "<?php $dbhost = 'o'; $dbport = '3306'; $dbname = 'o'; $dbuser = 'o'; $dbpasswd = 'o'; $table_prefix = 'p_';";
    let (out, _) = edited("phpbb", 0, forum, "mysql://u@localhost/n?socket=/run/s");
    assert!(out.contains("$dbhost = 'localhost'; $dbport = '/run/s';"), "{out}");
    let (out, _) = edited("phpbb", 0, forum, "mysql://u@h/n");
    assert!(out.contains("$dbhost = 'h'; $dbport = '3306';"), "{out}");
    let old_shop = "<?php define('DB_HOSTNAME', 'o'); define('DB_USERNAME', 'o'); define('DB_PASSWORD', 'o'); define('DB_DATABASE', 'o'); define('DIR_APPLICATION', '/x/catalog/');";
    let (out, _) = edited("opencart", 0, old_shop, "mysql://u@h:3310/n");
    assert!(out.contains("define('DB_HOSTNAME', 'h:3310');"), "{out}");
    let url = "<?php $db_url['default'] = 'mysqli://o:o@localhost/o'; $db_url['other'] = 'mysqli://x:y@localhost/z';";
    let (out, _) = edited("drupal-6", 0, url, "mysql://sky%40web@h:3310/n");
    assert_eq!(
        out,
        "<?php $db_url['default'] = 'mysqli://sky%40web:p@h:3310/n'; $db_url['other'] = 'mysqli://x:y@localhost/z';"
    );
    // Another kind of server is pointed out, not changed.
    let (_, findings) = edited(
        "phpbb",
        0,
        &forum.replace("<?php", "<?php $dbms = 'phpbb\\\\db\\\\driver\\\\postgres';"),
        "mysql://u@h/n",
    );
    assert!(findings.iter().any(|w| w.what.contains("`dbms`") && w.what.contains("MySQL")), "{findings:?}");
}

/// A config of PHP assignments, and what becomes of it on the way from one address to the other.
fn moved(keys: &str, text: &str, from: &str, to: &str) -> (String, Vec<String>) {
    let config: Config =
        toml::from_str(&format!("path = \"c.php\"\nform = \"php\"\nkey = [{keys}]\n")).unwrap();
    let place = |address: &str| Place {
        address: Address::parse(address).unwrap(),
        root: Root::parse("/home/old").unwrap(),
        database: None,
    };
    let mut relocation = relocation();
    (relocation.from, relocation.to, relocation.aliases) = (place(from), place(to), vec![]);
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let cx = context(&relocation, &replacements, None);
    let plan = plan_checked(&config, "c.php", text.as_bytes(), &cx).unwrap();
    let new = apply(&plan, Some(&config), text.as_bytes()).unwrap();
    (String::from_utf8(new).unwrap(), plan.findings.into_iter().map(|w| w.what).collect())
}

#[test]
fn origin_and_base_in_keys_of_their_own_follow_and_tails_stay() {
    const KEYS: &str = "{ name = \"server\", role = \"address\", form = \"origin\" }, { name = \"way\", role = \"base-path\", form = \"/base\", at_root = \"\" }, \
        { name = \"pictures\", role = \"address\", form = \"url/\" }";
    let config = |server: &str, way: &str, pictures: &str| {
        format!("<?php\n$server = \"{server}\";\n$way = '{way}';\n$pictures = '{pictures}';\n")
    };
    let old =
        [("http://old.example", ""), ("https://old.example:8443", "/w"), ("http://old.example", "/a/b")];
    let new =
        [("https://new.example", ""), ("http://new.example:81", "/wiki"), ("https://new.example", "/x/y")];
    for (from, to) in old.iter().flat_map(|o| new.iter().map(move |n| (o, n))) {
        let address = |(server, way): &(&str, &str)| format!("{server}{way}");
        for spelled in [true, false] {
            let server = |origin: &str| {
                if spelled { origin.to_string() } else { origin[origin.find("//").unwrap()..].to_string() }
            };
            let of = |place: &(&str, &str)| {
                config(&server(place.0), place.1, &format!("{}/img/logo.png?v=1", address(place)))
            };
            let (out, said) = moved(KEYS, &of(from), &address(from), &address(to));
            assert_eq!((out, said), (of(to), vec![]), "{from:?} to {to:?}");
        }
    }
    // Elsewhere than at the root, nothing means that the system finds its place by itself.
    let alone = config("//old.example", "", "");
    assert!(moved(KEYS, &alone, "http://old.example/cms", "http://new.example/b").0.contains("$way = '';"));
    let (_, said) = moved(
        KEYS,
        &config("http://cdn.example", "/other", "http://cdn.example/i"),
        "http://old.example",
        "http://new.example",
    );
    assert_eq!(said.len(), 3, "{said:?}");
}

#[test]
fn a_file_that_is_not_what_it_is_called_is_left_and_said() {
    let config = Config { form: ConfigForm::Yaml, ..definition("prestashop-7").config[1].clone() };
    let relocation = relocation();
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let access = access("it's");
    let cx = context(&relocation, &replacements, Some(&access));
    let lines = "parameters:\n  database_host: h\n  database_name: 'n'\n  database_user: u\n  database_password: \"p\"\n  x: [1, {a: '}'}]\n";
    let json = "{\n  \"parameters\": {\n    \"database_host\": \"h\",\n    \"database_name\": \"n\",\n    \"database_user\": \"u\",\n    \"database_password\": \"p\"\n  }\n}\n";
    for (text, sound) in [
        (lines, true),
        (json, false),
        (&lines.replace("x:", "x: {"), false),
        ("parameters:\n  database_host: h\n\tdatabase_name: n\n", false),
    ] {
        let plan = plan_checked(&config, "p.yml", text.as_bytes(), &cx).unwrap();
        let new = String::from_utf8(apply(&plan, Some(&config), text.as_bytes()).unwrap()).unwrap();
        assert_eq!(new != text, sound, "{new}");
        assert_eq!(
            plan.findings.iter().any(|w| w.what.starts_with("was left as it is")),
            !sound,
            "{:?}",
            plan.findings
        );
        assert!(!sound || new.contains("database_password: 'it''s'\n  x: [1, {a: '}'}]"), "{new}");
    }
}
