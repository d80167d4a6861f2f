//! What is said about format files that are not sound: each problem at its place, with its words, in full.

use std::fmt::Write;

use usus::{Format, Problem, Problems};

/// Problems of a format file: line and column, the text they point at, the message, and the help.
fn problems(text: &str) -> String {
    let found = match Format::parse(text).and_then(|format| format.compile().map(|_| ())) {
        Ok(()) => return "  sound\n".to_owned(),
        Err(found) => found,
    };
    show(text, &found)
}

fn show(text: &str, found: &Problems) -> String {
    let mut out = String::new();
    for problem in found.iter() {
        out += &show_one(text, problem);
    }
    out
}

fn show_one(text: &str, problem: &Problem) -> String {
    let before = &text[..problem.span.start];
    let line = before.matches('\n').count() + 1;
    let column = before.chars().rev().take_while(|&c| c != '\n').count() + 1;
    assert_eq!((problem.line, problem.column), (line, column), "{problem:?}");
    let at = text[problem.span.clone()].lines().next().unwrap_or("");
    let at: String = at.chars().take(60).collect();
    let help = problem.help().map(|help| format!("      {help}\n")).unwrap_or_default();
    format!("  {line}:{column} `{at}`: {}\n{help}", problem.kind)
}

/// A packet format with `frame` behind its cut and `record` as the body of its record.
fn packet(frame: &str, record: &str) -> String {
    format!("format = 'p'\n[[frame]]\ncut = 'packet'\n{frame}\n[record.r]\n{record}\n")
}

/// The same for texts.
fn text(frame: &str, record: &str) -> String {
    format!("format = 't'\n[[frame]]\ncut = 'text'\n{frame}\n[record.r]\n{record}\n")
}

/// Formats that are not sound, each with what is wrong with it.
pub fn cases() -> Vec<(&'static str, String)> {
    let p = "start = 'AA'\nlength = 4";
    let ok = "fields = [{ name = 'v', type = 'u24be' }]";
    let own = |text: &str| text.to_owned();
    let field = |field: &str| packet(p, &format!("fields = [{field}]"));
    let column = |field: &str| text("", &format!("fields = [{field}]"));
    vec![
        ("nothing at all", own("")),
        ("not TOML", own("format = 'x\n[[frame]\ncut =")),
        ("unknown keys", packet(&format!("{p}\nstrat = 1"), "fields = [{ nmae = 'v', type = 'u24be', xyzzy = 1 }]")),
        ("missing keys", packet("", "")),
        ("a frame without a cut", own("format = 'x'\n[[frame]]\nstart = 'AA'")),
        ("an unknown cut", own("format = 'x'\n[[frame]]\ncut = 'packets'")),
        (
            "wrong sorts of values",
            own(
                "format = 1\ntitle = []\nserial = '9600'\nlimits = 5\n[[frame]]\ncut = 'text'\nidle = '5 kg'\nseparator = ''",
            ),
        ),
        ("a separator of a packet of bytes", packet(&format!("{p}\nseparator = ';'\njoined = true"), ok)),
        ("a quote that separates", text("separator = [';', '\"']\nquote = '\"'", "fields = [{ name = 'v' }]")),
        (
            "pairs that cannot be",
            text(
                "read = 'pairs'\nheader = [{ name = 'a', label = 'x' }]",
                "fields = [{ name = 'b', label = 'x' }, { name = 'c', type = 'lat' }, { name = 'd', label = 'y', column = 2 }, { reserved = true }, { name = 'e', byte = 1 }, { name = 'g', count = 2, fields = [{ name = 'h' }] }, { name = 'i', column = '1-2' }]",
            ),
        ),
        (
            "printed lines that cannot be",
            text(
                "",
                "printed = ['{a}{b}', '{a} {x}', 'a [{b}', '{a}[ {a}]', '{a}[ x]{b}', '[{a}]{b}', '{a']\nfields = [{ name = 'a' }, { name = 'b' }]",
            ),
        ),
        (
            "fields of printed lines that cannot be",
            text(
                "",
                "printed = '{a} {b} {c}'\nfields = [{ name = 'a', column = 1 }, { name = 'b', type = 'lat' }, { name = 'c', count = 2, fields = [{ name = 'h' }] }, { name = 'd' }, { reserved = true }]",
            ),
        ),
        (
            "numbers that cannot be written so",
            text(
                "",
                "fields = [{ name = 'a', suffix = 'C' }, { name = 'b', type = 'number', suffix = { N = 'N' } }, { name = 'c', type = 'number', unit = 'kN', suffix = { kg = 'kg' } }, { name = 'd', type = 'number', thousands = '.' }, { name = 'e', type = 'number', unit = 'm/s', unit_sent = 'kg' }, { name = 'f', type = 'number', unit = 'N', unit_sent = 'kN', suffix = { N = 'N' } }, { name = 'g', type = 'number', decimal = ',', thousands = ',' }]",
            ),
        ),
        (
            "words of numbers that are none",
            text(
                "",
                "fields = [{ name = 'a', type = 'number', suffix = '' }, { name = 'b', type = 'number', suffix = 5 }, { name = 'c', type = 'number', suffix = { N = 5 } }, { name = 'd', type = 'number', decimal = ':' }, { name = 'e', type = 'number', limit_marks = ['<', '<'] }, { name = 'f', type = 'number', limit_marks = '<' }]",
            ),
        ),
        (
            "dates and times that cannot be",
            text(
                "",
                "fields = [{ name = 'a', type = 'datetime' }, { name = 'b', type = 'datetime', layout = 'YYYY-MM-DD' }, { name = 'c', type = 'clock', zone = 'Z' }, { name = 'd', type = 'clock', first_year = 1990 }]",
            ),
        ),
        (
            "a zone by its name",
            text("", "fields = [{ name = 'a', type = 'datetime', layout = 'YYYYMMDDhhmmss', zone = 'CET' }]"),
        ),
        ("starts of two lengths", packet("start = ['AA', 'AA BB']\nlength = 4", ok)),
        ("masks that cannot be", packet("start = 'F0/0F'\nlength = 4", ok)),
        ("a length of words that is none", packet("start = 'AA'\nlength = 'recrod'", ok)),
        (
            "a length that is no number",
            packet("start = 'AA'\nlength = [{ byte = 1, type = 'text', width = 2 }, 5]", ok),
        ),
        (
            "a record whose length is not known from its begin",
            packet("start = 'AA'\nlength = 'record'", "fields = [{ name = 'v', type = 'bytes' }]"),
        ),
        (
            "escapes that cannot be",
            own(
                "format = 'x'\n[[frame]]\ncut = 'dle'\nstart = 'DLE DLE'\n[[frame]]\nname = 'b'\ncut = 'dle'\nend = 'STX ETX'",
            ),
        ),
        (
            "bursts that cannot be",
            own(
                "format = 'x'\n[[frame]]\ncut = 'idle'\n[[frame]]\nname = 'b'\ncut = 'idle'\nidle = '3.5 characters'\n[[frame]]\ncut = 'break'\nlength = 0\n[record.r]\nframe = 'b'\nfields = [{ name = 'v', byte = 0, type = 'u8' }]",
            ),
        ),
        (
            "two that take what is left",
            own(
                "format = 'x'\n[[frame]]\ncut = 'break'\n[[frame]]\ncut = 'text'\n[record.r]\nframe = 'break'\nfields = [{ name = 'v', byte = 0, type = 'u8' }]",
            ),
        ),
        (
            "nothing that tells bytes from others",
            own(
                "format = 'x'\n[[frame]]\ncut = 'fixed'\nlength = 2\n[record.r]\nfields = [{ name = 'v', byte = 0, type = 'u16be' }]",
            ),
        ),
        (
            "codings that cannot be",
            own(
                "format = 'x'\n[[frame]]\ncut = 'slip'\ncoding = [{ step = 'hex' }]\n[[frame]]\ncut = 'text'\ncoding = [{ step = 'octal' }, { step = 'hex' }, { form = 1 }]\n[record.r]\nframe = 'text'\nfields = [{ name = 'v' }]",
            ),
        ),
        (
            "parts that cannot be",
            packet(
                "start = 'AA'\nlength = { byte = 1, type = 'u8' }",
                "fields = [{ name = 'a', type = 'text', width = 'n' }, { name = 'b', type = 'bytes' }, { name = 'c', type = 'u8', when = 'z == 1' }, { name = 'd', type = 'u8', optional = true, when = 'length > 3' }, { name = 'e', byte = 9, type = 'text', until = 'NUL' }, { name = 'f', type = 'u8', until = 'NUL' }, { name = 'g', type = 'b3', optional = true }]",
            ),
        ),
        (
            "items that cannot be",
            packet(
                "start = 'AA'\nlength = { byte = 1, type = 'u8' }",
                "fields = [{ name = 'n', type = 'u8' }, { name = 'a', count = 'n', size = 'm', fields = [{ name = 't', type = 'text', until = 'NUL' }, { name = 'm', type = 'u8' }] }, { name = 'b', count = 'n', fields = [{ name = 'x', type = 'bytes' }] }, { name = 'c', count = 2, size = 1, fields = [{ name = 'y', type = 'u16be' }] }, { name = 'd', up_to = 'end', until = 'FF', fields = [{ name = 'z', type = 'u8' }] }, { name = 'e', size = 2, type = 'u8' }, { name = 'f', count = 2, type = 'u8', bits = '0-5' }]",
            ),
        ),
        (
            "sizes that cannot be",
            packet(
                "start = 'AA'\nlength = { byte = 1, type = 'u8' }",
                "fields = [{ name = 'n', type = 'u8' }, { name = 'a', count = 'n', size = 'm', fields = [{ name = 't', type = 'text', until = 'NUL' }, { name = 'm', type = 'u8' }] }, { name = 'c', count = 2, size = 1, fields = [{ name = 'y', type = 'u16be' }] }, { name = 'f', count = 2, type = 'u8', bits = '0-5' }]",
            ),
        ),
        (
            "runs of values that cannot be",
            packet(
                "start = 'AA'\nlength = { byte = 1, type = 'u8' }",
                "fields = [{ name = 'n', type = 'u8' }, { address_from = 'm', fields = [{ name = 'a', address = 1, type = 'u8' }] }, { address_from = 'n', count = 2, fields = [{ name = 'b', type = 'u8' }, { name = 'c', address = -1, type = 'text' }] }, { name = 'd', type = 'u8', step = 2 }]",
            ),
        ),
        (
            "scales that cannot be told",
            field(
                "{ name = 'a', type = 'u8', scale_from = 'b' }, { name = 'b', type = 'u8', codes = { 1 = 'ten' } }, { name = 'c', type = 'u8', scale_from = 'd' }",
            ),
        ),
        (
            "bits and digits that cannot be",
            own(
                "format = 'p'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 4\n[[frame]]\ncut = 'text'\nbits_from = 'low'\n[record.r]\nframe = 'packet'\nfields = [{ name = 'a', type = 'u16be', bits = '0-3,3-5' }, { name = 'b', type = 'u8', sign = 'offset' }, { name = 'c', type = 'text', digits = 'bcd' }, { name = 'd', type = 'b65' }, { name = 'e', type = 'number', digits = 'bcd' }, { name = 'f', type = 'number', digits = 'bcd', width = 20 }, { type = 'b3', flags = { 3 = 'g' } }, { name = 'h', type = 'b7', bits = 3 }, { name = 'i', type = 'u16be', bits_from = 'low' }, { name = 'j', type = 'ib1' }, { name = 'k', type = 'u32acbb' }, { name = 'l', type = 'u32dcba' }]",
            ),
        ),
        (
            "bools that cannot be",
            text(
                "",
                "fields = [{ name = 'a', type = 'bool', codes = { x = 'true' } }, { name = 'b', codes = { x = true } }]",
            ),
        ),
        (
            "seconds since that cannot be",
            text(
                "",
                "fields = [{ name = 'a', since = '1970-01-01' }, { name = 'b', type = 'number', since = '1970-01-01', unit = 's' }, { name = 'c', type = 'number', since = '1970-01-01', counter = true, rollover = 9 }]",
            ),
        ),
        ("a since that is none", text("", "fields = [{ name = 'a', type = 'number', since = 'unix' }]")),
        ("a bool without words", text("", "fields = [{ name = 'a', type = 'bool' }]")),
        ("a pattern that is none", text("", "pattern = '(?<a>x'\nfields = [{ name = 'a' }]")),
        ("a pattern that looks around", text("", "pattern = '(?<a>)(?=x)'\nfields = [{ name = 'a' }]")),
        ("a pattern that is too large", text("", "pattern = '(?<a>)(?:[a-z]{500}){500}'\nfields = [{ name = 'a' }]")),
        (
            "a pattern with other groups",
            text("", "pattern = '(?<b>x) (?<a>)'\nfields = [{ name = 'a' }, { name = 'bb' }]"),
        ),
        ("a packet that is printed", packet(p, &format!("printed = '{{v}}'\n{ok}"))),
        (
            "words of pairs that are none",
            text("read = 'pairs'\nassign = ''\nrepeated = 'never'", "fields = [{ name = 'b' }]"),
        ),
        ("a label in columns", text("", "fields = [{ name = 'b', label = 'x' }]")),
        ("keys of pairs in columns", text("assign = ':'\nrepeated = 'last'", "fields = [{ name = 'b', label = 'x' }]")),
        ("a quote of two characters", text("quote = '<>'", "fields = [{ name = 'v' }]")),
        ("too many separators", text(&format!("separator = [{}]", "'; ', ".repeat(17)), "fields = [{ name = 'v' }]")),
        ("a start that is no hex", packet("start = 'A5 5'\nlength = 'x'", ok)),
        (
            "hex digits where none can be",
            own(
                "format = 'x'\n[[frame]]\ncut = 'text'\nchecksum = { algorithm = 'SUM-8', type = 'hex' }\n[record.r]\nfields = [{ name = 'a', type = 'hex' }, { name = 'b', type = 'lat', digits = 'hex' }, { name = 'c', type = 'number', digits = 'octal' }]",
            ),
        ),
        ("a length without its place", packet("start = 'AA'\nlength = { type = 'u16' }", ok)),
        (
            "limits above the limits",
            own(
                "format = 'x'\nlimits = { frame = 65537, line = 0, names = 257 }\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }]",
            ),
        ),
        (
            "bad names",
            own(
                "format = 'x'\n[[frame]]\ncut = 'text'\n[record.Rec]\n[record.r]\nfields = [{ name = '2nd' }, { name = 'and' }, { name = 'received' }, { name = 'offset', internal = true }]",
            ),
        ),
        ("names twice", column("{ name = 'a' }, { name = 'a' }")),
        (
            "flags named like a field",
            field("{ name = 'v', type = 'u16be' }, { type = 'u8', flags = { 0 = 'v', 9 = 'w', x = 'y' } }"),
        ),
        ("an unknown type", field("{ name = 'v', type = 'u24eb' }")),
        ("a type without byte order", field("{ name = 'v', type = 'u24' }")),
        ("no type in a packet", field("{ name = 'v' }")),
        ("no name", field("{ type = 'u24be' }")),
        (
            "an unknown checksum",
            packet(&format!("{p}\nchecksum = {{ algorithm = 'CRC-16/MODBUSS', type = 'u8' }}"), ok),
        ),
        (
            "a checksum too wide for its type",
            packet(
                &format!("{p}\nchecksum = {{ algorithm = 'CRC-16/MODBUS', type = 'u8' }}"),
                "fields = [{ name = 'v', type = 'u16be' }]",
            ),
        ),
        (
            "a checksum that covers itself",
            packet(
                &format!("{p}\nchecksum = {{ algorithm = 'SUM-8', type = 'u8', to = -1 }}"),
                "fields = [{ name = 'v', type = 'u16be' }]",
            ),
        ),
        (
            "a checksum in front that covers itself",
            packet(
                &format!("{p}\nchecksum = {{ algorithm = 'SUM-8', type = 'u8', byte = 1, from = 1, to = 3 }}"),
                "fields = [{ name = 'v', byte = 2, type = 'u16be' }]",
            ),
        ),
        ("a field on the checksum", packet(&format!("{p}\nchecksum = {{ algorithm = 'SUM-8', type = 'u8' }}"), ok)),
        ("fields that overrun the frame", field("{ name = 'v', type = 'u32be' }")),
        ("bytes that nothing names", field("{ name = 'v', byte = 2, type = 'u8' }")),
        (
            "bytes declared to carry nothing",
            field("{ name = 'v', type = 'u8' }, { type = 'bytes', width = 2, reserved = true }"),
        ),
        ("bits outside of the type", field("{ name = 'v', type = 'u24be', bits = '3-24' }")),
        ("bits the wrong way", field("{ name = 'v', type = 'u24be', bits = '5-3' }")),
        ("a zero scale", field("{ name = 'v', type = 'u24be', scale = 0.00 }")),
        ("a range the wrong way", field("{ name = 'v', type = 'u24be', range = [1, -1] }")),
        (
            "keys that do not go together",
            field(
                "{ name = 'v', type = 'u24be', width = 3, layout = 'DDMMYY', fill = ' ', places = 2, rollover = 9, optional = true, unit_from = 'v' }",
            ),
        ),
        ("types of the other medium", field("{ name = 'a', type = 'number', width = 3 }")),
        ("bytes in a text", column("{ name = 'a', type = 'u8' }, { name = 'b', byte = 3 }")),
        ("columns in a packet", field("{ name = 'v', column = 2, type = 'u24be' }")),
        ("two places", column("{ name = 'a', column = 1, chars = '1-2' }")),
        ("column 0", column("{ name = 'a', column = 0 }, { name = 'b', chars = '4-2' }")),
        ("columns that do not go with the type", column("{ name = 'a', type = 'lat', column = '1-3' }")),
        (
            "a layout with a hole",
            column(
                "{ name = 'a', type = 'date', layout = 'DD.MM' }, { name = 'b', type = 'clock', layout = 'hhmmssdd' }",
            ),
        ),
        (
            "a date that does not say how it is written",
            column("{ name = 'a', type = 'date' }, { name = 'b', type = 'date', layout = 'ddmmyy' }"),
        ),
        (
            "fields of all records, which the header has",
            own("format = 'x'\n[shared]\nfields = []\n[[frame]]\ncut = 'text'"),
        ),
        ("codes that are no numbers", field("{ name = 'v', type = 'u24be', codes = { 0 = 'a', x = 'b', 2 = 3 } }")),
        ("no_data of another type", field("{ name = 'v', type = 'u24be', no_data = ['x', 1] }")),
        ("equals of another type", column("{ name = 'v', equals = 5 }")),
        (
            "units that do not convert",
            column(
                "{ name = 'v', type = 'number', unit = 'm/s', unit_from = 'u' }, { name = 'u', codes = { K = 'km', M = 'm/s' } }",
            ),
        ),
        (
            "a unit from nowhere",
            column("{ name = 'v', type = 'number', unit = 'm/s', unit_from = 'uni' }, { name = 'unit' }"),
        ),
        (
            "a unit from a field without codes",
            column("{ name = 'v', type = 'number', unit = 'm/s', unit_from = 'u' }, { name = 'u' }"),
        ),
        ("a group without count", column("{ name = 'g', fields = [{ name = 'a' }] }")),
        ("a group without fields", column("{ name = 'g', count = 3 }")),
        ("a group of nothing with a huge count", field("{ name = 'g', count = 4000000000, fields = [] }")),
        (
            "a group of a huge count",
            field("{ name = 'g', count = 4000000000, fields = [{ name = 'a', type = 'u8' }] }"),
        ),
        (
            "a group in a group",
            column("{ name = 'g', count = 2, fields = [{ name = 'h', count = 2, fields = [{ name = 'a' }] }] }"),
        ),
        (
            "a count from nowhere",
            column("{ name = 'n', type = 'number' }, { name = 'g', count = 'm', fields = [{ name = 'a' }] }"),
        ),
        ("a count from a text", column("{ name = 'n' }, { name = 'g', count = 'n', fields = [{ name = 'a' }] }")),
        ("count and up_to", column("{ name = 'g', count = 2, up_to = 'end', fields = [{ name = 'a' }] }")),
        (
            "two groups of varying length",
            column(
                "{ name = 'g', up_to = 'end', fields = [{ name = 'a' }] }, { name = 'h', up_to = 'end', fields = [{ name = 'a' }] }",
            ),
        ),
        (
            "a fixed place behind a varying group",
            packet(
                "start = 'AA'\nlength = { byte = 1, type = 'u8' }",
                "fields = [{ name = 'g', up_to = 'end', fields = [{ name = 'a', type = 'u8' }] }, { name = 'b', byte = 9, type = 'u8' }]",
            ),
        ),
        (
            "a datasheet's word for a type",
            field(
                "{ name = 'a', type = 'int16' }, { name = 'b', type = 's16be' }, { name = 'c', type = 'float32' }, { name = 'd', type = 'xyzzy' }",
            ),
        ),
        (
            "a datasheet's word for a checksum",
            packet(&format!("{p}\nchecksum = {{ algorithm = 'CCITT-FALSE', type = 'u16be' }}"), ok),
        ),
        (
            "a word for several checksums",
            packet(&format!("{p}\nchecksum = {{ algorithm = 'CRC-16', type = 'u16be' }}"), ok),
        ),
        (
            "a checksum that there is not",
            packet(&format!("{p}\nchecksum = {{ algorithm = 'Fletcher-16', type = 'u16be' }}"), ok),
        ),
        (
            "parameters that do not go together",
            [
                "{ width = 65, polynomial = 1 }",
                "{ width = 8, polynomial = 0x107 }",
                "{ width = 16, polynomial = 0x8408, initial = 0x1FFFF }",
                "{ width = 16, initial = 5, reflected = 'both' }",
                "{ polynomial = 7, bits = 8 }",
                "{ bits = 8, modulus = 257 }",
                "{ bits = 40, sums = 2 }",
                "{ bits = 8, modulus = 1, start = 3 }",
                "{ sums = 2 }",
                "{ of = 'i16be', bits = 8 }",
                "{ bits = 8, xor = true, modulus = 255 }",
                "{ bits = 8, modulus = 'around' }",
                "{ bits = 8, initial = [1, 2] }",
                "{ bits = 8, complement = 'twos' }",
                "7",
            ]
            .map(|parameters| format!("\n[[frame]]\nname = 'f'\ncut = 'slip'\nchecksum = {{ algorithm = {parameters}, type = 'u8' }}"))
            .concat(),
        ),
        (
            "checksums that cannot be written so",
            [
                "algorithm = 'SUM-8', type = 'number'",
                "algorithm = 'SUM-8', type = 'number', width = 2",
                "algorithm = 'SUM-8', type = 'number', width = 3, digits = 'hex', zero = \"'0'\"",
                "algorithm = 'SUM-8', type = 'u8', zero = \"' '\"",
                "algorithm = 'SUM-8', type = 'u8', zero = \"'ab'\", digit_bits = 4",
                "algorithm = 'SUM-8', type = 'u8', digit_bits = 4",
                "algorithm = 'SUM-8', type = 'u8', zero = \"'0'\", digit_bits = 3, width = 2",
                "algorithm = 'SUM-16', type = 'u16be', zero = \"'0'\", width = 2",
            ]
            .map(|keys| format!("\n[[frame]]\nname = 'f'\ncut = 'slip'\nchecksum = {{ {keys} }}"))
            .concat(),
        ),
        (
            "a checksum that has more digits or values than there is room for",
            packet(&format!("{p}\nchecksum = [{{ algorithm = 'SUM-8', type = 'number', width = 2 }}, {{ algorithm = 'SUM-8', type = 'u8', zero = \"' '\", byte = 1, to = 0 }}]"), ok),
        ),
        (
            "several checksums, of which others than the first stand behind something, or on each other",
            text("checksum = [{ algorithm = 'SUM-8', type = 'u8', digits = 'hex' }, { algorithm = 'XOR-8', type = 'u8', digits = 'hex', mark = \"'*'\" }]", "fields = [{ name = 'a' }]")
                + "[[frame]]\nname = 'g'\ncut = 'packet'\nstart = 'AB'\nlength = 4\nchecksum = [{ algorithm = 'SUM-8', type = 'u8' }, { algorithm = 'XOR-8', type = 'u16be' }]\n[record.g]\nframe = 'g'\nfields = [{ name = 'a', byte = 1, type = 'u8' }]\n",
        ),
        ("no checksum at all, and too many", packet(&format!("{p}\nchecksum = []"), ok) + &format!("[[frame]]\nname = 'g'\ncut = 'slip'\nchecksum = [{}]", ["{ algorithm = 'SUM-8', type = 'u8' }"; 9].join(", "))),
        ("a word for no checksum", packet(&format!("{p}\nchecksum = {{ algorithm = 'quaxotl', type = 'u16be' }}"), ok)),
        (
            "places beyond all bounds",
            packet(
                "start = 'AA'\nlength = { byte = 9223372036854775807, type = 'u8', add = -9223372036854775808 }\nchecksum = { algorithm = 'SUM-8', type = 'u8', digits = 'hex', from = 9223372036854775807, to = -9223372036854775807, byte = 65536 }",
                "fields = [{ name = 'a', byte = 9223372036854775807, type = 'u8' }, { name = 'b', type = 'text', width = 9223372036854775807 }, { name = 'c', byte = -65537, type = 'u8', places = 39, rollover = 0 }]",
            ),
        ),
        (
            "widths that add up",
            packet(
                "start = 'AA'\nlength = { byte = 1, type = 'u16be' }",
                "fields = [{ name = 'a', type = 'bytes', width = 65536 }, { name = 'b', type = 'bytes', width = 60000 }]",
            ),
        ),
        (
            "columns of which nobody knows whether they are there",
            text(
                "header = [{ name = 'k' }]",
                "fields = [{ name = 'a', optional = true }, { name = 'b' }, { name = 'c', optional = true }]",
            ),
        ),
        (
            "a condition in a header",
            text("header = [{ name = 'k', optional = true, when = 'columns == 1' }]", "fields = [{ name = 'a' }]"),
        ),
        (
            "conditions where fields cannot have them",
            text(
                "",
                "fields = [{ name = 'a', when = \"b == 'x'\" }, { name = 'b', chars = '1-2', when = 'length > 3' }, { name = 'c', optional = true, when = 'columns > 3' }, { name = 'd', when = \"e == 3\" }, { name = 'g', count = 2, when = 'columns > 3', fields = [{ name = 'e', when = 'columns > 3' }] }]",
            ),
        ),
        (
            "groups and lists of a text that are not where columns are, or may be missing",
            text(
                "",
                "fields = [{ name = 'a', type = 'number', count = 2, optional = true }, { name = 'b', type = 'number', count = 2, chars = '1-2' }, { name = 'c', count = 2, fields = [{ name = 'd', optional = true }] }, { name = 'e', type = 'u8', count = 2, bits = '0-1' }]",
            ),
        ),
        (
            "a condition behind what only the number of columns tells",
            text(
                "",
                "fields = [{ name = 'a', optional = true }, { name = 'b', when = 'length > 9' }, { name = 'c', column = 5 }, { name = 'd' }]",
            ),
        ),
        (
            "an optional column before a group of any length",
            text(
                "",
                "fields = [{ name = 'a', optional = true }, { name = 'b' }, { name = 'g', up_to = 'end', fields = [{ name = 'c' }] }, { name = 'd', when = 'length > 3' }]",
            ),
        ),
        ("a condition in a packet", field("{ name = 'v', type = 'u24be', when = 'length > 3' }")),
        (
            "a condition on columns of pairs",
            text("read = 'pairs'", "when = 'columns == 2'\nfields = [{ name = 'a', when = 'length > 3' }]"),
        ),
        ("a condition in a printed line", text("", "printed = '{a}'\nfields = [{ name = 'a', when = 'length > 3' }]")),
        (
            "variants that do not agree",
            text(
                "header = [{ name = 'k', internal = true }]",
                "when = \"k == 'A'\"\nfields = [{ name = 'a', type = 'number', unit = 'm' }, { name = 'b' }, { name = 'c', type = 'number' }]\n\
                 [[record.r.variant]]\nwhen = \"k == 'B'\"\nfields = [{ name = 'a', type = 'number', unit = 'kg' }, { name = 'b', type = 'number' }, { name = 'c', type = 'number', unit = 'm' }]\n\
                 [[record.r.variant]]\ntitle = 'x'\nwhen = \"k == 'C'\"\nfields = [{ name = 'a', type = 'number', unit = 'cm', range = [0, 5] }]\n\
                 [[record.r.variant]]\nfields = [{ name = 'a', type = 'number' }, { name = 'd', unit_from = 'x' }]\n\
                 [[record.r.variant]]\nfields = []",
            ),
        ),
        (
            "a sign from what tells none",
            column(
                "{ name = 'a', type = 'number', sign_from = 'b' }, { name = 'b', codes = { U = 'up' } }, { name = 'c', type = 'number', sign_from = 'e' }, { name = 'd', sign_from = 'b' }",
            ),
        ),
        (
            "a checksum of which nothing tells that it is there",
            text("checksum = { algorithm = 'XOR-8', type = 'u8', presence = 'optional' }", "fields = [{ name = 'a' }]"),
        ),
        (
            "a checksum behind a mark, and elsewhere",
            packet(
                &format!(
                    "{p}\nchecksum = {{ algorithm = 'XOR-8', type = 'u8', mark = \"'*'\", byte = 3, to = 2, presence = 'optional' }}"
                ),
                ok,
            ),
        ),
        (
            "character sets that there are not",
            text(
                "charset = ['latin-1', 'cp850', 'latin-1']",
                "fields = [{ name = 'a', charset = 'latin1' }, { name = 'b', charset = ['ascii', 3] }]",
            ),
        ),
        ("a character set of bytes", field("{ name = 'v', type = 'bytes', width = 3, charset = 'ascii' }")),
        (
            "what cannot be cleaned",
            own("format = 'x'\nclean = ['parity', 'dirt', 'parity']\n[line.a]\nclean = 3\n[[frame]]\ncut = 'text'"),
        ),
        (
            "packets on a line that is cleaned",
            own(
                "format = 'x'\nclean = 'nul'\n[line.a]\nclean = []\n[line.b]\n[[frame]]\ncut = 'slip'\n[record.r]\nfields = [{ name = 'a', type = 'u8' }]",
            ),
        ),
        (
            "headings that name nothing",
            text(
                "",
                "when = 'length > 3'\nheading = 'tittle'\nfields = [{ name = 'a' }]\n[record.title]\nheading = 'r'\nfields = [{ name = 'a', column = 3, type = 'lat' }, { name = 'b', label = 'x', when = 'length > 4' }, { name = 'c', label = 'x', type = 'date', layout = 'DD,MM,YY' }, { name = 'g', count = 2, fields = [{ name = 'd' }] }]",
            ),
        ),
        (
            "records that cannot be read otherwise",
            text(
                "assign = ':'\nheader = [{ name = 'k', column = 1 }]",
                "when = \"k == 'a'\"\nread = 'pairs'\nfields = [{ name = 'a' }]\n[record.s]\nread = 'bytes'\nfields = [{ name = 'a', label = 'b' }]",
            ),
        ),
        (
            "a heading, and a reading, of what has none",
            text(
                "read = 'pairs'",
                "when = 'length > 3'\nheading = 's'\nfields = [{ name = 'a' }]\n[record.s]\nprinted = '{a}'\nheading = 'r'\nread = 'columns'\nfields = [{ name = 'a' }]",
            ),
        ),
        ("an assign without pairs", text("assign = ':'", "fields = [{ name = 'a' }]")),
        ("a counter in a text without rollover", column("{ name = 'n', type = 'number', counter = true }")),
        (
            "a condition on an unknown name",
            text(
                "header = [{ name = 'unit', column = 1 }]",
                "when = \"unti == 'x'\"\nfields = [{ name = 'a', column = 2 }]",
            ),
        ),
        (
            "a condition of wrong types",
            text(
                "header = [{ name = 'unit', column = 1 }]",
                "when = \"unit == 5 and (unit starts 'x'\"\nfields = [{ name = 'a', column = 2 }]",
            ),
        ),
        (
            "a condition that compares text and number",
            text(
                "header = [{ name = 'unit', column = 1 }]",
                "when = \"unit == 5 or not unit\"\nfields = [{ name = 'a', column = 2 }]",
            ),
        ),
        (
            "a record that can never be",
            own(
                "format = 'x'\n[[frame]]\ncut = 'text'\n[record.all]\nfields = [{ name = 'a' }]\n[record.never]\nfields = [{ name = 'a' }]",
            ),
        ),
        (
            "records without a frame to choose",
            own(
                "format = 'x'\n[[frame]]\nname = 'a'\ncut = 'text'\n[[frame]]\nname = 'b'\ncut = 'nmea-0183'\n[record.r]\nfields = [{ name = 'a' }]\n[record.s]\nframe = 'c'\nfields = [{ name = 'a' }]\n[[ignore]]\nframe = 'b'\ncount_by = 'x'",
            ),
        ),
        ("two texts on one line", own("format = 'x'\n[[frame]]\ncut = 'text'\n[[frame]]\nname = 'b'\ncut = 'text'")),
        (
            "lines that cannot be told apart",
            own(
                "format = 'x'\n[[frame]]\nname = 'a'\ncut = 'text'\nstart = \"'#'\"\n[[frame]]\nname = 'b'\ncut = 'text'\nend = 'LF'",
            ),
        ),
        ("a start of a line that ends it", text("start = 'CR LF'", "fields = [{ name = 'a' }]")),
        ("frames of one name", own("format = 'x'\n[[frame]]\ncut = 'nmea-0183'\n[[frame]]\ncut = 'nmea-0183'")),
        ("a frame on an unknown line", own("format = 'x'\n[line.request]\n[[frame]]\non = 'requst'\ncut = 'text'")),
        ("a series of an unknown field", text("", "series = 'id'\nfields = [{ name = 'ix' }]")),
        ("a checksum asked of a text", text("", "checksum = { presence = 'required' }\nfields = [{ name = 'a' }]")),
        (
            "a header field at the end",
            packet(
                &format!("{p}\nheader = [{{ name = 'h', byte = -1, type = 'u8' }}]"),
                "fields = [{ name = 'v', type = 'u16be' }]",
            ),
        ),
        (
            "frames that lie inside of what is not there",
            own(
                "format = 'x'\n[[frame]]\nname = 'a'\ncut = 'slip'\n[record.r]\nframe = 'a'\nfields = [{ name = 'v', type = 'u8' }, { name = 'load', type = 'bytes' }]\n[[frame]]\nname = 'b'\ninside = 'load'\ncut = 'text'\n[[frame]]\nname = 'c'\ninside = 'q.load'\ncut = 'text'\n[[frame]]\nname = 'd'\ninside = 'r.laod'\ncut = 'text'\n[[frame]]\nname = 'e'\ninside = 'r.v'\ncut = 'text'",
            ),
        ),
        (
            "frames inside of themselves, of silences, on lines",
            own(
                "format = 'x'\n[line.port]\n[[frame]]\nname = 'a'\ncut = 'slip'\ninside = 's.load'\n[record.r]\nframe = 'a'\nfields = [{ name = 'load', type = 'bytes' }]\n[[frame]]\nname = 'b'\ninside = 'r.load'\ncut = 'cobs'\n[record.s]\nframe = 'b'\nfields = [{ name = 'load', type = 'bytes' }]\n[[frame]]\nname = 'c'\ninside = 's.load'\ncut = 'idle'\nidle = '5 ms'\n[[frame]]\nname = 'd'\ninside = 's.load'\non = 'port'\ncut = 'text'",
            ),
        ),
        (
            "lengths behind what varies, where that cannot be",
            packet(
                "start = 'AA BB'\nlength = { past = { byte = 1, type = 'u8' }, byte = 2, type = 'u8' }",
                "fields = [{ name = 'v', type = 'bytes' }]",
            ) + &packet(
                "start = 'AA'\nname = 'b'\nlength = { past = { byte = 4, until = '' }, byte = 2, type = 'u8' }",
                "",
            )
            .replace("format = 'p'\n", "")
            .replace("[record.r]", "[record.s]\nframe = 'b'")
                + &packet(
                    "start = 'AA'\nname = 'c'\nlength = [{ byte = 1, type = 'u8', past = { byte = 2, until = '00' } }, { byte = 2, type = 'u8' }]",
                    "",
                )
                .replace("format = 'p'\n", "")
                .replace("[record.r]", "[record.t]\nframe = 'c'"),
        ),
        (
            "ratios that are none",
            packet(
                "start = 'AA'\nlength = 13",
                "fields = [{ name = 'a', type = 'u16be', scale = '1/0', places = 1 }, { name = 'b', type = 'u16be', scale = '1/3' }, \
                 { name = 'c', type = 'f32be', scale = '1/3', places = 1 }, { name = 'd', type = 'u16be', scale = 'x' }, \
                 { name = 'e', type = 'u16be', scale = '1/3', places = 2, unit = 'm', unit_sent = 'mm' }]",
            ),
        ),
        (
            "parts that cannot be",
            own(
                "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nwhen = 'length > 3'\nfields = [{ name = 'a' }]\nrequire = \"count(rows) == total and sum(row.n) > 0 and sum(rows.m) > 1\"\n\
                 [[record.r.part]]\nprinted = 'head {a}'\nfields = [{ name = 'a' }]\nuntil = 'x'\n\
                 [[record.r.part]]\nrepeat = 'any'\nprinted = 'row {n}'\nfields = [{ name = 'n', type = 'number' }]\n\
                 [[record.r.part]]\nname = 'rows'\nrepeat = 'any'\nfields = [{ name = 'n', type = 'number' }]\n\
                 [[record.r.part]]\nprinted = 'foot {b}'\nfields = [{ name = 'b' }]",
            ),
        ),
        (
            "parts that cannot be read",
            own(
                "format = 'x'\n[[frame]]\ncut = 'text'\n[record.s]\nwithin = '2 s'\nfields = [{ name = 'a' }]\n[record.t]\nwithin = 'long'\norder = 'none'\n\
                 [[record.t.part]]\nprinted = 'x'\n[[record.t.part]]\nrepeat = 'often'\n[exchange.e]\nask = 'a'\nopen = 0\n[merge.h]\nof = ['a', 'h']\n\
                 [multipart.m]\nof = 'a'\npart = 'n'\nunique = true\nlatest = [{ name = 'x' }]",
            ),
        ),
        (
            "exchanges, merges and parts of what is not there",
            own(
                "format = 'x'\n[[frame]]\ncut = 'text'\nheader = [{ name = 'k', column = 1 }]\n[record.a]\nwhen = \"k == 'a'\"\nfields = [{ name = 'n', type = 'number' }, { name = 'u', type = 'number', unit = 'm' }]\n\
                 [record.b]\nwhen = \"k == 'b'\"\nfields = [{ name = 'm', type = 'number' }, { name = 'u', type = 'number' }]\nlatest = [{ name = 'm', of = 'a.n' }, { name = 'x', of = 'a.o' }, { name = 'y', of = 'c' }, { name = 'z', of = 'c.n' }]\n\
                 [exchange.e]\nask = 'a'\nanswers = ['b', 'bb']\nkey = 'n'\n[exchange.f]\nask = 'a'\n[[exchange.f.answers]]\nwhen = \"ask.n == 1 and ask.q == 2\"\nfields = [{ name = 'outcome' }]\n\
                 [merge.a]\nof = 'a'\nkey = 'n'\n[merge.g]\nof = ['a', 'b', 'b']\nkey = 'k'\ncomplete = 'a or c'\n\
                 [multipart.m]\nof = 'a'\npart = 'n'\nparts = 'o'\njoin = ['n', 'kk']",
            ),
        ),
        (
            "points that cannot be read",
            own(
                "format = 'x'\n[[frame]]\ncut = 'modbus-rtu'\n[unit.a]\npoints = [{ name = 'p', table = 'coils', address = 1 }, { name = 'q', table = 'relay', address = 1 }, { name = 'r', reference = 50001 }, \
                 { name = 's', address = 3 }, { name = 't', table = 'coil', reference = 40001 }, { name = 'u', table = 'coil', address = 70000 }, { name = 'v', reference = 40001, address = 0 }, \
                 { name = 'w', table = 'coil', address = 1, unit_id = 3 }]\n[unit.b]\nid = [1, 1, 0, 300]\npoints = [{ name = 'Speed', reference = 40001, within = 'soon' }]\n[[point]]\nname = 'p'\nreference = 40001",
            ),
        ),
        (
            "points that cannot be",
            own(
                "format = 'x'\n[[frame]]\ncut = 'modbus-ascii'\n[unit.a]\nid = 1\npoints = [{ name = 'p', reference = 40001, type = 'u8' }]\n[unit.b]\nid = 2\npoints = [{ name = 'p', reference = 40001, byte = 3 }]\n\
                 [unit.c]\nid = 3\npoints = [{ name = 'p', reference = '00001', type = 'u16be' }]\n[unit.d]\nid = 4\npoints = [{ reference = 40001 }]\n[unit.e]\nid = 5\npoints = []\n\
                 [unit.f]\nid = 6\npoints = [{ name = 'p', reference = 465536, type = 'u32be' }]\n[unit.g]\nid = 7\npoints = [{ name = 'p', reference = 40001 }, { name = 'p', reference = 40002, scale_from = 'q' }]\n\
                 [unit.transaction]\nid = 8\npoints = [{ name = 'p', reference = 40001, when = 'unit == 1' }]",
            ),
        ),
        (
            "units without a bus",
            own(
                "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }]\n[unit.a]\nid = 1\npoints = [{ name = 'p', reference = 40001 }]",
            ),
        ),
        (
            "examples that are none",
            own(
                "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }]\n[[example]]\nbytes = '0'\ngives = { record = 'r' }\n[[example]]\ntext = 'x'\nbytes = '00'\ngives = {}\n[[example]]\ntext = 'x'",
            ),
        ),
    ]
}

#[test]
fn every_problem_has_its_place_and_its_words() {
    let mut out = String::new();
    for (name, text) in cases() {
        writeln!(out, "{name}\n{}", problems(&text)).unwrap();
    }
    insta::assert_snapshot!(out);
}

/// What is legal and can hardly be meant, and beside it what is like it and can be meant well.
fn doubtful() -> Vec<(&'static str, String)> {
    let example = "[[example]]\nbytes = 'AA 00 00 00 AA'\ngives = { record = 'r' }";
    let sum = "checksum = { algorithm = 'SUM-8', type = 'u8' }";
    let field = |fields: &str| {
        format!(
            "format = 'd'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 5\n{sum}\n[record.r]\nfields = [{fields}]\n{example}"
        )
    };
    let header = |header: &str, records: &str| {
        format!(
            "format = 'd'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 3\nchecksum = {{ algorithm = 'SUM-8', type = 'u8' }}\nheader = [{header}]\n{records}\n{example}"
        )
    };
    let lines = |header: &str, records: &str| {
        format!(
            "format = 'd'\n[[frame]]\ncut = 'text'\nheader = [{header}]\n{records}\n[[example]]\ntext = 'x'\ngives = {{ record = 'r' }}"
        )
    };
    let kinds = |conditions: &[&str]| -> String {
        conditions
            .iter()
            .enumerate()
            .map(|(index, when)| format!("[record.r{index}]\nwhen = \"{when}\"\nfields = []\n"))
            .collect()
    };
    let one = "{ name = 'type', type = 'u8' }";
    vec![
        ("nothing to be doubted", field("{ name = 'v', type = 'u24be' }")),
        (
            "a packet without checksum, without example, and without record",
            "format = 'd'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 1".to_owned(),
        ),
        ("fields on one byte", field("{ name = 'v', type = 'u16be' }, { name = 'w', byte = 2, type = 'u16be' }")),
        (
            "fields on one byte, and a gap",
            field("{ name = 'v', type = 'u16be' }, { name = 'w', byte = 1, type = 'u8' }"),
        ),
        (
            "parts of one integer",
            field(
                "{ name = 'v', type = 'u8', bits = '0-3' }, { name = 'w', byte = 1, type = 'u8', bits = '4-7' }, { name = 'all', byte = 1, type = 'u8' }, { name = 'x', type = 'u16be' }",
            ),
        ),
        (
            "parts of one integer that overlap",
            field(
                "{ name = 'v', type = 'u24be', bits = '0-8' }, { name = 'w', byte = 1, type = 'u24be', bits = '8-15' }",
            ),
        ),
        (
            "a field on the header's",
            header(one, "[record.r]\nwhen = 'type == 1'\nfields = [{ name = 'again', byte = 1, type = 'u8' }]"),
        ),
        ("a column read twice", lines("", "[record.r]\nfields = [{ name = 'a' }, { name = 'b', column = 1 }]")),
        (
            "a column after the other",
            lines("", "[record.r]\nfields = [{ name = 'a', column = 2 }, { name = 'b', column = 1 }]"),
        ),
        (
            "no data that never comes",
            field("{ name = 'v', type = 'u8', no_data = -1 }, { name = 'w', type = 'i16be', no_data = 0x8000 }"),
        ),
        (
            "a constant that never comes",
            field("{ name = 'v', type = 'u8', equals = 300 }, { name = 'w', type = 'i16be', equals = 0x18000 }"),
        ),
        (
            "a code that never comes",
            field("{ name = 'v', type = 'u24be', bits = '0-1', codes = { 3 = 'a', 4 = 'b', 0x05 = 'c' } }"),
        ),
        ("a pattern of bits", field("{ name = 'v', type = 'i24be', no_data = 0x800000 }")),
        ("a range out of reach", field("{ name = 'v', type = 'u24be', scale = 0.01, range = [-5, 500] }")),
        (
            "a range at its end",
            field(
                "{ name = 'v', type = 'i8', scale = -0.5, add = 1, range = [-62.5, 65.0] }, { type = 'u16be', reserved = true }",
            ),
        ),
        ("records that leave nothing", header(one, &kinds(&["type == 1", "type != 1", "type > 7"]))),
        ("records that leave something", header(one, &kinds(&["type == 1", "type > 2", "type <= 2"]))),
        ("a record that leaves one value", header(one, &kinds(&["type < 255", "type == 255"]))),
        ("a condition that never holds", header(one, &kinds(&["type == 1 and type == 2", "type == 256"]))),
        (
            "texts that leave nothing",
            lines(
                "{ name = 'h', chars = '1-2' }",
                &kinds(&["h == 'AB'", "h starts 'A'", "h starts 'AB'", "h starts 'B'"]),
            ),
        ),
        (
            "a second name",
            lines(
                "{ name = 'h', chars = '1-2' }, { name = 'n', chars = '3-4', type = 'number' }",
                &kinds(&["n < 5", "h == 'A' and n == 4", "h == 'A'"]),
            ),
        ),
    ]
}

#[test]
fn what_can_hardly_be_meant_is_told_at_its_place() {
    let mut out = String::new();
    for (name, text) in doubtful() {
        writeln!(out, "{name}").unwrap();
        match Format::parse(&text) {
            Ok(format) => {
                let doubts = format.doubts();
                doubts.iter().for_each(|doubt| out += &show_one(&text, doubt));
                if doubts.is_empty() {
                    out += "  fine\n";
                }
                if let Err(problems) = format.compile() {
                    out += &show(&text, &problems).replace("\n  ", "\n  error at ").replacen("  ", "  error at ", 1);
                }
            }
            Err(problems) => out += &show(&text, &problems),
        }
        out.push('\n');
    }
    insta::assert_snapshot!(out);
}

/// A mark is tried in the device's own bits, a code as well.
#[test]
fn numbers_in_hex_are_patterns_of_bits() {
    let text = "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 9\n[record.r]\nfields = [\
        { name = 'v', type = 'i24be', scale = 0.01, no_data = 0x800000 }, { name = 'c', type = 'i8', codes = { 0xFF = 'minus one', 1 = 'one' } }, \
        { name = 'f', type = 'f32be', no_data = 0x7FC00001 } ]";
    let plan = Format::parse(text).unwrap().compile().unwrap();
    let run = |bytes: &[u8]| crate::drive::run(&plan, &crate::drive::Input::raw(bytes), &mut || 9).0.concat();
    let marked = run(b"\xAA\x80\0\0\xFF\x7F\xC0\0\x01");
    assert!(marked.contains("v=<marked> c=minus one(-1) f=<marked>"), "{marked}");
    let plain = run(b"\xAA\x7F\xFF\xFF\x02\x3F\x80\0\0");
    assert!(plain.contains("v=83886.07 c=2 f=1"), "{plain}");
}

#[test]
fn text_examples_end_as_their_frame_says() {
    for (end, example) in
        [("LF", "7.5"), ("CR", "7.5"), ("CR LF", "7.5"), ("any", "7.5"), ("any", "7.5\\r"), ("LF", "7.5\\n")]
    {
        let text = format!(
            "format = 'x'\n[[frame]]\ncut = 'text'\nend = '{end}'\n[record.r]\nfields = [{{ name = 'v', type = 'number' }}]\n[[example]]\ntext = \"{example}\"\ngives = {{ record = 'r', v = 7.5 }}"
        );
        let format = Format::parse(&text).unwrap();
        let outcomes = format.compile().unwrap().run_examples(&format);
        assert!(outcomes[0].differences.is_empty(), "{end} {example}: {:?}", outcomes[0].differences);
        assert_eq!((outcomes[0].line, outcomes[0].column), (7, 1));
    }
}

/// 16777217.000000001 is nearest to 16777218 at 32 bits, but by way of 64 bits it would be 16777216; the range's end is at the value's own width, too.
#[test]
fn floats_are_compared_at_their_own_width() {
    let text = "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 9\n[record.r]\nfields = [{ name = 'f', type = 'f32be' }, { name = 'g', type = 'f32be', range = [0, 0.1] }]\n\
        [[example]]\nbytes = 'AA 4B 80 00 01 3D CC CC CD'\ngives = { record = 'r', f = 16777217.000000001, g = 0.1 }";
    let format = Format::parse(text).unwrap();
    let plan = format.compile().unwrap();
    assert!(plan.run_examples(&format)[0].differences.is_empty(), "{:?}", plan.run_examples(&format));
    let (events, _) =
        crate::drive::run(&plan, &crate::drive::Input::raw(b"\xAA\x4B\x80\0\x01\x3D\xCC\xCC\xCD"), &mut || 9);
    assert!(events[0].ends_with("g=0.1"), "{events:?}");
}

/// A frame taken apart: what a datasheet's own frame gives, also where its checksum is not what was declared.
#[test]
fn frames_are_explained_in_full() {
    let text = r#"
        format = "e"
        [[frame]]
        cut = "packet"
        start = "AA"
        length = { byte = 1, type = "u8" }
        checksum = { algorithm = "CRC-16/MODBUS", type = "u16be", from = 1 }
        header = [ { name = "type", type = "u8", internal = true } ]
        [record.a]
        frame = "packet"
        when = "type == 1"
        fields = [
          { name = "v", type = "i16be", scale = 0.5, unit = "kN", range = [0, 5] },
          { type = "bytes", width = 1, reserved = true },
          { name = "low", type = "u8", bits = "1-2" },
          { byte = 6, type = "u8", flags = { 7 = "hot" } },
          { name = "g", up_to = "end", fields = [ { name = "x", type = "u8", no_data = 0xFF } ] },
        ]
    "#;
    let line = r#"
        format = "l"
        [[frame]]
        cut = "text"
        separator = ";"
        checksum = { algorithm = "XOR-8", type = "u8", digits = "hex", to = -4 }
        [record.b]
        fields = [ { name = "n", type = "number", unit = "m" }, { name = "c", chars = "1-3" }, { name = "d" } ]
    "#;
    let said = r#"
        format = "s"
        [[frame]]
        cut = "nmea-0183"
        [record.c]
        fields = [ { name = "address" }, { name = "depth", type = "number" } ]
        [[ignore]]
    "#;
    let mut out = String::new();
    let inputs: [(&str, &[u8], bool); 10] = [
        (text, b"\xAA\x0B\x01\x00\x09\x77\x84\x05\xFF\xF4\xD5", false),
        (text, b"\xAA\x0B\x01\x00\x09\x77\x84\x05\xFF\xD5\xF4", false),
        (text, b"\xAA\x0B\x01\xFF\x00\x77\x84\x05\xFF\x00\x00", false),
        (text, b"\xAA\x0B", false),
        (line, b"7.25;x*00", true),
        (line, b"7.25kg;x;y*12", true),
        (line, b"12.5kg;yy*5C", true),
        (said, b"$SBDPT,4.5*4F", true),
        (said, b"$SBDPT,4.5*52", true),
        (said, b"$SBDPT,4.5,,*7E", true),
    ];
    for (format, bytes, is_text) in inputs {
        writeln!(out, "{}", bytes.escape_ascii()).unwrap();
        for piece in Format::parse(format).unwrap().explain(None, bytes, is_text).unwrap() {
            let what = piece.record.as_deref().unwrap_or("no record");
            writeln!(out, "  at {}, {} bytes: {what}; {}", piece.offset, piece.bytes.len(), piece.reason).unwrap();
            for field in &piece.fields {
                writeln!(
                    out,
                    "    {} | {} | {} | {} {}",
                    field.place, field.name, field.sent, field.value, field.quality
                )
                .unwrap();
            }
            for checksum in &piece.checksums {
                writeln!(out, "    {checksum:?} {}", checksum.holds()).unwrap();
            }
        }
    }
    insta::assert_snapshot!(out);
}

#[test]
fn examples_that_do_not_hold_say_how() {
    let text = r#"
        format = "e"
        [[frame]]
        cut = "packet"
        start = "AA"
        length = { byte = 1, type = "u8" }
        checksum = { algorithm = "SUM-8", type = "u8", from = 1 }
        [record.a]
        fields = [
          { name = "v", type = "i8", scale = 0.5 },
          { name = "f", type = "f32be" },
          { name = "c", type = "u8", codes = { 1 = "one" } },
          { name = "g", up_to = "end", fields = [ { name = "x", type = "u8" } ] },
        ]
        [[example]]
        bytes = "AA 0A FE 3D CC CC CD 01 05 B0"
        gives = { record = "a", v = -1.0, f = 0.1, c = "one", g = [ { x = 5 } ] }
        [[example]]
        bytes = "AA 0A FE 3D CC CC CD 01 05 B0"
        gives = { record = "a", v = -1, f = 0.2, c = 2, g = [ { x = 6 }, { x = 7 } ], h = 1, v2 = "" }
        [[example]]
        bytes = "AA 0A FE 3D CC CC CD 01 05 B1"
        gives = { record = "a" }
        [[example]]
        bytes = "AA 0A FE"
        gives = { record = "a" }
        [[example]]
        bytes = "AA 0A FE 3D CC CC CD 01 05 B0 00"
        gives = { record = "b" }
    "#;
    let format = Format::parse(text).unwrap();
    let mut out = String::new();
    for outcome in format.compile().unwrap().run_examples(&format) {
        writeln!(out, "example {}", outcome.example + 1).unwrap();
        for difference in &outcome.differences {
            writeln!(out, "  `{}` should be {}, is {}", difference.field, difference.expected, difference.found)
                .unwrap();
        }
    }
    insta::assert_snapshot!(out);
}

#[test]
fn the_shipped_formats_are_sound_and_their_examples_hold() {
    let shipped = usus::SHIPPED.iter().map(|(_, text)| *text);
    for text in shipped.chain(usus_sim::Device::ALL.into_iter().filter_map(usus_sim::Device::format)) {
        let format = Format::parse(text).unwrap();
        let plan = format.compile().unwrap();
        assert!(format.doubts().is_empty(), "{}: {:?}", format.name, format.doubts());
        let outcomes = plan.run_examples(&format);
        assert!(!outcomes.is_empty());
        for outcome in outcomes {
            assert!(outcome.differences.is_empty(), "{}: {outcome:?}", format.name);
        }
    }
}

#[test]
fn what_is_wrong_in_files_beside_a_format_is_told_with_its_line() {
    let fields = |rest: &str| packet("start = 'AA'\nlength = 4", &format!("fields = {{ file = 'f.csv'{rest} }}"));
    let codes = packet(
        "start = 'AA'\nlength = 2",
        "fields = [{ name = 'v', type = 'u8', codes = { file = 'f.csv', keys = { 'raw' = 'value' } } }]",
    );
    let mut many = "name,byte,type\n".to_owned();
    (0..3_000).for_each(|row| writeln!(many, "f{row},{},u8", row + 1).unwrap());
    let rows: [(&str, String, &str); 16] = [
        ("no file", fields(""), "(none)"),
        ("empty", fields(""), ""),
        ("headings alone", fields(""), "name,byte,type\n"),
        ("unknown headings", fields(", keys = { 'Ofset' = 'byte' }"), "name,Offset,tpye,remarks\na,1,u24be,yes\n"),
        ("a heading twice", fields(""), "name,type,name\na,u24be,b\n"),
        ("more cells than headings", fields(""), "name,type\na,u24be,7\n"),
        ("wrong values", fields(""), "name,byte,type,scale,internal,range\na,one,u24be,big,perhaps,9\n"),
        ("a name twice, and a type that is none", fields(""), "name,type\n\na,u8\n\"a\",u8\nb,u9\n"),
        (
            "bytes without a name, behind a row over three lines",
            fields(""),
            "name,title,type,byte\na,\"one\ntwo\nthree\",u8,1\nb,,u8,3\n",
        ),
        ("an unknown name in a condition", fields(""), "name,type,when\na,u8,\na2,u16be,b > 1\n"),
        ("an odd separator", fields(", separator = '::'"), "name\n"),
        ("unknown keys", fields(", sheet = 2"), "name,type\na,u24be\n"),
        ("too many rows", fields("").replace("length = 4", "length = 3001"), &many),
        ("cells that try to be something else", fields(""), "name,type,no_data\n\"a\"\"}]\",u8,\na,u16be,\"[1, {}\"\n"),
        ("codes without names, and twice", codes.clone(), "raw,name\n0,idle\n1,\n0,busy\n"),
        ("codes that are no numbers", codes, "raw,name\nidle,0\n"),
    ];
    let mut out = String::new();
    for (name, text, file) in rows {
        let load = |_: &str| match file {
            "(none)" => Err("there is no such file".to_owned()),
            file => Ok(file.to_owned()),
        };
        let found = Format::parse_with(&text, load).and_then(|format| format.compile().map(|_| ()));
        writeln!(out, "{name}\n{}", found.map_or_else(|found| show(&text, &found), |()| "  sound\n".to_owned()))
            .unwrap();
    }
    insta::assert_snapshot!(out);
}
