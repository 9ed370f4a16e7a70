//! What lies at a path, or is put there at the worst moment, and is not the program's own: it must stay as it is.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use mile_files::database::{Access, Head, check};
use mile_files::{FileError, FileId, Held, Replace, write_whole};
use proptest::prelude::*;
use std::fs::File;
use std::os::unix::fs::{FileExt, symlink};
use std::path::Path;

fn nothing(_: &File) -> Result<(), FileError> {
    Ok(())
}

fn text(path: &Path) -> String {
    std::fs::read_to_string(path).unwrap()
}

/// Everything that can lie at a path beside a regular file. A device needs no rights where its node exists already.
fn in_the_way(folder: &Path) -> Vec<(&'static str, std::path::PathBuf)> {
    std::fs::write(folder.join("data"), "user data").unwrap();
    symlink(folder.join("data"), folder.join("link")).unwrap();
    symlink(folder.join("nowhere"), folder.join("dangling")).unwrap();
    std::fs::create_dir(folder.join("folder")).unwrap();
    let pipe = folder.join("pipe");
    rustix::fs::mknodat(rustix::fs::CWD, &pipe, rustix::fs::FileType::Fifo, rustix::fs::Mode::RUSR, 0)
        .unwrap();
    let socket = folder.join("socket");
    std::os::unix::net::UnixListener::bind(&socket).unwrap();
    vec![
        ("link", folder.join("link")),
        ("dangling", folder.join("dangling")),
        ("folder", folder.join("folder")),
        ("pipe", pipe),
        ("socket", socket),
        ("device", "/dev/null".into()),
        ("full", "/dev/full".into()),
    ]
}

#[test]
fn nothing_but_a_regular_file_is_opened_created_over_or_replaced() {
    let folder = tempfile::tempdir().unwrap();
    for (name, path) in in_the_way(folder.path()) {
        let before = FileId::at(&path).unwrap();
        let refused = |e: FileError| {
            assert!(matches!(e, FileError::Link { .. } | FileError::NotRegular { .. }), "{name}: {e}");
        };
        refused(Held::create(&path, 0o600, nothing).unwrap_err());
        refused(Held::open(&path).unwrap_err());
        let over = |replace| {
            write_whole::<FileError>(&path, replace, |_| panic!("{name}: nothing may be written"))
                .unwrap_err()
        };
        refused(over(Replace::Nothing));
        refused(over(Replace::File));
        refused(check(&path, Access::Write).unwrap_err());
        refused(check(&path, Access::Create).unwrap_err());
        assert_eq!(FileId::at(&path).unwrap(), before, "{name}");
    }
    assert_eq!(text(&folder.path().join("data")), "user data");
    assert!(!folder.path().join("nowhere").exists());
}

#[test]
fn a_file_that_exists_is_not_taken_for_a_new_one() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a");
    std::fs::write(&path, "mine").unwrap();
    assert!(matches!(Held::create(&path, 0o600, nothing), Err(FileError::Exists { .. })));
    assert!(matches!(
        write_whole::<FileError>(&path, Replace::Nothing, |_| Ok(())),
        Err(FileError::Exists { .. })
    ));
    assert_eq!(text(&path), "mine");
}

#[test]
fn what_is_put_at_the_path_between_check_and_creation_stays() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("data"), "user data").unwrap();
    type Put = fn(&Path, &Path);
    let puts: [(&str, Put); 2] = [
        ("file", |path, _| std::fs::write(path, "swapped in").unwrap()),
        ("link", |path, data| symlink(data, path).unwrap()),
    ];
    for (name, put) in puts {
        let path = folder.path().join(name);
        let data = folder.path().join("data");
        let made = Held::create(&path, 0o600, |file| {
            put(&path, &data);
            file.write_all_at(b"ours", 0).map_err(|source| FileError::Io {
                path: path.clone(),
                doing: "write",
                source,
            })
        });
        assert!(matches!(made, Err(FileError::Exists { .. })), "{name}");
        assert_eq!(text(&data), "user data", "{name}");
    }
    assert_eq!(text(&folder.path().join("file")), "swapped in");
    // Nothing of ours is left.
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 3);
}

#[test]
fn a_link_swapped_in_while_a_file_is_written_is_not_followed_and_stays() {
    let folder = tempfile::tempdir().unwrap();
    let (path, data) = (folder.path().join("out.csv"), folder.path().join("data"));
    std::fs::write(&data, "user data").unwrap();
    std::fs::write(&path, "old").unwrap();
    let written = write_whole::<FileError>(&path, Replace::File, |out| {
        std::fs::remove_file(&path).unwrap();
        symlink(&data, &path).unwrap();
        out.write_all(b"new").unwrap();
        Ok(())
    });
    assert!(matches!(written, Err(FileError::Link { .. })), "{written:?}");
    assert_eq!(text(&data), "user data");
    assert!(std::fs::symlink_metadata(&path).unwrap().is_symlink());
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 2, "no draft is left");
}

#[test]
fn a_file_swapped_in_is_not_removed_in_the_place_of_ours() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("scratch");
    let held = Held::create(&path, 0o600, nothing).unwrap();
    std::fs::rename(&path, folder.path().join("elsewhere")).unwrap();
    std::fs::write(&path, "user data").unwrap();
    assert!(!held.remove().unwrap());
    assert_eq!(text(&path), "user data");
    let held = Held::open(&path).unwrap();
    assert!(held.remove().unwrap() && !path.exists());
}

#[test]
fn one_file_is_held_once() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("scratch");
    let held = Held::create(&path, 0o600, nothing).unwrap();
    assert!(matches!(Held::open(&path), Err(FileError::Locked { .. })));
    drop(held);
    assert!(Held::open(&path).is_ok());
}

#[test]
fn what_is_opened_again_is_the_same_file_whatever_lies_at_its_path() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("scratch");
    let held = Held::create(&path, 0o600, nothing).unwrap();
    std::fs::remove_file(&path).unwrap();
    std::fs::write(&path, "user data").unwrap();
    let again = held.reopen(rustix::fs::OFlags::empty()).unwrap();
    again.write_all_at(b"ours", 0).unwrap();
    assert_eq!(text(&path), "user data");
    assert_eq!(FileId::of(&again).unwrap(), held.id());
}

#[test]
fn the_head_of_a_database_is_read_and_a_log_that_is_no_file_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("l");
    assert!(matches!(check(&path, Access::Read), Err(FileError::Io { .. })));
    assert!(!path.exists(), "reading creates nothing");
    assert_eq!(check(&path, Access::Create).unwrap().head(), Head::Empty);
    std::fs::write(&path, "no database, but long enough".repeat(9)).unwrap();
    assert_eq!(check(&path, Access::Write).unwrap().head(), Head::Other);
    let mut head = vec![0; 4096];
    head[..16].copy_from_slice(b"SQLite format 3\0");
    head[68..72].copy_from_slice(&[0x48, 0x4d, 0x4c, 0x42]);
    std::fs::write(&path, &head).unwrap();
    assert_eq!(check(&path, Access::Write).unwrap().head(), Head::Database { application: 0x484d_4c42 });
    symlink(folder.path().join("data"), folder.path().join("l-wal")).unwrap();
    assert!(matches!(check(&path, Access::Write), Err(FileError::Link { .. })));
}

#[test]
fn a_database_that_was_swapped_when_it_was_opened_is_found_out() {
    let folder = tempfile::tempdir().unwrap();
    let (path, other) = (folder.path().join("l"), folder.path().join("other"));
    std::fs::write(&other, "").unwrap();
    let checked = check(&path, Access::Create).unwrap();
    let opened = File::options().write(true).open(&other).unwrap();
    assert!(matches!(checked.confirm(), Err(FileError::Changed { .. })));
    drop(opened);
    let opened = File::options().write(true).open(&path).unwrap();
    checked.confirm().unwrap();
    drop(opened);
}

proptest! {
    /// Whatever is written before a failure, what was there is there, and nothing else.
    #[test]
    fn a_failure_at_any_byte_leaves_what_was_there(before in prop::collection::vec(any::<u8>(), 0..300), cut in 0_usize..70_000) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a");
        std::fs::write(&path, &before).unwrap();
        let failed = write_whole(&path, Replace::File, |out| {
            out.write_all(&vec![7; cut]).unwrap();
            Err(FileError::Exists { path: "made up".into() })
        });
        prop_assert!(failed.is_err());
        prop_assert_eq!(std::fs::read(&path).unwrap(), before);
        prop_assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
    }
}
