//! Tables in other styles, names of the outputs' own columns and files, and the account of readings.

use std::fs;
use std::path::Path;

use usus::quality::{Class, Qualities};
use usus::{Decoder, Plan, Record};
use usus_io::{
    Destination, OutputOptions, Outputs, PieceOptions, RawReader, TableOptions, TableStyle, pump, pump_pieces,
};
use usus_sim::{Device, Faults, record};

use crate::outputs::{AWKWARD, INPUT, plan, rows};

fn write(plan: &Plan, bytes: &[u8], destination: &Destination, options: &OutputOptions) -> Qualities {
    let mut outputs = Outputs::open(plan, destination, options).unwrap();
    outputs.begin_source("=cmd|x", "").unwrap();
    pump(&mut RawReader::new(bytes, None), &mut Decoder::new(plan), &mut outputs, &mut |_| true).unwrap();
    outputs.finish().unwrap();
    outputs.take_qualities()
}

fn style(set: impl FnOnce(&mut TableStyle)) -> OutputOptions {
    let mut options = OutputOptions::default();
    set(&mut options.style);
    options
}

/// The text of a table.
fn table(text: &str, input: &[u8], options: &OutputOptions) -> String {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("t.csv");
    write(&plan(text), input, &Destination::Table(path.clone()), options);
    fs::read_to_string(path).unwrap()
}

const VALUES: &str = r#"
    format = "values"
    [[frame]]
    cut = "text"
    separator = ";"
    [record.row]
    fields = [ { name = "force", type = "number", unit = "kN", range = [-9, 9] }, { name = "note" } ]
"#;

#[test]
fn tables_have_the_style_that_is_asked_for() {
    let input = b"1.50;a,b\n-10;x;y\n;\"q\"\n-.5;-3,5\n";
    let usual = table(VALUES, &input[..], &OutputOptions::default());
    assert_eq!(
        usual,
        "force,note,quality\r\n1.50,\"a,b\",\r\n,\"\"\"q\"\"\",\r\n-.5,\"-3,5\",\r\n".replace("-.5", "-0.5")
    );
    for (options, wanted) in [
        (style(|style| style.units = true), "force [kN],note,quality\r\n1.50,\"a,b\",\r\n"),
        (style(|style| style.separator = b';'), "force;note;quality\r\n1.50;a,b;\r\n;\"\"\"q\"\"\";\r\n"),
        (style(|style| style.separator = b'\t'), "force\tnote\tquality\r\n1.50\ta,b\t\r\n"),
        (
            style(|style| {
                style.separator = b';';
                style.decimal_comma = true;
            }),
            "force;note;quality\r\n1,50;a,b;\r\n;\"\"\"q\"\"\";\r\n-0,5;-3,5;\r\n",
        ),
        (style(|style| style.decimal_comma = true), "force,note,quality\r\n\"1,50\",\"a,b\",\r\n"),
    ] {
        let found = table(VALUES, &input[..], &options);
        assert!(found.starts_with(wanted), "{:?}\n{found}", options.style);
    }
}

/// What a spreadsheet would work out is guarded; what is a number is one in both.
#[test]
fn formulas_are_guarded_and_numbers_spared() {
    let input = b"-1.5;=1+1\n+2;-2.50\n3;-2.5.0\n4;+cmd\n5;@x\n6;plain = x\n7;-1e3\n8;-2,5\n";
    let guarded = table(VALUES, input, &style(|style| style.guard_formulas = true));
    let notes: Vec<&str> =
        guarded.lines().skip(1).map(|line| line.split_once(',').unwrap().1.trim_end_matches(',')).collect();
    assert_eq!(notes, ["'=1+1", "-2.50", "'-2.5.0", "'+cmd", "'@x", "plain = x", "-1e3", "\"'-2,5\""]);
    assert!(guarded.contains("\r\n-1.5,"), "{guarded}");
    let both = style(|style| (style.guard_formulas, style.decimal_comma, style.separator) = (true, true, b';'));
    assert!(table(VALUES, input, &both).contains("8;-2,5;"));
    // The source's name is not ours, either.
    let with_source = OutputOptions { columns: TableOptions { source: true, ..TableOptions::default() }, ..both };
    assert!(table(VALUES, b"1;x\n", &with_source).contains("\r\n'=cmd|x;1;x;"));
}

#[test]
fn a_row_of_one_absent_value_is_a_row() {
    let one = "format = 'x'\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a', no_data = '-' }]";
    // A text can be no valid UTF-8, so there is a column of qualities; a flag cannot.
    assert_eq!(table(one, b"x\n-\ny\n", &OutputOptions::default()), "a,quality\r\nx,\r\n,\r\ny,\r\n");
    let mark = "format = 'x'\n[[frame]]\ncut = 'packet'\nstart = 'AA'\nlength = 2\n[record.r]\nfields = [{ name = 'a', type = 'u8', no_data = 255 }]";
    assert_eq!(table(mark, b"\xAA\x01\xAA\xFF\xAA\x02", &OutputOptions::default()), "a\r\n1\r\n\"\"\r\n2\r\n");
}

/// Fields may be called like an output's own columns, and kinds like an output's own file: the output's own is renamed.
#[test]
fn fields_keep_their_names() {
    let names = ["source", "line", "offset", "length", "item", "received", "index", "quality", "usus_offset"];
    let fields: String = names.iter().map(|name| format!("{{ name = '{name}', type = 'number' }}, ")).collect();
    let text = format!(
        "format = 'x'\n[[frame]]\ncut = 'text'\n[record.fields]\nfields = [{fields} {{ name = 'g', up_to = 'end', fields = [{{ name = 'h', type = 'number' }}] }}]"
    );
    let folder = tempfile::tempdir().unwrap();
    let columns = TableOptions { origin: true, received: true, ..TableOptions::default() };
    let options = OutputOptions { columns, ..OutputOptions::default() };
    let directory = folder.path().join("out");
    write(&plan(&text), b"1,2,3,4,5,6,7,8,9,10\n", &Destination::Directory(directory.clone()), &options);
    let own = ["usus_source", "usus_line", "usus_usus_offset", "usus_length", "usus_item", "usus_received"];
    let found = rows(&directory.join("fields.csv"));
    assert_eq!(found[0], [&own[..], &names[..], &["usus_quality"]].concat());
    assert_eq!(found[1], ["=cmd|x", "", "0", "20", "0", "", "1", "2", "3", "4", "5", "6", "7", "8", "9", ""]);
    let items = rows(&directory.join("fields.g.csv"));
    assert_eq!(
        items,
        [
            ["usus_source", "usus_line", "usus_usus_offset", "usus_index", "h", "usus_quality"],
            ["=cmd|x", "", "0", "1", "10", ""]
        ]
    );
    assert_eq!(rows(&directory.join("_fields.csv")).len(), 12);
}

/// Every way to write records comes to the same account of their readings, which is that of the records themselves.
#[test]
fn outputs_count_qualities_as_the_records_have_them() {
    let narrow = Device::RopeTension.format().unwrap().replace("range = [-5, 500]", "range = [60, 70]").replace(
        "{ name = \"age\",   type = \"u16be\", unit = \"ms\" }",
        "{ name = \"age\", type = \"u16be\", unit = \"ms\", range = [0, 900], no_data = 3 }",
    );
    let nmea = usus::SHIPPED[0].1.replace("range = [0, 360]", "range = [0, 90]");
    let rope = record(Device::RopeTension, 7, 40, &Faults::all()).bytes();
    let mast = record(Device::WindMast, 7, 60, &Faults::all()).bytes();
    for (text, input) in [(narrow.as_str(), &rope[..]), (&nmea, &mast[..]), (AWKWARD, &INPUT.repeat(40)[..])] {
        let plan = plan(text);
        let mut expected = Qualities::new(&plan);
        let mut walk = |record: &Record<'_>| expected.record(record);
        pump(&mut RawReader::new(input, None), &mut Decoder::new(&plan), &mut walk, &mut |_| true).unwrap();
        let expected: Vec<_> = expected.iter().collect();
        assert!(!expected.is_empty(), "{} {}", plan.schema().format, input.len());
        let folder = tempfile::tempdir().unwrap();
        let check = |name: &str, options: &OutputOptions, jobs: usize| {
            let destination = Destination::named(&folder.path().join(name)).unwrap();
            let mut outputs = Outputs::open(&plan, &destination, options).unwrap();
            let pieces = PieceOptions { jobs, size: 512, before: 256 };
            let mut source = RawReader::new(input, Some(input.len() as u64));
            pump_pieces(&mut source, &mut Decoder::new(&plan), &mut outputs, pieces, &mut |_| true).unwrap();
            outputs.finish().unwrap();
            let found = outputs.take_qualities();
            assert_eq!(found.iter().collect::<Vec<_>>(), expected, "{name} {jobs}");
            assert_eq!(outputs.take_qualities().iter().count(), 0);
        };
        for jobs in [1, 3] {
            check(&format!("usual{jobs}"), &OutputOptions::default(), jobs);
            check(&format!("styled{jobs}"), &style(|style| style.units = true), jobs);
            check(&format!("lines{jobs}.jsonl"), &OutputOptions::default(), jobs);
        }
    }
}

/// The first of each class is what was sent, or the value.
#[test]
fn the_first_of_each_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let directory = Destination::Directory(folder.path().join("out"));
    let found = write(&plan(AWKWARD), INPUT, &directory, &OutputOptions::default());
    let told: Vec<String> = found
        .iter()
        .flat_map(|field| {
            let name = format!("{}.{} of {}", field.record, field.field, field.readings);
            field.seen.into_iter().map(move |(class, seen)| {
                format!("{name}: {} {} at {}: {}", seen.count, class.word(), seen.offset, seen.first)
            })
        })
        .collect();
    assert_eq!(
        told,
        [
            "row.number of 4: 1 out_of_range at 27: 16.150",
            "row.number of 4: 1 invalid at 62: \"-\"",
            "row.list.a of 3: 1 invalid at 27: \"zz\"",
            "row.list.b of 3: 1 invalid_text at 27: \u{FFFD}C",
        ]
    );
    assert_eq!(Class::Marked.word(), "no_data");
    assert!(Path::new("/proc/self").exists());
}
