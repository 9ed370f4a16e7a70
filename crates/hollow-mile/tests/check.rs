//! The check that comes before each change: its exit status says whether all holds.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;

/// An executable script that ends with an exit status.
fn ends(path: &Path, code: u8) {
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(path, format!("#!/bin/sh\nexit {code}\n")).unwrap();
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o755)).unwrap();
}

/// Exit status of the check where its tests and its fuzz targets end with these, and every other command succeeds.
fn checked(tests: u8, fuzz: u8) -> Option<i32> {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    for other in ["bin/cargo", "bin/git"] {
        ends(&at(other), 0);
    }
    ends(&at("scripts/test"), tests);
    ends(&at("scripts/fuzz"), fuzz);
    let check = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/check");
    std::fs::copy(check, at("scripts/check")).unwrap();
    let path = format!("{}:{}", at("bin").display(), std::env::var("PATH").unwrap());
    let out = Command::new("bash").arg(at("scripts/check")).env("PATH", path).output().unwrap();
    out.status.code()
}

/// Bug: the group of the fuzz targets was ended once more when the script ended. There was nothing left to end, and that failure was the exit status of a check in
/// which everything held.
#[test]
fn the_check_succeeds_where_all_holds_and_only_there() {
    assert_eq!(checked(0, 0), Some(0));
    assert_eq!(checked(1, 0), Some(1), "a test failed");
    assert_eq!(checked(0, 1), Some(1), "a fuzz target found something");
}
