"""Reads what the demo's lines give in every output by programs that are not ours, and holds it against JSON Lines."""

import csv
import datetime
import json
import pathlib
import sqlite3
import sys
import xml.etree.ElementTree as xml
from decimal import Decimal

import openpyxl
import pyarrow
import pyarrow.parquet

folder = pathlib.Path(sys.argv[1])
checked = 0
wrong = 0


class Number(str):
    """A number as it was written."""


def is_group(value):
    return isinstance(value, list)


def records_of(line):
    text = (folder / line / "records.jsonl").read_text()
    records = [json.loads(row, parse_float=Number, parse_int=Number) for row in text.splitlines()]
    kinds = {}
    for record in records:
        record["offset"] = int(record["ranges"][0][0])
        kinds.setdefault(record["kind"], []).append(record)
    return kinds


def expect(found, expected, where):
    global checked, wrong
    checked += 1
    if found != expected:
        wrong += 1
        if wrong < 30:
            print(f"{where}: {found!r} instead of {expected!r}")


def plain(fields):
    return {name: value for name, value in fields.items() if not is_group(value)}


def quality_of(record):
    """The qualities outside of groups, as tables show them."""
    told = record.get("quality", {})
    own = [f"{name}={word}" for name, word in told.items() if "[" not in name]
    return ";".join(own)


def items_of(record, path):
    """The items of a group, with their numbers; `path` is its name, or names of groups in groups."""
    first, *rest = path.split(".")
    rows = [((), record["fields"])]
    for name in [first, *rest]:
        rows = [
            ((*numbers, index + 1), item if isinstance(item, dict) else {name: item})
            for numbers, fields in rows
            for index, item in enumerate(fields.get(name) or [])
        ]
    return rows


def groups_of(records):
    """Paths of groups that have items."""
    paths = set()

    def gather(fields, around):
        for name, value in fields.items():
            if is_group(value):
                path = f"{around}{name}"
                paths.add(path)
                for item in value:
                    if isinstance(item, dict):
                        gather(item, f"{path}.")

    for record in records:
        gather(record["fields"], "")
    return sorted(paths)


def item_quality(record, path, numbers, fields):
    told = record.get("quality", {})
    names = path.split(".")
    around = ".".join(f"{name}[{number}]" for name, number in zip(names, numbers))
    # The value of a list has no name of its own.
    own = [f"{name}={told[f'{around}.{name}']}" for name in fields if f"{around}.{name}" in told]
    own += [f"{names[-1]}={told[around]}"] if around in told else []
    return ";".join(own)


def check_csv(line, kinds):
    for kind, records in kinds.items():
        with open(folder / line / "tables" / f"{kind}.csv", newline="") as file:
            rows = list(csv.DictReader(file))
        expect(len(rows), len(records), f"{line} {kind}.csv rows")
        for row, record in zip(rows, records):
            where = f"{line} {kind}.csv at {record['offset']}"
            expect(row["offset"], str(record["offset"]), f"{where} offset")
            expect(row["received"][:23], record["received"][:23], f"{where} received")
            for name, value in plain(record["fields"]).items():
                expect(row[name], as_text(value), f"{where} {name}")
            if "quality" in row:
                expect(row["quality"], quality_of(record), f"{where} quality")
        for path in groups_of(records):
            with open(folder / line / "tables" / f"{kind}.{path}.csv", newline="") as file:
                rows = list(csv.DictReader(file))
            expected = [(record, numbers, fields) for record in records for numbers, fields in items_of(record, path)]
            expect(len(rows), len(expected), f"{line} {kind}.{path}.csv rows")
            for row, (record, numbers, fields) in zip(rows, expected):
                where = f"{line} {kind}.{path}.csv at {record['offset']} {numbers}"
                expect((row["offset"], row["index"]), (str(record["offset"]), str(numbers[-1])), where)
                for name, value in plain(fields).items():
                    expect(row[name], as_text(value), f"{where} {name}")


def as_text(value):
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)


def as_sql(value):
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, Number):
        return float(value) if set("./eE") & set(value) else int(value)
    return value


def check_sqlite(line, kinds):
    database = sqlite3.connect(f"file:{folder / line / 'records.sqlite'}?mode=ro", uri=True)
    database.row_factory = sqlite3.Row
    described = database.execute("SELECT table_name, column_name FROM usus_fields WHERE type = 'code'")
    codes = {tuple(row) for row in described}

    def held(table, name, value):
        # The number of a code that has no name stands among names.
        return str(value) if (table, name) in codes and isinstance(value, Number) else as_sql(value)

    for kind, records in kinds.items():
        rows = list(database.execute(f'SELECT * FROM "{kind}" ORDER BY stream, line, "offset", item'))
        # Lines inside of others have offsets of their own.
        ordered = sorted(records, key=lambda record: (record.get("line", ""), record["offset"]))
        expect(len(rows), len(records), f"{line} {kind} rows in SQLite")
        for row, record in zip(rows, ordered):
            where = f"{line} {kind} at {record['offset']} in SQLite"
            expect(row["offset"], record["offset"], where)
            expect(row["received"], record["received"], f"{where} received")
            for name, value in plain(record["fields"]).items():
                found = row[name]
                if isinstance(found, bytes):
                    found = found.hex().upper()
                expect(found, held(kind, name, value), f"{where} {name}")
            if "quality" in row.keys():
                expect(row["quality"] or "", quality_of(record), f"{where} quality")
        for path in groups_of(records):
            table = f"{kind}_{path.replace('.', '_')}"
            keys = [column[1] for column in database.execute(f'PRAGMA table_info("{table}")') if column[5]]
            order = ", ".join(f'"{key}"' for key in keys)
            rows = list(database.execute(f'SELECT * FROM "{table}" ORDER BY {order}'))
            expected = [(record, numbers, fields) for record in ordered for numbers, fields in items_of(record, path)]
            expect(len(rows), len(expected), f"{line} {table} rows in SQLite")
            for row, (record, numbers, fields) in zip(rows, expected):
                where = f"{line} {table} at {record['offset']} {numbers} in SQLite"
                expect(tuple(row[key] for key in keys[4:]), numbers, where)
                for name, value in plain(fields).items():
                    expect(row[name], held(table, name, value), f"{where} {name}")
                if "quality" in row.keys():
                    expect(row["quality"] or "", item_quality(record, path, numbers, fields), f"{where} quality")
            joined = database.execute(f'SELECT count(*) FROM "{table}_with_{kind}"').fetchone()[0]
            expect(joined, len(expected), f"{line} view {table}_with_{kind}")


def as_cell(value):
    if isinstance(value, Number):
        return float(value)
    return value


def cell_text(value):
    """What a sheet's cell holds, as JSON Lines would say it."""
    if isinstance(value, bool) or value is None:
        return value
    if isinstance(value, (int, float)):
        return float(value)
    return value


def same_time(found, text):
    """Whether a spreadsheet's date or time of day is the one that a text says, to the millisecond."""
    if isinstance(found, datetime.time):
        zero = datetime.datetime(2000, 1, 1)
        found = datetime.datetime.combine(zero, found)
        expected = datetime.datetime.fromisoformat(f"2000-01-01T{text[:15]}")
    elif isinstance(found, datetime.datetime) and len(text) == 10:
        return found.isoformat()[:10] == text
    else:
        expected = datetime.datetime.fromisoformat(text[:26].rstrip("Z"))
    return abs((found - expected).total_seconds()) <= 0.001


def check_cell(found, value, where):
    if isinstance(found, (datetime.datetime, datetime.time)) and isinstance(value, str):
        expect(same_time(found, value), True, f"{where} {found} {value}")
    else:
        expect(cell_text(found), as_cell(value), where)


def check_xlsx(line, kinds):
    workbook = openpyxl.load_workbook(folder / line / "records.xlsx", read_only=True)
    for kind, records in kinds.items():
        names, *rows = workbook[kind[:31]].iter_rows(values_only=True)
        names = [name.split(" [")[0] for name in names]
        expect(len(rows), len(records), f"{line} sheet {kind} rows")
        for cells, record in zip(rows, records):
            row = dict(zip(names, [*cells, *[None] * len(names)]))
            where = f"{line} sheet {kind} at {record['offset']}"
            check_cell(row["received"], record["received"], f"{where} received")
            for name, value in plain(record["fields"]).items():
                check_cell(row[name], value, f"{where} {name}")
            if "quality" in row:
                expect(row["quality"] or "", quality_of(record), f"{where} quality")
        for path in groups_of(records):
            names, *rows = workbook[f"{kind}.{path}"[:31]].iter_rows(values_only=True)
            names = [name.split(" [")[0] for name in names]
            expected = [(record, numbers, fields) for record in records for numbers, fields in items_of(record, path)]
            expect(len(rows), len(expected), f"{line} sheet {kind}.{path} rows")
            for cells, (record, numbers, fields) in zip(rows, expected):
                row = dict(zip(names, [*cells, *[None] * len(names)]))
                where = f"{line} sheet {kind}.{path} at {record['offset']} {numbers}"
                expect((row["offset"], row["index"]), (record["offset"], numbers[-1]), where)
                for name, value in plain(fields).items():
                    check_cell(row[name], value, f"{where} {name}")


def nanoseconds(text):
    """Of an instant in UTC."""
    seconds, _, fraction = text.rstrip("Z").partition(".")
    whole = datetime.datetime.fromisoformat(seconds).replace(tzinfo=datetime.timezone.utc)
    return int(whole.timestamp()) * 10**9 + int((fraction + "0" * 9)[:9])


def check_value(scalar, value, kind, where):
    """A value of Parquet against one of JSON Lines."""
    if value is None:
        expect(scalar.as_py(), None, where)
    elif pyarrow.types.is_list(kind):
        items = scalar.values
        expect(0 if items is None else len(items), len(value), f"{where} items")
        for item, expected in zip(items or [], value):
            if isinstance(expected, dict):
                for name, inner in expected.items():
                    check_value(item[name], inner, item[name].type, f"{where}.{name}")
            else:
                check_value(item, expected, item.type, where)
    elif pyarrow.types.is_timestamp(kind):
        expect(scalar.value, nanoseconds(value), where)
    elif pyarrow.types.is_time(kind):
        expect(scalar.value, nanoseconds(f"1970-01-01T{value}"), where)
    elif pyarrow.types.is_date(kind):
        expect(scalar.as_py().isoformat(), value, where)
    elif pyarrow.types.is_decimal(kind):
        expect(str(scalar.as_py()), str(Decimal(value)), where)
    elif pyarrow.types.is_floating(kind):
        # A number of 32 bits is told in the digits that make it out among those.
        same = float(value) == scalar.as_py() or (kind == pyarrow.float32() and pyarrow.scalar(float(value), kind) == scalar)
        expect(same, True, f"{where} {scalar} {value}")
    elif pyarrow.types.is_integer(kind):
        expect(scalar.as_py(), int(value), where)
    elif pyarrow.types.is_binary(kind):
        expect(scalar.as_py().hex().upper(), value, where)
    else:
        expect(scalar.as_py(), value, where)


def check_parquet(line, kinds):
    for kind, records in kinds.items():
        table = pyarrow.parquet.read_table(folder / line / "columns" / f"{kind}.parquet")
        expect(table.num_rows, len(records), f"{line} {kind}.parquet rows")
        columns = {name: table.column(name) for name in table.column_names}
        for index, record in enumerate(records):
            where = f"{line} {kind}.parquet at {record['offset']}"
            check_value(columns["received"][index], record["received"], columns["received"].type, f"{where} received")
            for name, value in record["fields"].items():
                check_value(columns[name][index], value, columns[name].type, f"{where} {name}")
            if "quality" in columns:
                told = ";".join(f"{name}={word}" for name, word in record.get("quality", {}).items())
                expect(columns["quality"][index].as_py() or "", told, f"{where} quality")


def check_tracks(line, kinds):
    def is_placed(record):
        return record["fields"].get("latitude") is not None and record["fields"].get("longitude") is not None

    text = (folder / line / "records.jsonl").read_text()
    records = [json.loads(row, parse_float=Number, parse_int=Number) for row in text.splitlines()]
    placed = [record for record in records if is_placed(record)]
    points = json.loads((folder / line / "points.geojson").read_text(), parse_float=Number, parse_int=Number)
    expect(len(points["features"]), len(placed), f"{line} points")
    for feature, record in zip(points["features"], placed):
        where = f"{line} point at {record['received']}"
        fields, found = record["fields"], feature["properties"]
        expect(feature["geometry"]["coordinates"][:2], [fields["longitude"], fields["latitude"]], where)
        expect({name: found[name] for name in fields}, fields, where)
        expect((found["kind"], found["received"]), (record["kind"], record["received"]), where)
    by_kind = {}
    for record in placed:
        by_kind.setdefault(record["kind"], []).append(record)
    space = "{http://www.topografix.com/GPX/1/1}"
    tracks = list(xml.parse(folder / line / "track.gpx").getroot().iter(f"{space}trk"))
    expect(len(tracks), len(by_kind), f"{line} tracks")
    for track, records in zip(tracks, by_kind.values()):
        found = [
            (point.get("lat"), point.get("lon"), point.findtext(f"{space}time")) for point in track.iter(f"{space}trkpt")
        ]
        expected = [
            (record["fields"]["latitude"], record["fields"]["longitude"], f"{record['received'][:23]}Z") for record in records
        ]
        expect(found, expected, f"{line} track")
    space = "{http://www.opengis.net/kml/2.2}"
    marks = list(xml.parse(folder / line / "track.kml").getroot().iter(f"{space}Placemark"))
    for mark, records in zip(marks, by_kind.values()):
        found = [tuple(point.split(",")[:2]) for part in mark.iter(f"{space}coordinates") for point in part.text.split()]
        expected = [(record["fields"]["longitude"], record["fields"]["latitude"]) for record in records]
        expect(found, expected, f"{line} placemark")


lines = sorted(path.name for path in folder.iterdir() if path.is_dir())
for line in lines:
    kinds = records_of(line)
    check_csv(line, kinds)
    check_sqlite(line, kinds)
    check_xlsx(line, kinds)
    check_parquet(line, kinds)
    if (folder / line / "points.geojson").exists():
        check_tracks(line, kinds)
if wrong or not checked:
    sys.exit(f"{wrong} of {checked} values are wrong")
print(f"{checked} values of {len(lines)} lines are as JSON Lines has them")
