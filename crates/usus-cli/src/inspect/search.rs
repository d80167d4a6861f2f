//! `usus inspect --search`: the settings of a line, by listening only.

use serde_json::json;
use usus::format::Serial;
use usus_io::{Found, SearchOptions, SourceReceiver, Stop, Tried, search};

use super::summary::parity_word;
use crate::Ending;
use crate::arguments::Inspect;
use crate::safe::Safe;
use crate::source::open_source;
use crate::stop::stop_flag;
use crate::voice::Voice;

/// What the port is opened with.
const FIRST: Serial = Serial { baud: 9_600, data_bits: 8, parity: usus::format::Parity::None, half_stop_bits: 2 };

pub(crate) fn run(arguments: &Inspect, voice: &Voice) -> Ending {
    let opened = match open_source(&arguments.source, &arguments.opening, Some(FIRST)) {
        Ok(opened) => opened,
        Err(text) => {
            voice.fail(&text);
            return Ending::Failed;
        }
    };
    let stop = Stop::from(stop_flag(voice));
    let name = Safe(&opened.name).to_string();
    if opened.peek().is_live() {
        voice.say(&format!("listening to {name}; nothing is written to it"));
        if !opened.peek().tells_faults() {
            voice.say("its driver tells no faults of characters: what comes is judged by its contents alone");
        }
        let head = format!(
            "  {:<12} {:>10}  {:>6}  {:>6}  {:>9}  {:>9}  {:>8}  {:>6}",
            "heard with", "characters", "faulty", "text", "sentences", "line ends", "repeated", "points"
        );
        voice.tell("info", &head, json!({"searching": opened.name}));
    }
    let mut told = |tried: &Tried| voice.tell("info", &tried_text(tried), tried_json(tried));
    let called = opened.name.clone();
    let mut source = opened.into_source();
    let found = search(&mut SourceReceiver::new(&mut *source, stop), &SearchOptions::default(), &mut told);
    match found {
        Ok(found) => conclude(&called, &found, voice),
        Err(error) => {
            voice.fail(&format!("{name}: {error}"));
            Ending::Failed
        }
    }
}

fn tried_text(tried: &Tried) -> String {
    let percent = |share: f64| format!("{:.0} %", share * 100.0);
    let faulty = if tried.faults { percent(tried.faulty) } else { "-".to_owned() };
    let score = &tried.score;
    let serial = tried.serial.to_string();
    if score.characters == 0 {
        return format!("  {serial:<12} {:>10}", "nothing");
    }
    let (explained, share) = tried.explained;
    let note = match explained != tried.serial && share > 0.85 {
        true => format!("  read as {}{}1", explained.data_bits, explained.parity.letter()),
        false => String::new(),
    };
    format!(
        "  {serial:<12} {:>10}  {faulty:>6}  {:>6}  {:>9}  {:>9.1}  {:>8}  {:>6.0}{note}",
        score.characters,
        percent(score.text),
        percent(score.sentences),
        score.line_ends,
        percent(score.repeated),
        score.points
    )
}

fn tried_json(tried: &Tried) -> serde_json::Value {
    let score = &tried.score;
    json!({
        "heard_with": tried.serial.to_string(), "characters": score.characters,
        "faulty": tried.faults.then_some(tried.faulty), "text": score.text, "sentences": score.sentences,
        "line_ends_per_100": score.line_ends, "repeated": score.repeated, "points": score.points,
        "explained_by": tried.explained.0.to_string(), "explained_share": tried.explained.1,
    })
}

fn conclude(name: &str, found: &Found, voice: &Voice) -> Ending {
    let seconds = found.took.nanoseconds() as f64 / 1e9;
    if found.tried.iter().all(|tried| tried.score.characters == 0) {
        voice.fail(&format!(
            "{}: nothing came in {seconds:.0} s; is the device on, and the line's ground and right wire connected?",
            Safe(name)
        ));
        return Ending::NoBytes;
    }
    let Some(settings) = found.settings else {
        let why = match found.inverted {
            true => {
                "it sounds like an inverted line (high and low exchanged): a level converter is missing, or one too many"
            }
            false => "nothing that was heard sounds right at any of the usual speeds",
        };
        voice.tell(
            "warning",
            &format!("no settings found in {seconds:.1} s: {why}"),
            json!({"found": null, "inverted": found.inverted, "seconds": seconds}),
        );
        return Ending::NothingRecognised;
    };
    let unsure = if found.unsure { ", but not for sure" } else { "" };
    let text = format!("found in {seconds:.1} s{unsure}, because:\n{}", explanation(settings, found));
    let likely: Vec<_> =
        found.speeds.iter().map(|likely| json!({"baud": likely.baud, "distance": likely.distance})).collect();
    let data = json!({"found": settings.to_string(), "unsure": found.unsure, "seconds": seconds, "speeds": likely});
    // The settings are the result, and said once; why they are it is said to people.
    let printed = voice.print(&format!("{settings}\n"));
    voice.tell("summary", text.trim_end(), data);
    match printed {
        Ok(()) => Ending::Done,
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ending::Done,
        Err(error) => {
            voice.fail(&format!("cannot write to standard output: {error}"));
            Ending::Failed
        }
    }
}

/// Why speeds that had more points lost all the same: points are weighed by how likely the speed is by all that was heard.
fn outweighed(settings: Serial, found: &Found) -> String {
    let points = |baud: u32| {
        let heard = found.tried.iter().filter(|tried| tried.serial.baud == baud && tried.score.characters > 0);
        heard.map(|tried| tried.score.points).max_by(f64::total_cmp)
    };
    let distance = |baud: u32| found.speeds.iter().find(|likely| likely.baud == baud).map(|likely| likely.distance);
    let least = found.speeds.first().map_or(0.0, |likely| likely.distance);
    let weight = |baud: u32| distance(baud).map_or(0.0, |distance| (least - distance).exp());
    let Some(own) = points(settings.baud) else { return String::new() };
    let better = found.speeds.iter().filter(|likely| likely.baud != settings.baud);
    let better = better.filter_map(|likely| Some((likely.baud, points(likely.baud).filter(|points| *points > own)?)));
    better
        .take(3)
        .map(|(baud, points)| {
            format!(
                "  points  {baud} had {points:.0} points of its own, {} has {own:.0}; weighed by how likely each speed is by all that was\n          heard, that is {:.0} against {:.0}\n",
                settings.baud,
                points * weight(baud),
                own * weight(settings.baud)
            )
        })
        .collect()
}

/// Why these settings.
fn explanation(settings: Serial, found: &Found) -> String {
    let mut text = String::new();
    if let Some(best) =
        found.tried.iter().rev().find(|tried| tried.serial.baud == settings.baud && tried.score.characters > 0)
    {
        let score = &best.score;
        let mut signs = Vec::new();
        if best.faults {
            signs.push(format!("{:.0} % of {} characters are sound", score.sound * 100.0, score.characters));
        }
        if score.sentences > 0.1 {
            signs.push(format!("{:.0} % belong to sentences whose checksum holds", score.sentences * 100.0));
        }
        if score.text > 0.8 {
            signs.push(format!("{:.0} % are text", score.text * 100.0));
        } else {
            signs.push("the contents are binary".to_owned());
        }
        text += &format!("  speed   {} bits per second: {}\n", settings.baud, signs.join(", "));
    }
    let others: Vec<String> = found
        .speeds
        .iter()
        .filter(|likely| likely.baud != settings.baud)
        .take(3)
        .map(|likely| likely.baud.to_string())
        .collect();
    let own = found.speeds.iter().find(|likely| likely.baud == settings.baud).map_or(0.0, |likely| likely.distance);
    let next = found.speeds.iter().find(|likely| likely.baud != settings.baud).map_or(9.0, |likely| likely.distance);
    if next > own {
        text += &format!(
            "          at another speed it would have been heard otherwise; the next likely are {}\n",
            others.join(", ")
        );
    }
    text += &outweighed(settings, found);
    let plain = settings.parity == usus::format::Parity::None;
    text += &match (plain, settings.data_bits) {
        (true, _) => {
            "  format  8N1: no parity shows in the bits; a second stop bit (8N2) would be heard the same\n".to_owned()
        }
        (false, bits) => format!(
            "  format  {bits} data bits with {} parity: heard as 8N1, {}\n",
            parity_word(settings.parity),
            if bits == 7 {
                "the eighth bit was always the parity of the seven"
            } else {
                "stop bits were missing just where the parity bit is 0"
            }
        ),
    };
    text
}
