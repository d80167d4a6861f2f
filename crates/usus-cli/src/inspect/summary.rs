//! What was counted, in words and as JSON.

use serde_json::{Value, json};
use usus::Span;
use usus::format::{Parity, Serial};
use usus::survey::{Clue, Heard, Ratio, Speeds, Spread, Survey, clues};
use usus_io::received_text;

use super::rows::{character_name, span_text};
use crate::safe::Safe;
use crate::summary::{grouped, plural};

/// A line, counted.
pub(crate) struct Counted {
    pub(crate) name: String,
    pub(crate) serial: Option<Serial>,
    pub(crate) survey: Survey,
}

impl Counted {
    /// In words, harmless for a terminal.
    pub(crate) fn text(&self, faults_told: bool) -> String {
        let survey = &self.survey;
        let mut text = String::new();
        let mut row = |label: &str, value: &str| text += &format!("  {label:<9} {value}\n");
        if survey.bytes() == 0 {
            return "  no bytes came\n".to_owned();
        }
        row("contents", &self.contents());
        let (parity, framing, breaks) = survey.faults();
        if parity + framing + breaks > 0 {
            row(
                "faults",
                &format!(
                    "{} with the wrong parity, {} without a stop bit, {}",
                    grouped(parity),
                    grouped(framing),
                    plural(breaks, "break")
                ),
            );
        }
        if survey.losses() > 0 {
            row("losses", &format!("bytes are missing at {}", plural(survey.losses(), "place")));
        }
        if let Some((first, last)) = survey.times() {
            let seconds = last.since(first).nanoseconds() as f64 / 1e9;
            let rate = if seconds > 0.0 {
                format!(", {seconds:.1} s: {:.0} bytes a second", survey.bytes() as f64 / seconds)
            } else {
                String::new()
            };
            row("received", &format!("{} to {}{rate}", received_text(first, 3), received_text(last, 3)));
        }
        if let Some(bursts) = survey.bursts().filter(|_| survey.times().is_some()) {
            row("bursts", &burst_text(bursts, survey.split()));
        }
        if let Some(silences) = survey.silences() {
            let text = |nanoseconds| span_text(Span::from_nanoseconds(nanoseconds));
            row(
                "silences",
                &format!(
                    "{} to {}, half of them under {}",
                    text(silences.least),
                    text(silences.most),
                    text(silences.median)
                ),
            );
        }
        if let Some(distances) = survey.distances().filter(|distances| distances.count > 2) {
            let every = span_text(Span::from_nanoseconds(distances.median));
            let steady = if distances.steady >= 60 { "regularly" } else { "irregularly" };
            row(
                "rhythm",
                &format!("a burst begins every {every}, {steady} ({} % within a tenth of that)", distances.steady),
            );
        }
        if let Some(period) = survey.period() {
            row(
                "repeats",
                &format!(
                    "{:.0} % of bytes are the same as {} bytes before (by chance {:.0} %)",
                    period.share * 100.0,
                    period.bytes,
                    period.by_chance * 100.0
                ),
            );
        }
        for clue in self.clues(faults_told) {
            row("settings", &clue_text(&clue, self.serial));
        }
        text
    }

    fn clues(&self, faults: bool) -> Vec<Clue> {
        let serial =
            self.serial.unwrap_or(Serial { baud: 9_600, data_bits: 8, parity: Parity::None, half_stop_bits: 2 });
        let heard = Heard { serial, characters: self.survey.sample().to_vec(), faults };
        clues(&heard, &mut Speeds::new())
    }

    fn contents(&self) -> String {
        let survey = &self.survey;
        let counts = survey.counts();
        let share = |count: u64| count as f64 * 100.0 / survey.bytes() as f64;
        let text: u64 = (0..256).filter(|byte| matches!(*byte, 9 | 10 | 13 | 32..=126)).map(|byte| counts[byte]).sum();
        let (crlf, lf, cr) = survey.line_ends();
        let ends = [("CR LF", crlf), ("LF", lf), ("CR", cr)].into_iter().filter(|(_, count)| *count > 0);
        let ends: Vec<String> = ends.map(|(name, count)| format!("{} {name}", grouped(count))).collect();
        let mut words = format!("{:.1} % text", share(text));
        if !ends.is_empty() && share(text) > 30.0 {
            words += &format!(", line ends {}", ends.join(", "));
        }
        let mut often: Vec<usize> = (0..256).filter(|byte| counts[*byte] > 0).collect();
        often.sort_by_key(|byte| std::cmp::Reverse(counts[*byte]));
        let often: Vec<String> = often
            .iter()
            .take(5)
            .map(|byte| format!("{} {:.0} %", name(*byte as u8, share(text) > 70.0), share(counts[*byte])))
            .collect();
        format!("{words}; most often {}", often.join(", "))
    }

    /// The same for programs.
    pub(crate) fn json(&self, source: &str, faults_told: bool) -> Value {
        let survey = &self.survey;
        let (parity, framing, breaks) = survey.faults();
        let (crlf, lf, cr) = survey.line_ends();
        json!({
            "summary": source,
            "line": self.name,
            "serial": self.serial.map(|serial| serial.to_string()),
            "bytes": survey.bytes(),
            "counts": survey.counts().to_vec(),
            "line_ends": {"crlf": crlf, "lf": lf, "cr": cr},
            "faults": {"parity": parity, "framing": framing, "breaks": breaks},
            "losses": survey.losses(),
            "received": survey.times().map(|(first, last)| [received_text(first, 9), received_text(last, 9)]),
            "bursts": survey.bursts().filter(|_| survey.times().is_some()).map(spread_json),
            "silences_ns": survey.silences().map(spread_json),
            "burst_distances_ns": survey.distances().map(spread_json),
            "repeats": survey.period().map(|period| json!({"bytes": period.bytes, "share": period.share, "by_chance": period.by_chance})),
            "settings": self.clues(faults_told).iter().map(|clue| clue_text(clue, self.serial)).collect::<Vec<_>>(),
        })
    }

    /// The title of its summary.
    pub(crate) fn title(&self, source: &str, several: bool) -> String {
        let line = if several {
            format!(", {}", if self.name.is_empty() { "a line without a name" } else { &self.name })
        } else {
            String::new()
        };
        let serial = self.serial.map_or(String::new(), |serial| format!(" ({serial})"));
        format!("{}: {}{serial}\n", Safe(&format!("{source}{line}")), plural(self.survey.bytes(), "byte"))
    }
}

fn name(byte: u8, as_text: bool) -> String {
    match (byte, as_text) {
        (b' ', true) => "space".to_owned(),
        (b'!'..=b'~', true) => format!("`{}`", char::from(byte)),
        (0..128, true) => character_name(byte),
        _ => format!("{byte:02X}"),
    }
}

fn burst_text(bursts: Spread, split: Span) -> String {
    let lengths = match bursts.least == bursts.most {
        true => format!("all of {}", plural(bursts.least as u64, "byte")),
        false => {
            let (commonest, percent) = bursts.commonest;
            let usual = if percent >= 20 { format!(", {percent} % of them {commonest}") } else { String::new() };
            format!("of {} to {}{usual}", grouped(bursts.least as u64), plural(bursts.most as u64, "byte"))
        }
    };
    format!("{}, {lengths} (a silence of {} ends one)", grouped(bursts.count), span_text(split))
}

fn spread_json(spread: Spread) -> Value {
    json!({
        "count": spread.count, "least": spread.least, "median": spread.median, "most": spread.most,
        "commonest": spread.commonest.0, "commonest_percent": spread.commonest.1, "steady_percent": spread.steady,
    })
}

/// What a clue means, and what to do.
pub(crate) fn clue_text(clue: &Clue, serial: Option<Serial>) -> String {
    let percent = |share: f64| format!("{:.0} %", share * 100.0);
    match clue {
        Clue::Speed { ratio, sure } => {
            let looks = if *sure { "looks like" } else { "may be" };
            let of = ratio_text(*ratio);
            let Some(serial) = serial else {
                return format!("this {looks} the wrong speed: the line's is {of} the one that was set");
            };
            let speed = u64::from(serial.baud) * u64::from(ratio.sender) / u64::from(ratio.receiver);
            format!(
                "this {looks} a line of {speed} bits per second ({of} the {} that it was listened to with)",
                serial.baud
            )
        }
        Clue::Inverted => {
            "this looks like an inverted line: high and low are exchanged (a missing or superfluous level converter)"
                .to_owned()
        }
        Clue::SevenBits { parity, share } => format!(
            "this looks like seven bits with {} parity recorded as eight bits ({} of bytes fit): the settings are 7{}1",
            parity_word(*parity),
            percent(*share),
            parity.letter()
        ),
        Clue::EightBitsAndParity { parity, share } => format!(
            "stop bits are missing just where {} parity would be 0 ({} of characters fit): the settings are 8{}1",
            parity_word(*parity),
            percent(*share),
            parity.letter()
        ),
        Clue::WrongParity { share } => {
            format!("{} of characters have the wrong parity: another parity is set than the line has", percent(*share))
        }
        Clue::NoStopBit { share } => {
            format!("{} of characters lack their stop bit: the wrong speed or character format", percent(*share))
        }
        _ => String::new(),
    }
}

fn ratio_text(ratio: Ratio) -> String {
    match (ratio.sender, ratio.receiver) {
        (times, 1) => format!("{times} times"),
        (1, 2) => "half of".to_owned(),
        (parts, of) => format!("{parts}/{of} of"),
    }
}

pub(crate) fn parity_word(parity: Parity) -> &'static str {
    match parity {
        Parity::None => "no",
        Parity::Even => "even",
        Parity::Odd => "odd",
        Parity::Mark => "mark",
        Parity::Space => "space",
    }
}
