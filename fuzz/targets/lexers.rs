//! Every dialect: all bytes come out, in order, and the rows do not depend on how the input was cut.
#![no_main]

use libfuzzer_sys::fuzz_target;
use zporter_core::dump::dialect::Dialect;
use zporter_core::dump::stream::{At, DumpError, Piece, Sink, Source, WINDOW, run_source};

#[derive(Default)]
struct Notes {
    bytes: Vec<u8>,
    rows: Vec<Vec<u8>>,
}

impl Sink for Notes {
    fn piece(&mut self, piece: Piece<'_>, _: At<'_>) -> Result<(), DumpError> {
        let bytes = match piece {
            Piece::Rows(rows) => {
                self.rows.extend(rows.each().map(<[u8]>::to_vec));
                rows.bytes
            }
            Piece::Gap(b) | Piece::InsertHead(b) | Piece::Between(b) | Piece::CutOff(b) => b,
            Piece::Whole { bytes, literals, .. } => {
                assert!(literals.iter().all(|l| l.end <= bytes.len()));
                bytes
            }
            Piece::Tail { bytes, .. } => bytes,
        };
        self.bytes.extend_from_slice(bytes);
        Ok(())
    }
}

fuzz_target!(|data: &[u8]| {
    let Some((first, dump)) = data.split_first() else { return };
    if dump.starts_with(b"SQLite format 3\0") {
        return;
    }
    let dialect = Dialect::ALL[usize::from(*first) % 4];
    let window = 8 + usize::from(*first) / 4;
    let run = |window| {
        let mut notes = Notes::default();
        let source = Source::new(dump, window, Some(dialect)).unwrap();
        let ending = run_source(source, &mut notes).unwrap();
        (notes, ending)
    };
    let (whole, ending) = run(WINDOW);
    assert_eq!(whole.bytes, dump);
    let (cut, again) = run(window);
    assert_eq!(cut.bytes, dump);
    assert_eq!(cut.rows, whole.rows);
    assert_eq!((again.statements, again.cut_off), (ending.statements, ending.cut_off));
});
