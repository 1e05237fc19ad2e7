#!/usr/bin/env python3
"""Asks the questions of `questions.toml` of Cubrel and, where they are installed, of general-purpose engines.

    python3 benches/questions/compare.py MODEL [--cubrel PATH] [--runs 7] [--only TEXT] [--cubrel-only] [--markdown]

MODEL is a folder made by `cubrel demo`. The engines hold the same tables in memory, with the computed columns; each question
is asked of one after the other, so that what else the machine does meets them alike. Times are medians of warm runs, in
milliseconds. An answer that differs is said so, and fails the run. duckdb, polars: from PyPI, both optional.
"""
import argparse, csv, io, json, math, pathlib, statistics, subprocess, sys, tempfile, time, tomllib

HERE = pathlib.Path(__file__).parent
TABLES = ["booking", "sailing", "route", "port", "region", "vessel", "fare_class", "channel", "customer", "weather", "target"]


def median_ms(ask, runs):
    ask()
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        ask()
        times.append((time.perf_counter() - start) * 1000)
    return statistics.median(times)


def load_duckdb(model):
    try:
        import duckdb
    except ImportError:
        return None
    db = duckdb.connect()
    for table in TABLES:
        files = f"{model}/data/{table}*.csv"
        db.execute(f"create table {table} as select * from read_csv('{files}', nullstr=['', 'NA'], decimal_separator='.')")
    db.execute("""create or replace table booking as select booking_ref, customer_id, route_id, channel_id, fare_code,
      booked_at, booked_on, sailed_on, passengers::int as passengers, unit_fare::decimal(10,2) as unit_fare,
      concession::decimal(10,2) as concession, status,
      (passengers * unit_fare::decimal(10,2))::decimal(18,2) as gross,
      (passengers * unit_fare::decimal(10,2) - coalesce(concession::decimal(10,2), 0))::decimal(18,2) as net,
      date_diff('day', booked_on, sailed_on) as lead_days from booking""")
    db.execute("create or replace table fare_class as select * replace (list_fare::decimal(18,2) as list_fare) from fare_class")
    db.execute("create or replace table sailing as select * replace (fuel::decimal(18,1) as fuel) from sailing")
    db.execute("""create table calendar as select d::date as date, year(d) as year from
      generate_series(date '2023-01-01', date '2026-12-31', interval 1 day) t(d)""")
    return db


def load_polars(model):
    try:
        import polars as pl
    except ImportError:
        return None
    frames = {}
    for table in TABLES:
        kinds = {"concession": pl.Float64, "unit_fare": pl.Float64, "customer_id": pl.Int64}
        frames[table] = pl.concat([pl.read_csv(f, try_parse_dates=True, null_values=["", "NA"], schema_overrides=kinds)
                                   for f in sorted(pathlib.Path(model, "data").glob(f"{table}*.csv"))], rechunk=True)
    gross = pl.col("passengers") * pl.col("unit_fare")
    frames["booking"] = frames["booking"].with_columns(
        gross=gross, net=gross - pl.col("concession").fill_null(0),
        lead_days=(pl.col("sailed_on") - pl.col("booked_on")).dt.total_days())
    return frames


def polars_questions(f):
    """Those questions that are natural for a dataframe library, as its users write them."""
    import polars as pl
    if f is None:
        return {}
    b, net = f["booking"].lazy(), pl.col("net").sum()
    month = pl.col("sailed_on").dt.truncate("1mo")
    ports = f["route"].join(f["port"], left_on="departure_port_id", right_on="id").lazy()
    far = lambda frame: frame.join(ports, left_on="route_id", right_on="id", how="left")
    channel = lambda frame: frame.join(f["channel"].lazy(), left_on="channel_id", right_on="id", suffix="_channel")
    fare = lambda frame: frame.join(f["fare_class"].lazy(), left_on="fare_code", right_on="code", suffix="_fare")
    people = lambda frame: frame.join(f["customer"].lazy(), left_on="customer_id", right_on="id")
    by_region = lambda frame, *aggs: far(frame).group_by("region").agg(*aggs)
    customers = pl.col("customer_id").drop_nulls().n_unique()
    per_customer = people(b).group_by("home_island", "customer_id").agg(net)
    return {
        "total": b.select(net),
        "total of an expression": b.select((pl.col("passengers") * pl.col("unit_fare")).sum()),
        "by one near attribute": channel(b).group_by("kind").agg(net),
        "by one far attribute (two hops)": by_region(b, net),
        "by two attributes, near and far": channel(far(b)).group_by("region", "kind").agg(net),
        "by region and month": far(b).group_by("region", month).agg(net),
        "by day": b.group_by("sailed_on").agg(net),
        "by three attributes, counts and averages": fare(channel(b)).group_by("name_fare", "kind", pl.col("sailed_on").dt.year()).agg(pl.len(), pl.col("net").mean()),
        "distinct customers": b.select(customers),
        "distinct customers by month": b.group_by(month).agg(customers),
        "distinct customers by region": by_region(b, customers),
        "median by region": by_region(b, pl.col("net").median()),
        "spread, smallest and largest by channel": channel(b).group_by("kind").agg(pl.col("net").std().alias("spread"), pl.col("net").min().alias("low"), pl.col("booked_at").max()),
        "share of total": b.group_by("route_id").agg(net).with_columns(share=pl.col("net") / pl.col("net").sum()),
        "best month per route": b.group_by("route_id", month).agg(net).group_by("route_id").agg(pl.col("net").max()),
        "average of customer totals by island": per_customer.group_by("home_island").agg(pl.col("net").mean()),
        "filter to 1 %": by_region(b.filter(pl.col("sailed_on").is_between(pl.date(2025, 6, 1), pl.date(2025, 6, 10))), net),
        "filter to 90 %": by_region(b.filter(pl.col("sailed_on") >= pl.date(2024, 5, 1)), net),
        "text filter on a far table (like)": people(b).filter(pl.col("name").str.contains("ar", literal=True)).group_by(month).agg(net, pl.len()),
        "filter on a value of the fact table": channel(b.filter((pl.col("passengers") >= 3) & (pl.col("net") > 50))).group_by("kind").agg(net),
        "by booking reference, top 10": b.group_by("booking_ref").agg(net).top_k(10, by="net"),
        "by customer, top 10": people(b).group_by("customer_id").agg(net).top_k(10, by="net"),
        "rounding inside a sum": by_region(b, (pl.col("net") * 1.1).round(0).sum()),
        "an expression with a looked-up value": fare(channel(b)).group_by("kind").agg((pl.col("passengers") * pl.col("list_fare") - pl.col("net")).sum()),
        "newest 50 bookings": b.top_k(50, by="booked_at").join(f["route"].lazy(), left_on="route_id", right_on="id", how="left"),
    }


def plain(value):
    """A value in a form that is the same whoever gave it."""
    if value is None or value == "":
        return ""
    try:
        number = float(value)
        return f"{number:.5e}"
    except (TypeError, ValueError):
        return str(value)[:19].replace(" 00:00:00", "")


def cubrel(args, *words):
    done = subprocess.run([args.cubrel, *words, "-m", args.model, "--quiet"], capture_output=True, text=True)
    if done.returncode != 0:
        sys.exit(f"cubrel {' '.join(words)}\n{done.stderr}")
    return done.stdout


def same(args, question, db):
    ours = list(csv.reader(io.StringIO(cubrel(args, "query", question["grid"], "--format", "csv"))))[1:]
    if "total" in question["name"] and "axes" in question["name"]:
        ours = [line[:-1] for line in ours]
    theirs = [list(line) for line in db.execute(question["sql"]).fetchall()]
    a, b = (sorted([plain(v) for v in line] for line in lines) for lines in (ours, theirs))
    if len(a) == len(b) and all(near(x, y) for s, t in zip(a, b) for x, y in zip(s, t)):
        return True
    differ = [(x, y) for x, y in zip(a, b) if x != y][:3]
    print(f"{question['name']}: answers differ: {len(a)} and {len(b)} lines, {differ}", file=sys.stderr)
    return False


def computing_ms(args, column):
    """What a calculated column takes, by what a refresh says of a model that has it besides."""
    with tempfile.TemporaryDirectory() as folder:
        here, there = pathlib.Path(args.model).resolve(), pathlib.Path(folder)
        (there / "data").symlink_to(here / "data")
        text = (here / "model.toml").read_text()
        (there / "model.toml").write_text(text)
        subprocess.run([args.cubrel, "refresh", "-m", folder, "--quiet"], capture_output=True, check=True)
        times = []
        for run in range(args.runs):
            # A comment of its own makes the formula another one, so that the column is computed again.
            formula = json.dumps(f"{column['formula']} -- {run}")
            (there / "model.toml").write_text(f"{text}\n[table.{column['table']}.column.tried]\nformula = {formula}\n")
            done = subprocess.run([args.cubrel, "refresh", "-m", folder, "--format", "json", "--quiet"], capture_output=True, text=True)
            if done.returncode != 0:
                sys.exit(done.stderr)
            tables = json.loads(done.stdout)["tables"]
            times += [c["milliseconds"] for t in tables for c in t["computed"] if c["column"] == "tried"]
        return statistics.median(times)


def near(x, y):
    if x == y:
        return True
    try:
        return math.isclose(float(x), float(y), rel_tol=1e-4)
    except ValueError:
        return False


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("model")
    parser.add_argument("--cubrel", default=str(HERE / "../../target/release/cubrel"))
    parser.add_argument("--runs", type=int, default=7)
    parser.add_argument("--only", default="")
    parser.add_argument("--cubrel-only", action="store_true")
    parser.add_argument("--markdown", action="store_true")
    args = parser.parse_args()
    db = None if args.cubrel_only else load_duckdb(args.model)
    frames = None if args.cubrel_only else load_polars(args.model)
    others = polars_questions(frames) if frames else {}
    asked = tomllib.loads((HERE / "questions.toml").read_text())
    questions = [q for q in asked["question"] + asked["column"] if args.only in q["name"]]
    print("| question | Cubrel | duckdb | polars | best / Cubrel |\n|---|---:|---:|---:|---:|" if args.markdown
          else f"{'question':58} {'Cubrel':>9} {'duckdb':>9} {'polars':>9}  best / Cubrel")
    ratios, wrong = [], 0
    for q in questions:
        if db and "grid" in q and q.get("answer", True):
            wrong += not same(args, q, db)
        mine = computing_ms(args, q) if "formula" in q else json.loads(cubrel(args, "time", q["grid"], "--runs", str(args.runs), "--format", "json"))["warm"]["median_ms"]
        times = [None, None]
        if db:
            fill = lambda: db.execute(f"create or replace temp table tried as {q['sql']}")
            times[0] = median_ms(fill if "formula" in q else lambda: db.sql(q["sql"]).to_arrow_table(), args.runs)
        if q["name"] in others:
            try:
                times[1] = median_ms(others[q["name"]].collect, args.runs)
            except Exception as problem:
                print(f"{q['name']}: polars: {str(problem).splitlines()[0]}", file=sys.stderr)
        best = min((t for t in times if t), default=None)
        ratio = best / mine if best else None
        if ratio:
            ratios.append(ratio)
        show = lambda t: f"{t:9.2f}" if t else "        –"
        line = [f"{q['name']:58}", show(mine), *map(show, times), f"{ratio:6.1f}" if ratio else "     –"]
        print("| " + " | ".join(w.strip() for w in line) + " |" if args.markdown else " ".join(line), flush=True)
    if ratios:
        mean = math.exp(statistics.mean(map(math.log, ratios)))
        print(f"\n{len(ratios)} questions: geometric mean {mean:.2f} times as fast, least {min(ratios):.2f}; "
              f"{sum(r < 1 for r in ratios)} slower")
    sys.exit(1 if wrong else 0)


if __name__ == "__main__":
    main()
