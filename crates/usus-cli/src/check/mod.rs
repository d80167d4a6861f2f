//! `usus check`: what is wrong or doubtful in a format, its layout as a table, its examples; and what one frame gives.

mod several_frames;

use usus::Plan;
use usus::example::ExampleOutcome;
use usus::explain::Explained;
use usus::format::{ExampleFrame, Format, Parity, Serial};
use usus::plan::LayoutRow;

use crate::Ending;
use crate::against;
use crate::arguments::Check;
use crate::formats::{self, Loaded};
use crate::problems::{Shown, show_doubts};
use crate::safe::{Safe, hex, same_length};
use crate::summary::plural;
use crate::voice::Voice;

pub(crate) fn run(arguments: &Check, voice: &Voice) -> Ending {
    let mut ending = Ending::Done;
    for name in &arguments.formats {
        let found = match (&arguments.bytes, &arguments.text) {
            _ if arguments.against.is_some() => against::run(name, arguments, voice),
            (Some(bytes), _) => explain(name, &bytes.0, false, arguments.line.as_deref(), voice),
            (None, Some(text)) => explain(name, text.as_bytes(), true, arguments.line.as_deref(), voice),
            (None, None) => check(name, voice),
        };
        if found != Ending::Done {
            ending = found;
        }
    }
    ending
}

pub(crate) fn print(text: &str, voice: &Voice) -> Ending {
    match voice.print(text) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
            voice.fail(&format!("cannot write to standard output: {error}"));
            Ending::Failed
        }
        _ => Ending::Done,
    }
}

/// Problems first, then what was declared, then the verdict.
fn check(name: &str, voice: &Voice) -> Ending {
    let Some(Loaded { format, plan, text: source, .. }) = formats::load(name, voice) else { return Ending::Failed };
    let doubts = format.doubts();
    show_doubts(name, &source, &doubts, voice);
    let outcomes = plan.run_examples(&format);
    let failed: Vec<&ExampleOutcome> = outcomes.iter().filter(|outcome| !outcome.differences.is_empty()).collect();
    for outcome in &failed {
        show_failed(name, &source, &format, outcome, voice);
    }
    let text = heading(&format)
        + &layout(&format, &plan)
        + &several_frames::all(&format, &plan)
        + &verdict(&format, &plan, outcomes.len(), failed.len(), doubts.len());
    let printed = print(&text, voice);
    if failed.is_empty() {
        return printed;
    }
    voice.fail(&format!("{name}: examples that do not hold: {} of {}", failed.len(), outcomes.len()));
    Ending::Failed
}

fn heading(format: &Format) -> String {
    let mut text = Safe(&format.name).to_string();
    if let Some(title) = &format.title {
        text += &format!(": {}", Safe(title));
    }
    text.push('\n');
    if let Some(serial) = format.serial {
        text += &format!("serial line: {}\n", serial_text(serial));
    }
    text
}

fn serial_text(serial: Serial) -> String {
    let parity = match serial.parity {
        Parity::None => "no parity",
        Parity::Even => "even parity",
        Parity::Odd => "odd parity",
        Parity::Mark => "mark parity",
        Parity::Space => "space parity",
    };
    let stop = match serial.half_stop_bits {
        2 => "1 stop bit",
        3 => "1.5 stop bits",
        _ => "2 stop bits",
    };
    format!("{} bits per second, {} data bits, {parity}, {stop}", serial.baud, serial.data_bits)
}

/// One table for what a frame's records share, and one for each record.
fn layout(format: &Format, plan: &Plan) -> String {
    let mut text = String::new();
    let rows = plan.layout();
    let mut from = 0;
    while from < rows.len() {
        let same = |row: &LayoutRow| row.frame == rows[from].frame && row.record == rows[from].record;
        let to = from + rows[from..].iter().take_while(|row| same(row)).count();
        let frame = format.frames.iter().find(|frame| frame.name == rows[from].frame);
        let inside = frame.and_then(|frame| frame.inside.as_ref());
        let inside = inside.map(|inside| format!(", inside {}", inside.value)).unwrap_or_default();
        text += &match &rows[from].record {
            None => format!("\nframe {}{inside}\n", rows[from].frame),
            Some(record) => {
                let title = plan.schema().kind(record).and_then(|kind| kind.title.as_deref());
                let title = title.map(|title| format!(": {}", Safe(title))).unwrap_or_default();
                format!("\nrecord {record} (frame {}{inside}){title}\n", rows[from].frame)
            }
        };
        let cells = rows[from..to].iter().map(|row| {
            let indent = if row.group.is_some() { "  " } else { "" };
            [
                format!("{indent}{}", row.place),
                format!("{indent}{}", row.name),
                row.kind.clone(),
                Safe(&row.unit).to_string(),
                Safe(&row.notes).to_string(),
            ]
        });
        text += &table(["place", "name", "type", "unit", "notes"], cells);
        from = to;
    }
    text
}

/// A table whose columns are as wide as they have to be.
pub(crate) fn table<const N: usize>(head: [&str; N], cells: impl Iterator<Item = [String; N]>) -> String {
    let rows: Vec<[String; N]> = std::iter::once(head.map(str::to_owned)).chain(cells).collect();
    let widths: Vec<usize> =
        (0..N - 1).map(|column| rows.iter().map(|row| row[column].chars().count()).max().unwrap_or(0)).collect();
    let line = |row: &[String; N]| {
        let mut line = "  ".to_owned();
        for (cell, width) in row.iter().zip(&widths) {
            line += &format!("{cell:<width$}  ");
        }
        line += &row[N - 1];
        format!("{}\n", line.trim_end())
    };
    rows.iter().map(line).collect()
}

/// Says how an example does not hold, where it stands.
fn show_failed(path: &str, source: &str, format: &Format, outcome: &ExampleOutcome, voice: &Voice) {
    let example = &format.examples[outcome.example];
    let sent = |frame: &ExampleFrame| match frame.is_text {
        true => String::from_utf8_lossy(&frame.bytes).into_owned(),
        false => hex(&frame.bytes),
    };
    let sent: Vec<String> = example.frames.iter().map(sent).collect();
    let title = format!("example {} does not hold: {}", outcome.example + 1, sent.join(" | "));
    let mut differences = String::new();
    for difference in &outcome.differences {
        let field = if difference.field.is_empty() { "the frame" } else { &difference.field };
        let (expected, found) = (Safe(&difference.expected), Safe(&difference.found));
        differences += &format!("  {field}: should give {expected}, gives {found}\n");
    }
    let safe = same_length(source);
    let shown = Shown {
        what: "problem",
        path,
        line: outcome.line,
        column: outcome.column,
        title: &title,
        help: None,
        source: &safe,
        span: outcome.span.clone(),
    };
    let difference = |difference: &usus::example::Difference| serde_json::json!({"field": difference.field, "expected": difference.expected, "found": difference.found});
    let data = serde_json::json!({
        "problem": title, "file": path, "line": outcome.line, "column": outcome.column,
        "bytes": [outcome.span.start, outcome.span.end], "help": null, "example": outcome.example + 1,
        "differences": outcome.differences.iter().map(difference).collect::<Vec<_>>(),
    });
    voice.tell("error", &(shown.text() + &differences), data);
}

fn verdict(format: &Format, plan: &Plan, examples: usize, failed: usize, doubts: usize) -> String {
    let kinds = plan.schema().kinds.len() as u64;
    let fields: usize = plan.schema().kinds.iter().map(|kind| kind.fields.len()).sum();
    let held = match (examples, failed) {
        (0, _) => "not tried on any example".to_owned(),
        (1, 0) => "its example holds".to_owned(),
        (all, 0) => format!("all {all} examples hold"),
        (all, failed) => format!("{failed} of {all} examples do not hold"),
    };
    let judged = match (examples, failed, doubts) {
        (_, 1.., _) => "is not as its examples say",
        (0, ..) => "can be read, but nothing shows that it is right",
        (_, _, 1..) => "works, but some of it can hardly be meant (see above)",
        _ => "is sound",
    };
    let fields = plural(fields as u64, "field");
    format!("\n{} {judged}: {}, {fields}; {held}\n", Safe(&format.name), plural(kinds, "record"))
}

/// What one frame gives.
fn explain(name: &str, bytes: &[u8], is_text: bool, line: Option<&str>, voice: &Voice) -> Ending {
    let Some(Loaded { format, .. }) = formats::load(name, voice) else { return Ending::Failed };
    let is_known = |line: &&str| format.carries(line) || format.lines.iter().any(|known| known.role.value == **line);
    if let Some(unknown) = line.filter(|line| !is_known(line)) {
        voice.fail(&format!("the format speaks of no line {unknown}"));
        return Ending::WrongUsage;
    }
    // Where no line is told, it is the first one of which it makes sense.
    let lines: Vec<Option<&str>> = match line {
        None if format.lines.len() > 1 => format.lines.iter().map(|line| Some(line.role.value.as_str())).collect(),
        line => vec![line],
    };
    let is_sound = |piece: &Explained| piece.record.is_some() && piece.reason.is_empty();
    let mut text = String::new();
    for line in lines {
        let explained = match format.explain(line, bytes, is_text) {
            Ok(explained) => explained,
            Err(problems) => {
                voice.fail(&format!("{name}: {problems}"));
                return Ending::Failed;
            }
        };
        let told: String = explained.iter().map(explained_text).collect();
        if explained.iter().any(is_sound) {
            return print(&told, voice);
        }
        text += &told;
    }
    match print(&text, voice) {
        Ending::Done => Ending::NothingRecognised,
        printed => printed,
    }
}

fn explained_text(piece: &Explained) -> String {
    let mut text = match (&piece.record, piece.reason.as_str()) {
        (Some(record), "") => format!("record {record}"),
        (Some(record), reason) => format!("no record: {}\nwithout that, it would be the record {record}", Safe(reason)),
        (None, reason) => format!("no record: {}", Safe(reason)),
    };
    if let Some(inside) = &piece.inside {
        text = format!("inside {inside}: {text}");
    }
    let is_text = piece.bytes.iter().all(|byte| matches!(byte, b' '..=b'~' | b'\t' | b'\r' | b'\n'));
    let sent = if is_text { format!("\"{}\"", piece.bytes.escape_ascii()) } else { hex(&piece.bytes) };
    text += &format!("\n  {} from byte {}: {sent}\n", plural(piece.bytes.len() as u64, "byte"), piece.offset);
    if !piece.fields.is_empty() {
        let cells = piece.fields.iter().map(|field| {
            [
                field.place.clone(),
                field.name.clone(),
                Safe(&field.sent).to_string(),
                Safe(&field.value).to_string(),
                field.quality.to_owned(),
            ]
        });
        text += &table(["place", "name", "sent", "value", "quality"], cells);
    }
    for checksum in &piece.checksums {
        let sent = match checksum.sent {
            Some(sent) => format!("{} sent", checksum.shown(sent)),
            None => "none sent".to_owned(),
        };
        let holds = if checksum.holds() { "it holds" } else { "it does not hold" };
        text += &format!(
            "  checksum {}: {} computed, {sent}: {holds}\n",
            checksum.algorithm,
            checksum.shown(checksum.computed)
        );
    }
    text.push('\n');
    text
}
