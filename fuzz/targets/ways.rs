//! A dump comes out the same whether its values take the short way or the long one, and whichever way its chunks are cut. Where samples
//! are wanted every value takes the long way.
#![no_main]

use libfuzzer_sys::fuzz_target;
use zporter_core::dump::dialect::Dialect;
use zporter_core::dump::rules::{Keep, Rules};
use zporter_core::dump::spread::rewrite;
use zporter_core::dump::stream::{Source, WINDOW};
#[path = "common.rs"]
mod common;

fuzz_target!(|data: &[u8]| {
    let Some((first, data)) = data.split_first() else { return };
    let mut dump = b"INSERT INTO `t` VALUES ".to_vec();
    if first & 1 != 0 {
        dump.splice(0..0, *b"SET SQL_MODE='NO_BACKSLASH_ESCAPES';\n");
    }
    dump.extend_from_slice(&common::with_old_places(data));
    let replacements = common::replacements();
    let run = |samples, window| {
        let rules = Rules { samples, ..Rules::new(&replacements, &|_| Keep::All) };
        let source = Source::new(&dump[..], window, Some(Dialect::Mysql)).unwrap();
        let (out, done, _) = rewrite(source, &rules, Vec::new()).unwrap();
        (out, done.tally.changed(), done.tally.left())
    };
    let short = run(0, WINDOW);
    assert_eq!(short, run(usize::MAX, WINDOW));
    assert_eq!(short.0, run(0, 8 + usize::from(*first) / 2).0);
});
