//! No file depends on one that depends on it: what passes tell each other are schemas without passes, and findings are made from all of them.
//!
//! It goes by names: what a file uses, the paths in its code, and, where a type has methods in several files, the calls of one from the other.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// A module by its path from the root of its crate: `["causes", "facts"]`.
type Module = Vec<String>;

fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut all = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            all.extend(sources(&path));
        } else if path.extension().is_some_and(|e| e == "rs") {
            all.push(path);
        }
    }
    all
}

/// The paths of a tree of names: `a::{b, c::{self, d}}` is `a::b`, `a::c::self` and `a::c::d`.
fn unfold(tree: &str) -> Vec<Vec<String>> {
    let tree = tree.trim();
    let Some(open) = tree.find('{') else {
        let plain = tree.split(" as ").next().unwrap();
        return vec![plain.split("::").map(|p| p.trim().to_owned()).filter(|p| !p.is_empty()).collect()];
    };
    let front: Vec<String> =
        tree[..open].split("::").map(|p| p.trim().to_owned()).filter(|p| !p.is_empty()).collect();
    let inner = &tree[open + 1..tree.rfind('}').unwrap()];
    let (mut parts, mut depth) = (vec![String::new()], 0);
    for c in inner.chars() {
        match c {
            ',' if depth == 0 => parts.push(String::new()),
            _ => {
                depth += i32::from(c == '{') - i32::from(c == '}');
                parts.last_mut().unwrap().push(c);
            }
        }
    }
    let within = parts.iter().filter(|p| !p.trim().is_empty()).flat_map(|p| unfold(p));
    within.map(|path| [front.clone(), path].concat()).collect()
}

/// The modules of a crate with their sources, those of its programs left out.
fn modules(root: &Path) -> BTreeMap<Module, String> {
    let named = sources(root).into_iter().map(|path| {
        let name = path.strip_prefix(root).unwrap().with_extension("");
        let module: Module = name.iter().map(|p| p.to_str().unwrap().to_owned()).collect();
        (module, std::fs::read_to_string(&path).unwrap())
    });
    named.filter(|(module, _)| module[0] != "bin").collect()
}

/// What stands between `use` and the semicolon, at the left edge of a source; and the lines besides.
fn statements(text: &str) -> (Vec<String>, String) {
    let (mut all, mut code): (Vec<String>, String) = Default::default();
    let mut open = false;
    for line in text.lines() {
        let private =
            line.strip_prefix("pub(").and_then(|l| l.split_once(") ")).map_or(line, |(_, rest)| rest);
        if let Some(rest) = private.strip_prefix("pub ").unwrap_or(private).strip_prefix("use ") {
            all.push(String::new());
            open = true;
            all.last_mut().unwrap().push_str(rest);
        } else if open {
            all.last_mut().unwrap().push_str(line);
        } else {
            // Without its comment.
            code.push_str(line.split("//").next().unwrap());
            code.push('\n');
        }
        open = open && !line.ends_with(';');
    }
    (all.iter().map(|s| s.trim_end_matches(';').to_owned()).collect(), code)
}

/// The paths that stand in the code itself: `crate::a::b`, `super::c`, `within::d`.
fn in_code(code: &str) -> Vec<Vec<String>> {
    let is_path = |c: char| c.is_alphanumeric() || c == '_' || c == ':';
    let paths = code.split(|c| !is_path(c)).filter(|w| w.contains("::") && !w.starts_with(':'));
    paths.map(|w| w.split("::").map(str::to_owned).filter(|p| !p.is_empty()).collect()).collect()
}

/// The modules that each module uses outside of its tests. The root is left out, which names them all.
fn uses(texts: &BTreeMap<Module, String>) -> BTreeMap<Module, BTreeSet<Module>> {
    let mut all = BTreeMap::new();
    for (module, text) in texts {
        let own = text.split("#[cfg(test)]\nmod tests").next().unwrap();
        let mut used = BTreeSet::new();
        let (stated, code) = statements(own);
        let stated = stated.iter().flat_map(|s| unfold(s));
        for path in stated.chain(in_code(&code)).filter(|p| !p.is_empty()) {
            let mut from: Module = match path[0].as_str() {
                "crate" => Vec::new(),
                "super" => module[..module.len().saturating_sub(1)].to_vec(),
                "self" => module.clone(),
                // A module that is within this one.
                first if texts.contains_key(&[module.clone(), vec![first.to_owned()]].concat()) => {
                    used.insert([module.clone(), vec![first.to_owned()]].concat());
                    continue;
                }
                _ => continue,
            };
            for part in &path[1..] {
                let longer = [from.clone(), vec![part.clone()]].concat();
                match part.as_str() {
                    "super" => drop(from.pop()),
                    _ if texts.contains_key(&longer) => from = longer,
                    _ => break,
                }
            }
            if !from.is_empty() && from != *module {
                used.insert(from);
            }
        }
        all.insert(module.clone(), used);
    }
    all
}

/// The methods that a source gives its types: type and method.
fn methods(code: &str) -> Vec<(String, String)> {
    let (mut all, mut of): (_, Option<String>) = (Vec::new(), None);
    for line in code.lines() {
        if line == "}" {
            of = None;
        } else if let Some(rest) = line.strip_prefix("impl").filter(|r| r.starts_with([' ', '<'])) {
            let name = rest.trim_end_matches(" {").rsplit(' ').next().unwrap();
            // That of a trait has no methods of its own.
            of = (!rest.contains(" for ")).then(|| name.split('<').next().unwrap().to_owned());
        } else if let Some(own) = &of {
            let head = line.strip_prefix("    ").filter(|l| !l.starts_with(' ')).unwrap_or_default();
            if let Some((before, after)) = head.split_once("fn ")
                && (before.is_empty() || before.starts_with("pub") || before == "const ")
            {
                let name = after.split(|c: char| !c.is_alphanumeric() && c != '_').next().unwrap();
                all.push((own.clone(), name.to_owned()));
            }
        }
    }
    all
}

/// What a source calls of itself: `self.a(`, `Self::a(`, and `book.a(`, as a logbook is called within its transactions.
fn calls(code: &str) -> BTreeSet<String> {
    let joined: String = code.split_whitespace().collect();
    let mut all = BTreeSet::new();
    for before in ["self.", "Self::", "book."] {
        for (at, _) in joined.match_indices(before) {
            let name: String = joined[at + before.len()..]
                .chars()
                .take_while(|c| c.is_alphanumeric() || *c == '_')
                .collect();
            if joined[at + before.len() + name.len()..].starts_with(['(', ':']) {
                all.insert(name);
            }
        }
    }
    all
}

/// Adds the modules whose methods a module calls, of a type that both give methods to.
fn add_methods(texts: &BTreeMap<Module, String>, all: &mut BTreeMap<Module, BTreeSet<Module>>) {
    let codes = texts.iter().map(|(module, text)| {
        let own = text.split("#[cfg(test)]\nmod tests").next().unwrap();
        (module, statements(own).1)
    });
    let codes: Vec<(&Module, String)> = codes.collect();
    let given: Vec<Vec<(String, String)>> = codes.iter().map(|(_, code)| methods(code)).collect();
    for ((module, code), own) in codes.iter().zip(&given) {
        let called = calls(code);
        for ((other, _), theirs) in codes.iter().zip(&given).filter(|((other, _), _)| other != module) {
            let shares = |of: &String| own.iter().any(|(o, _)| o == of);
            let is_own = |method: &String| own.iter().any(|(_, m)| m == method);
            if theirs.iter().any(|(of, m)| shares(of) && called.contains(m) && !is_own(m)) {
                all.get_mut(*module).unwrap().insert((*other).clone());
            }
        }
    }
}

/// What is reached from a module.
fn reached(all: &BTreeMap<Module, BTreeSet<Module>>, from: &Module) -> BTreeSet<Module> {
    let (mut seen, mut left) = (BTreeSet::new(), vec![from.clone()]);
    while let Some(module) = left.pop() {
        for next in all.get(&module).into_iter().flatten() {
            if seen.insert(next.clone()) {
                left.push(next.clone());
            }
        }
    }
    seen
}

fn circles(all: &BTreeMap<Module, BTreeSet<Module>>) -> Vec<String> {
    let own = all.keys().filter(|m| reached(all, m).contains(*m));
    own.map(|m| m.join("/")).collect()
}

#[test]
fn no_file_depends_on_one_that_depends_on_it() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let roots = std::fs::read_dir(crates).unwrap().map(|e| e.unwrap().path().join("src"));
    let roots: Vec<PathBuf> = roots.filter(|r| r.is_dir()).collect();
    assert!(roots.len() >= 12, "{roots:?}");
    for root in roots {
        let name = root.display();
        let texts = modules(&root);
        let mut all = uses(&texts);
        add_methods(&texts, &mut all);
        // It is looked at indeed.
        assert!(all.values().map(BTreeSet::len).sum::<usize>() > 3, "{name}: {all:#?}");
        assert_eq!(circles(&all), Vec::<String>::new(), "{name}");
    }
}

/// The figure by hand: two files that use each other, through a tree of names and by `super`, and a third that only uses them.
#[test]
fn a_circle_is_found() {
    let with = |b: &str| {
        let files = [
            ("lib", "pub mod a;\npub mod b;\npub mod c;\n"),
            ("a", "//! A.\n\nuse crate::{b::{self, Thing}, c as other};\n"),
            ("b", b),
            ("c", "use std::path::Path;\n\n#[cfg(test)]\nmod tests {\n    use crate::a;\n}\n"),
        ];
        circles(&uses(&files.into_iter().map(|(n, t)| (vec![n.to_owned()], t.to_owned())).collect()))
    };
    assert_eq!(with("use super::a::Other;\n"), ["a", "b"]);
    assert_eq!(with("pub use crate::a::{Other, More};\n"), ["a", "b"]);
    assert_eq!(with("// use super::a::Other;\n"), Vec::<String>::new());
    assert_eq!(with("use crate::c;\n"), Vec::<String>::new());
    // Nine files were in circles that no `use` told of.
    assert_eq!(with("fn b() {\n    super::a::other();\n}\n"), ["a", "b"]);
    assert_eq!(with("fn b(of: &crate::a::Other) {}\n"), ["a", "b"]);
    assert_eq!(with("/// As [`crate::a::Other`].\nfn b() {}\n"), Vec::<String>::new());
}

/// Two files with methods of one type: who calls whom, and that a circle of calls is one.
#[test]
fn a_circle_of_methods_is_found() {
    let with = |a: &str, b: &str| {
        let texts: BTreeMap<Module, String> =
            [("a", a), ("b", b)].map(|(n, t)| (vec![n.to_owned()], t.to_owned())).into();
        let mut all = uses(&texts);
        add_methods(&texts, &mut all);
        circles(&all)
    };
    let a = "impl Run<'_> {\n    pub(super) fn rest(&mut self) {\n        self.sample();\n    }\n}\n";
    let up = "impl Run<'_> {\n    fn sample(&mut self) {\n        self\n            .rest();\n    }\n}\n";
    assert_eq!(with(a, up), ["a", "b"]);
    assert_eq!(with(a, &up.replace("self\n            .rest()", "Self::rest(self)")), ["a", "b"]);
    // One way is no circle, nor is a method of another type, or of a trait, or a field.
    assert_eq!(with(a, &up.replace("            .rest()", "            .other()")), Vec::<String>::new());
    assert_eq!(with(a, &up.replace("Run<'_>", "Walk<'_>")), Vec::<String>::new());
    assert_eq!(with(a, &up.replace("impl Run", "impl Drop for Run")), Vec::<String>::new());
    assert_eq!(with(a, &up.replace(".rest()", ".rest")), Vec::<String>::new());
}
