"""Asks a server over Arrow Flight SQL with a driver of other people (ADBC), as `tests/suite/clients.rs` tells it to.

Arguments: the address, a token, and the folder that results are written to. Whatever is wrong ends it with an error.
"""

import datetime
import sys
import threading
import time

import adbc_driver_flightsql.dbapi as flight
import pyarrow as pa

url, token = sys.argv[1:3]


def connect(token=token, **options):
    bearer = {"adbc.flight.sql.authorization_header": f"Bearer {token}"} if token else {}
    return flight.connect(url, {**bearer, **options})


def fails(work, *parts):
    try:
        work()
    except Exception as e:  # Whichever kind the driver makes of it.
        told = str(e)
        assert all(part in told for part in parts), told
        return
    raise AssertionError(f"it should have failed, with {parts}")


# Sign-in.
fails(lambda: connect(token=None).cursor().execute("grid net"), "people it knows")
fails(lambda: connect(token="0" * 8 + "." + "0" * 64).cursor().execute("grid net"))
with flight.connect(url, {"username": "ann", "password": token}) as db, db.cursor() as ask:
    ask.execute("by_region")
    assert ask.fetch_arrow_table().column_names == ["port.region", "net"]

with connect() as db:
    # Statements, with types, labels and formats.
    with db.cursor() as ask:
        ask.execute("grid net, rows(booking) as n by port.region totals")
        table = ask.fetch_arrow_table()
        assert table.num_rows == 3, table
        assert pa.types.is_decimal(table.schema.field("net").type)
        assert table.schema.field("net").metadata[b"format"] == b"#,##0.0"
        frame = table.to_pandas()
        assert list(frame["port.region"][:2]) == ["North", "South"], frame
        ask.execute("records booking.day, booking.net order by booking.day limit 5")
        row = ask.fetchone()
        assert isinstance(row[0], datetime.date), row
        ask.execute("by_region")
        import polars

        assert polars.from_arrow(ask.fetch_arrow_table()).height == 2

    # Parameters.
    with db.cursor() as ask:
        ask.execute("grid rows(booking) as n where booking.cost = $cost and port.region = $region", (3, "North"))
        by_place = ask.fetchall()
        assert by_place[0][0] > 0, by_place
        ask.execute("grid rows(booking) as n where booking.day >= $day", (datetime.date(2026, 6, 1),))
        assert ask.fetchall()[0][0] > 0
        ask.execute("grid rows(booking) as n where booking.day >= $day", ("2026-06-01",))
        assert ask.fetchall()[0][0] > 0

    # Errors tell what is wrong, where, and what instead.
    with db.cursor() as ask:
        fails(lambda: ask.execute("select * from booking"), "SQL", "grid")
        fails(lambda: ask.execute("grid net by port.regoin"), "line 1, column", "region")

    # What there is.
    objects = db.adbc_get_objects(depth="all").read_all().to_pylist()
    (catalog,) = objects
    assert catalog["catalog_name"] == "ferries", catalog
    (schema,) = catalog["catalog_db_schemas"]
    tables = {table["table_name"]: table for table in schema["db_schema_tables"]}
    assert {"booking", "port", "by_region"} <= tables.keys(), tables.keys()
    assert tables["by_region"]["table_type"] == "VIEW"
    assert [c["column_name"] for c in tables["port"]["table_columns"]][:2] == ["port", "region"], tables["port"]
    assert db.adbc_get_table_types() == ["TABLE", "VIEW"]
    assert db.adbc_get_table_schema("port").names[:2] == ["port", "region"]
    assert db.adbc_get_info()["vendor_name"] == "cubrel"

    # Five million cells.
    with db.cursor() as ask:
        start = time.monotonic()
        ask.execute("records booking.day, booking.port, booking.net, booking.cost, booking.net * 2 as twice")
        table = ask.fetch_arrow_table()
        assert table.num_rows * table.num_columns >= 5_000_000, table.num_rows
        print(f"{table.num_rows * table.num_columns} cells in {time.monotonic() - start:.2f} s")

    # Cancel: what would take minutes ends at once.
    with db.cursor() as ask:
        parts = ", ".join(f"median(booking.net * {n} + booking.cost) as x{n}" for n in range(300))
        threading.Timer(1.0, ask.adbc_cancel).start()
        start = time.monotonic()

        def long():
            ask.execute(f"grid {parts} by booking.day, booking.net, booking.cost, port.port")
            ask.fetch_arrow_table()

        fails(long)
        assert time.monotonic() - start < 20, "it went on"
print("all is well")
