#!/usr/bin/env python3
"""Asks the questions of `orders.toml` of Cubrel and of a general-purpose engine, in turn, on data that nobody here has made.

    pip install tpchgen-cli duckdb
    python3 benches/questions/foreign.py FOLDER [--scale 1] [--cubrel PATH] [--runs 7] [--only TEXT] [--markdown]

The data is written to FOLDER the first time. Both hold it in memory; ours, theirs, ours and so on, medians of warm runs in
milliseconds. An answer that differs is said so, and fails the run.
"""
import argparse, json, math, pathlib, statistics, subprocess, sys, time, tomllib

from compare import HERE, cubrel, same

TABLES = ["lineitem", "orders", "customer", "part", "supplier", "partsupp", "nation", "region"]


def written(folder, scale, model):
    data = folder / "data"
    if not (data / "lineitem.parquet").exists():
        subprocess.run(["tpchgen-cli", "parquet", "-s", str(scale), f"--output-dir={data}"], check=True)
    (folder / "model.toml").write_text(model)


def in_turn(args, question, db):
    """Medians of both: ours is asked in three sittings with theirs in between."""
    mine, theirs = [], []
    for _ in range(3):
        told = cubrel(args, "time", question["grid"], "--runs", str(args.runs), "--format", "json")
        mine.append(json.loads(told)["warm"]["median_ms"])
        for _ in range(args.runs):
            start = time.perf_counter()
            db.sql(question["sql"]).to_arrow_table()
            theirs.append((time.perf_counter() - start) * 1000)
    return statistics.median(mine), statistics.median(theirs)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("model", metavar="FOLDER")
    parser.add_argument("--scale", default=1)
    parser.add_argument("--cubrel", default=str(HERE / "../../target/release/cubrel"))
    parser.add_argument("--runs", type=int, default=7)
    parser.add_argument("--only", default="")
    parser.add_argument("--markdown", action="store_true")
    args = parser.parse_args()
    import duckdb
    asked = tomllib.loads((HERE / "orders.toml").read_text())
    folder = pathlib.Path(args.model)
    folder.mkdir(parents=True, exist_ok=True)
    written(folder, args.scale, asked["model"])
    db = duckdb.connect()
    for table in TABLES:
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
