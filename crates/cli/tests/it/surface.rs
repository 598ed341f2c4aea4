//! The rest of what a user meets: dry run, job_file, logbook, definitions, demo, documents.

use super::common::{Bench, files};
use zporter_standin::Variant;

const RESTORE: [&str; 9] = [
    "restore",
    "a.tar.zst",
    "new",
    "--address",
    "http://n.example",
    "--database",
    "mysql://nu@h/nn",
    "--dump-to",
    "n.sql",
];

#[test]
fn a_dry_run_shows_the_plan_and_changes_nothing_and_the_waybill_does_it() {
    let bench = Bench::new();
    bench.packed(Variant::PrestaShop16, "a.tar.zst");
    let before = files(&bench.path("")).len();
    let shown = bench.run(&[&RESTORE[..], &["--dry-run", "--save-job", "job.toml"]].concat()).expect(0);
    let shown = shown.says(&[
        "-define('_DB_NAME_', 'fernhollow_shop');",
        "+define('_DB_NAME_', 'nn');",
        "*** (new)",
        "PS_SHOP_DOMAIN",
        "Nothing was changed",
    ]);
    for secret in ["fake'Old", "fake\\'Old", "FakeCookieKey", super::common::NEW_PASSWORD] {
        assert!(!shown.stdout.contains(secret), "{secret}");
    }
    assert!(!bench.path("new").exists() && !bench.path("n.sql").exists());
    // The job file alone is new; a dry run is not in the logbook.
    assert_eq!(files(&bench.path("")).len(), before + 1);
    assert!(bench.read("job.toml").contains("address = \"http://n.example\""));
    let preview = bench.run(&["restore", "--job", "job.toml", "--dry-run", "--json"]).expect(0).json();
    let done = bench.run(&["restore", "--job", "job.toml", "--json"]).expect(0).json();
    for same in ["replacements", "edits", "config", "declared_values", "tally"] {
        assert_eq!(preview[same], done[same], "what a preview prints is what a run does: {same}");
    }
    bench.write("job.toml", "job = \"restore\"\ncolour = 1\n");
    bench.run(&["restore", "--job", "job.toml"]).expect(2).says(&["no option", "colour"]);
}

#[test]
fn equal_input_packs_to_equal_bytes_and_stock_tools_read_it() {
    let bench = Bench::new();
    bench.site(Variant::Joomla310);
    for name in ["a", "b"] {
        let mut pack = bench.command(&["pack", "old", "--dump", "old.sql", "-o", &format!("{name}.tar.gz")]);
        pack.env("SOURCE_DATE_EPOCH", "1770000000");
        super::common::outcome(pack).expect(0).says(&["Packed"]);
    }
    assert_eq!(
        std::fs::read(bench.path("a.tar.gz")).unwrap(),
        std::fs::read(bench.path("b.tar.gz")).unwrap()
    );
    std::fs::create_dir(bench.path("out")).unwrap();
    let mut tar = std::process::Command::new("tar");
    tar.arg("-xzf").arg(bench.path("a.tar.gz")).arg("-C").arg(bench.path("out"));
    assert_eq!(super::common::outcome(tar).expect(0).stderr, "");
    assert_eq!(bench.read("out/files/robots.txt"), bench.read("old/robots.txt"));
    assert!(bench.read("out/head.json").contains("\"packed_at\": \"2026-02-02T02:40:00Z\""));
    let head = bench.read("out/head.json");
    assert!(!head.contains("fake'Old") && !head.contains("password"), "{head}");
}

#[test]
fn links_folders_times_and_special_files_are_carried_or_said() {
    let bench = Bench::new();
    bench.site(Variant::Joomla310);
    std::os::unix::fs::symlink("../images/m31.jpg", bench.path("old/media/link")).unwrap();
    std::process::Command::new("mkfifo").arg(bench.path("old/media/pipe")).status().unwrap();
    let time = std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(1_500_000_000);
    let image = bench.path("old/images/übersicht.png");
    std::fs::File::options().append(true).open(&image).unwrap().set_modified(time).unwrap();
    for ending in ["tar.zst", "zip"] {
        let archive = format!("a.{ending}");
        bench
            .run(&["pack", "old", "--dump", "old.sql", "-o", &archive])
            .expect(0)
            .says(&["pipe or socket", "media/pipe"]);
        let mut args = RESTORE;
        let (new, dump) = (format!("new {ending}"), format!("{ending}.sql"));
        (args[1], args[2], args[8]) = (&archive, &new, &dump);
        let _ = bench.run(&args).says(&["Restored"]);
        let link = std::fs::read_link(bench.path(&format!("{new}/media/link"))).unwrap();
        assert_eq!(link, std::path::Path::new("../images/m31.jpg"));
        assert!(bench.path(&format!("{new}/media/empty")).is_dir());
        let restored = std::fs::metadata(bench.path(&format!("{new}/images/übersicht.png"))).unwrap();
        assert_eq!(restored.modified().unwrap(), time, "{ending}");
    }
}

#[test]
fn the_logbook_tells_every_step_and_no_secret() {
    let bench = Bench::new();
    bench.run(&["logbook"]).expect(0).says(&["No run is recorded"]);
    bench.packed(Variant::PrestaShop16, "a.tar.zst");
    let restored = bench.run(&RESTORE).expect(0).says(&["Restored"]);
    let told = restored.stdout.lines().find(|l| l.starts_with("run ")).unwrap().to_string();
    let runs = bench.run(&["logbook", "--json"]).expect(0).json();
    let states: Vec<_> = runs
        .as_array()
        .unwrap()
        .iter()
        .map(|r| (r["command"].as_str().unwrap(), r["state"].as_str().unwrap()))
        .collect();
    assert_eq!(states, [("restore", "done"), ("pack", "done")]);
    let run = runs[0]["run"].as_str().unwrap();
    // The last line of a run says how to go back behind it.
    assert!(told.contains(run) && told.contains(&format!("zporter undo {run}")), "{told}");
    assert!(
        runs[0]["from"].as_str().unwrap().ends_with("a.tar.zst")
            && runs[1]["from"].as_str().unwrap().ends_with("old")
    );
    let lines = bench.run(&["logbook", run, "--json"]).expect(0);
    let steps: Vec<String> = lines.json()["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|l| l["step"].as_str().unwrap().to_string())
        .collect();
    for step in ["begin", "unpack-files", "write-dump", "edit-file", "done"] {
        assert!(steps.iter().any(|s| s == step), "{step} in {steps:?}");
    }
    assert!(!lines.stdout.contains("fake") && !lines.stdout.contains(super::common::NEW_PASSWORD));
    // A run that was interrupted has no end.
    let file = bench.path(&format!("home/.local/share/zporter/logbook/{run}.jsonl"));
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, &text[..text.len() - 30]).unwrap();
    bench.run(&["logbook"]).expect(0).says(&["unfinished"]);
    bench.run(&["logbook", "nonsense"]).expect(2).says(&["no run"]);
}

#[test]
fn the_last_run_is_undone_by_that_word_once() {
    let bench = Bench::new();
    bench.run(&["undo", "last"]).expect(2).says(&["no run to go back behind"]);
    bench.packed(Variant::PrestaShop16, "a.tar.zst");
    bench.run(&RESTORE).expect(0);
    bench.run(&["undo", "last"]).expect(0).says(&["Undone"]);
    bench.run(&["logbook"]).expect(0).says(&["undone", "a.tar.zst →"]);
    // Twice does not mean the run before.
    bench.run(&["undo", "last"]).expect(2).says(&["is undone already"]);
}

#[test]
fn outputs_may_be_devices_and_are_overwritten_only_when_asked() {
    let bench = Bench::new();
    bench.write("in.sql", "INSERT INTO t VALUES ('http://old.example/');\n");
    let to = |output: &str, more: &[&str]| {
        let args =
            ["readdress", "in.sql", "-o", output, "--address", "http://old.example", "http://new.example"];
        bench.run(&[&args[..], more].concat())
    };
    to("/dev/null", &[]).expect(0).says(&["1 value changed"]);
    to("out.sql", &[]).expect(0);
    bench.write("out.sql", "precious");
    to("out.sql", &[]).expect(3).says(&["already exists", "--force"]);
    assert_eq!(bench.read("out.sql"), "precious");
    to("out.sql", &["--force"]).expect(0);
    assert!(bench.read("out.sql").contains("http://new.example/"));
    for shell in ["bash", "zsh", "fish"] {
        bench.run(&["completions", shell]).expect(0).says(&["zporter", "readdress"]);
    }
}

#[test]
fn a_definition_of_the_users_own_is_enough_for_a_new_system() {
    let bench = Bench::new();
    bench.run(&["systems"]).expect(0).says(&["joomla", "prestashop", "built in"]);
    bench.run(&["systems", "prestashop"]).expect(0).says(&[
        "_DB_SERVER_",
        "database-host",
        "shop_url",
        "cache/smarty",
    ]);
    let whole = bench.run(&["systems", "wordpress"]).expect(0);
    let whole = whole.says(&[
        "maintenance",
        "file wp-content/mu-plugins/closed.php",
        "phpass-p",
        "removed by --tidy",
        "cause: COOKIE_DOMAIN of the old host",
    ]);
    assert!(whole.stdout.lines().count() > 100, "{}", whole.stdout);
    let toml = bench.run(&["systems", "phpbb", "--toml"]).expect(0).stdout;
    bench.write("mine.toml", &toml);
    bench.run(&["systems", "--check", "mine.toml"]).expect(0).says(&["phpBB"]);
    bench.run(&["systems", "nonsense"]).expect(2).says(&["known are: dnn, drupal, drupal-6"]);
    let definition = "id = 'starlog'\nname = 'Star Log'\n[[recognise]]\npath = 'star.php'\n[[config]]\npath = 'star.php'\nform = 'php'\n\
        key = [{name='DB',role='database-name'},{name='HOST',role='database-host'},{name='WHO',role='database-user'},{name='PW',role='database-password'},{name='HOME',role='address',form='url/'}]\n\
        [[cell]]\ntable = 'opt'\ncolumn = 'v'\nform = 'host/base'\nkey = 'k'\nvalues = ['where']\n";
    std::fs::create_dir_all(bench.path("home/.config/zporter/systems")).unwrap();
    bench.write("home/.config/zporter/systems/starlog.toml", definition);
    bench.write("wrong.toml", definition.replace("'php'", "'guess'"));
    bench.run(&["systems", "--check", "wrong.toml"]).expect(2).says(&["wrong.toml", "line 7", "guess"]);
    bench
        .run(&["systems", "--check", "home/.config/zporter/systems/starlog.toml"])
        .expect(0)
        .says(&["usable"]);
    std::fs::create_dir(bench.path("old")).unwrap();
    bench.write(
        "old/star.php",
        "<?php const DB='o'; const HOST='h'; const WHO='w'; const PW='p'; const HOME='http://a.example/b/';",
    );
    bench.write("old.sql", "CREATE TABLE opt (k varchar(9), v text); INSERT INTO opt VALUES ('where','a.example/b'),('x','a.example/b');");
    bench
        .run(&["pack", "old", "--dump", "old.sql", "-o", "a.tar.zst"])
        .expect(0)
        .says(&["http://a.example/b"]);
    bench.run(&RESTORE).expect(0).says(&["Restored", "host alone"]);
    assert!(bench.read("n.sql").contains("('where','n.example'),('x','a.example/b')"));
    assert!(
        bench.read("new/star.php").contains("const DB='nn'")
            && bench.read("new/star.php").contains("const HOME='http://n.example/'")
    );
}

#[test]
fn the_demo_runs_without_server_and_php() {
    let bench = Bench::new();
    let mut demo = bench.command(&["demo", "--keep", "kept"]);
    demo.env("PATH", "/nowhere").env_remove("ZPORTER_DATABASE_PASSWORD");
    super::common::outcome(demo).expect(0).says(&[
        "The proof",
        "Joomla 3.10.12",
        "PS_SHOP_DOMAIN_SSL",
        "--set mail=off",
        "maintenance=on",
        "--in-place",
        "exchanged",
        "is right where it lies",
        "kept",
    ]);
    assert!(bench.path("kept/shop/new/config/settings.inc.php").exists());
    // What lies outside of the document root is found by the config, and goes along.
    assert!(bench.path("kept/souvenirs/new-storage/vendor").exists());
    // The picture that was lost is back, and went with the site to its last place.
    assert!(bench.path("kept/keepers/moved/sites/default/files/nights/night-0001.png").exists());
    bench.run(&["demo", "--keep", "kept"]).expect(3).says(&["not empty"]);
    // What is made up is no part of what its user did.
    bench.run(&["logbook"]).expect(0).says(&["No run is recorded"]);
}
