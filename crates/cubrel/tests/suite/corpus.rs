//! Everything that the fuzz targets have kept, once more: what was found must stay found.
use std::fs;
use std::path::{Path, PathBuf};

use rayon::prelude::*;

use crate::inputs::KINDS;

#[test]
fn inputs_that_were_kept_do_no_harm() {
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus");
    let mut folders = 0;
    for (kind, run) in KINDS {
        let mut files: Vec<PathBuf> = fs::read_dir(corpus.join(kind))
            .unwrap_or_else(|e| panic!("{kind}: {e}"))
            .map(|entry| entry.unwrap().path())
            .collect();
        files.sort();
        assert!(!files.is_empty(), "{kind} has no inputs");
        folders += 1;
        files.par_iter().for_each(|file| {
            let bytes = fs::read(file).unwrap();
            let done = std::panic::catch_unwind(|| run(&bytes));
            assert!(done.is_ok(), "{}", file.display());
        });
    }
    assert_eq!(folders, fs::read_dir(corpus).unwrap().count(), "every folder of the corpus has its kind");
}
