//! `usus check`: a format's layout as a table, and its examples.

use usus::format::{Format, Parity, Serial};
use usus::{ExampleOutcome, LayoutRow, Plan};

use crate::Ending;
use crate::arguments::Check;
use crate::formats::{self, Loaded};
use crate::safe::{Safe, hex};
use crate::voice::Voice;

pub(crate) fn run(arguments: &Check, voice: &Voice) -> Ending {
    let Some(Loaded { format, plan }) = formats::load(&arguments.format, voice) else { return Ending::Failed };
    let outcomes = plan.run_examples(&format);
    let mut text = heading(&format);
    text += &layout(&plan);
    for outcome in outcomes.iter().filter(|outcome| !outcome.differences.is_empty()) {
        text += &differences(&format, outcome);
    }
    let failed = outcomes.iter().filter(|outcome| !outcome.differences.is_empty()).count();
    text += &verdict(&format, &plan, outcomes.len(), failed);
    match voice.print(&text) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
            voice.fail(&format!("cannot write to standard output: {error}"));
            Ending::Failed
        }
        _ if failed > 0 => Ending::Failed,
        _ => Ending::Done,
    }
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
fn layout(plan: &Plan) -> String {
    let mut text = String::new();
    let rows = plan.layout();
    let mut from = 0;
    while from < rows.len() {
        let same = |row: &LayoutRow| row.frame == rows[from].frame && row.record == rows[from].record;
        let to = from + rows[from..].iter().take_while(|row| same(row)).count();
        text += &match &rows[from].record {
            None => format!("\nframe {}\n", rows[from].frame),
            Some(record) => {
                let title = plan.schema().kind(record).and_then(|kind| kind.title.as_deref());
                let title = title.map(|title| format!(": {}", Safe(title))).unwrap_or_default();
                format!("\nrecord {record} (frame {}){title}\n", rows[from].frame)
            }
        };
        text += &table(&rows[from..to]);
        from = to;
    }
    text
}

fn table(rows: &[LayoutRow]) -> String {
    let head = ["place", "name", "type", "unit", "notes"].map(str::to_owned);
    let cells = rows.iter().map(|row| {
        let indent = if row.group.is_some() { "  " } else { "" };
        [
            format!("{indent}{}", row.place),
            format!("{indent}{}", row.name),
            row.kind.clone(),
            Safe(&row.unit).to_string(),
            Safe(&row.notes).to_string(),
        ]
    });
    let rows: Vec<[String; 5]> = std::iter::once(head).chain(cells).collect();
    let width = |column: usize| rows.iter().map(|row| row[column].chars().count()).max().unwrap_or(0);
    let widths = [width(0), width(1), width(2), width(3)];
    let line = |row: &[String; 5]| {
        let mut line = "  ".to_owned();
        for (cell, width) in row.iter().zip(widths) {
            line += &format!("{cell:<width$}  ");
        }
        line += &row[4];
        format!("{}\n", line.trim_end())
    };
    rows.iter().map(line).collect()
}

fn differences(format: &Format, outcome: &ExampleOutcome) -> String {
    let example = &format.examples[outcome.example];
    let shown = match example.is_text {
        true => Safe(&String::from_utf8_lossy(&example.bytes)).to_string(),
        false => hex(&example.bytes),
    };
    let mut text = format!("\nexample {} does not hold: {shown}\n", outcome.example + 1);
    for difference in &outcome.differences {
        let field = if difference.field.is_empty() { "the frame" } else { &difference.field };
        text += &format!("  {field}: should give {}, gives {}\n", Safe(&difference.expected), Safe(&difference.found));
    }
    text
}

fn verdict(format: &Format, plan: &Plan, examples: usize, failed: usize) -> String {
    let kinds = plan.schema().kinds.len();
    let fields: usize = plan.schema().kinds.iter().map(|kind| kind.fields.len()).sum();
    let held = match (examples, failed) {
        (0, _) => "there are no examples: put the datasheet's own frames into [[example]]".to_owned(),
        (1, 0) => "the example holds".to_owned(),
        (all, 0) => format!("all {all} examples hold"),
        (all, failed) => format!("{failed} of {all} examples do not hold"),
    };
    let count = |number: usize, noun: &str| format!("{number} {noun}{}", if number == 1 { "" } else { "s" });
    let sound = if failed == 0 { "sound" } else { "not as its examples say" };
    format!("\n{} is {sound}: {}, {}; {held}\n", Safe(&format.name), count(kinds, "record"), count(fields, "field"))
}
