//! Formats made, altered and written in code go the way of those from a file.

use proptest::prelude::*;
use usus::format::{
    Check, CheckForm, Count, Cut, Example, Expected, Field, FieldType, Frame, Group, Ignore, Integer, Length, LineEnd,
    Literal, Order, Place, Presence, Record, Serial, When,
};
use usus::{Decimal, Format, Problems};

use crate::cases::format_texts;

/// A format without the places of the file that it was read from.
fn bare(format: &Format) -> String {
    let shown = format!("{format:?}");
    let shown = shown.rsplit_once(", source: ").unwrap().0.replace("start: None", "start: ");
    let mut bare = String::new();
    for part in shown.split("..") {
        let digit = |character: char| character.is_ascii_digit();
        bare += part.trim_matches(digit);
    }
    // Of conditions, where they begin.
    let mut pieces = bare.split("start: Some(");
    let first = pieces.next().unwrap_or_default().to_owned();
    pieces.fold(first, |text, piece| text + "start: " + piece.split_once(')').unwrap().1)
}

fn written_and_read(format: &Format) -> Format {
    let text = format.to_toml();
    Format::parse(&text).unwrap_or_else(|problems| panic!("{problems}\n{text}"))
}

#[test]
fn a_format_is_read_back_as_it_was_written() {
    let mut texts = format_texts();
    let shipped = usus::SHIPPED.iter().map(|(_, text)| (*text).to_owned());
    let devices = usus_sim::Device::ALL.into_iter().filter_map(|device| device.format().map(str::to_owned));
    texts.extend(shipped.chain(devices));
    texts.extend((0..200).map(crate::any_format::text));
    texts.extend((0..200).map(crate::parts::text));
    texts.extend((0..200).map(crate::checksums::text));
    for text in texts {
        let format = Format::parse(&text).unwrap();
        let again = written_and_read(&format);
        assert_eq!(bare(&again), bare(&format), "{text}\n{}", format.to_toml());
    }
}

const U8: Integer = Integer { signed: false, bytes: 1, order: Order::Big };

fn field(name: &str, kind: FieldType) -> Field {
    let mut field = Field::new(name);
    field.kind = Some(kind.into());
    field
}

/// A packet of text with a header, a group and a checksum behind its end, and lines of text beside it.
fn made() -> Format {
    let cut = Cut::Packet { start: (*b"\x02R").into(), length: Length::ToEnd, end: Some([3].into()) };
    let mut check = Check::new("XOR-8", CheckForm::Hex(U8));
    check.behind = true;
    let mut kind = field("type", FieldType::Integer(U8));
    kind.place = Place::Byte(2.into());
    kind.internal = true;
    let mut packet = Frame::new("packet", cut);
    packet.checksums.push(check);
    packet.header.push(kind);

    let mut state = field("state", FieldType::Integer(U8));
    state.codes = vec![
        (Literal::Number(Decimal::from_integer(5)).into(), "open".to_owned()),
        (Literal::Bits(6).into(), "shut".to_owned()),
    ];
    let mut door = Field::new("door");
    door.group = Some(Group::new(Count::Field("count".into()), vec![state]));
    let mut doors = Record::new("doors");
    doors.frame = Some("packet".into());
    doors.when = Some(When::new("type == 1"));
    doors.fields = vec![field("count", FieldType::Integer(U8)), door];

    let mut wind = Record::new("wind");
    wind.frame = Some("text".into());
    wind.fields.push(field("speed", FieldType::Number));
    let mut other = Ignore::default();
    other.frame = Some("packet".into());
    let mut example = Example::of_text("7.5", "wind");
    example.gives[0].fields.push(("speed".into(), Expected::Value(Literal::Number(decimal(7.5)).into())));

    let mut format = Format::new("gate");
    format.serial = Serial::parse("9600 8N1");
    format.frames = vec![packet, Frame::new("text", Cut::Text { start: None, end: LineEnd::Any, idle: None })];
    format.records = vec![doors, wind];
    format.ignores.push(other);
    format.examples.push(example);
    format
}

#[test]
fn a_format_made_in_code_decodes() {
    let format = made();
    let plan = format.compile().unwrap();
    assert!(plan.run_examples(&format).iter().all(|outcome| outcome.differences.is_empty()));
    let mut bytes = b"\x02R\x01\x02\x05\x06\x03".to_vec();
    let check = bytes.iter().fold(0, |all, byte| all ^ byte) ^ 3;
    bytes.extend_from_slice(format!("{check:02X}4.5\r\n").as_bytes());
    let records: Vec<String> = plan.records(&bytes).iter().map(|record| format!("{record:?}")).collect();
    assert_eq!(records.len(), 2, "{records:?}");
    assert!(records[0].contains("open") && records[0].contains("shut"), "{records:?}");
    insta::assert_snapshot!(format.to_toml());
}

/// A change of a format, and the problem that it makes.
type Altered = (fn(&mut Format), &'static str);

#[test]
fn what_was_altered_is_checked_like_a_file() {
    let altered: &[Altered] = &[
        (|format| format.frames.clear(), "needs the key `frame`"),
        (|format| format.frames[0].name = "text".into(), "frame `text` is there twice"),
        (|format| format.frames[0].name = "a b".into(), "`a b` cannot be a name"),
        (|format| format.frames[0].on = Some("north".into()), "there is no line `north`"),
        (|format| format.frames[0].separators.push("".into()), "`separator` needs a text of one"),
        (|format| format.frames[0].quote = Some(0xE9), "`quote` needs one ASCII character"),
        (|format| format.frames[0].header[0].place = Place::Byte((-70_000).into()), "`byte`"),
        (|format| format.frames[0].checksums[0].algorithm = "CRC-17".into(), "`CRC-17` is no checksum"),
        (
            |format| {
                let integer = Integer { bytes: 9, ..U8 };
                format.frames[0].checksums[0].form = CheckForm::Binary(integer);
            },
            "`u72be` is no type",
        ),
        (
            |format| {
                format.frames[0].cut = Cut::Packet { start: [].into(), length: Length::ToEnd, end: Some([3].into()) }
            },
            "`start` needs bytes",
        ),
        (
            |format| format.frames[0].cut = Cut::Packet { start: [9].into(), length: Length::ToEnd, end: None },
            "needs the key `length`",
        ),
        (|format| format.frames[0].cut = Cut::Slip, "`behind` does not go with"),
        (|format| format.frames[1].cut = Cut::Sentence { checksum: Presence::Absent, anywhere: true }, ""),
        (
            |format| {
                format.frames[1].cut = Cut::Text {
                    start: None,
                    end: LineEnd::Lf,
                    idle: Some(usus::format::Silence::Time(usus::Span::from_nanoseconds(0))),
                }
            },
            "`idle` needs a time",
        ),
        (|format| format.records[0].when = Some(When::new("type = 1")), "expected"),
        (|format| format.records[0].when = Some(When::new("tpye == 1")), "there is no header field `tpye`"),
        (|format| format.records[0].kind = "doors.all".into(), "`doors.all` cannot be a name"),
        (|format| format.records[0].fields[1].group.as_mut().unwrap().count = Count::Fixed(0.into()), "`count`"),
        (|format| format.records[0].fields.push(field("count", FieldType::Integer(U8))), "is there twice"),
        (|format| format.records[1].kind = "doors".into(), "not TOML"),
        (|format| format.records[1].fields[0].range = Some([9.0, 1.0].map(decimal).into()), "is above the largest"),
        (|format| format.serial.as_mut().unwrap().half_stop_bits = 7, "`serial` needs a speed"),
        (|format| format.limits.line = usize::MAX, "`line` needs an integer"),
        (|format| format.examples[0].frames[0].bytes = vec![0xFF], "an example needs `bytes`, `text`"),
    ];
    for (number, (alter, wanted)) in altered.iter().enumerate() {
        let mut format = made();
        alter(&mut format);
        let problems = format.compile().err().map(|problems| problems.to_string()).unwrap_or_default();
        assert!(problems.contains(wanted), "{number}: {problems:?} is not {wanted:?}\n{}", format.to_toml());
        assert_eq!(problems.is_empty(), wanted.is_empty(), "{number}: {problems}");
        assert_eq!(format.explain(None, b"", false).is_err(), !wanted.is_empty(), "{number}");
    }
}

fn decimal(number: f64) -> Decimal {
    Decimal::parse(number.to_string().as_bytes()).unwrap()
}

#[test]
fn a_format_that_was_altered_has_the_problems_that_it_had() {
    // In the order of the words: what is written has its tables in an order of its own.
    let kinds = |problems: Problems| {
        let mut kinds: Vec<String> = problems.iter().map(|problem| format!("{:?}", problem.kind)).collect();
        kinds.sort();
        kinds
    };
    let mut unsound = 0;
    for (name, text) in crate::declarations::cases() {
        let Ok(mut format) = Format::parse(&text) else { continue };
        let as_read = format.compile().err().map(kinds);
        format.version = Some("altered".to_owned());
        assert_eq!(format.compile().err().map(kinds), as_read, "{name}: {}", format.to_toml());
        unsound += u32::from(as_read.is_some());
    }
    assert!(unsound > 20, "only {unsound}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn any_text_is_written_so_that_it_is_read_back(text in any::<String>(), name in "[a-z_. \"'\\n\\\\é]{0,3}") {
        let mut format = made();
        format.title = Some(text.clone());
        format.records[1].fields[0].codes = vec![(Literal::Text(text.clone()).into(), text.clone())];
        let read = written_and_read(&format);
        prop_assert_eq!(read.title.as_ref(), Some(&text));
        let (value, said) = &read.records[1].fields[0].codes[0];
        prop_assert_eq!((&value.value, said), (&Literal::Text(text.clone()), &text));
        let is_name = name.starts_with(|first: char| first.is_ascii_lowercase())
            && name.chars().all(|character| character.is_ascii_lowercase() || character == '_')
            && !["and", "or", "not", "in"].contains(&name.as_str());
        format.records[1].fields[0].name = Some(name.as_str().into());
        format.records[1].fields[0].codes.clear();
        format.examples.clear();
        prop_assert_eq!(format.compile().is_ok(), is_name, "{}", name);
    }

    #[test]
    fn any_pattern_is_written_so_that_it_is_read_back(start in proptest::collection::vec(any::<u8>(), 1..9)) {
        let mut format = made();
        format.frames[0].cut = Cut::Packet { start: (&start).into(), length: Length::ToEnd, end: Some(start.into()) };
        prop_assert_eq!(&written_and_read(&format).frames[0].cut, &format.frames[0].cut);
    }
}
