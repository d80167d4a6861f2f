//! `usus check FORMAT --against SOURCE`: a declaration held against what was recorded, in words or as JSON.

use std::sync::atomic::Ordering;

use serde_json::{Value, json};
use usus::against::{Against, FieldSeen, Findings, FrameSeen, KindSeen, Odd, Proposal, RejectSeen, Wrong};
use usus::{Chunk, Format, LineId};
use usus_io::{Source, SourceEvent};

use crate::Ending;
use crate::arguments::Check;
use crate::check::{print, table};
use crate::formats::{self, Loaded};
use crate::safe::{Safe, hex};
use crate::source::open_source;
use crate::stop::stop_flag;
use crate::summary::{grouped, plural};
use crate::voice::Voice;

pub(crate) fn run(name: &str, arguments: &Check, voice: &Voice) -> Ending {
    let Some(Loaded { format, .. }) = formats::load(name, voice) else { return Ending::Failed };
    let against = arguments.against.as_deref().unwrap_or_default();
    let opened = match open_source(against, &arguments.opening, format.serial) {
        Ok(opened) => opened,
        Err(text) => {
            voice.fail(&text);
            return Ending::Failed;
        }
    };
    let source_name = opened.name.clone();
    let mut source = opened.into_source();
    let held = match hold(&format, arguments.line.as_deref(), &mut *source, voice) {
        Ok(against) => against,
        Err(text) => {
            voice.fail(&text);
            return Ending::Failed;
        }
    };
    let findings = held.finish();
    if findings.ledger.total == 0 {
        voice.fail(&format!("{}: no bytes came", Safe(&source_name)));
        return Ending::NoBytes;
    }
    let text = match arguments.json {
        true => format!("{}\n", as_json(&format, &source_name, &findings)),
        false => in_words(&format, &source_name, &findings),
    };
    print(&text, voice)
}

/// Feeds all that comes from a source.
fn hold(format: &Format, role: Option<&str>, source: &mut dyn Source, voice: &Voice) -> Result<Against, String> {
    let mut against = format.against().map_err(|problems| problems.to_string())?;
    let stop = stop_flag(voice);
    let mut lines: Vec<LineId> = Vec::new();
    while !stop.load(Ordering::Relaxed) {
        match source.next().map_err(|error| error.to_string())? {
            None => break,
            Some(SourceEvent::Line(info)) => {
                let role = if info.name.is_empty() { role.unwrap_or_default() } else { &info.name };
                let Some(line) = against.line(role, info.start) else {
                    let roles = against.roles().collect::<Vec<_>>().join(", ");
                    let line =
                        if role.is_empty() { "a line without a name".to_owned() } else { format!("the line {role}") };
                    return Err(format!("{line}: the format speaks of {roles}; --line says which one it is"));
                };
                lines.push(line);
            }
            Some(SourceEvent::Chunk { line, time, bytes, faults }) => {
                if let Some(line) = lines.get(line).copied() {
                    against.feed(Chunk { line, time, bytes, faults });
                }
            }
            Some(SourceEvent::Loss { line, why, time }) => {
                if let Some(line) = lines.get(line).copied() {
                    against.loss(line, why, time);
                }
            }
            Some(_) => {}
        }
    }
    Ok(against)
}

/// What was found, harmless for a terminal.
fn in_words(format: &Format, source: &str, findings: &Findings) -> String {
    let ledger = &findings.ledger;
    let share = |bytes: u64| bytes as f64 * 100.0 / ledger.total.max(1) as f64;
    let mut text = format!(
        "{} held against {}: {}, {:.1} % of them in records, {:.1} % rejected\n",
        Safe(&format.name),
        Safe(source),
        plural(ledger.total, "byte"),
        share(ledger.recorded),
        share(ledger.rejected)
    );
    text += &proposals(findings);
    for frame in &findings.frames {
        text += &frame_line(frame);
    }
    text += &kinds(&findings.kinds);
    text += &fields(&findings.kinds);
    text += &rejects(&findings.rejects);
    text
}

/// What seems to be wrong.
fn proposals(findings: &Findings) -> String {
    if findings.proposals.is_empty() {
        return "\nnothing seems to be declared wrong, of what was tried: lengths, checksums, byte orders, signs, scales\n".to_owned();
    }
    let mut text = "\nwhat seems to be wrong\n".to_owned();
    for (number, proposal) in findings.proposals.iter().enumerate() {
        text += &format!("  {}. {}: {}\n", number + 1, proposal.place, proposal.wrong.word());
        if !proposal.declared.is_empty() {
            text += &format!("     declared   {}\n", Safe(&proposal.declared));
        }
        text += &format!("     would hold {}\n", Safe(&proposal.proposed));
        text += &format!("     {}; {}\n", holds(proposal), chance(proposal));
        if let Some(open) = &proposal.open {
            text += &format!("     left open: {}\n", Safe(open));
        }
        for also in &proposal.also {
            text += &format!("     as well    {}\n", Safe(also));
        }
    }
    if findings.tried_on < findings.ledger.total {
        text += &format!("  (tried on the first {})\n", plural(findings.tried_on, "byte"));
    }
    text
}

/// For how many it would hold, and for how many what is declared does.
fn holds(proposal: &Proposal) -> String {
    let (holds, of, now) = (grouped(proposal.holds), grouped(proposal.of), grouped(proposal.now));
    match proposal.wrong {
        Wrong::Length => format!("{holds} frames begin where another ends or hold their checksum, as declared {now}"),
        Wrong::NoChecksum => format!("holds for {holds} of {of} frames"),
        Wrong::Checksum => format!("holds for {holds} of {of} frames, what is declared for {now}"),
        _ if proposal.holds == proposal.now => format!("of {of} values the next is nearer to the one before"),
        _ => format!("{holds} of {of} values are in range, as declared {now}"),
    }
}

/// How likely it is by chance.
fn chance(proposal: &Proposal) -> String {
    let digits = proposal.bits * std::f64::consts::LOG10_2;
    let odds = match digits {
        digits if digits > 12.0 => format!("by chance less than one time in 10^{digits:.0}"),
        digits => format!("by chance about one time in {}", grouped(10f64.powf(digits).round() as u64)),
    };
    if proposal.is_claimed() { odds } else { format!("{odds}: a guess") }
}

fn frame_line(frame: &FrameSeen) -> String {
    let frames = plural(frame.frames, "frame");
    match &frame.checksum {
        Some(checksum) => {
            format!("\nframe {}: {frames}, {} of them hold {}\n", frame.frame, grouped(frame.held), Safe(checksum))
        }
        None => format!("\nframe {}: {frames}, without a declared checksum\n", frame.frame),
    }
}

fn kinds(kinds: &[KindSeen]) -> String {
    let rows = kinds.iter().map(|kind| {
        let jumps = match (kind.jumps, kind.first_jump) {
            (0, _) | (_, None) => String::new(),
            (jumps, Some(first)) => format!("{}, first at {}", plural(jumps, "counter jump"), grouped(first)),
        };
        let seen = if kind.records == 0 { "never".to_owned() } else { grouped(kind.records) };
        [kind.kind.clone(), seen, kind.rate.map(|rate| format!("{rate:.3}")).unwrap_or_default(), jumps]
    });
    "\n".to_owned() + &table(["record", "seen", "a second", ""], rows)
}

fn fields(kinds: &[KindSeen]) -> String {
    let mut text = String::new();
    for kind in kinds.iter().filter(|kind| kind.records > 0 && !kind.fields.is_empty()) {
        let rows = kind.fields.iter().filter(|field| !field.is_declared_constant()).map(|field| {
            [
                field.name.clone(),
                grouped(field.readings),
                field.least.clone().unwrap_or_default(),
                field.most.clone().unwrap_or_default(),
                Safe(field.unit.as_deref().unwrap_or_default()).to_string(),
                Safe(&remark(field)).to_string(),
            ]
        });
        text += &format!("\nrecord {}\n", kind.kind);
        text += &table(["field", "readings", "least", "most", "unit", ""], rows);
    }
    text
}

/// What is to be said of a field's values.
fn remark(field: &FieldSeen) -> String {
    let mut said = Vec::new();
    let odd = |what: &str, odd: &Odd| {
        format!("{} {what}, first at {}: {}", grouped(odd.count), grouped(odd.offset), odd.sent)
    };
    said.extend(field.out_of_range.as_ref().map(|out| odd("out of range", out)));
    said.extend(field.invalid.as_ref().map(|invalid| odd("invalid", invalid)));
    match (&field.constant, field.absent) {
        _ if field.readings > 0 && field.absent == field.readings => said.push("never has a value".to_owned()),
        (Some(constant), _) if field.readings > 1 => said.push(match field.is_reserved() {
            true => format!("always {constant}: could be declared by `equals`"),
            false => format!("always {constant}"),
        }),
        (None, _) if field.is_reserved() && field.readings > 1 => said.push("changes, and nobody reads it".to_owned()),
        (None, 0) if field.least.is_none() && field.readings > 1 => said.push("changes".to_owned()),
        (_, 1..) => said.push(format!("{} without a value", grouped(field.absent))),
        _ => {}
    }
    said.join("; ")
}

/// Bytes of a reject that are shown.
const SHOWN: usize = 14;

fn rejects(rejects: &[RejectSeen]) -> String {
    if rejects.is_empty() {
        return String::new();
    }
    let rows = rejects.iter().map(|reject| {
        let first = &reject.first[..reject.first.len().min(SHOWN)];
        [
            reject.word.clone(),
            grouped(reject.rejects),
            grouped(reject.candidates),
            grouped(reject.bytes),
            grouped(reject.offset),
            hex(first) + if first.len() as u64 == reject.bytes { "" } else { " …" },
            Safe(&reject.reason).to_string(),
        ]
    });
    "\n".to_owned()
        + &table(["rejected for", "runs", "frames begun", "bytes", "first at", "which begins", "because"], rows)
}

/// The same for programs.
fn as_json(format: &Format, source: &str, findings: &Findings) -> Value {
    let ledger = &findings.ledger;
    let odd =
        |odd: &Option<Odd>| odd.as_ref().map(|odd| json!({"count": odd.count, "offset": odd.offset, "sent": odd.sent}));
    let field = |field: &FieldSeen| {
        json!({
            "field": field.name, "unit": field.unit, "readings": field.readings, "absent": field.absent,
            "least": field.least, "most": field.most, "always": field.constant,
            "out_of_range": odd(&field.out_of_range), "invalid": odd(&field.invalid),
            "read": !field.is_reserved(),
        })
    };
    let kind = |kind: &KindSeen| {
        json!({
            "record": kind.kind, "seen": kind.records, "a_second": kind.rate, "counter_jumps": kind.jumps,
            "first_jump": kind.first_jump, "fields": kind.fields.iter().map(field).collect::<Vec<_>>(),
        })
    };
    let frame = |frame: &FrameSeen| json!({"frame": frame.frame, "checksum": frame.checksum, "frames": frame.frames, "held": frame.held});
    let reject = |reject: &RejectSeen| {
        json!({
            "reason": reject.word, "times": reject.rejects, "bytes": reject.bytes, "candidates": reject.candidates,
            "offset": reject.offset, "first": hex(&reject.first), "because": reject.reason,
        })
    };
    let proposal = |proposal: &Proposal| {
        json!({
            "wrong": proposal.wrong.word(), "place": proposal.place, "declared": proposal.declared,
            "proposed": proposal.proposed, "holds": proposal.holds, "now": proposal.now, "of": proposal.of,
            "chance_log10": -proposal.bits * std::f64::consts::LOG10_2, "claimed": proposal.is_claimed(),
            "open": proposal.open, "also": proposal.also,
        })
    };
    json!({
        "format": format.name, "source": source,
        "bytes": {
            "total": ledger.total, "recorded": ledger.recorded, "ignored": ledger.ignored, "filler": ledger.filler,
            "clipped": ledger.clipped, "rejected": ledger.rejected, "tried_on": findings.tried_on,
        },
        "proposals": findings.proposals.iter().map(proposal).collect::<Vec<_>>(),
        "frames": findings.frames.iter().map(frame).collect::<Vec<_>>(),
        "records": findings.kinds.iter().map(kind).collect::<Vec<_>>(),
        "rejects": findings.rejects.iter().map(reject).collect::<Vec<_>>(),
    })
}
