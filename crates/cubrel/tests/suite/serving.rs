//! What is wrong keeps only what needs it from being answered: measures, and sources that cannot be read.

use std::fs;
use std::path::Path;

use cubrel::internals::InModel as _;
use cubrel::{Model, Severity};

const MODEL: &str = "[table.t]
source = 't-*.csv'
key = 'id'
[table.t.column.twice]
formula = 'sum(t.x) * 2'
[measure.good]
formula = 'sum(t.x)'
[measure.bad]
formula = 'sum(t.xx)'
[measure.on_bad]
formula = 'bad + good'
[measure.on_on_bad]
formula = 'on_bad * 2'
[measure.torn]
formula = 'sum(t.x'
[measure.round_a]
formula = 'round_b + 1'
[measure.round_b]
formula = 'round_a + 1'
[measure.on_good]
formula = 'good / 2'
[lens.p.reading.now]
formula = 'shown'
[query.fine]
text = 'grid good, on_good'
[query.not_fine]
text = 'grid good, on_on_bad'
";

fn folder(model: &str) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("model.toml"), model).unwrap();
    fs::write(folder.path().join("t-1.csv"), "id,x\n1,10\n2,20\n").unwrap();
    folder
}

fn answer(model: &Model, text: &str) -> Result<String, Vec<String>> {
    let told = |e: cubrel::Error| e.problems().iter().map(ToString::to_string).collect::<Vec<_>>();
    let grid = model.query(text).map_err(told)?.run().unwrap();
    Ok(format!("{:?}", grid.lines.iter().map(|l| l.values.clone()).collect::<Vec<_>>()))
}

#[test]
fn a_measure_that_is_wrong_keeps_nothing_else_from_being_answered() {
    let folder = folder(MODEL);
    for model in [Model::open(folder.path()).unwrap(), Model::open(folder.path()).unwrap()] {
        for query in ["grid good", "grid on_good by t.id", "grid on_good by p", "records t.id, t.twice", "fine"] {
            let text = model.document().file.query.get(query).map_or(query, |q| q.text.as_str());
            assert!(answer(&model, text).is_ok(), "{query}: {:?}", answer(&model, text));
        }
        // Whoever asks for it hears what is wrong, where it stands, and once.
        for (query, place, what) in [
            ("grid bad", "model.toml:9:16", "table `t` has no column `xx`"),
            ("grid good, on_bad", "model.toml:9:16", "table `t` has no column `xx`"),
            ("grid on_on_bad", "model.toml:9:16", "table `t` has no column `xx`"),
            ("grid sum(on_bad per t) by p", "model.toml:9:16", "table `t` has no column `xx`"),
            ("measure m = on_bad; grid m", "model.toml:9:16", "table `t` has no column `xx`"),
            ("grid good where (let b = bad; t.x > b)", "model.toml:9:16", "table `t` has no column `xx`"),
            ("grid torn", "model.toml:15:", "expected"),
            ("grid round_a", "model.toml:1", "need each other"),
            ("grid round_b", "model.toml:1", "need each other"),
        ] {
            let problems = answer(&model, query).unwrap_err();
            let expected = |p: &&String| p.contains(place) && p.contains(what);
            assert_eq!(problems.iter().filter(expected).count(), 1, "{query}: {problems:?}");
            assert_eq!(problems.len(), 1, "{query}: {problems:?}");
        }
        let errors = |p: &&cubrel::Diagnostic| p.severity == Severity::Error;
        let found = model.check();
        let found: Vec<String> = found.iter().filter(errors).map(|p| p.message.clone()).collect();
        assert_eq!(found.len(), 3, "{found:?}");
        assert_eq!(model.wrong_measures().len(), 3);
    }
}

#[test]
fn what_needs_a_wrong_measure_to_be_loaded_is_refused() {
    for more in [
        "[table.t.column.late]\nformula = 'on_bad'\n",
        "[table.made]\nquery = 'grid on_bad by t.id'\n",
        "[role.some]\nrows.t = 'let b = on_bad; x > b'\n",
    ] {
        let folder = folder(&format!("{MODEL}{more}"));
        let error = Model::open(folder.path()).unwrap_err();
        let told: Vec<String> = error.problems().iter().map(ToString::to_string).collect();
        let count = told.iter().filter(|p| p.contains("has no column `xx`")).count();
        assert_eq!(count, 1, "{more}: {told:?}");
    }
}

fn spoil(folder: &Path, how: &str) {
    let file = folder.join("t-1.csv");
    match how {
        "away" => fs::remove_file(file).unwrap(),
        "bad rows" => fs::write(file, "id,x\n1,10\n2,20,30\n").unwrap(),
        "a key twice" => fs::write(file, "id,x\n1,10\n1,20\n").unwrap(),
        "a folder" => {
            fs::remove_file(&file).unwrap();
            fs::create_dir(file).unwrap();
        }
        _ => {
            // The store cannot be written: its place is taken.
            fs::write(file, "id,x\n1,11\n2,22\n").unwrap();
            let taken = format!(".cubrel/store-2-{}.new/held", std::process::id());
            fs::create_dir_all(folder.join(taken)).unwrap();
        }
    }
}

#[test]
fn the_last_good_store_answers_while_the_sources_cannot_be_read() {
    for how in ["away", "bad rows", "a key twice", "a folder"] {
        let model = MODEL.split("[measure.bad]").next().unwrap();
        let folder = folder(model);
        let before = answer(&Model::open(folder.path()).unwrap(), "grid good").unwrap();
        spoil(folder.path(), how);
        let old = Model::open(folder.path()).unwrap();
        assert!(old.outdated().is_some(), "{how}");
        assert!(old.check().iter().any(|p| p.severity == Severity::Error), "{how}");
        assert_eq!(answer(&old, "grid good").unwrap(), before, "{how}");
        // Who asks for a refresh hears why there is none.
        let options = cubrel::RefreshOptions::default();
        assert!(Model::refresh(folder.path(), &options, &cubrel::Silent).is_err(), "{how}");
        // What the store does not have cannot come from it.
        let other = model.replace("sum(t.x) * 2", "sum(t.x) * 3");
        fs::write(folder.path().join("model.toml"), other).unwrap();
        assert!(Model::open(folder.path()).is_err(), "{how}");
    }
}

#[test]
fn where_no_store_can_be_written_the_sources_answer_as_they_are() {
    let model = MODEL.split("[measure.bad]").next().unwrap();
    let folder = folder(model);
    let before = answer(&Model::open(folder.path()).unwrap(), "grid good").unwrap();
    spoil(folder.path(), "no room");
    let read = Model::open(folder.path()).unwrap();
    assert!(read.outdated().is_none() && read.unkept().is_some());
    assert_ne!(answer(&read, "grid good").unwrap(), before);
    let options = cubrel::RefreshOptions::default();
    assert!(Model::refresh(folder.path(), &options, &cubrel::Silent).is_err());
}
