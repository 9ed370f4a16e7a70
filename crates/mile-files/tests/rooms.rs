//! Nothing in the program opens, creates, replaces or removes a file by itself: files are opened for writing in `mile-files`, and devices in
//! `mile_drive::block::permit`. The sources are read for that.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use std::path::{Path, PathBuf};

/// What opens for writing, creates, moves or removes.
const VERBS: [&str; 22] = [
    "File::create",
    "File::options",
    "OpenOptions",
    ".write(true)",
    "fs::write",
    "fs::rename",
    "fs::copy",
    "fs::hard_link",
    "fs::remove_file",
    "fs::remove_dir",
    "fs::set_permissions",
    "unix::fs::symlink",
    "tempfile_in",
    "NamedTempFile",
    "OFlags::WRONLY",
    "OFlags::RDWR",
    "O_RDWR",
    "O_WRONLY",
    "unlinkat",
    "renameat",
    "SQLITE_OPEN_READ_WRITE",
    "Connection::open(",
];

/// Who may, and what: the rooms themselves, and what goes through them.
const ROOMS: [(&str, &[&str]); 5] = [
    ("mile-files/src/", &VERBS),
    // Permission to write to a device.
    ("mile-drive/src/block/permit.rs", &["OpenOptions", ".write(true)", ".write(write)"]),
    // Commands to a drive that read; the node is opened read-only.
    ("mile-drive/src/block/probe.rs", &["OpenOptions"]),
    // Opens what `mile_files::database` has looked at, and has it confirmed.
    ("mile-logbook/src/store/sqlite.rs", &["SQLITE_OPEN_READ_WRITE"]),
    // The owner's rights to a socket in a private folder.
    ("mile-runner/src/remote.rs", &["fs::set_permissions"]),
];

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|e| e == "rs") && !path.ends_with("tests.rs") {
            found.push(path);
        }
    }
}

/// The lines of a source that are not those of its tests and comments.
fn code(text: &str) -> impl Iterator<Item = (usize, &str)> {
    let end = text.find("#[cfg(test)]\nmod ").unwrap_or(text.len());
    text[..end].lines().enumerate().filter(|(_, l)| !l.trim_start().starts_with("//"))
}

fn trespassers(name: &str, text: &str) -> Vec<String> {
    let allowed: Vec<&str> = ROOMS
        .iter()
        .filter(|(room, _)| name.contains(room))
        .flat_map(|(_, verbs)| verbs.iter().copied())
        .collect();
    code(text)
        .flat_map(|(i, line)| VERBS.iter().filter(|v| line.contains(**v)).map(move |v| (i, *v)))
        .filter(|(_, verb)| !allowed.contains(verb))
        .map(|(i, verb)| format!("{name}:{}: {verb}", i + 1))
        .collect()
}

#[test]
fn only_the_two_rooms_open_for_writing() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut all = Vec::new();
    for entry in std::fs::read_dir(crates).unwrap().flatten() {
        // The corpus is a tool of development, which writes the documentation of its own accuracy.
        if entry.file_name() != "mile-corpus" {
            sources(&entry.path().join("src"), &mut all);
        }
    }
    assert!(all.len() > 100, "the sources are there: {}", all.len());
    let found: Vec<String> = all
        .iter()
        .flat_map(|path| trespassers(&path.display().to_string(), &std::fs::read_to_string(path).unwrap()))
        .collect();
    assert!(found.is_empty(), "open these through mile-files or block::permit:\n{}", found.join("\n"));
}

/// The check can fail.
#[test]
fn a_trespasser_is_found() {
    let text = "fn f() {\n    std::fs::write(path, text)?;\n}\n";
    assert_eq!(
        trespassers("crates/hollow-mile/src/x.rs", text),
        ["crates/hollow-mile/src/x.rs:2: fs::write"]
    );
    assert_eq!(trespassers("crates/mile-files/src/x.rs", text), [""; 0]);
    let tested =
        "// fs::write in a comment\n#[cfg(test)]\nmod tests {\n    fn f() { std::fs::write(a, b); }\n}\n";
    assert_eq!(trespassers("crates/hollow-mile/src/x.rs", tested), [""; 0]);
}
