//! What the tool tells of itself, programs of the path, workbooks, and asking again when something changes.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Output, Stdio};
use std::time::{Duration, Instant};

use assert_cmd::Command;
use calamine::{Data, Reader, Xlsx, open_workbook};
use tempfile::TempDir;

fn cubrel(folder: &Path, args: &[&str]) -> Output {
    Command::cargo_bin("cubrel").unwrap().current_dir(folder).args(args).output().unwrap()
}

fn stdout(output: &Output) -> String {
    String::from_utf8(output.stdout.clone()).unwrap()
}

fn folder() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let model = "[model]\nlocale = 'en-GB'\n[table.booking]\nsource = 'booking*.csv'\n[table.booking.column.sailed]\nformat = 'd MMM yyyy'\n\
                 [measure.net]\nformula = 'sum(booking.fare)'\nformat = '¤#,##0.00'\nlabel = 'Net'\n\
                 [measure.share]\nformula = 'net / net given (without all)'\nformat = '0.0%'\n";
    fs::write(folder.path().join("model.toml"), model).unwrap();
    let rows = "region,route,sailed,ref,fare\nNorth,Ness,2026-01-02,1234567890123456789,10.50\nNorth,Holm,2026-01-03,2,4\nSouth,Skaw,2026-01-03,3,1000\n";
    fs::write(folder.path().join("booking.csv"), rows).unwrap();
    folder
}

#[test]
fn the_tool_describes_itself_to_editors_shells_and_people() {
    let folder = folder();
    let schema = stdout(&cubrel(folder.path(), &["schema"]));
    let docs = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/model.schema.json")).unwrap();
    let (said, kept): (serde_json::Value, serde_json::Value) =
        (serde_json::from_str(&schema).unwrap(), serde_json::from_str(&docs).unwrap());
    assert_eq!(said, kept);
    for shell in ["bash", "elvish", "fish", "powershell", "zsh"] {
        let text = stdout(&cubrel(folder.path(), &["completions", shell]));
        assert!(text.contains("uses") && text.contains("dry-run"), "{shell}: {text}");
    }
    let manual = stdout(&cubrel(folder.path(), &["manual"]));
    assert!(manual.contains(".TH cubrel") && manual.contains("uses"), "{manual}");
    assert!(cubrel(folder.path(), &["manual", "--into", "man"]).status.success());
    let page = fs::read_to_string(folder.path().join("man/cubrel-query.1")).unwrap();
    assert!(page.contains("\\-\\-watch") && page.contains("cubrel\\-query"), "{page}");
}

#[test]
fn an_editor_talks_to_the_tool_and_hears_nothing_else() {
    let folder = folder();
    let uri = format!("file://{}/model.toml", folder.path().display());
    let text =
        fs::read_to_string(folder.path().join("model.toml")).unwrap().replace("sum(booking.fare)", "sum(booking.far)");
    let message = |value: serde_json::Value| format!("Content-Length: {}\r\n\r\n{value}", value.to_string().len());
    let document = serde_json::json!({ "uri": uri, "languageId": "toml", "version": 1, "text": text });
    let said = [
        serde_json::json!({ "jsonrpc": "2.0", "id": 1, "method": "initialize", "params": { "capabilities": {} } }),
        serde_json::json!({ "jsonrpc": "2.0", "method": "initialized", "params": {} }),
        serde_json::json!({ "jsonrpc": "2.0", "method": "textDocument/didOpen", "params": { "textDocument": document } }),
        serde_json::json!({ "jsonrpc": "2.0", "id": 2, "method": "textDocument/documentSymbol", "params": { "textDocument": { "uri": uri } } }),
        serde_json::json!({ "jsonrpc": "2.0", "id": 3, "method": "shutdown" }),
        serde_json::json!({ "jsonrpc": "2.0", "method": "exit" }),
    ];
    // The store is there, so that what is wrong is told without waiting.
    assert!(cubrel(folder.path(), &["refresh"]).status.success());
    let said: String = said.into_iter().map(message).collect();
    let output = Command::cargo_bin("cubrel").unwrap().args(["lsp", "--stdio"]).write_stdin(said).output().unwrap();
    assert!(output.status.success(), "{output:?}");
    let mut heard = stdout(&output);
    let mut messages: Vec<serde_json::Value> = Vec::new();
    while let Some(rest) = heard.strip_prefix("Content-Length: ") {
        let (length, rest) = rest.split_once("\r\n\r\n").unwrap();
        let (body, rest) = rest.split_at(length.parse().unwrap());
        messages.push(serde_json::from_str(body).unwrap());
        heard = rest.to_string();
    }
    assert_eq!(heard, "", "nothing but messages");
    let symbols = messages.iter().find(|m| m["id"] == 2).unwrap();
    assert_eq!(symbols["result"][1]["name"], "net", "{symbols}");
    assert!(messages.iter().any(|m| m["id"] == 3));
    // What is no message is refused, with what to do.
    let typed = Command::cargo_bin("cubrel").unwrap().arg("lsp").write_stdin("grid net\n").output().unwrap();
    let said = String::from_utf8(typed.stderr).unwrap();
    assert!(!typed.status.success() && said.contains("nothing to type into"), "{said}");
    let lost = cubrel(folder.path(), &["--model", "nowhere", "lsp"]);
    assert!(!lost.status.success() && String::from_utf8(lost.stderr).unwrap().contains("no model at nowhere"));
}

#[test]
fn a_model_is_the_same_however_its_folder_is_called() {
    let outer = tempfile::tempdir().unwrap();
    let model = outer.path().join("isles/ferries");
    fs::create_dir_all(model.join("data/north")).unwrap();
    let rows = "n,fare\n1,2\n";
    for file in ["data/a-1.csv", "data/a-2.csv", "data/north/b.csv", "c [1].csv", "../d.csv"] {
        fs::write(model.join(file), rows).unwrap();
    }
    rusqlite::Connection::open(model.join("e.db"))
        .and_then(|db| db.execute_batch("create table t(n int, fare int); insert into t values (1, 2);"))
        .unwrap();
    let sources = [
        "data/a-*.csv",
        "./data/./a-*.csv",
        "data/**/*.csv",
        "**/b.csv",
        "c [1].csv",
        "../d.csv",
        "../*.csv",
        "sqlite:e.db?table=t",
    ];
    let table = |(n, source): (usize, &&str)| format!("[table.t{n}]\nsource = '{source}'\n");
    fs::write(model.join("model.toml"), sources.iter().enumerate().map(table).collect::<String>()).unwrap();
    let whole = model.display().to_string();
    let mut told: Option<String> = None;
    for (from, called) in [
        ("", "isles/ferries"),
        ("", "./isles/ferries"),
        ("", "././isles/./ferries/"),
        ("", "isles/../isles/ferries/model.toml"),
        ("", "./isles/ferries/./model.toml"),
        ("isles", "ferries"),
        ("isles", "./ferries"),
        ("isles/ferries", "."),
        ("isles/ferries", "./"),
        ("isles/ferries", "./."),
        ("isles/ferries", "model.toml"),
        ("isles/ferries", "./model.toml"),
        ("isles/ferries/data", ".."),
        ("", whole.as_str()),
    ] {
        let from = outer.path().join(from);
        let texts = (0..sources.len()).map(|n| format!("rows(t{n}) as n{n}")).collect::<Vec<_>>().join(", ");
        let asked = cubrel(&from, &["-m", called, "query", &format!("grid {texts}"), "--format", "csv"]);
        assert!(asked.status.success(), "{called}: {}", String::from_utf8_lossy(&asked.stderr));
        let grid = stdout(&asked);
        assert_eq!(grid.lines().nth(1), Some("2,2,3,1,1,1,1,1"), "{called}");
        // What was loaded under one name is not loaded again under another.
        let report = String::from_utf8(asked.stderr.clone()).unwrap();
        assert_eq!(report.is_empty(), told.is_some(), "{called}: {report}");
        told = Some(report);
    }
}

#[cfg(unix)]
#[test]
fn other_words_are_programs_of_the_path() {
    use std::os::unix::fs::PermissionsExt as _;
    let folder = folder();
    let program = folder.path().join("cubrel-hello");
    fs::write(&program, "#!/bin/sh\necho \"$# $1 $2\"\nexit 3\n").unwrap();
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
    let path = format!("{}:{}", folder.path().display(), std::env::var("PATH").unwrap());
    let run = |args: &[&str]| Command::cargo_bin("cubrel").unwrap().env("PATH", &path).args(args).output().unwrap();
    let hello = run(&["hello", "--far", "a b"]);
    assert_eq!((hello.status.code(), stdout(&hello)), (Some(3), "2 --far a b\n".to_string()));
    for (word, said) in [
        ("quary", "did you mean `query`?"),
        ("nothing-like-it", "no program `cubrel-nothing-like-it`"),
        ("../hello", "there is no command `../hello`"),
    ] {
        let unknown = run(&[word]);
        let error = String::from_utf8_lossy(&unknown.stderr).into_owned();
        assert_eq!(unknown.status.code(), Some(2), "{word}");
        assert!(error.contains(said), "{word}: {error}");
    }
}

/// The cells of the first sheet.
fn cells(path: &Path) -> Vec<Vec<Data>> {
    let mut book: Xlsx<_> = open_workbook(path).unwrap();
    let range = book.worksheet_range_at(0).unwrap().unwrap();
    range.rows().map(<[Data]>::to_vec).collect()
}

#[test]
fn workbooks_have_numbers_as_numbers_and_dates_as_dates() {
    let folder = folder();
    let written = |query: &str| {
        let output = cubrel(folder.path(), &["query", query, "--format", "xlsx", "--output", "grid.xlsx", "--bars"]);
        assert!(output.status.success(), "{query}: {}", String::from_utf8_lossy(&output.stderr));
        cells(&folder.path().join("grid.xlsx"))
    };
    let text = |t: &str| Data::String(t.into());
    let rows = written("grid net, share by booking.region, booking.route totals");
    let heads = rows[0].clone();
    assert_eq!(heads, [text("Region"), text("Route"), text("Net"), text("share")]);
    let total = rows.iter().find(|r| r[0] == text("total")).unwrap();
    assert_eq!((&total[2], &total[3]), (&Data::Float(1014.5), &Data::Float(1.0)));
    let ness = rows.iter().find(|r| r[1] == text("Ness")).unwrap();
    assert_eq!(
        (&ness[0], &ness[2]),
        (&text("North"), &Data::Float(10.5)),
        "what stands once for several lines is in each"
    );
    let rows = written("grid net by booking.region split by booking.sailed");
    assert!(rows[0][1..].iter().all(|head| matches!(head, Data::String(day) if day.ends_with("Jan 2026"))), "{rows:?}");
    let rows = written("records booking.sailed, booking.ref, booking.fare order by booking.fare desc");
    let Data::DateTime(day) = &rows[1][0] else { panic!("{:?}", rows[1]) };
    assert_eq!(day.as_datetime().unwrap().date().to_string(), "2026-01-03");
    let long = rows.iter().find(|r| r[2] == Data::Float(10.5)).unwrap();
    assert_eq!(long[1], text("1234567890123456789"), "a number of more digits than a cell keeps is text");
    let to_terminal = cubrel(folder.path(), &["size", "--format", "xlsx"]);
    assert_eq!(to_terminal.status.code(), Some(2));
}

/// Reads lines until one is as wanted.
fn wait_for(lines: &mut impl Iterator<Item = std::io::Result<String>>, wanted: &str) {
    let start = Instant::now();
    for line in lines {
        if line.unwrap() == wanted {
            return;
        }
        assert!(start.elapsed() < Duration::from_secs(60), "no {wanted}");
    }
    panic!("it ended before {wanted}");
}

#[test]
fn what_is_watched_is_asked_again_when_the_data_or_the_model_changes() {
    let folder = folder();
    assert!(cubrel(folder.path(), &["refresh"]).status.success());
    let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_cubrel"))
        .current_dir(folder.path())
        .args(["query", "grid net", "--watch", "--format", "csv", "-q"])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    wait_for(&mut lines, "1014.50");
    fs::write(folder.path().join("booking-2.csv"), "region,route,sailed,ref,fare\nSouth,Skaw,2026-02-03,9,1\n")
        .unwrap();
    wait_for(&mut lines, "1015.50");
    let model = folder.path().join("model.toml");
    let text = fs::read_to_string(&model).unwrap();
    // What is wrong for a while ends nothing.
    fs::write(&model, text.replace("sum(booking.fare)", "sum(booking.fair)")).unwrap();
    std::thread::sleep(Duration::from_millis(800));
    fs::write(&model, text.replace("sum(booking.fare)", "2 * sum(booking.fare)")).unwrap();
    wait_for(&mut lines, "2031.00");
    child.kill().unwrap();
    child.wait().unwrap();
}

#[test]
fn a_shell_answers_line_by_line_and_explains_cells_of_the_last_grid() {
    let folder = folder();
    let script = "grid net by\n booking.region\n\\why 2 1\n\\set who=North\ngrid net where booking.region = $who\n\
                  \\nothing\n\\why 9 9\ngrid nett\n\\about net\n\\time\n\\quit\ngrid share\n";
    let output = Command::cargo_bin("cubrel")
        .unwrap()
        .current_dir(folder.path())
        .arg("shell")
        .write_stdin(script)
        .output()
        .unwrap();
    let (out, error) = (stdout(&output), String::from_utf8_lossy(&output.stderr).into_owned());
    assert_eq!(output.status.code(), Some(2), "something was wrong: {error}");
    for part in ["North", "£14.50", "£1,000.00", "booking.region = 'South'", "measure net (Net)", "sum(booking.fare)"]
    {
        assert!(out.contains(part), "{part}: {out}");
    }
    assert!(!out.contains("100.0%"), "what comes after the end is not asked: {out}");
    for part in ["there is no command `\\nothing`", "the last grid has no such column", "nothing is called `nett`"] {
        assert!(error.contains(part), "{part}: {error}");
    }
}

/// A terminal in which somebody types; what it shows.
#[cfg(unix)]
fn typed(folder: &Path, lines: &[(&str, &str)]) -> String {
    use std::fs::{File, OpenOptions};
    use std::io::{Read as _, Write as _};
    use std::sync::{Arc, Mutex};

    use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
    use rustix::termios::{Winsize, tcsetwinsize};

    let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
    grantpt(&master).unwrap();
    unlockpt(&master).unwrap();
    let name = ptsname(&master, Vec::new()).unwrap();
    let terminal = OpenOptions::new().read(true).write(true).open(name.to_str().unwrap()).unwrap();
    tcsetwinsize(&terminal, Winsize { ws_row: 40, ws_col: 120, ws_xpixel: 0, ws_ypixel: 0 }).unwrap();
    let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_cubrel"))
        .current_dir(folder)
        .arg("shell")
        .env("XDG_STATE_HOME", folder)
        .env("PAGER", "cat")
        .env("TERM", "xterm-256color")
        .stdin(terminal.try_clone().unwrap())
        .stdout(terminal.try_clone().unwrap())
        .stderr(terminal)
        .spawn()
        .unwrap();
    let mut keys = File::from(master);
    let mut screen = keys.try_clone().unwrap();
    let shown = Arc::new(Mutex::new(String::new()));
    let (seen, mut answers) = (shown.clone(), keys.try_clone().unwrap());
    std::thread::spawn(move || {
        let mut buffer = [0u8; 4096];
        while let Ok(count) = screen.read(&mut buffer) {
            let text = String::from_utf8_lossy(&buffer[..count]).into_owned();
            // Where the cursor is: a terminal would say so.
            for _ in 0..text.matches("\u{1b}[6n").count() {
                let _ = answers.write_all(b"\x1b[1;1R");
            }
            seen.lock().unwrap().push_str(&text);
        }
    });
    let wait = |wanted: &str| {
        let start = Instant::now();
        while !shown.lock().unwrap().contains(wanted) {
            assert!(start.elapsed() < Duration::from_secs(60), "no {wanted:?} in {:?}", shown.lock().unwrap());
            std::thread::sleep(Duration::from_millis(20));
        }
    };
    wait("cubrel");
    for (line, wanted) in lines {
        keys.write_all(line.as_bytes()).unwrap();
        wait(wanted);
    }
    keys.write_all(b"\x04").unwrap();
    child.wait().unwrap();
    shown.lock().unwrap().clone()
}

#[cfg(unix)]
#[test]
fn a_shell_on_a_terminal_completes_and_hints() {
    let folder = folder();
    assert!(cubrel(folder.path(), &["refresh"]).status.success());
    let shown = typed(
        folder.path(),
        &[
            // What is wrong so far stands behind the line.
            ("grid nett", "nothing is called"),
            ("\u{8}", "measure net"),
            ("\r", "£1,014.50"),
            // A value of the column.
            ("grid net where booking.region = 'So\t", "'South'"),
            ("\r", "£1,000.00"),
        ],
    );
    assert!(shown.contains("\u{1b}["), "{shown}");
    assert!(folder.path().join("cubrel/history").exists());
}
