//! The Debian package: it is made by one script, installed, works, and goes away without a trace.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::Command;

fn ran(command: &mut Command) -> String {
    let out = command.output().unwrap();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    assert!(out.status.success(), "{command:?}\n{}{}", text(&out.stdout), text(&out.stderr));
    text(&out.stdout)
}

/// All files and links below a folder, but those of the package manager itself.
fn files(root: &Path) -> BTreeSet<PathBuf> {
    let mut all = BTreeSet::new();
    let mut open = vec![root.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(&folder).unwrap().map(Result::unwrap) {
            let path = entry.path();
            let inside = path.strip_prefix(root).unwrap();
            if inside.starts_with("var/lib/dpkg") || inside.starts_with("var/log") {
                continue;
            }
            if entry.file_type().unwrap().is_dir() {
                open.push(path);
            } else {
                all.insert(inside.to_owned());
            }
        }
    }
    all
}

#[test]
fn the_package_is_made_installed_works_and_is_removed() {
    let has =
        |program: &str| Command::new(program).arg("--version").output().is_ok_and(|o| o.status.success());
    if !has("dpkg-deb") || !has("dpkg") {
        return common::skipped("this system has no dpkg: the Debian package is not made here");
    }
    let folder = tempfile::tempdir().unwrap();
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../scripts/make-deb");
    let mut make = Command::new(script);
    make.args(["--binary", env!("CARGO_BIN_EXE_hollow-mile")]).arg(folder.path()).env("STRIP", "no");
    // A program with its debug information takes more than a minute to be made small.
    make.env("DPKG_DEB_COMPRESSOR_TYPE", "gzip").env("DPKG_DEB_COMPRESSOR_LEVEL", "1");
    let package = PathBuf::from(ran(&mut make).trim());
    let field =
        |name: &str| ran(Command::new("dpkg-deb").arg("-f").arg(&package).arg(name)).trim().to_owned();
    assert_eq!(
        (field("Package").as_str(), field("Version").as_str()),
        ("hollow-mile", env!("CARGO_PKG_VERSION"))
    );
    assert!(field("Depends").starts_with("libc6 (>= 2."), "{}", field("Depends"));
    // Nobody but root owns what is installed, and nobody else may write to it.
    for line in ran(Command::new("dpkg-deb").arg("-c").arg(&package)).lines() {
        let mode = line.split(' ').next().unwrap();
        assert!(
            line.contains("root/root") && !mode[1..].ends_with("w-") && mode.as_bytes()[5] != b'w',
            "{line}"
        );
    }

    // Into a system of its own: an empty folder with an empty list of packages.
    let root = folder.path().join("system");
    let state = root.join("var/lib/dpkg");
    for part in ["info", "updates", "triggers"] {
        std::fs::create_dir_all(state.join(part)).unwrap();
    }
    std::fs::create_dir_all(root.join("var/log")).unwrap();
    for list in ["status", "available"] {
        std::fs::write(state.join(list), "").unwrap();
    }
    let before = files(&root);
    let dpkg = |args: &[&str]| {
        // What it depends on is in the system around.
        let mut command = Command::new("dpkg");
        command.arg(format!("--root={}", root.display())).args([
            "--force-not-root",
            "--force-depends",
            "--force-bad-path",
        ]);
        ran(command.args(args))
    };
    dpkg(&["-i", package.to_str().unwrap()]);
    let program = root.join("usr/bin/hollow-mile");
    assert_eq!(
        ran(Command::new(&program).arg("--version")).trim(),
        format!("hollow-mile {}", env!("CARGO_PKG_VERSION"))
    );
    let listed = dpkg(&["-L", "hollow-mile"]);
    for part in [
        "/usr/share/man/man1/hollow-mile.1.gz",
        "/usr/share/man/man1/hollow-mile-run.1.gz",
        "/usr/share/bash-completion/completions/hollow-mile",
        "/usr/share/zsh/vendor-completions/_hollow-mile",
        "/usr/share/fish/vendor_completions.d/hollow-mile.fish",
        "/usr/lib/udev/rules.d/70-hollow-mile.rules",
        "/usr/share/doc/hollow-mile/guide.md",
        "/usr/share/doc/hollow-mile/copyright",
        "/usr/share/doc/hollow-mile/examples/hollow-mile-watch.service",
        "/usr/share/doc/hollow-mile/examples/hollow-mile-forward.service",
        "/usr/share/doc/hollow-mile/examples/courses/first-look.course",
    ] {
        assert!(listed.lines().any(|l| l == part), "{part}");
        assert!(std::fs::metadata(root.join(&part[1..])).unwrap().len() > 20, "{part} is empty");
    }
    // The courses that come with it are those that the program knows.
    let course = root.join("usr/share/doc/hollow-mile/examples/courses/first-look.course");
    ran(Command::new(&program).args(["course", "check"]).arg(course));
    dpkg(&["-r", "hollow-mile"]);
    assert_eq!(files(&root), before, "something is left");
}
