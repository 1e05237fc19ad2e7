//! Tables and queries of a PostgreSQL server that is started here. Where there is none installed, this says so.
#![cfg(feature = "postgres")]
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use cubrel::Silent;
use cubrel::internals::InModel as _;
use cubrel::{Model, RefreshOptions};
use tempfile::TempDir;

/// A server with a folder of its own, stopped in the end.
struct Server {
    folder: TempDir,
    programs: PathBuf,
    port: u16,
}

/// Where Debian's packages put the server.
fn programs() -> Option<PathBuf> {
    let mut versions: Vec<PathBuf> =
        fs::read_dir("/usr/lib/postgresql").ok()?.filter_map(|e| Some(e.ok()?.path().join("bin"))).collect();
    versions.sort();
    versions.into_iter().rfind(|bin| bin.join("initdb").exists())
}

impl Server {
    fn start() -> Result<Server, String> {
        let programs = programs().ok_or("no server is installed in /usr/lib/postgresql")?;
        let folder = tempfile::tempdir().map_err(|e| e.to_string())?;
        let port =
            std::net::TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).map_err(|e| e.to_string())?.port();
        let server = Server { folder, programs, port };
        let data = server.data();
        fs::create_dir(&data).map_err(|e| e.to_string())?;
        // The server refuses to run as root, so that another user has to own its files.
        if is_root() {
            server.output(Command::new("chown").arg("-R").arg("postgres").arg(server.folder.path()))?;
        }
        let init = ["-U", "ferry", "-A", "trust", "-D", &data.display().to_string()];
        server.output(server.program("initdb").args(init).arg("--no-sync"))?;
        let options = format!("-p {port} -k {} -c fsync=off", server.folder.path().display());
        let log = server.folder.path().join("log");
        server.output(
            server.program("pg_ctl").arg("-D").arg(&data).args(["-w", "-o", &options, "-l"]).arg(log).arg("start"),
        )?;
        Ok(server)
    }

    fn data(&self) -> PathBuf {
        self.folder.path().join("data")
    }

    fn program(&self, name: &str) -> Command {
        let path = self.programs.join(name);
        let mut command = if is_root() { Command::new("runuser") } else { Command::new(&path) };
        if is_root() {
            command.args(["-u", "postgres", "--"]).arg(path);
        }
        command.current_dir("/");
        command
    }

    fn output(&self, command: &mut Command) -> Result<(), String> {
        let output = command.stdin(Stdio::null()).output().map_err(|e| format!("{command:?}: {e}"))?;
        if output.status.success() { Ok(()) } else { Err(String::from_utf8_lossy(&output.stderr).into_owned()) }
    }

    fn run(&self, sql: &str) {
        let mut config = postgres::Config::new();
        config.host("127.0.0.1").port(self.port).user("ferry").dbname("postgres");
        config.connect(postgres::NoTls).unwrap().batch_execute(sql).unwrap();
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.output(self.program("pg_ctl").arg("-D").arg(self.data()).args(["-m", "immediate", "stop"]));
    }
}

fn is_root() -> bool {
    Command::new("id").arg("-u").output().is_ok_and(|o| o.stdout.starts_with(b"0\n"))
}

fn model(folder: &Path, source: &str, more: &str) -> Result<Model, cubrel::Error> {
    let text = format!("[table.sailing]\nsource = \"{source}\"\n{more}[measure.fuel]\nformula = 'sum(sailing.fuel)'\n");
    fs::write(folder.join("model.toml"), text).unwrap();
    Model::refresh(folder, &RefreshOptions::default(), &Silent).map(|(model, _)| model)
}

fn rows(model: &Model, query: &str) -> Vec<String> {
    let grid = model.query(query).unwrap().run().unwrap();
    let line = |l: &cubrel::GridLine| l.values.iter().map(ToString::to_string).collect::<Vec<_>>().join("|");
    grid.lines.iter().map(line).collect()
}

#[test]
fn tables_and_queries_of_a_server() {
    let server = match Server::start() {
        Ok(server) => server,
        Err(why) => {
            eprintln!("skipped: PostgreSQL cannot be started here: {why}");
            return;
        }
    };
    server.run(
        "create table sailing (id int, \"day\" date, at timestamptz, fuel numeric(10,2), ratio float8, late bool, code text);
         insert into sailing values
         (1, '2026-01-05', '2026-01-05 08:30+01', 10.5, 0.25, true, '007'),
         (2, '2026-02-28', null, 1, null, false, ''),
         (3, null, '2026-03-01 23:00:00Z', null, 1e300, null, E'two\\nlines, \"quoted\"'),
         (4, '2026-03-31', null, -3.25, 2, true, null);",
    );
    let folder = tempfile::tempdir().unwrap();
    let address = format!("postgres://ferry@127.0.0.1:{}/postgres", server.port);
    let whole = model(folder.path(), &format!("{address}?table=sailing"), "").unwrap_or_else(|e| panic!("{e}"));
    let types: Vec<String> = whole.schema().tables[0].columns.iter().map(|c| c.ty.to_string()).collect();
    assert_eq!(types, ["int", "date", "timestamp", "decimal(18,2)", "float", "bool", "text"]);
    let records = "records sailing.id, sailing.day, sailing.at, sailing.fuel, sailing.ratio, sailing.late, sailing.code \
                   order by sailing.id";
    assert_eq!(
        rows(&whole, records),
        [
            "1|2026-01-05|2026-01-05 07:30:00|10.50|0.25|true|007",
            "2|2026-02-28||1.00||false|",
            &format!("3||2026-03-01 23:00:00||{}||two\nlines, \"quoted\"", 1e300),
            "4|2026-03-31||-3.25|2|true|",
        ]
    );
    let of_query = format!("{address}?query=select late, sum(fuel) as fuel from public.sailing group by late");
    let summed = model(folder.path(), &of_query, "").unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(rows(&summed, "grid fuel by sailing.late"), ["false|1.00", "true|7.25"]);

    // Only months that reach into the days since are read again.
    let months = "partition = { column = 'day', by = 'month' }\n";
    model(folder.path(), &format!("{address}?table=public.sailing"), months).unwrap_or_else(|e| panic!("{e}"));
    server.run("update sailing set fuel = 100; insert into sailing (id, day, fuel) values (5, '2026-04-01', 7)");
    let since = cubrel::value::date::parse_date(b"2026-03-01");
    let options = RefreshOptions { since, ..RefreshOptions::default() };
    let (fresh, report) = Model::refresh(folder.path(), &options, &Silent).unwrap();
    assert_eq!((report.tables[0].parts_read, report.tables[0].parts), (3, 5));
    assert_eq!(rows(&fresh, "grid fuel by sailing.id"), ["1|10.50", "2|1.00", "3|100.00", "4|100.00", "5|7.00"]);
    let kept = Model::open(folder.path()).unwrap();
    assert_eq!(rows(&kept, "grid fuel"), ["218.50"], "asking does not read the server again");

    for (source, expected) in [
        (format!("{address}?table=nothing"), "relation \"nothing\" does not exist"),
        (address.clone(), "does not say what to read"),
        (address.replace("ferry@", "ferry:tern@") + "?table=sailing", "has a password in it"),
        (address.replace(&server.port.to_string(), "1") + "?table=sailing", "127.0.0.1:1"),
    ] {
        let error = model(folder.path(), &source, "").unwrap_err().to_string();
        assert!(error.contains(expected), "{source}: {error}");
        assert!(!error.contains(":tern"), "no password in messages: {error}");
    }
}

#[test]
fn what_takes_a_connection_and_says_nothing_is_not_waited_for_without_end() {
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = silent.local_addr().unwrap().port();
    let folder = TempDir::new().unwrap();
    let error = model(folder.path(), &format!("postgres://ann@127.0.0.1:{port}/ferries?table=t"), "").unwrap_err();
    assert!(error.to_string().contains("has not answered for 10 seconds"), "{error}");
    drop(silent);
}
