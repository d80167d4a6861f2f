//! `usus demo`: simulate, convert, hold against the truth, in front of the user's eyes.

use std::collections::BTreeMap;
use std::fs;
use std::io::{self, BufWriter};
use std::path::Path;

use usus::{Cell, Decoder, Format, LineId, LineInside, Notice, Plan, Record, Reject, Sink, Time};
use usus_io::{
    CaptureLine, CaptureWriter, Destination, Existing, OutputError, OutputOptions, Outputs, TableOptions, open, pump,
};
use usus_sim::{Conversation, Device, Fact, Faults, Recording, Truth};

use crate::Ending;
use crate::arguments::{Demo, FaultChoice};
use crate::ledgers::Ledgers;
use crate::safe::Safe;
use crate::summary::{Summary, grouped, plural};
use crate::tally::Tally;
use crate::voice::Voice;

/// What marks a directory as made by this command, so that it may be made anew.
const MARK: &str = "made-by-usus-demo";

pub(crate) fn run(arguments: &Demo, voice: &Voice) -> Ending {
    match tell(arguments, voice) {
        Ok(ending) => ending,
        Err(text) => {
            voice.fail(&text);
            Ending::Failed
        }
    }
}

fn tell(arguments: &Demo, voice: &Voice) -> Result<Ending, String> {
    let directory = &arguments.out;
    begin(directory)?;
    let faults = match arguments.faults {
        FaultChoice::All => Faults::all(),
        FaultChoice::None => Faults::none(),
    };
    voice.say(&format!(
        "An aerial ropeway, {} seconds of {} of its serial lines{}.",
        arguments.seconds,
        Device::WITH_TRUTH.len() + 2,
        if faults == Faults::none() { "" } else { ", with a cut start, flipped bits, lost bytes and noise" }
    ));
    let mut agrees = true;
    for (index, device) in Device::WITH_TRUTH.into_iter().enumerate() {
        let recording = usus_sim::record(device, arguments.seed + index as u64, arguments.seconds, &faults);
        agrees &= show(directory, &recording, voice)?;
    }
    let talk = usus_sim::converse(arguments.seed, arguments.seconds, &faults);
    agrees &= show_conversation(directory, &talk, voice)?;
    voice.say(&format!("\nEverything is in {}:", directory.display()));
    voice.say("  lines/     what was received: raw bytes (.bin), the same as a capture with times (.pcapng), and the truth (.truth.jsonl)");
    voice.say("  formats/   the declarations");
    voice.say("  records/   the tables, one directory a line, and what was rejected");
    let example = directory.join("lines").join("rope-tension.bin");
    let format = directory.join("formats").join("rope-tension.toml");
    voice.say(&format!("Try: usus check {}", format.display()));
    voice.say(&format!("Try: usus convert {} --format {} --out tension", example.display(), format.display()));
    if !agrees {
        voice.fail("the records do not agree with the truth");
        return Ok(Ending::Failed);
    }
    Ok(Ending::Done)
}

/// Makes the directory, or empties one that an earlier demo made.
fn begin(directory: &Path) -> Result<(), String> {
    let mark = directory.join(MARK);
    let used = directory.read_dir().is_ok_and(|mut entries| entries.next().is_some());
    if used && !mark.exists() {
        return Err(format!(
            "{} exists and was not made by the demo; name another directory with --out",
            directory.display()
        ));
    }
    for part in ["lines", "formats", "records"] {
        let part = directory.join(part);
        if part.exists() {
            fs::remove_dir_all(&part).map_err(|error| format!("cannot empty {}: {error}", part.display()))?;
        }
        fs::create_dir_all(&part).map_err(|error| format!("cannot make {}: {error}", part.display()))?;
    }
    write(&mark, b"This directory is made anew by each run of the demo.\n")?;
    for device in Device::ALL {
        if let Some(text) = device.format() {
            let name = match device {
                Device::DoorQuestions | Device::DoorAnswers => "doors",
                other => other.name(),
            };
            write(&directory.join("formats").join(format!("{name}.toml")), text.as_bytes())?;
        }
    }
    Ok(())
}

fn write(path: &Path, bytes: &[u8]) -> Result<(), String> {
    fs::write(path, bytes).map_err(|error| format!("cannot write {}: {error}", path.display()))
}

/// Writes one line's files, converts its capture, and says what came of it. Returns whether that is the truth.
fn show(directory: &Path, recording: &Recording, voice: &Voice) -> Result<bool, String> {
    let name = recording.device.name();
    let lines = directory.join("lines");
    let truth: String = recording.truth.iter().map(|truth| truth.to_json() + "\n").collect();
    write(&lines.join(format!("{name}.bin")), &recording.bytes())?;
    write(&lines.join(format!("{name}.truth.jsonl")), truth.as_bytes())?;
    let capture = lines.join(format!("{name}.pcapng"));
    write_capture(&capture, recording).map_err(|error| format!("cannot write {}: {error}", capture.display()))?;

    hold_against(directory, name, recording.device, &capture, &recording.truth, voice)
}

/// Converts a capture, and says whether that is the truth.
fn hold_against(
    directory: &Path,
    name: &str,
    device: Device,
    capture: &Path,
    truth: &[Truth],
    voice: &Voice,
) -> Result<bool, String> {
    let plan = plan_of(device)?;
    let (ledgers, check) = convert(&plan, capture, &directory.join("records").join(name), voice)?;
    // What is only part of something else is told with that.
    let is_wanted = |truth: &&Truth| plan.schema().kind(truth.kind).is_some_and(|kind| kind.wanted);
    let truth: Vec<&Truth> = truth.iter().filter(is_wanted).collect();
    let verdict = check.verdict(&truth, &ledgers);
    voice.say(&format!("  {}", verdict.text));
    Ok(verdict.agrees)
}

/// The same of a conversation on two wires, which are two lines of one capture.
fn show_conversation(directory: &Path, talk: &Conversation, voice: &Voice) -> Result<bool, String> {
    let lines = directory.join("lines");
    let truth: String = talk.truth.iter().map(|truth| truth.to_json() + "\n").collect();
    write(&lines.join("doors.truth.jsonl"), truth.as_bytes())?;
    let capture = lines.join("doors.pcapng");
    let wires = [("question", &talk.questions), ("answer", &talk.answers)];
    write_capture_of(&capture, "doors", &wires)
        .map_err(|error| format!("cannot write {}: {error}", capture.display()))?;
    hold_against(directory, "doors", talk.questions.device, &capture, &talk.truth, voice)
}

fn write_capture(path: &Path, recording: &Recording) -> io::Result<()> {
    let name = recording.device.name();
    write_capture_of(path, name, &[(name, recording)])
}

/// Several lines in one capture, in the order of their times.
fn write_capture_of(path: &Path, stream: &str, lines: &[(&str, &Recording)]) -> io::Result<()> {
    let file = BufWriter::new(fs::File::create(path)?);
    let mut capture = CaptureWriter::new(file, stream)?;
    let mut chunks = Vec::new();
    for (name, recording) in lines {
        let serial = Some(recording.device.serial().to_owned());
        let line =
            capture.line(&CaptureLine { name: (*name).to_owned(), serial, base: 0, ..CaptureLine::default() })?;
        chunks.extend(recording.chunks.iter().map(|chunk| (chunk.time, line, chunk)));
    }
    chunks.sort_by_key(|(time, ..)| *time);
    for (time, line, chunk) in chunks {
        capture.chunk(line, Time::from_nanoseconds(time), &chunk.bytes, &[])?;
    }
    capture.finish().map(|_| ())
}

fn plan_of(device: Device) -> Result<Plan, String> {
    let text = device.format().ok_or("the demo has no format for this line")?;
    let plan = Format::parse(text).and_then(|format| format.compile());
    plan.map_err(|problems| format!("the demo's format is not sound: {problems}"))
}

fn convert(plan: &Plan, capture: &Path, out: &Path, voice: &Voice) -> Result<(Ledgers, Check), String> {
    let columns = TableOptions { received: true, line: true, ..TableOptions::default() };
    let rejects = Some(out.with_extension("rejects.jsonl"));
    let options = OutputOptions { columns, rejects, existing: Existing::Replace, ..OutputOptions::default() };
    let destination = Destination::Directory(out.to_owned());
    let text = |error: OutputError| error.to_string();
    let mut outputs = Outputs::open(plan, &destination, &options).map_err(text)?;
    let mut source = open(capture).map_err(|error| error.to_string())?;
    let name = capture.file_name().unwrap_or_default().to_string_lossy().into_owned();
    outputs.begin_source(&name, source.stream().unwrap_or(&name)).map_err(text)?;
    let mut decoder = Decoder::new(plan);
    let mut sink = Checked { tally: Tally::new(outputs), check: Check::default() };
    let pumped = pump(&mut *source, &mut decoder, &mut sink, &mut |_| true).map_err(|error| error.to_string())?;
    let ledgers = Ledgers::of(&decoder);
    let summary = Summary {
        source: &name,
        plan,
        ledgers: &ledgers,
        seen: &sink.tally.seen(),
        times: pumped.times,
        has_times: true,
        torn: source.torn(),
        stopped: false,
    };
    voice.tell("summary", &format!("\n{}", summary.said(voice)), summary.json());
    let check = sink.check;
    sink.tally.outputs.finish().map_err(text)?;
    Ok((ledgers, check))
}

/// Passes everything on to the tally, and keeps the records to hold them against the truth.
struct Checked {
    tally: Tally,
    check: Check,
}

impl Sink for Checked {
    type Error = OutputError;

    fn line(&mut self, line: LineId, name: &str) {
        self.tally.line(line, name);
    }

    fn line_inside(&mut self, inside: &LineInside<'_>) {
        self.tally.line_inside(inside);
    }

    fn record(&mut self, record: &Record<'_>) -> Result<(), OutputError> {
        self.check.add(record);
        self.tally.record(record)
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), OutputError> {
        self.tally.reject(reject)
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), OutputError> {
        self.tally.clipped(clipped)
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), OutputError> {
        self.tally.notice(notice)
    }
}

/// The records that came, by offset and kind.
#[derive(Default)]
struct Check {
    records: BTreeMap<(u64, String), Found>,
}

/// A record: its fields as texts.
struct Found {
    length: u64,
    fields: Vec<(String, Fact)>,
}

impl Found {
    /// Whether it is no question that got no answer.
    fn has_answer(&self) -> bool {
        !self.fields.iter().any(|(_, fact)| says_no_answer(fact))
    }

    fn says(&self, truth: &Truth) -> bool {
        // Of what did not arrive whole it is not known when it came; and a question whose answer was damaged may have got none.
        let has_answer = self.has_answer();
        let agrees = |name: &str, fact: &Fact, said: &Fact| {
            let may_differ = name == "latency" || (!has_answer && (says_no_answer(fact) || *fact == Fact::from("")));
            fact == said || (truth.offset.is_none() && may_differ)
        };
        let mut fields = self.fields.iter().zip(&truth.fields);
        self.fields.len() == truth.fields.len()
            && fields.all(|((name, fact), (known, said))| name == known && agrees(name, fact, said))
    }
}

fn says_no_answer(fact: &Fact) -> bool {
    ["disturbed", "checksum_error", "no_answer"].into_iter().any(|outcome| Fact::from(outcome) == *fact)
}

struct Verdict {
    agrees: bool,
    text: String,
}

impl Verdict {
    fn differs(how: String) -> Verdict {
        Verdict { agrees: false, text: format!("NOT the truth: {how}") }
    }
}

impl Check {
    fn add(&mut self, record: &Record<'_>) {
        let fields = record.fields().map(|(schema, cell)| (schema.name.clone(), fact(cell)));
        let length = record.frame().len() as u64;
        let key = (record.offset(), record.kind().to_owned());
        self.records.insert(key, Found { length, fields: fields.collect() });
    }

    /// Holds the records against what the device said: each message that arrived whole must be there with all its values, and nothing
    /// may be there that the device did not say.
    ///
    /// Chance can make a damaged frame sound, by a byte that is the lost one's like, and let it take bytes of the next: that one is
    /// then covered by a frame whose own checksum holds.
    fn verdict(&self, truth: &[&Truth], ledgers: &Ledgers) -> Verdict {
        let key = |truth: &Truth| Some((truth.offset?, truth.kind.to_owned()));
        let whole: BTreeMap<_, &Truth> = truth.iter().filter_map(|truth| Some((key(truth)?, *truth))).collect();
        let (mut covered, mut sound, mut unanswered, mut unprotected) = (0, 0, 0, 0);
        for (key @ (offset, _), truth) in &whole {
            match self.records.get(key) {
                Some(found) if found.says(truth) => {}
                None if self.covers(*offset, truth.length) => covered += 1,
                _ => {
                    let said = truth.to_json();
                    return Verdict::differs(format!("the device's {} at {offset} said {}", truth.kind, Safe(&said)));
                }
            }
        }
        for ((offset, kind), found) in self.records.iter().filter(|(key, _)| !whole.contains_key(key)) {
            let damaged = || truth.iter().filter(|truth| truth.offset.is_none() && truth.kind == *kind);
            if damaged().any(|truth| found.says(truth)) {
                match found.has_answer() {
                    true => sound += 1,
                    false => unanswered += 1,
                }
            } else if damaged().any(|truth| !truth.protected) {
                unprotected += 1;
            } else {
                return Verdict::differs(format!("there is a record at {offset} that the device did not send"));
            }
        }
        if !ledgers.balance() {
            return Verdict::differs("the account of the bytes does not balance".to_owned());
        }
        let damaged = (truth.len() - whole.len()) as u64;
        let mut text = format!(
            "agrees with the truth: {} arrived whole, and all are there with all their values; ",
            plural(whole.len() as u64, "message")
        );
        text += &if damaged == 1 {
            "1 arrived damaged".to_owned()
        } else {
            format!("{} arrived damaged", grouped(damaged))
        };
        text += &match (damaged, sound + unanswered + unprotected) {
            (1, 0) => ", and it is not among the records".to_owned(),
            (_, 0) => ", and none of them is among the records".to_owned(),
            (_, found) => {
                let mut parts = Vec::new();
                parts.extend((damaged > found).then(|| format!("{} not among the records", damaged - found)));
                parts.extend((sound > 0).then(|| format!("{sound} there with all that was sent")));
                parts.extend((unanswered > 0).then(|| format!("{unanswered} there as questions without an answer")));
                parts.extend(
                    (unprotected > 0)
                        .then(|| format!("{unprotected} not to be told from sound ones, without a checksum")),
                );
                format!(": {}", parts.join(", "))
            }
        };
        if covered > 0 {
            text += &format!(" (sound by chance, they cover {covered} others)");
        }
        Verdict { agrees: true, text }
    }

    /// Whether a record overlaps those bytes.
    fn covers(&self, offset: u64, length: u64) -> bool {
        let from = |offset: u64| (offset, String::new());
        let before = self.records.range(..from(offset)).next_back();
        let behind = self.records.range(from(offset + 1)..from(offset + length)).next();
        before.is_some_and(|((start, _), found)| start + found.length > offset) || behind.is_some()
    }
}

/// What a field says, as the truth says it.
fn fact(cell: Cell<'_>) -> Fact {
    let item = |item: usus::Item<'_>| item.fields().map(|(schema, cell)| (schema.name.clone(), fact(cell))).collect();
    match cell {
        Cell::Reading(reading) => Fact::Text(reading.value.to_string()),
        Cell::Group(items) => Fact::Items(items.map(item).collect()),
        _ => Fact::Text(String::new()),
    }
}
