//! The house, by its `use` lines: no two files use each other in a circle, and each layer uses only those below it. And one name
//! stands for one thing.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// Layers that are crates, from the ground up, as ARCHITECTURE.md has them; cargo sees to it that they stand in no circle.
const CRATES: &[&str] = &["value", "formula", "store", "model", "load", "plan", "run"];
/// Those above them, which are modules of the library.
const MODULES: &[&str] = &["handle", "insight", "care", "internals"];

/// A module by its path from the root of its crate; of a layer that is a crate, with the layer in front.
type Module = Vec<String>;

/// The modules of crates with their text, but for tests, comments and strings.
struct House {
    modules: BTreeMap<Module, String>,
    /// What modules give under another path: the name to the path that it stands for.
    re_exports: BTreeMap<(Module, String), Module>,
}

impl House {
    /// Of crates, each with the layer that it is, if it is one.
    fn read(roots: &[(Option<&str>, PathBuf)]) -> House {
        let mut modules = BTreeMap::new();
        let mut only_tests: Vec<Module> = Vec::new();
        let all = roots.iter().flat_map(|(layer, root)| files(root).into_iter().map(move |path| (layer, root, path)));
        for (layer, root, path) in all {
            let name = path.strip_prefix(root).unwrap().with_extension("");
            let inside = name.iter().map(|part| part.to_string_lossy().into_owned());
            let mut module: Module = layer.iter().map(|layer| layer.to_string()).chain(inside).collect();
            if matches!(module.last().map(String::as_str), Some("mod" | "lib" | "main")) {
                module.pop();
            }
            let text = fs::read_to_string(&path).unwrap();
            let mut parts = text.split("#[cfg(test)]\nmod ");
            let code = code_of(parts.next().unwrap());
            let in_files = parts.filter_map(|part| part.lines().next()?.strip_suffix(';'));
            only_tests.extend(in_files.map(|name| [module.as_slice(), &[name.to_string()]].concat()));
            modules.insert(module, code);
        }
        modules.retain(|module, _| !only_tests.iter().any(|tests| module.starts_with(tests)));
        let mut found = House { modules, re_exports: BTreeMap::new() };
        let mut all = BTreeMap::new();
        for (module, text) in &found.modules {
            let (trees, _) = uses(text);
            for path in trees.iter().filter(|(public, _)| *public).flat_map(|(_, tree)| leaves(tree)) {
                if let (Some(full), Some(name)) = (found.absolute(module, &path), path.last()) {
                    all.insert((module.clone(), name.clone()), full);
                }
            }
        }
        found.re_exports = all;
        found
    }

    /// A path from the root of a crate, if it leads into one of them.
    fn absolute(&self, module: &Module, path: &[String]) -> Option<Module> {
        let mut at = module.clone();
        let mut rest = path;
        match rest.first()?.as_str() {
            "crate" => {
                at.truncate(at.first().is_some_and(|layer| CRATES.contains(&layer.as_str())).into());
                rest = &rest[1..];
            }
            other if other.strip_prefix("cubrel_").is_some_and(|layer| CRATES.contains(&layer)) => {
                at = vec![other["cubrel_".len()..].to_string()];
                rest = &rest[1..];
            }
            "self" => rest = &rest[1..],
            "super" => {
                while rest.first().is_some_and(|part| part == "super") {
                    at.pop();
                    rest = &rest[1..];
                }
            }
            // A module below this one, or another crate.
            first => {
                let child: Module = at.iter().cloned().chain([first.to_string()]).collect();
                self.modules.get(&child)?;
            }
        }
        Some(at.into_iter().chain(rest.iter().cloned()).collect())
    }

    /// The module in which what a path names is written down.
    fn owner(&self, path: &[String]) -> Module {
        let mut path = path.to_vec();
        // Nothing is re-exported more often than this.
        for _ in 0..8 {
            let depth = (0..=path.len()).rev().find(|n| self.modules.contains_key(&path[..*n])).unwrap_or(0);
            let Some(name) = path.get(depth) else { return path };
            match self.re_exports.get(&(path[..depth].to_vec(), name.clone())) {
                Some(target) => path = target.iter().chain(&path[depth + 1..]).cloned().collect(),
                None => return path[..depth].to_vec(),
            }
        }
        path
    }

    /// The modules that a module uses: by its `use` lines, and by paths in its code.
    fn used_by(&self, module: &Module) -> BTreeSet<Module> {
        let (trees, code) = uses(&self.modules[module]);
        let by_lines = trees.iter().filter(|(public, _)| !public).flat_map(|(_, tree)| leaves(tree));
        let all = by_lines.chain(paths(&code)).filter_map(|path| self.absolute(module, &path));
        all.map(|path| self.owner(&path)).filter(|owner| owner != module).collect()
    }
}

fn files(folder: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    let of = |path: PathBuf| match path.is_dir() {
        true => files(&path),
        false => vec![path],
    };
    entries.flat_map(of).filter(|path| path.extension().is_some_and(|e| e == "rs")).collect()
}

/// Without comments.
fn code_of(text: &str) -> String {
    text.lines().map(|line| line.split("//").next().unwrap_or_default()).collect::<Vec<_>>().join("\n")
}

/// The trees of `use` lines, with whether they are public; and the code without them.
fn uses(text: &str) -> (Vec<(bool, String)>, String) {
    let (mut trees, mut rest) = (Vec::new(), String::new());
    let mut lines = text.lines();
    while let Some(line) = lines.next() {
        let Some((public, tree)) = use_line(line.trim_start()) else {
            rest.push_str(line);
            rest.push('\n');
            continue;
        };
        let mut tree = tree.to_string();
        while !tree.contains(';') {
            let Some(line) = lines.next() else { break };
            tree.push_str(line.trim());
        }
        trees.push((public, tree.split(';').next().unwrap_or_default().to_string()));
    }
    (trees, rest)
}

/// What comes after `use` in a line that begins with it, and whether it is public.
fn use_line(line: &str) -> Option<(bool, &str)> {
    let (public, rest) = match line.strip_prefix("pub") {
        Some(rest) if rest.starts_with('(') => (true, rest.split_once(')')?.1),
        Some(rest) => (true, rest),
        None => (false, line),
    };
    Some((public, rest.trim_start().strip_prefix("use ")?))
}

/// The paths of a `use` tree.
fn leaves(tree: &str) -> Vec<Vec<String>> {
    let mut found = Vec::new();
    let (mut depth, mut part) = (0, String::new());
    for c in tree.chars().chain([',']) {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                found.extend(leaves_of_one(part.trim()));
                part.clear();
                continue;
            }
            _ => {}
        }
        part.push(c);
    }
    found
}

fn leaves_of_one(part: &str) -> Vec<Vec<String>> {
    let split = |path: &str| path.split("::").map(str::trim).filter(|p| !p.is_empty()).map(str::to_string).collect();
    match part.split_once('{') {
        None => Some(split(part.split(" as ").next().unwrap_or_default())).filter(|p: &Vec<String>| !p.is_empty()),
        Some((before, inner)) => {
            let before: Vec<String> = split(before);
            let inner = leaves(inner.strip_suffix('}').unwrap_or(inner));
            return inner.into_iter().map(|path| before.iter().cloned().chain(path).collect()).collect();
        }
    }
    .into_iter()
    .collect()
}

/// Paths in code, such as `crate::run::Options` or `codes::all`.
fn paths(text: &str) -> Vec<Vec<String>> {
    let is_path = |c: char| c.is_alphanumeric() || c == '_' || c == ':';
    let words = text.split(|c: char| !is_path(c)).filter(|word| word.contains("::") && !word.starts_with(':'));
    words.map(|word| word.split("::").map(str::to_string).filter(|part| !part.is_empty()).collect()).collect()
}

/// Modules that use each other in a circle, if there are any.
fn circle(uses: &BTreeMap<Module, BTreeSet<Module>>) -> Option<Vec<String>> {
    let mut left = uses.clone();
    // What uses nothing that is left stands in no circle.
    loop {
        let done: Vec<Module> = left
            .iter()
            .filter(|(_, used)| used.iter().all(|module| !left.contains_key(module)))
            .map(|(module, _)| module.clone())
            .collect();
        if done.is_empty() {
            break;
        }
        done.iter().for_each(|module| drop(left.remove(module)));
    }
    let shown = |(module, used): (&Module, &BTreeSet<Module>)| {
        let used: Vec<String> = used.iter().filter(|m| left.contains_key(*m)).map(|m| m.join("::")).collect();
        format!("{} uses {}", module.join("::"), used.join(", "))
    };
    (!left.is_empty()).then(|| left.iter().map(shown).collect())
}

/// The library, with the layers that are crates.
fn library() -> House {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let layer = |layer: &&'static str| (Some(*layer), crates.join(format!("cubrel-{layer}/src")));
    House::read(&CRATES.iter().map(layer).chain([(None, crates.join("cubrel/src"))]).collect::<Vec<_>>())
}

fn others(name: &str) -> House {
    House::read(&[(None, Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(name).join("src"))])
}

fn used_by_all(found: &House) -> BTreeMap<Module, BTreeSet<Module>> {
    found.modules.keys().map(|module| (module.clone(), found.used_by(module))).collect()
}

#[test]
fn no_files_use_each_other_in_a_circle() {
    for (path, found) in
        [("the library", library()), ("the tool", others("cubrel-cli")), ("the server", others("cubrel-serve"))]
    {
        let uses = used_by_all(&found);
        assert!(found.modules.len() > 25, "{path} has {} files", found.modules.len());
        let edges: usize = uses.values().map(BTreeSet::len).sum();
        assert!(edges > found.modules.len(), "{path}: {edges} uses were found");
        if let Some(circle) = circle(&uses) {
            panic!("{path}: these files stand in a circle, or need one that does:\n  {}", circle.join("\n  "));
        }
    }
}

#[test]
fn each_layer_uses_only_those_below_it() {
    let uses = used_by_all(&library());
    let layer = |module: &Module| {
        let first = module.first()?;
        let place = CRATES.iter().chain(MODULES).position(|layer| layer == first);
        Some(place.unwrap_or_else(|| panic!("{first} is in no layer of ARCHITECTURE.md")))
    };
    let mut seen = BTreeSet::new();
    for (module, used) in &uses {
        for other in used {
            let (Some(mine), Some(theirs)) = (layer(module), layer(other)) else { continue };
            assert!(theirs <= mine, "{} uses {}, which stands above it", module.join("::"), other.join("::"));
            seen.insert((mine, theirs));
        }
    }
    assert!(seen.len() > 20, "{seen:?}");
}

/// What a module declares: the names of its structs, enums, traits and aliases.
fn types(text: &str) -> impl Iterator<Item = &str> {
    text.lines().filter_map(|line| {
        let line =
            line.strip_prefix("pub").map_or(line, |rest| rest.trim_start_matches(|c: char| "(crateinsup)".contains(c)));
        let (keyword, rest) = line.trim_start().split_once(' ')?;
        let is_type = matches!(keyword, "struct" | "enum" | "trait" | "type") && !line.starts_with("    ");
        is_type.then(|| rest.split(|c: char| !c.is_alphanumeric()).next().unwrap_or_default())
    })
}

#[test]
fn a_name_stands_for_one_type() {
    let found = library();
    let mut places: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for (module, text) in &found.modules {
        types(text).for_each(|name| places.entry(name).or_default().push(module.join("::")));
    }
    assert!(places.len() > 500, "{} types were found", places.len());
    let several: Vec<_> = places.iter().filter(|(_, modules)| modules.len() > 1).collect();
    assert!(several.is_empty(), "these names stand for several types: {several:?}");
}

#[test]
fn circles_and_steps_up_are_found() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| {
        let path = folder.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    };
    write("one/lib.rs", "pub use room::deep::Thing;\n");
    write("one/room/mod.rs", "mod deep;\npub use deep::Thing;\n");
    write("one/room/deep.rs", "// use crate::sketch::No;\nuse crate::stone::{self, A as B};\npub struct Thing;\n");
    write("one/stone.rs", "fn f() { super::sketch::g(); }\n#[cfg(test)]\nmod tests { use crate::room; }\n");
    write("one/sketch.rs", "use crate::\n    room::{Thing};\n");
    write("store/lib.rs", "mod deep;\npub use deep::Codes;\n");
    write("store/deep.rs", "use cubrel_value::{Value, arrow};\nfn f() { crate::g(); }\npub struct Codes;\n");
    write("value_crate/lib.rs", "pub mod arrow;\npub struct Value;\n");
    write("value_crate/arrow.rs", "use super::Value;\n");
    write("top/lib.rs", "use cubrel_store::Codes;\nuse serde::Serialize;\n");
    let at = |name: &str| folder.path().join(name);
    let crates = [(Some("store"), at("store")), (Some("value"), at("value_crate")), (None, at("top"))];
    let apart = used_by_all(&House::read(&crates));
    let found = House::read(&[(None, at("one"))]);
    let module = |path: &str| path.split("::").filter(|part| !part.is_empty()).map(str::to_string).collect::<Module>();
    let set = |paths: &[&str]| paths.iter().map(|path| module(path)).collect::<BTreeSet<Module>>();
    assert_eq!(apart[&module("store::deep")], set(&["store", "value", "value::arrow"]));
    assert_eq!(apart[&module("")], set(&["store::deep"]), "through what the crate gives");
    assert_eq!(apart[&module("value::arrow")], set(&["value"]));
    let uses = used_by_all(&found);
    assert_eq!(uses[&module("room::deep")], BTreeSet::from([module("stone")]));
    assert_eq!(uses[&module("stone")], BTreeSet::from([module("sketch")]));
    assert_eq!(uses[&module("sketch")], BTreeSet::from([module("room::deep")]), "through what `room` gives");
    let shown = circle(&uses).unwrap().join("\n");
    assert!(shown.contains("sketch uses room::deep") && !shown.contains("room uses"), "{shown}");
}
