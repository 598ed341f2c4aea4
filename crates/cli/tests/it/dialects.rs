//! `readdress` on dumps that real servers, their tools and PHP itself wrote: there and back is the same, and what was moved loads.

use super::common::mariadb::server;
use super::common::{Bench, outcome, php, postgres};
use std::process::Command;
use zporter_standin::{Site, Variant};

const OLD: &str = "http://old.example/s";
const NEW: &str = "https://new.example:81/longer/base";

/// Moves there and back, and expects the same bytes.
fn there_and_back(bench: &Bench, before: &[u8]) {
    bench.write("in.sql", before);
    let pair = |a: &'static str, b: &'static str, ra: &'static str, rb: &'static str| {
        ["--address", a, b, "--root", ra, rb]
    };
    let run = |from: &str, to: &str, pair: [&str; 6]| {
        let _ = std::fs::remove_file(bench.path(to));
        let _ = bench.run(&[&["readdress", from, "-o", to], &pair[..]].concat()).says(&["Rewrote"]);
    };
    run("in.sql", "there.sql", pair(OLD, NEW, "/home/old", "/srv/new site"));
    run("there.sql", "back.sql", pair(NEW, OLD, "/srv/new site", "/home/old"));
    let back = std::fs::read(bench.path("back.sql")).unwrap();
    assert_eq!(String::from_utf8_lossy(&back), String::from_utf8_lossy(before));
    assert_ne!(std::fs::read(bench.path("there.sql")).unwrap(), before);
}

const POSTGRES: &str = r#"
CREATE TABLE public.post (id serial PRIMARY KEY, title varchar(80) DEFAULT 'see http://old.example/s', body text, meta jsonb, raw bytea, "Odd Name" text);
INSERT INTO public.post (title, body, meta, raw, "Odd Name") VALUES
 ('one', E'line\nhttp://old.example/s/x\ttab \\ back', '{"u": "http://old.example/s/y"}', convert_to('s:9:"/home/old";', 'UTF8'), 'it''s'),
 ('two', 'a:1:{s:1:"u";s:20:"http://old.example/s";}', NULL, '\x00ff', E'C:\\old'),
 ('three', '\N is no null', '[]', NULL, '');
CREATE FUNCTION public.home() RETURNS text LANGUAGE sql AS $_$ SELECT 'http://old.example/s'::text; $_$;
CREATE VIEW public.v AS SELECT 'http://old.example/s/'::text || title AS u FROM public.post;
COMMENT ON TABLE public.post IS 'from /home/old';
"#;

#[test]
fn postgres_dumps_move_and_load() {
    let Some(server) = postgres::Server::start() else { return };
    let bench = Bench::new();
    bench.write("schema.sql", POSTGRES);
    server.create("a");
    server.load("a", &bench.path("schema.sql"));
    bench.write("ask.sql", "SELECT body, meta->>'u', convert_from(raw, 'UTF8'), public.home() FROM public.post WHERE id = 1;\nSELECT body FROM public.post WHERE id = 2;\nSELECT u FROM public.v WHERE u LIKE '%three';\nSELECT count(*) FROM public.post;\n");
    for (database, options) in [
        ("copy", &[][..]),
        ("inserts", &["--inserts"]),
        ("columns", &["--column-inserts", "--rows-per-insert=2"]),
    ] {
        there_and_back(&bench, server.dump("a", options).as_bytes());
        server.create(database);
        server.load(database, &bench.path("there.sql"));
        let told = server.load(database, &bench.path("ask.sql"));
        let expected = format!(
            "line\n{NEW}/x\ttab \\ back|{NEW}/y|s:13:\"/srv/new site\";|{NEW}\na:1:{{s:1:\"u\";s:{}:\"{NEW}\";}}\n{NEW}/three\n3\n",
            NEW.len()
        );
        assert_eq!(told, expected, "{options:?}");
    }
}

#[test]
fn sqlite_dumps_move_and_load() {
    let sqlite = |database: &std::path::Path, sql: &str| {
        let mut command = Command::new("sqlite3");
        command.arg(database).arg(sql);
        outcome(command)
    };
    if Command::new("sqlite3").arg("--version").output().is_err() {
        super::common::missing("sqlite3");
        return;
    }
    let bench = Bench::new();
    let made = "CREATE TABLE t (id INTEGER PRIMARY KEY, body TEXT, raw BLOB); \
        INSERT INTO t VALUES (1, 'see http://old.example/s' || char(10) || 'it''s /home/old', x'687474703a2f2f6f6c642e6578616d706c652f73'); \
        INSERT INTO t VALUES (2, 's:12:\"' || char(13) || char(10) || '/home/old' || char(10) || '\";', NULL); \
        CREATE TRIGGER g AFTER INSERT ON t BEGIN UPDATE t SET body = 'http://old.example/s' WHERE id = 99; DELETE FROM t WHERE id = 98; END;";
    sqlite(&bench.path("a.db"), made).expect(0);
    let dump = sqlite(&bench.path("a.db"), ".dump").expect(0).stdout;
    there_and_back(&bench, dump.as_bytes());
    let mut load = Command::new("sqlite3");
    load.arg(bench.path("b.db")).stdin(std::fs::File::open(bench.path("there.sql")).unwrap());
    outcome(load).expect(0);
    let told = sqlite(
        &bench.path("b.db"),
        "SELECT body, CAST(raw AS TEXT) FROM t; SELECT sql FROM sqlite_master WHERE type='trigger';",
    )
    .expect(0)
    .stdout;
    assert!(told.contains(&format!("see {NEW}\nit's /srv/new site|{NEW}\n")), "{told}");
    assert!(told.contains("s:16:\"\r\n/srv/new site\n\";"), "{told}");
    assert!(told.contains(&format!("SET body = '{NEW}'")), "{told}");
}

#[test]
fn sql_server_scripts_keep_their_form() {
    let bench = Bench::new();
    let script = "USE [portal]\r\nGO\r\nSET IDENTITY_INSERT [dbo].[Alias] ON \r\n\r\nINSERT [dbo].[Alias] ([Id], [Url], [Note]) VALUES (1, N'http://old.example/s', N'it''s \u{1F52D}')\r\n\
        INSERT [dbo].[Alias] ([Id], [Url]) VALUES (2, 0x2F686F6D652F6F6C64)\r\nSET IDENTITY_INSERT [dbo].[Alias] OFF\r\nGO\r\nCREATE PROCEDURE [p] AS\r\nSELECT N'/home/old'; SELECT 1\r\nGO\r\n";
    let utf16 = |text: &str| -> Vec<u8> {
        format!("\u{feff}{text}").encode_utf16().flat_map(u16::to_le_bytes).collect()
    };
    there_and_back(&bench, &utf16(script));
    let moved = script
        .replace(OLD, NEW)
        .replace("/home/old", "/srv/new site")
        .replace("0x2F686F6D652F6F6C64", "0x2F7372762F6E65772073697465");
    assert_eq!(std::fs::read(bench.path("there.sql")).unwrap(), utf16(&moved));
    bench
        .run(&["readdress", "in.sql", "-o", "report.sql", "--address", OLD, NEW, "--report", "report.json"])
        .expect(0);
    let report: serde_json::Value = serde_json::from_str(&bench.read("report.json")).unwrap();
    let report = &report["result"];
    assert_eq!(report["dialect"], "sql-server");
    assert_eq!(report["tally"]["tables"]["Alias"]["columns"]["Url"]["changed"], 1);
    // Half a letter at the end, as a file that was cut off has it.
    let mut cut = utf16(script);
    cut.pop();
    there_and_back(&bench, &cut);
}

/// PHP reads every table and writes inserts by itself, as many a backup script does.
const BACKUP_SCRIPT: &str = r#"
$db = new mysqli('localhost', 'root', '', $argv[2], 0, $argv[1]);
$db->set_charset('utf8mb4');
foreach ($db->query('SHOW FULL TABLES WHERE Table_type = \'BASE TABLE\'')->fetch_all() as [$table]) {
    $create = $db->query("SHOW CREATE TABLE `$table`")->fetch_row()[1];
    echo "DROP TABLE IF EXISTS `$table`;\r\n$create;\r\n";
    $rows = $db->query("SELECT * FROM `$table`");
    while ($row = $rows->fetch_row()) {
        $values = array_map(fn($v) => $v === null ? 'NULL' : "'" . $db->real_escape_string($v) . "'", $row);
        echo "INSERT INTO `$table` VALUES (" . implode(', ', $values) . ");\r\n";
    }
}
"#;

#[test]
fn dumps_that_php_wrote_move_there_and_back_and_load_the_same() {
    let Some(server) = server() else { return };
    if !php::there() {
        return;
    }
    let bench = Bench::new();
    let site = Site::of(Variant::PrestaShop16);
    let (first, second) = (server.new_database(), server.new_database());
    server
        .load_with_client(&first, &site.dump().replace(&site.address, OLD).replace(&site.root, "/home/old"));
    let dump = php::run(BACKUP_SCRIPT, &[server.socket.as_ref(), first.name.as_ref()]);
    there_and_back(&bench, dump.as_bytes());
    server.load_with_client(&second, &bench.read("back.sql"));
    assert_eq!(server.content(&first), server.content(&second));
}
