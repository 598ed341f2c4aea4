//! Sites as they really are: rows and files that made-up sites lack. Each test names what a site would have lost.

use crate::test_support::pairs;
use std::collections::BTreeSet;
use std::path::Path;
use zporter_core::config::edit::{Context, KeyPut, apply, plan};
use zporter_core::dump::dialect::Dialect;
use zporter_core::dump::inspect::inspect;
use zporter_core::dump::rules::{CodedColumn, Keep, RowSetting, Rules, Start};
use zporter_core::dump::spread::rewrite;
use zporter_core::dump::stream::{Source, WINDOW};
use zporter_core::place::{Address, DatabaseAccess, Pairs, Place, Relocation, Root};
use zporter_core::restore::edits::cells;
use zporter_core::survey::address::{self, AddressFinding};
use zporter_core::survey::recognise::{ConfigFacts, config_facts, config_files, recognise};
use zporter_core::survey::risks::other_servers;
use zporter_core::survey::site_files::FolderFiles;
use zporter_core::system::copy::SwitchName;
use zporter_core::system::{self, Definition, table_rule};
use zporter_core::text::column_code::ColumnCode;
use zporter_core::text::replacements::{LeftReason, Replacements};
use zporter_core::tree::LocalTree;

fn definition(id: &str) -> Definition {
    system::load(None).unwrap().into_iter().find(|k| k.definition.id == id).unwrap().definition
}

fn relocation(old: &str, aliases: &[&str], new: &str) -> Relocation {
    let address = |t: &str| Address::parse(t).unwrap();
    let place =
        |a: &str, r: &str| Place { address: address(a), root: Root::parse(r).unwrap(), database: None };
    Relocation {
        from: place(old, "/home/old"),
        aliases: aliases.iter().map(|a| address(a)).collect(),
        other_roots: Vec::new(),
        further: Vec::new(),
        outside: Vec::new(),
        to: place(new, "/srv/new"),
    }
}

/// Rewrites a dump by rules that `with` completes.
fn rewritten(dump: &str, pairs: &Pairs, with: impl FnOnce(&mut Rules<'_>)) -> String {
    let replacements = Replacements::new(pairs, &[]);
    let keep = |_: &str| Keep::All;
    let mut rules = Rules::new(&replacements, &keep);
    with(&mut rules);
    let source = Source::new(dump.as_bytes(), WINDOW, None).unwrap();
    let (out, ..) = rewrite(source, &rules, Vec::new()).unwrap();
    String::from_utf8(out).unwrap()
}

/// Writes files, and reads them as a site of whatever system.
fn site(files: &[(&str, &str)]) -> (tempfile::TempDir, FolderFiles) {
    let folder = tempfile::tempdir().unwrap();
    for (path, text) in files {
        let path = folder.path().join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }
    let files = FolderFiles(LocalTree::at(folder.path()));
    (folder, files)
}

fn found(id: &str, dump: &str) -> AddressFinding {
    let definition = definition(id);
    let wanted = address::wanted_rows(&definition, "p_");
    let inspection = inspect(dump.as_bytes(), &wanted, true).unwrap();
    let facts = ConfigFacts { table_prefix: "p_".into(), ..ConfigFacts::default() };
    address::find(&definition, &facts, Some(&inspection))
}

#[test]
fn addresses_in_the_spelling_of_old_posts_move_and_keep_it() {
    let pairs = pairs(&[("http://www.old.example:81/board", "https://new.example/b")], &[]);
    let post = |host: &str| {
        format!("[url=http&#58;//{host}/viewtopic&#46;php?t=1:2ab]see[/url:2ab] at 12&#58;30, v1&#46;0")
    };
    let dump = |old: &str, plain: &str| {
        format!(
            "CREATE TABLE p_posts (id int, post_text text);\nINSERT INTO p_posts VALUES (1,'{}'),(2,'{plain}/x'),(3,'a&#46;b &amp; c');\n",
            post(old)
        )
    };
    let old = dump("www&#46;old&#46;example&#58;81/board", "http://www.old.example:81/board");
    let new = old
        .replace("http&#58;//www&#46;old&#46;example&#58;81/board", "https&#58;//new&#46;example/b")
        .replace("http://www.old.example:81/board", "https://new.example/b");
    let rule = |rules: &mut Rules<'_>| {
        rules.coded = vec![CodedColumn {
            table: "p_posts".into(),
            column: "post_text".into(),
            code: ColumnCode::DotsAndColons,
        }];
    };
    assert_eq!(rewritten(&old, &pairs, rule), new);
    // Without the definition's word nobody sees them.
    assert!(rewritten(&old, &pairs, |_| {}).contains("www&#46;old"));
    let columns: Vec<_> = definition("phpbb").coded.into_iter().map(|c| (c.table, c.column)).collect();
    assert!(
        columns.contains(&("posts".into(), "post_text".into()))
            && columns.contains(&("users".into(), "user_sig".into()))
    );
}

#[test]
fn rows_that_nobody_keeps_in_step_give_no_port() {
    let config = |protocol: &str, port: &str| {
        let rows = [
            ("server_name", "board.example"),
            ("server_protocol", protocol),
            ("server_port", port),
            ("script_path", "/forum"),
        ];
        let rows: Vec<String> = rows.iter().map(|(k, v)| format!("('{k}','{v}')")).collect();
        format!(
            "CREATE TABLE p_config (config_name varchar(255), config_value text);\nINSERT INTO p_config VALUES {};\n",
            rows.join(",")
        )
    };
    for (protocol, port, address) in [
        ("https://", "80", "https://board.example/forum"),
        ("http://", "443", "http://board.example/forum"),
        ("https://", "443", "https://board.example/forum"),
        ("http://", "8080", "http://board.example:8080/forum"),
    ] {
        assert_eq!(found("phpbb", &config(protocol, port)).address.unwrap().to_string(), address);
    }
}

#[test]
fn further_portals_of_a_host_follow_and_two_that_would_become_one_do_not() {
    let dump = "CREATE TABLE PortalAlias (PortalAliasID int, PortalID int, HTTPAlias nvarchar(200), IsPrimary bit);\n\
        INSERT INTO PortalAlias VALUES (1,0,'www.old.example/p',1),(2,0,'old.example/p',0),(3,1,'www.old.example/p/kids',1),(4,0,'www.old.example/p/de-de',0),(5,0,'www.old.example/pub',0);\n";
    let relocation = relocation("http://www.old.example/p", &["http://old.example/p"], "https://new.example");
    let out = rewritten(dump, &relocation.pairs(), |rules| {
        rules.cells = cells(&definition("dnn"), "");
        rules.relocation = Some(Box::leak(Box::new(relocation.clone())));
    });
    for row in [
        "(1,0,'new.example',1)",
        "(2,0,'old.example/p',0)",
        "(3,1,'new.example/kids',1)",
        "(4,0,'new.example/de-de',0)",
        "(5,0,'www.old.example/pub',0)",
    ] {
        assert!(out.contains(row), "{row}: {out}");
    }
}

#[test]
fn the_shop_that_is_meant_tells_the_address_and_its_further_rows_are_aliases() {
    let dump = "CREATE TABLE p_shop_url (id_shop_url int, id_shop int, domain varchar(150), domain_ssl varchar(150), physical_uri varchar(64), main tinyint);\n\
        INSERT INTO p_shop_url VALUES (1,2,'kids.example','kids.example','/',1),(2,1,'shop.example','shop.example','/s/',1),(3,1,'www.shop.example','www.shop.example','/s/',0);\n\
        CREATE TABLE p_configuration (id int, name varchar(254), value text);\nINSERT INTO p_configuration VALUES (1,'PS_SHOP_DEFAULT','1'),(2,'PS_SSL_ENABLED','1');\n";
    let found = found("prestashop-7", dump);
    let text = |list: &[Address]| list.iter().map(ToString::to_string).collect::<Vec<_>>();
    assert_eq!(found.address.unwrap().to_string(), "https://shop.example/s");
    assert_eq!(text(&found.aliases), ["https://www.shop.example/s"]);
    assert_eq!(text(&found.others), ["https://kids.example"]);
    // The unique keys of the table let two rows of one host in nowhere.
    let relocation =
        relocation("https://shop.example/s", &["https://www.shop.example/s"], "https://new.example");
    let out = rewritten(dump, &relocation.pairs(), |rules| {
        rules.cells = cells(&definition("prestashop-7"), "p_");
        rules.relocation = Some(Box::leak(Box::new(relocation.clone())));
    });
    assert!(
        out.contains(
            "(2,1,'new.example','new.example','/',1),(3,1,'www.shop.example','www.shop.example','/s/',0)"
        ),
        "{out}"
    );
}

#[test]
fn a_newer_shop_is_not_taken_for_the_old_one_whose_settings_survived() {
    let old = "<?php\ndefine('_DB_SERVER_', 'old');\ndefine('_DB_NAME_', 'old');\ndefine('_COOKIE_KEY_', 'fake');\ndefine('_PS_VERSION_', '1.6.1.24');\n";
    let new = "<?php return array('parameters' => array('database_host' => 'h', 'database_name' => 'new', 'database_user' => 'u', 'database_password' => 'fake%%pass', 'database_prefix' => 'ps_'));";
    let (_folder, files) = site(&[
        ("config/settings.inc.php", old),
        ("app/config/parameters.php", new),
        ("app/AppKernel.php", "<?php class AppKernel { const VERSION = '1.7.8.11'; }"),
    ]);
    let known = system::load(None).unwrap();
    let seen = recognise(&files, &known).unwrap();
    assert_eq!((seen.definition.id.as_str(), seen.version.as_deref()), ("prestashop-7", Some("1.7.8.11")));
    let access = config_facts(&files, &seen.definition).database.unwrap();
    assert_eq!((access.name.as_str(), access.password.expose()), ("new", "fake%pass"));
    let (_folder, files) = site(&[("config/settings.inc.php", old)]);
    assert_eq!(recognise(&files, &known).unwrap().definition.id, "prestashop");
}

#[test]
fn a_percent_sign_in_parameters_is_doubled_and_a_socket_is_not_taken_for_a_port() {
    let relocation = relocation("http://old.example", &[], "http://new.example");
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let mut access = DatabaseAccess::parse("mysql://u@localhost/n?socket=/run/own.sock").unwrap();
    access.password = zporter_core::secret::Secret::new("50%of%%it");
    let cx = Context {
        relocation: &relocation,
        database: Some(&access),
        replacements: &replacements,
        table_prefix: None,
        put: &[],
        put_only: false,
    };
    let old = "<?php return array('parameters' => array('database_host' => 'h', 'database_port' => '3306', 'database_name' => 'o', 'database_user' => 'o', 'database_password' => 'a%%b', 'database_prefix' => 'ps_'));";
    let config = &definition("prestashop-7").config[0];
    let planned = plan(config, "parameters.php", old.as_bytes(), &cx).unwrap();
    let new = String::from_utf8(apply(&planned, Some(config), old.as_bytes()).unwrap()).unwrap();
    assert!(new.contains("'database_password' => '50%%of%%%%it'") && !new.contains("own.sock"), "{new}");
    assert!(
        planned.findings.iter().any(|f| f.what.contains("cannot name a socket")),
        "{:?}",
        planned.findings
    );
    let shop = "<?php define('DB_HOSTNAME', 'h'); define('DB_PORT', '3306'); define('DB_DATABASE', 'o'); define('DB_USERNAME', 'o'); define('DB_PASSWORD', 'o'); define('DIR_APPLICATION', '/home/old/catalog/');";
    let config = &definition("opencart").config[0];
    let planned = plan(config, "config.php", shop.as_bytes(), &cx).unwrap();
    let new = String::from_utf8(apply(&planned, Some(config), shop.as_bytes()).unwrap()).unwrap();
    assert!(new.contains("define('DB_PORT', '3306')"), "a port that is no number ends the shop: {new}");
}

#[test]
fn a_value_in_bytes_is_set_in_bytes() {
    let hex = |text: &str| text.bytes().map(|b| format!("{b:02x}")).collect::<String>();
    let (old, new) = ("a:1:{s:3:\"css\";i:900;}", "a:1:{s:3:\"css\";i:0;}");
    let dump = |text: &str| {
        format!(
            "--\n-- PostgreSQL database dump\n--\nCOPY public.config (collection, name, data) FROM stdin;\n\tsystem.performance\t\\\\x{}\n\tother\t\\\\x00ff\n\\.\n",
            hex(text)
        )
    };
    let out = rewritten(&dump(old), &Pairs::default(), |rules| {
        rules.settings = vec![RowSetting {
            table: "config".into(),
            column: "data".into(),
            only: vec![("name".into(), "system.performance".into())],
            value: b"i:0;".to_vec(),
            within: vec!["css".into()],
        }];
    });
    assert_eq!(out, dump(new), "{:?}", Dialect::Postgres);
}

#[test]
fn several_edits_of_one_value_in_bytes_never_meet() {
    let hex = |text: &str| text.bytes().map(|b| format!("{b:02X}")).collect::<String>();
    let value = |css: &str, host: &str| {
        let address = format!("https://{host}/a");
        format!(
            "a:3:{{s:3:\"css\";i:{css};s:4:\"home\";s:{}:\"{address}\";s:2:\"js\";i:{css};}}",
            address.len()
        )
    };
    let relocation = relocation("https://old.example", &[], "https://brand-new.example");
    for (open, close) in [("0x", ""), ("X'", "'"), ("_binary '", "'"), ("'", "'")] {
        let spelled = |text: &str| match open {
            "0x" | "X'" => format!("{open}{}{close}", hex(text)),
            _ => format!("{open}{}{close}", text.replace('"', "\\\"")),
        };
        let dump = |css: &str, host: &str, around: &str| {
            let data = spelled(&value(css, host));
            format!(
                "INSERT INTO `config` (`name`,`note`,`data`,`more`) VALUES ('one','https://{around}/x',{data},{data});\n"
            )
        };
        let out = rewritten(&dump("900", "old.example", "old.example"), &relocation.pairs(), |rules| {
            let put = |key: &str| RowSetting {
                table: "config".into(),
                column: "data".into(),
                only: vec![("name".into(), "one".into())],
                value: b"i:0;".to_vec(),
                within: vec![key.into()],
            };
            rules.settings = vec![put("css"), put("js")];
        });
        let first = spelled(&value("0", "brand-new.example"));
        let second = spelled(&value("900", "brand-new.example"));
        let wanted = format!(
            "INSERT INTO `config` (`name`,`note`,`data`,`more`) VALUES ('one','https://brand-new.example/x',{first},{second});\n"
        );
        // Which of two spellings of a quote stands there does not matter.
        assert_eq!(out.replace('\\', ""), wanted.replace('\\', ""), "{open}");
    }
}

#[test]
fn tables_that_are_seeded_once_keep_their_rows() {
    for (id, table, left_out) in [
        ("joomla", "p_finder_terms_common", false),
        ("joomla", "p_finder_terms", true),
        ("dnn", "p_Journal_Types", false),
        ("dnn", "p_Journal_Data", true),
        ("drupal-7", "p_search_api_server", false),
        ("drupal-7", "p_search_dataset", true),
        ("drupal", "p_search_api_db_content", true),
        // Sites of a network number theirs.
        ("wordpress", "p_3_actionscheduler_actions", true),
        ("wordpress", "p_3_posts", false),
        ("prestashop", "p_statistics", false),
    ] {
        assert_eq!(table_rule(&definition(id), "p_", table).is_some(), left_out, "{id} {table}");
    }
}

#[test]
fn switches_have_a_way_back_and_mail_is_off_in_every_line() {
    for known in system::load(None).unwrap() {
        let all = &known.definition.switch;
        for switch in all {
            let states: BTreeSet<&str> = (all.iter().filter(|s| s.name == switch.name))
                .flat_map(|s| s.states.keys().map(String::as_str))
                .collect();
            // The mail server of a portal is not known to us, so that mail can be switched off alone.
            let one_way = known.definition.id == "dnn" && switch.name == SwitchName::Mail;
            assert!(states.len() > 1 || one_way, "{} {:?} {states:?}", known.definition.id, switch.name);
        }
    }
    let word = definition("wordpress");
    let mail =
        word.switch.iter().find(|s| s.set.file.as_ref().is_some_and(|f| f.path.contains("mail"))).unwrap();
    assert!(
        mail.set.file.as_ref().unwrap().content.contains("function wp_mail()"),
        "below 5.7 only this helps"
    );
    assert!(Path::new(&mail.set.file.as_ref().unwrap().path).starts_with("wp-content/mu-plugins"));
}

#[test]
fn every_site_of_a_network_moves_with_its_own_tables() {
    let menu = |table: &str| {
        format!(
            "CREATE TABLE `{table}` (`meta_id` int, `post_id` int, `meta_key` varchar(255), `meta_value` longtext);\nINSERT INTO `{table}` VALUES (1,2,'_menu_item_url','/blog/page');\n"
        )
    };
    let dump = [menu("p_postmeta"), menu("p_3_postmeta"), menu("q_postmeta")].concat();
    let relocation = relocation("https://old.example/blog", &[], "https://new.example");
    let out = rewritten(&dump, &relocation.pairs(), |rules| {
        rules.cells = cells(&definition("wordpress"), "p_");
        rules.relocation = Some(Box::leak(Box::new(relocation.clone())));
    });
    let values: Vec<&str> = out.lines().filter(|l| l.starts_with("INSERT")).collect();
    assert!(
        values[0].contains("'/page'") && values[1].contains("'/page'") && values[2].contains("'/blog/page'"),
        "{out}"
    );
}

#[test]
fn a_host_that_joins_is_found_by_its_folder_in_every_line() {
    let address = Address::parse("https://kids.example").unwrap();
    let way = |id: &str, folder: &str| {
        let hosts = definition(id).hosts.unwrap();
        zporter_core::restore::hosts::way(&hosts, folder, &address).map(|w| w.describe())
    };
    // 8 and later look for folders of hosts only where the map is there.
    assert!(way("drupal", "kids.example").unwrap().contains("sites/sites.php"));
    assert_eq!(way("drupal-7", "kids.example"), None);
    assert_eq!(way("drupal", "default"), None);
}

/// Plans the edits of a site's config files, and returns each new text and what was found.
fn edited(id: &str, files: &[(&str, &str)], cx: &Context<'_>) -> Vec<(String, String, String)> {
    let (_folder, files) = site(files);
    let definition = definition(id);
    let found = config_files(&files, &definition).into_iter().map(|file| {
        let planned = plan(file.config, &file.path, &file.text, cx).unwrap();
        let new = apply(&planned, Some(file.config), &file.text).unwrap();
        (file.path, String::from_utf8(new).unwrap(), format!("{:?}", planned.findings))
    });
    found.collect()
}

#[test]
fn a_board_whose_database_is_a_file_names_it_as_its_host() {
    let config = "<?php\n$dbms = 'phpbb\\\\db\\\\driver\\\\sqlite3';\n$dbhost = '/home/old/store/board.db';\n$dbport = '';\n$dbname = '';\n$dbuser = '';\n$dbpasswd = '';\n$table_prefix = 'phpbb_';\n";
    let (_folder, files) = site(&[("config.php", config)]);
    let facts = config_facts(&files, &definition("phpbb"));
    let access = facts.database.unwrap();
    assert_eq!((access.engine.facts().is_file, access.name.as_str()), (true, "/home/old/store/board.db"));
    let relocation = relocation("http://old.example", &[], "http://new.example");
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let new = DatabaseAccess::parse("sqlite:/srv/new/store/board.db").unwrap();
    let (table_prefix, put) = (None, &[][..]);
    let cx = Context {
        relocation: &relocation,
        database: Some(&new),
        replacements: &replacements,
        table_prefix,
        put,
        put_only: false,
    };
    let text = &edited("phpbb", &[("config.php", config)], &cx)[0].1;
    assert!(
        text.contains("$dbhost = '/srv/new/store/board.db';") && text.contains("$dbname = '';"),
        "{text}"
    );
}

#[test]
fn a_setting_that_older_configs_lack_gets_a_line_of_its_own() {
    let config = "<?php\r\nclass JConfig {\r\n\tvar $mailer = 'mail'; // as it was\r\n\tvar $db = 'old';\r\n\tvar $host = 'h';\r\n\tvar $user = 'u';\r\n\tvar $password = 'p';\r\n}\r\n";
    let relocation = relocation("http://old.example", &[], "http://new.example");
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let put = [KeyPut { key: "mailonline".into(), value: "0".into(), beside: Some("mailer".into()) }];
    let (database, table_prefix) = (None, None);
    let cx = Context {
        relocation: &relocation,
        database,
        replacements: &replacements,
        table_prefix,
        put: &put,
        put_only: false,
    };
    let text = &edited("joomla", &[("configuration.php", config)], &cx)[0].1;
    let expected = "\tvar $mailer = 'mail'; // as it was\n\tvar $mailonline = '0';\r\n\tvar $db";
    assert!(text.contains(expected), "{text:?}");
}

#[test]
fn tables_of_accounts_that_a_config_names_follow_the_prefix() {
    let config = "<?php\ndefine('DB_NAME', 'o');\n$table_prefix = 'wp_';\ndefine('CUSTOM_USER_TABLE', 'wp_members');\ndefine('CUSTOM_USER_META_TABLE', 'shared_meta');\n";
    let relocation = relocation("http://old.example", &[], "http://new.example");
    let replacements = Replacements::new(&relocation.pairs(), &[]);
    let (database, put) = (None, &[][..]);
    let cx = Context {
        relocation: &relocation,
        database,
        replacements: &replacements,
        table_prefix: Some("nu_"),
        put,
        put_only: false,
    };
    let text = &edited("wordpress", &[("wp-config.php", config)], &cx)[0].1;
    assert!(text.contains("'nu_members'") && text.contains("'shared_meta'"), "{text}");
}

#[test]
fn keys_that_begin_like_the_usual_prefix_by_chance_keep_their_names() {
    let dump = "CREATE TABLE `wp_usermeta` (`umeta_id` int, `user_id` int, `meta_key` varchar(255), `meta_value` longtext);\nINSERT INTO `wp_usermeta` VALUES (1,1,'wp_capabilities','x'),(2,1,'wp_3_user_level','x'),(3,1,'wp_starmap_zoom','x');\n";
    let names = definition("wordpress").prefix_key.into_iter().find(|k| k.usual.is_some()).unwrap();
    let replacements = Replacements::new(&Pairs::default(), &[]);
    let keep = |_: &str| Keep::All;
    let mut rules = Rules::new(&replacements, &keep);
    rules.starts = vec![Start {
        table: "wp_usermeta".into(),
        column: names.column,
        old: "wp_".into(),
        new: "nu_".into(),
        names: names.names,
        tell_others: true,
        what: "prefix",
    }];
    let source = Source::new(dump.as_bytes(), WINDOW, None).unwrap();
    let (out, done, _) = rewrite(source, &rules, Vec::new()).unwrap();
    let out = String::from_utf8(out).unwrap();
    assert!(out.contains("'nu_capabilities'") && out.contains("'nu_3_user_level'"), "{out}");
    assert!(out.contains("'wp_starmap_zoom'"), "{out}");
    assert_eq!(done.tally.left().get(&LeftReason::LikePrefix), Some(&1));
}

#[test]
fn settings_that_nothing_includes_do_not_count_and_further_servers_do() {
    let database = |name: &str| {
        format!(
            "$databases['default']['default'] = ['database' => '{name}', 'username' => 'u', 'password' => 'p', 'host' => 'localhost', 'driver' => 'mysql', 'prefix' => ''];\n"
        )
    };
    let more = "$databases['legacy']['default'] = ['database' => 'l', 'host' => 'legacy.fernhollow.example'];\n$databases['default']['replica'][] = ['host' => 'second.fernhollow.example'];\n";
    let includes = [
        ("# include $app_root . '/' . $site_path . '/settings.local.php';\n", "live"),
        ("/*\n include '/x/settings.local.php';\n*/\n", "live"),
        ("include $app_root . '/' . $site_path . '/settings.local.php';\n", "own"),
        ("include \"$app_root/$site_path/settings.local.php\";\n", "own"),
    ];
    let definition = definition("drupal").for_site("default");
    for (include, expected) in includes {
        let settings = format!("<?php\n{}{more}{include}", database("live"));
        let local = format!("<?php\n{}", database("own"));
        let files = [
            ("sites/default/settings.php", settings.as_str()),
            ("sites/default/settings.local.php", local.as_str()),
        ];
        let (_folder, files) = site(&files);
        let facts = config_facts(&files, &definition);
        assert_eq!(facts.database.as_ref().unwrap().name, expected, "{include}");
        let told: Vec<_> = other_servers(&facts).map(|f| f.what).collect();
        assert!(told.iter().any(|t| t.contains("legacy.fernhollow.example")), "{told:?}");
        assert!(!told.iter().any(|t| t.contains("localhost")), "{told:?}");
    }
}

#[test]
fn content_that_lies_elsewhere_is_found_there() {
    let config = "<?php\ndefine('DB_NAME', 'o');\n$table_prefix = 'wp_';\ndefine('WP_CONTENT_DIR', __DIR__ . '/assets');\ndefine('UPLOADS', 'files');\n";
    let (folder, files) = site(&[("wp-config.php", config)]);
    let definition = definition("wordpress");
    let facts = config_facts(&files, &definition);
    let moved = facts.moved_folders(&definition, Some(folder.path()));
    let definition = definition.with_folders_at(&moved);
    let media: Vec<&str> = definition.media.iter().map(|m| m.path.as_str()).collect();
    assert_eq!(media, ["files", "assets/blogs.dir"]);
    assert!(definition.cache.iter().any(|c| c.path == "assets/cache"));
    let silent = definition
        .switch
        .iter()
        .filter_map(|s| s.set.file.as_ref())
        .any(|f| f.path.starts_with("assets/mu-plugins"));
    assert!(silent, "what stops the mail has to lie where the program looks");
}

#[test]
fn rows_that_a_board_does_not_use_are_a_hint() {
    let rows = |used: &str| {
        format!(
            "CREATE TABLE p_config (config_name varchar(90), config_value varchar(90));\nINSERT INTO p_config VALUES ('server_protocol','https://'),('server_name','old.example'),('server_port','80'),('script_path','/forum'),('force_server_vars','{used}');\n"
        )
    };
    let hint = found("phpbb", &rows("0"));
    assert!(hint.concluded && hint.learned_from.contains("may be old"), "{hint:?}");
    assert_eq!(hint.address.unwrap().to_string(), "https://old.example/forum");
    assert!(!found("phpbb", &rows("1")).concluded);
}

#[test]
fn what_is_right_everywhere_needs_no_word() {
    let dump = "CREATE TABLE p_config (config_name varchar(90), config_value varchar(90));\nINSERT INTO p_config VALUES ('cookie_path','/'),('script_path','/forum');\n";
    let relocation = relocation("http://old.example/forum", &[], "https://new.example/board");
    let pairs = relocation.pairs();
    let replacements = Replacements::new(&pairs, &[]);
    let keep = |_: &str| Keep::All;
    let mut rules = Rules::new(&replacements, &keep);
    rules.cells = cells(&definition("phpbb"), "p_");
    rules.relocation = Some(&relocation);
    let source = Source::new(dump.as_bytes(), WINDOW, None).unwrap();
    let (out, done, _) = rewrite(source, &rules, Vec::new()).unwrap();
    let out = String::from_utf8(out).unwrap();
    assert!(out.contains("('cookie_path','/'),('script_path','/board')"), "{out}");
    let told: Vec<&str> = done.cells.iter().map(|c| c.row.as_str()).collect();
    assert_eq!(told, ["config_name = script_path"]);
}
