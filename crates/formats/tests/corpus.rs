//! The corpus of the fuzz targets, replayed: what was found once stays found, on stable Rust and in every run.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests fail by panicking")]

use std::fs;
use std::path::Path;

use ninekeys_formats::fuzzing;

/// A target's function.
type Target = fn(&[u8]);

/// Every target, as in `fuzz/fuzz_targets`.
const TARGETS: [(&str, Target); 17] = [
    ("zip", fuzzing::zip),
    ("bundle", fuzzing::bundle),
    ("executable", fuzzing::executable),
    ("v2", fuzzing::v2),
    ("manifest", fuzzing::manifest),
    ("protobuf", fuzzing::protobuf),
    ("certificate", fuzzing::certificate),
    ("request", fuzzing::request),
    ("revocation", fuzzing::revocation),
    ("timestamp", fuzzing::timestamp),
    ("profile", fuzzing::profile),
    ("jar", fuzzing::jar),
    ("keystore", fuzzing::keystore),
    ("definite", fuzzing::definite),
    ("tree", fuzzing::tree),
    ("resources", fuzzing::resources),
    ("envelope", fuzzing::envelope),
];

fn fuzz(name: &str) -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz").join(name)
}

#[test]
fn every_target_survives_its_corpus_and_every_cut_of_it() {
    for (name, target) in TARGETS {
        let files: Vec<_> = fs::read_dir(fuzz("corpus").join(name)).unwrap().collect();
        assert!(!files.is_empty(), "{name} has no corpus");
        for file in files {
            let bytes = fs::read(file.unwrap().path()).unwrap();
            target(&bytes);
            for cut in (0..bytes.len()).step_by(bytes.len() / 64 + 1) {
                target(bytes.get(..cut).unwrap_or_default());
            }
        }
    }
}

#[test]
fn every_target_is_replayed_here() {
    let mut there: Vec<String> = fs::read_dir(fuzz("fuzz_targets"))
        .unwrap()
        .map(|file| file.unwrap().path().file_stem().unwrap().to_string_lossy().into_owned())
        .collect();
    there.sort();
    let mut here: Vec<&str> = TARGETS.iter().map(|(name, _)| *name).collect();
    here.sort_unstable();
    assert_eq!(there, here);
}
