//! Stores that somebody cuts off, writes into or replaces while they are in use, and folders in which things stand that
//! nobody expects: a wrong number never comes of it, and the process goes on.

use std::fs::{self, OpenOptions};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use cubrel::store::disk::generations::newest;
use cubrel::{Error, Model, RefreshOptions, Silent};
use tempfile::TempDir;

const MODEL: &str = "[table.booking]\nsource = 'booking.csv'\n[table.port]\nsource = 'port.csv'\n\
    [[relationship]]\nmany = 'booking.port'\none = 'port.id'\n\
    [measure.net]\nformula = 'sum(booking.net)'\n[measure.weight]\nformula = 'sum(booking.weight)'\n";
const ROWS: u64 = 20_000;
/// What is asked before the store is broken, and afterwards.
const QUERIES: [&str; 4] = ["grid net", "grid net by port.name", "grid weight by port.name", "grid max(booking.note)"];

fn model() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("model.toml"), MODEL).unwrap();
    let mut text = String::from("id,port,net,weight,note\n");
    for i in 0..ROWS {
        let noise = i.wrapping_mul(7919) % 10_007;
        text += &format!("{i},P{:02},{},{}.{:02},note {noise}\n", noise % 30, noise, i % 371, noise % 100);
    }
    fs::write(folder.path().join("booking.csv"), text).unwrap();
    let ports: String = (0..30).map(|i| format!("P{i:02},Port {i}\n")).collect();
    fs::write(folder.path().join("port.csv"), format!("id,name\n{ports}")).unwrap();
    folder
}

fn store(folder: &Path) -> PathBuf {
    newest(&folder.join(".cubrel")).expect("it was refreshed")
}

fn answer(model: &Model, query: &str) -> Result<String, Error> {
    let grid = model.query(query)?.run()?;
    Ok(format!("{grid:?}"))
}

/// Breaks a file in place.
fn damage(path: &Path, how: &str) {
    let bytes = fs::metadata(path).unwrap().len();
    let file = OpenOptions::new().write(true).open(path).unwrap();
    match how {
        "empty" => file.set_len(0).unwrap(),
        "preamble" => file.set_len(40).unwrap(),
        "half" => file.set_len(bytes / 2).unwrap(),
        "longer" => file.set_len(bytes + 8192).unwrap(),
        "zeros" => file.write_all_at(&vec![0; bytes as usize], 0).unwrap(),
        "ones" => file.write_all_at(&vec![0xFF; bytes as usize], 0).unwrap(),
        _ => file.write_all_at(&vec![0x55; bytes as usize / 2], 40).unwrap(),
    }
}

const DAMAGES: [&str; 7] = ["empty", "preamble", "half", "longer", "zeros", "ones", "blocks"];

#[test]
fn a_store_that_is_broken_while_it_is_used_gives_the_same_numbers_or_an_error() {
    for how in DAMAGES {
        for asked_before in 0..=QUERIES.len() {
            let folder = model();
            let first = Model::open(folder.path()).unwrap();
            let good: Vec<String> = QUERIES.iter().map(|q| answer(&first, q).unwrap()).collect();
            let opened = Model::open(folder.path()).unwrap();
            for (query, good) in QUERIES.iter().zip(&good).take(asked_before) {
                assert_eq!(&answer(&opened, query).unwrap(), good);
            }
            damage(&store(folder.path()), how);
            for (i, (query, good)) in QUERIES.iter().zip(&good).enumerate() {
                match answer(&opened, query) {
                    Ok(same) => assert_eq!(&same, good, "{how}: {query}"),
                    Err(Error::Damaged(_)) => assert!(i >= asked_before, "{how}: {query} was read before"),
                    Err(other) => panic!("{how}: {query}: {other}"),
                }
            }
            // Whoever opens it now gets it from the sources again.
            let again = Model::open(folder.path()).unwrap();
            let found = |query: &&str| match answer(&again, query) {
                Err(Error::Damaged(_)) => answer(
                    &Model::refresh(folder.path(), &RefreshOptions { all: true, ..RefreshOptions::default() }, &Silent)
                        .unwrap()
                        .0,
                    query,
                ),
                found => found,
            };
            let found: Vec<String> = QUERIES.iter().map(|q| found(q).unwrap()).collect();
            assert_eq!(found, good, "{how}");
        }
    }
}

#[test]
fn a_store_that_is_in_use_outlives_the_next_ones() {
    let folder = model();
    let old = Model::open(folder.path()).unwrap();
    let before: Vec<String> = QUERIES.iter().map(|q| answer(&old, q).unwrap()).collect();
    let opened = Model::open(folder.path()).unwrap();
    for more in 1..4 {
        let text = fs::read_to_string(folder.path().join("booking.csv")).unwrap();
        fs::write(folder.path().join("booking.csv"), format!("{text}{},P01,5,1.5,more\n", ROWS + more)).unwrap();
        Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).unwrap();
    }
    // Nothing of it has been read so far, and its file has no name any more.
    let after: Vec<String> = QUERIES.iter().map(|q| answer(&opened, q).unwrap()).collect();
    assert_eq!(after, before);
    let stores = fs::read_dir(folder.path().join(".cubrel")).unwrap();
    let stores = stores.filter(|e| e.as_ref().unwrap().file_name().to_string_lossy().starts_with("store-"));
    assert_eq!(stores.count(), 1, "old ones are removed");
}

#[test]
fn links_pipes_and_folders_among_the_stores_are_not_followed_and_not_waited_for() {
    let pipe = |path: &Path| assert!(Command::new("mkfifo").arg(path).status().unwrap().success());
    let elsewhere = tempfile::tempdir().unwrap();
    let victim = elsewhere.path().join("victim");
    fs::write(&victim, "mine").unwrap();
    let link = |path: &Path| std::os::unix::fs::symlink(&victim, path).unwrap();
    let unfinished = format!("store-2-{}.new", std::process::id());
    type Put<'p> = (&'p str, &'p dyn Fn(&Path));
    let cases: [Put<'_>; 4] = [
        ("a pipe", &pipe),
        ("a link", &link),
        ("a folder", &|path| fs::create_dir(path).unwrap()),
        ("text", &|path| {
            fs::write(path, "CUBREL").unwrap();
        }),
    ];
    for (what, put) in cases {
        for name in ["store", "store-2", "store-999", "lock", unfinished.as_str()] {
            let folder = model();
            let place = folder.path().join(".cubrel");
            drop(Model::open(folder.path()).unwrap());
            let path = place.join(name);
            if name == "lock" {
                fs::remove_file(&path).unwrap();
            }
            put(&path);
            fs::write(folder.path().join("port.csv"), "id,name\nP01,Skaw\n").unwrap();
            let model = Model::open(folder.path()).unwrap_or_else(|e| panic!("{what} at {name}: {e}"));
            let told = answer(&model, "grid net by port.name").unwrap();
            // A folder in the way of what is written is said, and what was read answers from memory.
            let in_the_way = what == "a folder" && name == unfinished;
            assert_eq!(model.unkept().is_some(), in_the_way, "{what} at {name}: {:?}", model.unkept());
            assert!(model.outdated().is_none() && told.contains("Skaw"), "{what} at {name}: {told}");
            assert_eq!(fs::read_to_string(&victim).unwrap(), "mine", "{what} at {name}");
        }
    }
}

#[test]
fn whoever_opens_a_model_while_it_is_changed_and_refreshed_gets_one_of_its_states() {
    let folder = model();
    let path = folder.path();
    drop(Model::open(path).unwrap());
    let (ended, opened) = (AtomicBool::new(false), AtomicUsize::new(0));
    let total: u64 = (0..ROWS).map(|i| i.wrapping_mul(7919) % 10_007).sum();
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while !ended.load(Ordering::Relaxed) {
                    let model = Model::open(path).unwrap_or_else(|e| panic!("{e}"));
                    assert!(model.outdated().is_none(), "{:?}", model.outdated());
                    let told = answer(&model, "grid net").unwrap();
                    let right = |times: u64| told.contains(&(total * times).to_string());
                    assert!((1..=40).any(right), "{told}");
                    opened.fetch_add(1, Ordering::Relaxed);
                }
            });
        }
        for times in 1..=40 {
            let text = MODEL.replace("sum(booking.net)", &format!("sum(booking.net) * {times}"));
            fs::write(path.join("new.toml"), text).unwrap();
            fs::rename(path.join("new.toml"), path.join("model.toml")).unwrap();
            match Model::refresh(path, &RefreshOptions { all: times % 3 == 0, ..RefreshOptions::default() }, &Silent) {
                Ok(_) => {}
                Err(e) => assert!(e.to_string().contains("another refresh"), "{e}"),
            }
        }
        ended.store(true, Ordering::Relaxed);
    });
    assert!(opened.load(Ordering::Relaxed) > 4, "{opened:?} opened");
    let left = fs::read_dir(path.join(".cubrel")).unwrap().count();
    assert_eq!(left, 2, "the lock and the newest store");
}
