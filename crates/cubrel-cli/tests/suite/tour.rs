//! The tour of the documentation: every command of it, in its order, with what it adds to the model.

use std::fs;
use std::io::Write as _;
use std::path::Path;

use assert_cmd::Command;

/// The fenced blocks of a text: their language and what is in them.
fn blocks(text: &str) -> Vec<(&str, &str)> {
    let parts: Vec<&str> = text.split("```").collect();
    parts.chunks_exact(2).filter_map(|pair| pair[1].split_once('\n')).collect()
}

/// The words of a command, with single and double quotes as a shell has them.
fn words(line: &str) -> Vec<String> {
    let (mut words, mut word, mut quote) = (Vec::new(), None::<String>, None::<char>);
    for c in line.chars() {
        match (quote, c) {
            (Some(open), c) if c == open => quote = None,
            (None, '\'' | '"') => {
                quote = Some(c);
                word.get_or_insert_default();
            }
            (None, ' ') => words.extend(word.take()),
            (_, c) => word.get_or_insert_default().push(c),
        }
    }
    words.extend(word);
    words
}

#[test]
fn every_step_of_the_tour_can_be_taken() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let text = fs::read_to_string(root.join("docs/tour.md")).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let mut at = folder.path().to_path_buf();
    let mut asked = 0;
    for (language, body) in blocks(&text) {
        if language == "toml" {
            let mut model = fs::OpenOptions::new().append(true).open(at.join("model.toml")).unwrap();
            write!(model, "\n{body}").unwrap();
            continue;
        }
        for line in body.lines() {
            let words = words(line);
            match words[0].as_str() {
                "cd" => at.push(&words[1]),
                "git" => {
                    let known = ["-c", "user.name=Ann", "-c", "user.email=ann@example.org"];
                    let done =
                        std::process::Command::new("git").args(known).args(&words[1..]).current_dir(&at).status();
                    assert!(done.unwrap().success(), "{line}");
                }
                "cubrel" => {
                    let output =
                        Command::cargo_bin("cubrel").unwrap().current_dir(&at).args(&words[1..]).output().unwrap();
                    let error = String::from_utf8_lossy(&output.stderr);
                    assert_eq!(output.status.code(), Some(0), "{line}: {error}");
                    asked += 1;
                }
                other => panic!("what is {other}?"),
            }
        }
    }
    assert!(asked > 20, "{asked} commands");
    // What it shows is there.
    for picture in
        text.split("](").skip(1).filter_map(|rest| rest.split(')').next()).filter(|path| path.ends_with(".png"))
    {
        assert!(root.join("docs").join(picture).exists(), "{picture}");
    }
}
