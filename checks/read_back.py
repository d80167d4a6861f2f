"""Reads what the demo's lines give in every output by programs that are not ours, and holds it against JSON Lines."""

import csv
import datetime
import json
import math
import pathlib
import re
import sqlite3
import sys
import xml.etree.ElementTree as xml
from decimal import Decimal

import openpyxl
import openpyxl.utils.escape
import pyarrow
import pyarrow.parquet

folder = pathlib.Path(sys.argv[1])
checked = 0
wrong = 0


class Number(str):
    """A number as it was written."""


def own_name(records, name):
    """What a column of the output's own is called: no field has that name."""
    names = set()

    def gather(fields):
        for field, value in fields.items():
            names.add(field)
            for item in value if is_group(value) else []:
                gather(item if isinstance(item, dict) else {})

    gather({name: value for record in records for name, value in record["fields"].items()})
    while name in names:
        name = f"usus_{name}"
    return name


def is_not_finite(record, name):
    return record.get("quality", {}).get(name) == "not_finite"


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
        offset, received, quality = [own_name(records, name) for name in ["offset", "received", "quality"]]
        for row, record in zip(rows, records):
            where = f"{line} {kind}.csv at {record['offset']}"
            expect(row[offset], str(record["offset"]), f"{where} offset")
            if "received" in record:
                expect(row[received][:23], record["received"][:23], f"{where} received")
            for name, value in plain(record["fields"]).items():
                if is_not_finite(record, name):
                    expect(row[name] in ["NaN", "inf", "-inf"], True, f"{where} {name} {row[name]}")
                else:
                    expect(row[name], as_text(value), f"{where} {name}")
            if quality in row:
                expect(row[quality], quality_of(record), f"{where} quality")
        for path in groups_of(records):
            with open(folder / line / "tables" / f"{kind}.{path}.csv", newline="") as file:
                rows = list(csv.DictReader(file))
            expected = [(record, numbers, fields) for record in records for numbers, fields in items_of(record, path)]
            expect(len(rows), len(expected), f"{line} {kind}.{path}.csv rows")
            for row, (record, numbers, fields) in zip(rows, expected):
                where = f"{line} {kind}.{path}.csv at {record['offset']} {numbers}"
                index = row[own_name(records, "index")]
                expect((row[offset], index), (str(record["offset"]), str(numbers[-1])), where)
                for name, value in plain(fields).items():
                    expect(row[name], as_text(value), f"{where} {name}")


def as_text(value):
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)


def is_whole(number):
    return not set("./eE") & set(number)


def as_sql(value):
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, Number):
        return int(value) if is_whole(value) else float(value)
    return value


def check_sqlite(line, kinds):
    database = sqlite3.connect(f"file:{folder / line / 'records.sqlite'}?mode=ro", uri=True)
    database.row_factory = sqlite3.Row
    described = database.execute("SELECT table_name, column_name FROM usus_fields WHERE type = 'code'")
    codes = {tuple(row) for row in described}

    def held(table, name, value):
        if not isinstance(value, Number):
            return as_sql(value)
        # The number of a code that has no name stands among names; what is too long for a number of SQLite is a text of its digits.
        is_long = not -(2**63) <= int(value) < 2**63 if is_whole(value) else Decimal(repr(float(value))) != Decimal(value)
        is_float = "e" in value.lower() or len(value) > 40
        return str(value) if (table, name) in codes or (is_long and not is_float) else as_sql(value)

    for kind, records in kinds.items():
        own = [own_name(records, name) for name in ["stream", "line", "offset", "item"]]
        received, quality = [own_name(records, name) for name in ["received", "quality"]]
        order = ", ".join(f'"{name}"' for name in own)
        rows = list(database.execute(f'SELECT * FROM "{kind}" ORDER BY {order}'))
        # Lines inside of others have offsets of their own.
        ordered = sorted(records, key=lambda record: (record.get("line", ""), record["offset"]))
        expect(len(rows), len(records), f"{line} {kind} rows in SQLite")
        for row, record in zip(rows, ordered):
            where = f"{line} {kind} at {record['offset']} in SQLite"
            expect(row[own[2]], record["offset"], where)
            expect(row[received], record.get("received"), f"{where} received")
            for name, value in plain(record["fields"]).items():
                found = row[name]
                if is_not_finite(record, name):
                    expect(found in [None, float("inf"), float("-inf")], True, f"{where} {name} {found}")
                    continue
                if isinstance(found, bytes):
                    found = found.hex().upper()
                expect(found, held(kind, name, value), f"{where} {name}")
            if quality in row.keys():
                expect(row[quality] or "", quality_of(record), f"{where} quality")
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
                if quality in row.keys():
                    expect(row[quality] or "", item_quality(record, path, numbers, fields), f"{where} quality")
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
        if len(text) > 15:
            text = text[:15]
        zero = datetime.datetime(2000, 1, 1)
        found = datetime.datetime.combine(zero, found)
        expected = datetime.datetime.fromisoformat(f"2000-01-01T{text[:15]}")
    elif "T" not in text and len(text) > 10:
        # The reader rounds to milliseconds, and so to midnight.
        return text >= "23:59:59.9995"
    elif isinstance(found, datetime.datetime) and len(text) == 10:
        return found.isoformat()[:10] == text
    else:
        expected = datetime.datetime.fromisoformat(re.sub(r"(\.\d{6})\d+", r"\1", text))
        expected = expected.astimezone(datetime.timezone.utc).replace(tzinfo=None)
    return abs((found - expected).total_seconds()) <= 0.001


def check_cell(found, value, where):
    if isinstance(found, str):
        # Characters that XML has not are written as ISO/IEC 29500 (22.9.2.19) says.
        found = openpyxl.utils.escape.unescape(found)
    if isinstance(found, (datetime.datetime, datetime.time)) and isinstance(value, str):
        expect(same_time(found, value), True, f"{where} {found} {value}")
    elif isinstance(found, str) and isinstance(value, Number):
        # More digits than a spreadsheet keeps.
        expect((found, len(value.lstrip("-0.").replace(".", "")) > 15), (str(value), True), where)
    else:
        expect(cell_text(found), as_cell(value), where)


def check_xlsx(line, kinds):
    workbook = openpyxl.load_workbook(folder / line / "records.xlsx", read_only=True)
    for kind, records in kinds.items():
        names, *rows = workbook[kind[:31]].iter_rows(values_only=True)
        names = [name.split(" [")[0] for name in names]
        offset, received, quality = [own_name(records, name) for name in ["offset", "received", "quality"]]
        expect(len(rows), len(records), f"{line} sheet {kind} rows")
        for cells, record in zip(rows, records):
            row = dict(zip(names, [*cells, *[None] * len(names)]))
            where = f"{line} sheet {kind} at {record['offset']}"
            if "received" in record:
                check_cell(row[received], record["received"], f"{where} received")
            for name, value in plain(record["fields"]).items():
                # A cell has no NaN, and holds so many characters.
                value = value[:32767] if isinstance(value, str) and not isinstance(value, Number) else value
                check_cell(row[name], None if is_not_finite(record, name) else value, f"{where} {name}")
            if quality in row:
                expect(row[quality] or "", quality_of(record), f"{where} quality")
        for path in groups_of(records):
            names, *rows = workbook[f"{kind}.{path}"[:31]].iter_rows(values_only=True)
            names = [name.split(" [")[0] for name in names]
            expected = [(record, numbers, fields) for record in records for numbers, fields in items_of(record, path)]
            expect(len(rows), len(expected), f"{line} sheet {kind}.{path} rows")
            for cells, (record, numbers, fields) in zip(rows, expected):
                row = dict(zip(names, [*cells, *[None] * len(names)]))
                where = f"{line} sheet {kind}.{path} at {record['offset']} {numbers}"
                index = row[own_name(records, "index")]
                expect((row[offset], index), (record["offset"], numbers[-1]), where)
                for name, value in plain(fields).items():
                    check_cell(row[name], value, f"{where} {name}")


def nanoseconds(text):
    """Of an instant; of none, as if it was in UTC. Nothing if 64 bits do not hold it, or it is in a leap second."""
    if ":60" in text[:19]:
        return None
    found = re.fullmatch(r"([^.Z+]{19})(?:\.(\d+))?(.*)", text)
    whole = datetime.datetime.fromisoformat(f"{found[1]}{found[3].replace('Z', '')}")
    whole = whole.astimezone(datetime.timezone.utc) if whole.tzinfo else whole.replace(tzinfo=datetime.timezone.utc)
    epoch = datetime.datetime(1970, 1, 1, tzinfo=datetime.timezone.utc)
    since = (whole - epoch) // datetime.timedelta(seconds=1) * 10**9 + int(((found[2] or "") + "0" * 9)[:9])
    return since if -(2**63) <= since < 2**63 else None


def check_value(scalar, value, kind, where, is_finite=True):
    """A value of Parquet against one of JSON Lines."""
    if not is_finite:
        expect(math.isfinite(scalar.as_py()), False, where)
    elif value is None:
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
        expect(scalar.value if scalar.is_valid else None, nanoseconds(value), where)
    elif pyarrow.types.is_time(kind):
        expect(scalar.value if scalar.is_valid else None, nanoseconds(f"1970-01-01T{value}"), where)
    elif pyarrow.types.is_date(kind):
        expect(scalar.as_py().isoformat(), value, where)
    elif pyarrow.types.is_decimal(kind):
        expect((scalar.as_py(), kind.scale >= len(value.partition(".")[2])), (Decimal(value), True), where)
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
        received, quality = [own_name(records, name) for name in ["received", "quality"]]
        for index, record in enumerate(records):
            where = f"{line} {kind}.parquet at {record['offset']}"
            if "received" in record:
                check_value(columns[received][index], record["received"], columns[received].type, f"{where} received")
            for name, value in record["fields"].items():
                is_finite = not is_not_finite(record, name)
                check_value(columns[name][index], value, columns[name].type, f"{where} {name}", is_finite)
            if quality in columns:
                told = ";".join(f"{name}={word}" for name, word in record.get("quality", {}).items())
                expect(columns[quality][index].as_py() or "", told, f"{where} quality")


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
