//! Records of several frames against encoders that know what was sent: reports, conversations, lists and merges, damaged, cut anywhere, interleaved,
//! with times and without. What was not damaged is found, exactly, and nothing is made of pieces that do not belong together.

use std::convert::Infallible;
use std::fmt::Write;

use fastrand::Rng;
use usus::{
    Chunk, Decoder, Event, FieldSchema, Format, Items, Ledger, Loss, Notice, Plan, Reading, Record, Reject, Sink, Time,
    fast::Visit,
};

use crate::drive::render;

/// How many of each are tried: more where it is asked for.
fn tries() -> u64 {
    std::env::var("CONVERSATIONS").ok().and_then(|tries| tries.parse().ok()).unwrap_or(2_500)
}

fn plan(text: &str) -> Plan {
    Format::parse(text).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems}\n{text}"))
}

/// A line that is sent, or bytes that are lost.
#[derive(Clone, Debug)]
struct Sent {
    role: &'static str,
    /// Milliseconds since the one before.
    after: i64,
    text: Option<String>,
}

impl Sent {
    fn line(role: &'static str, after: i64, text: String) -> Sent {
        Sent { role, after, text: Some(text) }
    }
}

/// Everything that is told, as text; and the records alone.
#[derive(Default)]
struct Told {
    all: Vec<String>,
    records: Vec<String>,
}

impl Sink for Told {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        let event = Event::Record(*record);
        let shown = render(&event);
        // What stands behind the place.
        self.records.push(shown.split_once(' ').unwrap().1.to_owned());
        assert_eq!(record.ranges().len(), record.ranges().count());
        let (mut visited, mut fields) = (Visited::default(), Visited::default());
        record.visit(&mut visited);
        for (schema, cell) in record.fields() {
            match cell {
                usus::Cell::Reading(reading) => fields.reading(schema, reading),
                usus::Cell::Group(items) => fields.group(schema, items),
                _ => {}
            }
        }
        assert_eq!(visited.0, fields.0);
        self.all.push(shown);
        Ok(())
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), Infallible> {
        let frames: u64 = reject.frames.iter().map(|(_, length)| length).sum();
        assert!(reject.frames.is_empty() || frames == reject.bytes.len() as u64, "{reject:?}");
        self.all.push(render(&Event::Reject(*reject)));
        Ok(())
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), Infallible> {
        self.all.push(render(&Event::Clipped(*clipped)));
        Ok(())
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), Infallible> {
        self.all.push(render(&Event::Notice(*notice)));
        Ok(())
    }
}

/// What is shown of a record.
#[derive(Default)]
struct Visited(String);

impl Visit for Visited {
    fn reading(&mut self, schema: &FieldSchema, reading: Reading<'_>) {
        write!(self.0, "{}={reading:?} ", schema.name).unwrap();
    }

    fn group(&mut self, schema: &FieldSchema, items: Items<'_>) {
        write!(self.0, "{}:{} ", schema.name, items.len()).unwrap();
        items.visit(self);
    }
}

/// What a decoder makes of lines: fed whole or in pieces, pushed or pulled, with their times or without, told the time between or not.
fn run(plan: &Plan, sent: &[Sent], timed: bool, piece: usize, pull: bool, live: bool) -> (Told, Vec<Ledger>) {
    let mut decoder = Decoder::new(plan);
    let mut roles: Vec<&str> = plan.roles().collect();
    if roles.is_empty() {
        roles.push("");
    }
    let lines: Vec<_> = roles.iter().map(|role| decoder.line(role, 0).unwrap()).collect();
    let (mut told, mut now) = (Told::default(), 0);
    for Sent { role, after, text } in sent {
        let line = lines[roles.iter().position(|known| known == role).unwrap()];
        now += after;
        let time = timed.then(|| Time::from_nanoseconds(now * 1_000_000));
        // On a live line the time goes on while nothing arrives.
        while let (true, Some(until), Some(deadline)) = (live, time, decoder.next_deadline())
            && deadline < until
        {
            let Ok(()) = decoder.tick(deadline).drain(&mut told);
            let after = decoder.next_deadline();
            assert!(after.is_none_or(|after| after > deadline), "{deadline} brought nothing further: {after:?}");
        }
        let Some(text) = text else {
            let Ok(()) = decoder.loss(line, Loss::Gap, time).drain(&mut told);
            continue;
        };
        for bytes in text.as_bytes().chunks(piece) {
            let chunk = Chunk { time, ..Chunk::new(line, bytes) };
            if pull {
                let mut events = decoder.feed(chunk);
                while let Some(event) = events.next() {
                    let Ok(()) = told.event(event);
                }
            } else {
                let Ok(()) = decoder.decode(chunk, &mut told);
            }
            for line in &lines {
                assert!(decoder.ledger(*line).balances(), "{:?}", decoder.ledger(*line));
            }
        }
    }
    let Ok(()) = decoder.finish().drain(&mut told);
    let ledgers: Vec<Ledger> = lines.iter().map(|line| decoder.ledger(*line)).collect();
    assert!(ledgers.iter().all(|ledger| ledger.pending == 0 && ledger.balances()), "{ledgers:?}");
    (told, ledgers)
}

/// What is told, which is the same however it is fed and asked; every fifth is tried in all ways.
fn told(plan: &Plan, sent: &[Sent], timed: bool, seed: u64) -> Told {
    let whole = run(plan, sent, timed, usize::MAX, false, false);
    if seed.is_multiple_of(5) {
        for (piece, pull, live) in
            [(1, false, false), (3, true, true), (usize::MAX, true, false), (usize::MAX, false, true)]
        {
            let other = run(plan, sent, timed, piece, pull, live);
            assert_eq!(other.0.all, whole.0.all, "pieces of {piece}, pulled: {pull}, live: {live}");
            assert_eq!(other.1, whole.1, "pieces of {piece}, pulled: {pull}, live: {live}");
        }
    }
    whole.0
}

/// Compares what was found with what is known, as if in any order: it goes out when it is whole.
fn compare(mut found: Vec<String>, mut known: Vec<String>, told: &Told, sent: &[Sent], seed: u64) {
    found.sort();
    known.sort();
    let lines = |lines: &[String]| lines.join("\n  ");
    assert!(
        found == known,
        "seed {seed}\nfound\n  {}\nknown\n  {}\ntold\n  {}\nsent\n{}",
        lines(&found),
        lines(&known),
        lines(&told.all),
        sent.iter().map(|sent| format!("  {sent:?}\n")).collect::<String>()
    );
}

/// Changes a line so that it is none of the format's.
fn garbled(text: &str, rng: &mut Rng) -> String {
    let mut bytes = text.trim_end().replace(' ', "_").into_bytes();
    bytes[0] = b'~';
    let at = rng.usize(0..bytes.len());
    bytes[at] = b'~';
    String::from_utf8(bytes).unwrap() + "\n"
}

const REPORTS: &str = r#"
    format = "reports"
    [[frame]]
    cut = "text"
    [record.reading]
    printed = "now {now}"
    fields = [ { name = "now", type = "number" } ]
    [record.report]
    within = "2 s"
    require = "count(tests) == total and sum(tests.force) == together"
    [[record.report.part]]
    printed = "TEST {run}"
    fields = [ { name = "run", type = "number" } ]
    [[record.report.part]]
    repeat = "optional"
    printed = "by {operator}"
    fields = [ { name = "operator" } ]
    [[record.report.part]]
    name = "tests"
    repeat = "any"
    printed = "brake {number}: {force}"
    fields = [ { name = "number", type = "number" }, { name = "force", type = "number" } ]
    [[record.report.part]]
    printed = "TOTAL {total}, {together}"
    fields = [ { name = "total", type = "number", internal = true }, { name = "together", type = "number", internal = true } ]
"#;

#[test]
fn reports_are_found_whole_or_not_at_all() {
    let plan = plan(REPORTS);
    for seed in 0..tries() {
        let mut rng = Rng::with_seed(seed);
        let timed = rng.bool();
        let (mut sent, mut known): (Vec<Sent>, Vec<String>) = (Vec::new(), Vec::new());
        for run in 0..rng.usize(1..7) {
            let operator = rng.bool().then_some("gitte");
            let forces: Vec<u32> = (0..rng.usize(1..6)).map(|_| rng.u32(1..1_000)).collect();
            let mut lines = vec![format!("TEST {run}\n")];
            lines.extend(operator.map(|operator| format!("by {operator}\n")));
            lines.extend(forces.iter().enumerate().map(|(number, force)| format!("brake {number}: {force}\n")));
            lines.push(format!("TOTAL {}, {}\n", forces.len(), forces.iter().sum::<u32>()));
            let rows = forces.iter().enumerate().map(|(number, force)| format!("[number={number} force={force}]"));
            let operator = operator.map_or("<notsent>".to_owned(), |operator| format!("{operator:?}"));
            let whole = format!("report run={run} operator={operator} tests={}", rows.collect::<String>());
            let mut unit: Vec<Sent> = lines.into_iter().map(|line| Sent::line("", rng.i64(0..100), line)).collect();
            let at = rng.usize(0..unit.len());
            let without_operator = |whole: &str| whole.replace(&operator, "<notsent>");
            let has_operator = operator != "<notsent>";
            let found = match rng.u32(0..14) {
                0 => {
                    unit[at].text = unit[at].text.take().map(|text| garbled(&text, &mut rng));
                    None
                }
                1 => {
                    unit.remove(at);
                    // An operator may be missing.
                    (has_operator && at == 1).then(|| without_operator(&whole))
                }
                2 => {
                    let first = unit[0].clone();
                    unit.insert(at, first);
                    match at {
                        0 | 1 => Some(whole),
                        2 => has_operator.then(|| without_operator(&whole)),
                        _ => None,
                    }
                }
                3 => {
                    unit.insert(at, Sent { role: "", after: 0, text: None });
                    (at == 0).then_some(whole)
                }
                4 => {
                    unit[at].after = 3_000;
                    (at == 0 || !timed).then_some(whole)
                }
                5 => {
                    unit.insert(at, Sent::line("", 0, "nobody knows this\n".to_owned()));
                    (at == 0).then_some(whole)
                }
                6 => {
                    let row = unit[unit.len() - 2].clone();
                    unit.insert(unit.len() - 1, row);
                    None
                }
                _ => Some(whole),
            };
            known.extend(found);
            for line in unit {
                if rng.u32(0..6) == 0 {
                    let now = rng.u32(..);
                    sent.push(Sent::line("", 0, format!("now {now}\n")));
                    known.push(format!("reading now={now}"));
                }
                sent.push(line);
            }
        }
        // A recording begins and ends anywhere: what is cut is the first or the last.
        let told = told(&plan, &sent, timed, seed);
        // The line behind a loss may have begun before it, and is not taken.
        let mut behind_loss = Vec::new();
        for pair in sent.windows(2) {
            if let ([Sent { text: None, .. }, Sent { text: Some(text), .. }], true) = (pair, true) {
                behind_loss.push(text.trim_end().to_owned());
            }
        }
        known.retain(|known| {
            let lost = |line: &String| match (known.strip_prefix("reading now="), known.strip_prefix("report run=")) {
                (Some(now), _) => *line == format!("now {now}"),
                (_, Some(report)) => *line == format!("TEST {}", report.split(' ').next().unwrap()),
                _ => false,
            };
            !behind_loss.iter().any(lost)
        });
        compare(told.records.clone(), known, &told, &sent, seed);
        cut_anywhere(&plan, &sent, &told, timed, &mut rng);
    }
}

/// Of a part of what was sent, nothing comes that does not come of the whole; and all of it that lies within.
fn cut_anywhere(plan: &Plan, sent: &[Sent], whole: &Told, timed: bool, rng: &mut Rng) {
    if sent.is_empty() {
        return;
    }
    let (from, to) = (rng.usize(0..sent.len()), rng.usize(0..=sent.len()));
    let (from, to) = (from.min(to), from.max(to));
    let mut part = sent[from..to].to_vec();
    if let Some(Sent { text: Some(first), .. }) = part.first_mut() {
        *first = first[rng.usize(0..first.len())..].to_owned();
    }
    if let Some(Sent { text: Some(last), .. }) = part.last_mut() {
        last.truncate(rng.usize(0..=last.len()));
    }
    let of_part = told(plan, &part, timed, 1);
    for record in &of_part.records {
        assert!(whole.records.contains(record), "{record} of {part:#?}\nwhole {:#?}", whole.records);
    }
}

/// Questions and answers on one wire, or each on its own.
fn talk(two: bool, key: bool, echo: bool) -> String {
    let lines = if two { "[line.request]\n[line.answer]" } else { "" };
    let frames = match two {
        true => {
            "[[frame]]\nname = 'q'\non = 'request'\ncut = 'text'\nheader = [ { name = 'mark', chars = '1', internal = true }, { name = 'unit', chars = '2' } ]\n\
             [[frame]]\nname = 'a'\non = 'answer'\ncut = 'text'\nheader = [ { name = 'mark', chars = '1', internal = true }, { name = 'unit', chars = '2' } ]"
        }
        false => {
            "[[frame]]\nname = 'q'\ncut = 'text'\nheader = [ { name = 'mark', chars = '1', internal = true }, { name = 'unit', chars = '2' } ]"
        }
    };
    let answer = if two { "a" } else { "q" };
    let unit = if key { "key = ['unit']" } else { "" };
    let echo = if echo { "echo = true" } else { "" };
    let mut text = format!(
        "format = 'talk'\n{lines}\n{frames}\n[exchange.poll]\nwithin = '300 ms'\n{unit}\n{echo}\n[exchange.poll.ask]\nframe = 'q'\nwhen = \"mark == '?'\"\n\
         fields = [ {{ name = 'command', chars = '3' }} ]\n"
    );
    // Without a key the unit of the answer would stand beside that of the question.
    for (when, field) in [
        ("mark == '=' and ask.command == 'T'", "{ name = 'temperature', column = 2, type = 'number' }"),
        ("mark == '=' and ask.command == 'S'", "{ name = 'state', column = 2 }"),
    ] {
        write!(text, "[[exchange.poll.answers]]\nframe = '{answer}'\nwhen = \"{when}\"\nfields = [ {field} ]\n")
            .unwrap();
    }
    write!(
        text,
        "[[exchange.poll.errors]]\nframe = '{answer}'\nwhen = \"mark == '!'\"\nfields = [ {{ name = 'error', column = 2, type = 'number' }} ]\n"
    )
    .unwrap();
    text
}

#[test]
fn conversations_are_told_as_they_were_held() {
    for seed in 0..tries() {
        let mut rng = Rng::with_seed(seed);
        let (two, echo, timed) = (rng.bool(), rng.bool(), rng.bool());
        let echo = echo && !two;
        let plan = plan(&talk(two, true, echo));
        let (asking, answering) = if two { ("request", "answer") } else { ("", "") };
        let (mut sent, mut known): (Vec<Sent>, Vec<String>) = (Vec::new(), Vec::new());
        // A question without an answer leaves the next one of its unit open to be mistaken; so the same is not asked again at once.
        let (mut last_unit, mut last_open) = (0, false);
        let count = rng.u32(1..12);
        for number in 0..count {
            let unit = if last_open { (last_unit + 1) % 3 } else { rng.u32(0..3) };
            let command = rng.choice(["T", "S"]).unwrap();
            let question = format!("?{unit}{command}\n");
            let latency = rng.i64(1..200);
            let (answer, read) = match (rng.u32(0..6), command) {
                (0, _) => (format!("!{unit},{number}\n"), "error"),
                (_, "T") => (format!("={unit},{number}\n"), "temperature"),
                _ => (format!("={unit},{number}\n"), "state"),
            };
            let told = |outcome: &str, latency: Option<i64>, says: bool| {
                let value = |field: &str| match (says && field == read, field) {
                    (false, _) => "<notsent>".to_owned(),
                    (true, "state") => format!("{:?}", number.to_string()),
                    (true, _) => number.to_string(),
                };
                let latency =
                    latency.filter(|_| timed).map_or("<notsent>".to_owned(), |latency| format!("{latency}.000"));
                format!(
                    "poll unit={:?} command={command:?} temperature={} state={} error={} outcome={outcome:?} latency={latency} retry=<notsent>",
                    unit.to_string(),
                    value("temperature"),
                    value("state"),
                    value("error"),
                )
            };
            let outcome = if read == "error" { "error" } else { "answered" };
            sent.push(Sent::line(asking, rng.i64(1..50), question.clone()));
            let spent = i64::from(echo && rng.bool());
            if spent > 0 {
                sent.push(Sent::line(asking, spent, question.clone()));
            }
            let answered = Sent::line(answering, latency, answer.clone());
            let mut open = false;
            match rng.u32(0..16) {
                // No answer.
                0 => {
                    known.push(told("no_answer", None, false));
                    open = true;
                }
                // Too late.
                1 if timed => {
                    sent.push(Sent { after: 400, ..answered });
                    known.push(told("no_answer", None, false));
                }
                // The answer is damaged.
                2 => {
                    sent.push(Sent { text: Some(garbled(&answer, &mut rng)), ..answered });
                    known.push(told("disturbed", None, false));
                    open = true;
                }
                // The question is damaged.
                3 => {
                    if let Some(last) = sent.last_mut() {
                        last.text = Some(format!("~{}", &question[1..]));
                    }
                    sent.push(answered);
                    // What is left of it and its echo is a question, and the other may have been another one.
                    known.extend((spent > 0).then(|| told("disturbed", None, false)));
                }
                // Two answers.
                4 => {
                    sent.push(answered.clone());
                    sent.push(answered);
                    known.push(told(outcome, Some(latency + spent), true));
                }
                // Answers of another unit, which nobody asked, before the right one.
                5 => {
                    sent.push(Sent::line(answering, 0, format!("={},9\n", unit + 5)));
                    sent.push(answered);
                    known.push(told(outcome, Some(latency + spent), true));
                }
                // Bytes are missing before the answer.
                6 => {
                    sent.push(Sent { role: answering, after: 0, text: None });
                    sent.push(Sent::line(answering, 0, "\n".to_owned()));
                    sent.push(Sent::line(answering, 0, "#\n".to_owned()));
                    sent.push(answered);
                }
                _ => {
                    sent.push(answered);
                    known.push(told(outcome, Some(latency + spent), true));
                }
            }
            (last_unit, last_open) = (unit, open);
        }
        // A last question closes the one before it, and stays open.
        sent.push(Sent::line(asking, if timed { 1_000 } else { 0 }, "?9T\n".to_owned()));
        let told = told(&plan, &sent, timed, seed);
        // What was damaged behind a question without an answer may have been that.
        let as_known = |record: String| {
            let (front, _) = record.rsplit_once(" retry=").unwrap();
            format!("{} retry=<notsent>", front.replace("disturbed", "no_answer"))
        };
        let found = told.records.iter().cloned().map(as_known).collect();
        let known = known.into_iter().map(as_known).collect();
        compare(found, known, &told, &sent, seed);
    }
}

/// Parts that number themselves, with an identity of their list or without.
fn lists(key: bool) -> String {
    let key = if key { "key = ['talker', 'list']\nunique = true" } else { "key = ['talker']" };
    format!(
        "format = 'lists'\n[[frame]]\ncut = 'text'\n[record.line]\nprinted = 'L {{talker}} {{list}} {{number}}/{{of}} {{values}}'\n\
         fields = [ {{ name = 'talker' }}, {{ name = 'list', type = 'number' }}, {{ name = 'number', type = 'number' }}, {{ name = 'of', type = 'number' }}, {{ name = 'values' }} ]\n\
         [multipart.whole]\nof = 'line'\npart = 'number'\nparts = 'of'\njoin = ['values']\nwithin = '2 s'\n{key}\n"
    )
}

#[test]
fn lists_are_found_whole_or_not_at_all() {
    for seed in 0..tries() {
        let mut rng = Rng::with_seed(seed);
        let (key, timed) = (rng.bool(), rng.bool());
        let plan = plan(&lists(key));
        let mut known: Vec<String> = Vec::new();
        // Each talker says its lists one behind the other.
        let mut talkers: Vec<Vec<Sent>> = Vec::new();
        // Without an identity, so much damage of another may be that of a list's own parts.
        let several = if key { rng.usize(1..3) } else { 1 };
        for talker in ["a", "b"].into_iter().take(several) {
            let mut lines = Vec::new();
            for list in 0..rng.usize(1..5) {
                let of = rng.usize(1..5);
                let texts: Vec<String> = (1..=of).map(|number| format!("{talker}{list}-{number};")).collect();
                let line = |(index, text): (usize, &String)| format!("L {talker} {list} {}/{of} {text}\n", index + 1);
                let mut unit: Vec<Sent> =
                    texts.iter().enumerate().map(line).map(|text| Sent::line("", rng.i64(0..20), text)).collect();
                let at = rng.usize(0..unit.len());
                let is_whole = match rng.u32(0..10) {
                    0 => {
                        unit[at].text = unit[at].text.take().map(|text| garbled(&text, &mut rng));
                        false
                    }
                    // Without an identity nobody could tell.
                    1 if key => {
                        unit.truncate(at);
                        false
                    }
                    2 if key && at + 1 < unit.len() => {
                        unit.swap(at, at + 1);
                        false
                    }
                    // Those of another talker would wait meanwhile.
                    3 if several == 1 => {
                        unit[at].after = 3_000;
                        at == 0 || !timed
                    }
                    4 => {
                        unit.insert(at, Sent::line("", 0, "?\n".to_owned()));
                        true
                    }
                    _ => true,
                };
                if is_whole {
                    known.push(format!("whole talker={talker:?} list={list} values={:?}", texts.concat()));
                }
                lines.extend(unit);
            }
            talkers.push(lines);
        }
        let mut sent = Vec::new();
        let mut rest: Vec<_> = talkers.into_iter().map(|lines| lines.into_iter().peekable()).collect();
        while rest.iter_mut().any(|lines| lines.peek().is_some()) {
            let turn = rng.usize(0..rest.len());
            sent.extend(rest[turn].next());
        }
        let told = told(&plan, &sent, timed, seed);
        compare(told.records.clone(), known, &told, &sent, seed);
        cut_anywhere(&plan, &sent, &told, timed, &mut rng);
    }
}

const INSTANTS: &str = r#"
    format = "instants"
    [line.mast]
    [line.hut]
    [[frame]]
    name = "m"
    on = "mast"
    cut = "text"
    header = [ { name = "what", column = 1, internal = true }, { name = "time", type = "clock", layout = "hhmmss" } ]
    [[frame]]
    name = "h"
    on = "hut"
    cut = "text"
    header = [ { name = "what", column = 1, internal = true }, { name = "time", type = "clock", layout = "hhmmss" } ]
    [record.wind]
    frame = "m"
    when = "what == 'W'"
    fields = [ { name = "wind", type = "number" } ]
    [record.place]
    frame = "m"
    when = "what == 'P'"
    fields = [ { name = "place", type = "number" } ]
    [record.load]
    frame = "h"
    when = "what == 'L'"
    fields = [ { name = "load", type = "number" } ]
    [merge.state]
    of = ["wind", "place", "load"]
    key = ["time"]
    complete = "wind and load"
    within = "900 ms"
"#;

#[test]
fn instants_are_merged_as_they_were() {
    let plan = plan(INSTANTS);
    for seed in 0..tries() {
        let mut rng = Rng::with_seed(seed);
        let timed = rng.bool();
        let (mut sent, mut known): (Vec<Sent>, Vec<String>) = (Vec::new(), Vec::new());
        for second in 0..rng.u32(1..10) {
            let places = ["", ".0", ".00"];
            let mut lines = Vec::new();
            let mut values = ["<notsent>".to_owned(), "<notsent>".to_owned(), "<notsent>".to_owned()];
            for (index, (role, what)) in [("mast", "W"), ("mast", "P"), ("hut", "L")].into_iter().enumerate() {
                let (value, digits) = (rng.u32(0..1_000), rng.choice(places).unwrap());
                let line = format!("{what},1000{second:02}{digits},{value}\n");
                match rng.u32(0..12) {
                    0 => {}
                    1 => lines.push((index, Sent::line(role, 0, format!("~{line}").replace(",1000", "~")))),
                    _ => {
                        values[index] = value.to_string();
                        lines.push((index, Sent::line(role, rng.i64(0..200), line)));
                    }
                }
            }
            rng.shuffle(&mut lines);
            let first = lines.iter().find(|(index, _)| values[*index] != "<notsent>");
            let digits = first.and_then(|(_, sent)| Some(sent.text.as_ref()?.split(',').nth(1)?[6..].to_owned()));
            let [wind, place, load] = &values;
            if wind != "<notsent>" && load != "<notsent>" {
                // The time is that of the first of its kinds, as it was sent.
                let of_wind = lines.iter().find(|(index, _)| *index == 0).unwrap();
                let own = of_wind.1.text.as_ref().unwrap().split(',').nth(1).unwrap()[6..].to_owned();
                let _ = digits;
                known.push(format!("time=10:00:{second:02}{own} wind={wind} place={place} load={load}"));
            }
            sent.extend(lines.into_iter().map(|(_, sent)| sent));
            sent.last_mut().into_iter().for_each(|last| last.after += 1);
            sent.push(Sent::line("hut", rng.i64(0..50), format!("?{}\n", "x".repeat(rng.usize(0..9)))));
        }
        // One more instant closes the one before it.
        let after = if timed { 2_000 } else { 0 };
        sent.push(Sent::line("mast", after, "W,110000,1\n".to_owned()));
        sent.push(Sent::line("hut", 1, "?\n".to_owned()));
        let told = told(&plan, &sent, timed, seed);
        // On which line it began is told before it.
        let found = told.records.iter().map(|record| record[record.find("time=").unwrap()..].to_owned()).collect();
        compare(found, known, &told, &sent, seed);
    }
}
