"""A stream of the odd format: what outputs may stumble over."""

import random
import struct
import sys

out = sys.stdout.buffer
random.seed(7)

texts = [
    b"=1+1", b"+49 5", b"-12.5", b"@sum", b"'quoted'", b'"double"', b"a,b", b"tab\there", b"", b"nul\x00inside",
    b"\xff\xfe not UTF-8 \xc3", "snow \u2603 and \U0001f6a1".encode(), b"<b>&amp;</b>", b"\x1b[31mred", b"\x07\x08\x7f",
    b"_x0041_ is no A", "\u202eright to left\u200b".encode(), b"NULL", b"null", b"true", b"1e5", b"0x10", b"x" * 60_000,
    b"\xff" * 20_000,
]
numbers = [
    b"0", b"-0.0", b"12.50", b"00012", b"9" * 38, b"-" + b"9" * 38, b"0." + b"0" * 36 + b"1", b"123456789012345",
    b"1234567890123456", b"0.1", b"99999999999999999.25", b"9223372036854775807", b"9223372036854775808",
    b"18446744073709551615", b"", b"nonsense", b"1" * 39,
]
dates = [b"0001-01-01", b"1899-12-31", b"1900-01-01", b"1900-02-28", b"1900-03-01", b"1969-12-31", b"2024-02-29", b"9999-12-31", b"2023-02-29", b""]
clocks = [b"00:00:00", b"23:59:59.999999999", b"23:59:60", b"12:00:00.5", b"25:00:00", b""]
instants = [
    b"2026-11-25T06:00:00Z", b"2026-11-25T06:00:00+01:00", b"1601-01-01T00:00:00Z", b"2400-01-01T00:00:00Z",
    b"2026-12-31T23:59:60Z", b"2026-11-25T06:00:00-12:45", b"1970-01-01T00:00:00Z", b"2199-01-01T00:00:00Z", b"",
]
codes = [b"=2", b"x", b"y", b"=3", b""]
hexes = [b"0", b"ff", b"FFFFFFFFFFFFFFFF", b"7fffffffffffffff", b"f" * 31, b"", b"zz"]


def line(index):
    pick = lambda values: values[index % len(values)]
    cells = [b"S", pick(texts), pick(numbers), random.choice(numbers), pick(dates), pick(clocks), pick(instants), pick(codes), pick(hexes)]
    out.write(b";".join(cells) + b"\r\n")


floats = [0.0, -0.0, 0.1, float("nan"), float("inf"), float("-inf"), 3.4028234663852886e38, 1e-45, 16777217.0, -2.5]
doubles = [0.0, -0.0, 0.1, float("nan"), float("inf"), float("-inf"), 1.7976931348623157e308, 5e-324, 123456789.123456789, 1e21]


def packet(index):
    body = struct.pack(
        ">QqQfd4sI",
        [0, 1, 2**63 - 1, 2**63, 2**64 - 1][index % 5],
        [0, -1, -(2**63), 2**63 - 1][index % 4],
        [0, 1_000_000_000, 2**64 - 1, 123_456_789_012_345_678][index % 4],
        floats[index % len(floats)],
        doubles[index % len(doubles)],
        bytes([index % 256, 0, 255, 128]),
        [0, 2**32 - 1, 1_795_586_400, 86_399][index % 4],
    )
    items = b"".join(struct.pack(">hH", random.randint(-32768, 32767), random.randint(0, 65535)) for _ in range(3))
    out.write(b"\x00\xff\x01" + body + items)


for index in range(240):
    line(index)
    packet(index)
