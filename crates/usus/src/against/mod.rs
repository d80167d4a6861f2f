//! A declaration held against what was recorded: what holds, what was never seen, what cannot be meant, and where it seems to be wrong.
//!
//! Nothing is changed here and nothing decided: what is proposed comes with the number of frames for which it would hold, and with how likely that is by chance.

mod checksum;
mod cyclic;
mod evidence;
mod length;
mod polynomial;
mod recording;
mod seen;
mod sums;
mod values;

use alloc::string::String;
use alloc::sync::Arc;
use alloc::vec::Vec;
use core::convert::Infallible;

use crate::check;
use crate::compile;
use crate::decoder::Decoder;
use crate::format::{self, Check, CheckForm, Cut, Format};
use crate::framing::whole_of;
use crate::input::{Chunk, LineId, Loss};
use crate::integer::{Integer, Order};
use crate::ledger::Ledger;
use crate::plan::{self, Framing, Plan};
use crate::problem::Problems;
use crate::record::Record;
use crate::sink::Sink;
use crate::time::Time;
use recording::Recording;
use seen::Seen;
use values::Series;

/// Bits from which on something is claimed: by chance one time in a million.
const CLAIM: f64 = 20.0;

/// What would hold as well, and is told.
const ALSO: usize = 2;

/// Bits below which nothing is proposed at all.
const WORTH_SAYING: f64 = 7.0;

/// A format that is being held against a stream.
///
/// ```
/// use usus::{Chunk, Format};
///
/// let format = Format::parse(r#"
///     format = "rope-tension"
///     [[frame]]
///     cut      = "packet"
///     start    = "A5 5A"
///     length   = 7
///     checksum = { algorithm = "SUM-8", type = "u8" }
///     [record.sample]
///     fields = [{ name = "tension", type = "u16be" }, { name = "core", type = "u16be" }]
/// "#)?;
/// let mut against = format.against()?;
/// let line = against.line("", 0).unwrap();
/// for number in 0..200u32 {
///     let (tension, core) = ((number * 7919 % 6007) as u16, (number * 104_729 % 911) as u16);
///     let mut packet = [&[0xA5, 0x5A], &tension.to_be_bytes()[..], &core.to_be_bytes()].concat();
///     packet.push(packet.iter().fold(0, |all, byte| all ^ byte));
///     against.feed(Chunk::new(line, &packet));
/// }
/// let findings = against.finish();
/// assert_eq!(findings.proposals[0].proposed, r#"checksum = { algorithm = "XOR-8", type = "u8" }"#);
/// assert_eq!(findings.proposals[0].holds, 200);
/// # Ok::<(), usus::Problems>(())
/// ```
#[derive(Clone, Debug)]
pub struct Against {
    format: Format,
    decoder: Decoder,
    seen: Seen,
    recording: Recording,
}

/// What holding a format against a stream has shown.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Findings {
    /// The account of the bytes of all lines together.
    pub ledger: Ledger,
    /// How many of the first bytes everything was tried on that is proposed.
    pub tried_on: u64,
    /// The frames of the format.
    pub frames: Vec<FrameSeen>,
    /// The kinds of record, those that never came, too.
    pub kinds: Vec<KindSeen>,
    /// What gave no record, by reason.
    pub rejects: Vec<RejectSeen>,
    /// What seems to be wrong, the likeliest first.
    pub proposals: Vec<Proposal>,
}

/// Frames of one declaration, among the bytes that everything was tried on.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct FrameSeen {
    /// Its name.
    pub frame: String,
    /// What is declared as its checksum, as a format has it; nothing if there is none, or it is that of the standard.
    pub checksum: Option<String>,
    /// How many there were, those whose checksum does not hold, too.
    pub frames: u64,
    /// How many of them hold their checksum.
    pub held: u64,
}

/// Records of one kind.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct KindSeen {
    /// The kind.
    pub kind: String,
    /// How many came.
    pub records: u64,
    /// How many a second; nothing without times.
    pub rate: Option<f64>,
    /// How often one of its counters did not go up by one.
    pub jumps: u64,
    /// Stream offset of the first such record.
    pub first_jump: Option<u64>,
    /// Its fields, also those that are internal, constants and reserved bytes. Those of groups as `group.field`, of all items together.
    pub fields: Vec<FieldSeen>,
}

/// Values of a field.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct FieldSeen {
    /// Its name; of what has none `(constant 2)` or `(reserved 3)`.
    pub name: String,
    /// Unit of its values.
    pub unit: Option<String>,
    /// How many readings there were.
    pub readings: u64,
    /// How many of them had no value, not counting those that are invalid.
    pub absent: u64,
    /// Those that are no value of its type.
    pub invalid: Option<Odd>,
    /// Those that are outside of its range.
    pub out_of_range: Option<Odd>,
    /// The value, if it was always the same.
    pub constant: Option<String>,
    /// The smallest and the largest number.
    pub least: Option<String>,
    /// The largest.
    pub most: Option<String>,
}

impl FieldSeen {
    /// Whether it stands for bytes that nobody reads.
    pub fn is_reserved(&self) -> bool {
        self.name.starts_with("(reserved")
    }

    /// Whether it is declared as a constant.
    pub fn is_declared_constant(&self) -> bool {
        self.name.starts_with("(constant")
    }
}

/// Readings that cannot be meant.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Odd {
    /// How many there were.
    pub count: u64,
    /// Stream offset of the first one's record.
    pub offset: u64,
    /// What was sent there, in hex or, of text, in quotes.
    pub sent: String,
}

/// Bytes that gave no record, for one reason.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct RejectSeen {
    /// A word for the reason.
    pub word: String,
    /// How many rejects there were.
    pub rejects: u64,
    /// Bytes of all of them.
    pub bytes: u64,
    /// Frames that seemed to begin in them.
    pub candidates: u64,
    /// Stream offset of the first one.
    pub offset: u64,
    /// The reason of the first one, in words.
    pub reason: String,
    /// Its first bytes.
    pub first: Vec<u8>,
}

/// What a proposal is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Wrong {
    /// The length of packets.
    Length,
    /// A checksum: its algorithm, its place, its range, how it is written.
    Checksum,
    /// A checksum that is there and not declared.
    NoChecksum,
    /// The order of a number's bytes.
    Order,
    /// Whether a number has a sign.
    Sign,
    /// The power of ten of a scale.
    Scale,
}

impl Wrong {
    /// A word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Wrong::Length => "length",
            Wrong::Checksum => "checksum",
            Wrong::NoChecksum => "no checksum",
            Wrong::Order => "byte order",
            Wrong::Sign => "sign",
            Wrong::Scale => "scale",
        }
    }
}

/// What would hold instead of what is declared.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Proposal {
    /// What it is about.
    pub wrong: Wrong,
    /// Where: `frame packet`, `sample.tension`.
    pub place: String,
    /// What is declared, as a format has it; empty if nothing is.
    pub declared: String,
    /// What would hold, as a format has it.
    pub proposed: String,
    /// For how many frames or values it would hold.
    pub holds: u64,
    /// For how many what is declared holds.
    pub now: u64,
    /// Of how many.
    pub of: u64,
    /// How unlikely it is that it holds by chance, in bits: one time in 2 to the power of them.
    pub bits: f64,
    /// What the frames leave open.
    pub open: Option<String>,
    /// What would hold for as many, and is nearly as simple.
    pub also: Vec<String>,
}

impl Proposal {
    /// Whether chance gives it less than one time in a million.
    pub fn is_claimed(&self) -> bool {
        self.bits >= CLAIM
    }
}

impl Format {
    /// Begins to hold the format against a stream.
    ///
    /// # Errors
    ///
    /// The format's own problems, if it cannot be compiled.
    pub fn against(&self) -> Result<Against, Problems> {
        let format = self.as_read()?.into_owned().with_all_shown();
        let plan = compile::plan(&format)?;
        let seen = Seen::new(&plan);
        Ok(Against { decoder: Decoder::new(&plan), seen, recording: Recording::default(), format })
    }
}

impl Against {
    /// Adds a line, as [`Decoder::line`] does.
    pub fn line(&mut self, role: &str, start: u64) -> Option<LineId> {
        let line = self.decoder.line(role, start)?;
        self.recording.line(line, role, start);
        Some(line)
    }

    /// The roles of the format's lines.
    pub fn roles(&self) -> impl Iterator<Item = &str> {
        self.format.lines.iter().map(|line| line.role.value.as_str())
    }

    /// Takes a chunk in.
    pub fn feed(&mut self, chunk: Chunk<'_>) {
        self.recording.chunk(chunk);
        let Ok(()) = self.decoder.decode(chunk, &mut self.seen);
    }

    /// Says that bytes are missing on a line here.
    pub fn loss(&mut self, line: LineId, why: Loss, at: Option<Time>) {
        self.recording.loss(line, why, at);
        let Ok(()) = self.decoder.loss(line, why, at).drain(&mut self.seen);
    }

    /// Takes a frame in that is whole, with what ends it, and stands by itself: nothing of it belongs to the one before.
    pub fn frame(&mut self, line: LineId, bytes: &[u8]) {
        self.feed(Chunk::new(line, bytes));
        self.loss(line, Loss::Gap, None);
    }

    /// What was found, once all has come.
    pub fn finish(mut self) -> Findings {
        let Ok(()) = self.decoder.finish().drain(&mut self.seen);
        let ledger = self.ledger();
        let (mut frames, mut proposals) = (Vec::new(), Vec::new());
        for number in 0..self.format.frames.len() {
            if self.format.frames[number].inside.is_none() {
                frames.extend(self.frame_findings(number, &mut proposals));
            }
        }
        self.value_findings(&mut proposals);
        proposals.retain(|proposal: &Proposal| proposal.bits >= WORTH_SAYING);
        // What keeps frames from being found hides all the rest.
        let rank = |proposal: &Proposal| match proposal.wrong {
            Wrong::Length => 0,
            Wrong::Checksum => 1,
            Wrong::NoChecksum => 2,
            _ => 3,
        };
        proposals.sort_by(|one, other| {
            let claimed = other.is_claimed().cmp(&one.is_claimed());
            claimed.then(rank(one).cmp(&rank(other))).then(other.bits.total_cmp(&one.bits))
        });
        let tried_on = self.recording.size() as u64;
        let (kinds, rejects) = self.seen.told();
        Findings { ledger, tried_on, frames, kinds, rejects, proposals }
    }

    /// The account of all lines together.
    fn ledger(&self) -> Ledger {
        let mut ledger = Ledger::default();
        self.decoder.lines().for_each(|line| ledger.add(&self.decoder.ledger(line)));
        ledger
    }

    /// What is to be said of one frame's length and checksums.
    fn frame_findings(&self, number: usize, proposals: &mut Vec<Proposal>) -> Option<FrameSeen> {
        let declared = &self.format.frames[number];
        if let Cut::Sentence { .. } = declared.cut {
            return None;
        }
        let mut sent = self.frames(&self.format, number);
        let held = self.held(&self.format, number, &sent, &declared.checksums);
        let texts: Vec<String> = declared.checksums.iter().map(format::checksum_text).collect();
        let checksum = (!texts.is_empty()).then(|| texts.join(", "));
        let told = FrameSeen { frame: declared.name.clone(), checksum, frames: sent.len() as u64, held };
        let ledger = self.ledger();
        let is_failing = held * 2 < told.frames || sent.len() < 3 || ledger.rejected * 2 > ledger.total;
        let mut changed = None;
        if is_failing && let Some((proposal, format)) = length::search(&self.format, number, &self.recording) {
            proposals.push(proposal);
            sent = self.frames(&format, number);
            changed = Some(format);
        }
        let format = changed.as_ref().unwrap_or(&self.format);
        let has_check = !texts.is_empty();
        if has_check
            && !sent.is_empty()
            && self.held(format, number, &sent, &declared.checksums) * 2 >= sent.len() as u64
        {
            return Some(told);
        }
        let bare = length::bare(format, number);
        let all = self.frames(&bare, 0);
        // No record has such a length: as where nobody has thought of the checksum yet.
        let (format, number) = match sent.len() < 3 || all.len() > sent.len() + sent.len() / 4 {
            true => {
                sent = all;
                (&bare, 0)
            }
            false => (format, number),
        };
        let Some(plan) = lenient(format) else { return Some(told) };
        let Some(planned) = plan.0.frames.get(number) else { return Some(told) };
        // Each checksum for itself; or one that nobody has declared.
        for index in 0..texts.len().max(1) {
            let own = declared.checksums.get(index).cloned();
            let now = own.as_ref().map_or(0, |own| self.held(format, number, &sent, core::slice::from_ref(own)));
            if own.is_some() && now * 2 >= sent.len() as u64 {
                continue;
            }
            // Whatever else it has.
            let declared_so = format::Frame { checksums: own.into_iter().collect(), ..format.frames[number].clone() };
            let mut others = declared.checksums.clone();
            if index < others.len() {
                others.remove(index);
            }
            let frames =
                checksum::Frames { declared: &declared_so, planned, sent: &sent, others: &others, behind: None };
            let found = likeliest(&frames).or_else(|| self.checksum_behind(format, number));
            let Some((best, also)) = found else { continue };
            let which = if texts.len() > 1 { alloc::format!(", checksum {}", index + 1) } else { String::new() };
            proposals.push(Proposal {
                wrong: if has_check { Wrong::Checksum } else { Wrong::NoChecksum },
                place: alloc::format!("frame {}{which}", declared.name),
                declared: texts.get(index).map(|text| alloc::format!("checksum = {text}")).unwrap_or_default(),
                proposed: alloc::format!("checksum = {}", format::checksum_text(&best.check)),
                holds: best.holds as u64,
                now,
                of: best.of as u64,
                bits: best.bits,
                open: best.open,
                also,
            });
        }
        Some(told)
    }

    /// The frames of a declaration, as they were sent, whether their checksums hold or not.
    fn frames(&self, format: &Format, number: usize) -> Vec<Vec<u8>> {
        let Some(plan) = lenient(format) else { return Vec::new() };
        let mut frames = Frames { plan: plan.clone(), number, sent: Vec::new() };
        self.recording.play(&plan, usize::MAX, &mut frames);
        frames.sent
    }

    /// How many frames hold all of these checksums.
    fn held(&self, format: &Format, number: usize, sent: &[Vec<u8>], checks: &[Check]) -> u64 {
        let declared = &format.frames[number];
        let Some(plan) = lenient(format) else { return 0 };
        let Some(planned) = plan.0.frames.get(number) else { return 0 };
        let compiled = checks.iter().filter_map(|check| compile::check_of(check, declared));
        let probes: Vec<plan::Frame> =
            compiled.map(|check| plan::Frame { check: Some(check), ..planned.clone() }).collect();
        let mut decoded = Vec::new();
        let mut holds = |sent: &&Vec<u8>| {
            probes.iter().all(|probe| {
                let whole = whole_of(probe, sent, &mut decoded);
                whole.zip(probe.check.as_ref()).is_some_and(|(whole, check)| check::test(check, whole).is_ok())
            })
        };
        sent.iter().filter(|sent| holds(sent)).count() as u64
    }

    /// The same, if it follows the end of its packet and belongs to no frame as they are declared.
    fn checksum_behind(&self, format: &Format, number: usize) -> Option<(checksum::Found, Vec<String>)> {
        let declared = &format.frames[number];
        let has_end = matches!(declared.cut, Cut::Packet { end: Some(_), .. } | Cut::Dle { .. });
        if !has_end || declared.checksums.first().is_some_and(|check| check.behind) {
            return None;
        }
        let mut best: Option<(checksum::Found, Vec<String>)> = None;
        for size in [1, 2, 4] {
            let mut format = format.clone();
            let integer = Integer { signed: false, bytes: size, order: Order::Big };
            let check = Check { behind: true, ..Check::new("SUM-8", CheckForm::Binary(integer)) };
            format.frames[number].checksums = [check].into();
            let sent = self.frames(&format, number);
            let Some(plan) = lenient(&format) else { continue };
            let Some(planned) = plan.0.frames.get(number) else { continue };
            for through_end in [false, true] {
                let behind = Some((size.into(), through_end));
                let declared = &format.frames[number];
                let found = likeliest(&checksum::Frames { declared, planned, sent: &sent, others: &[], behind });
                let Some(found) = found.filter(|(found, _)| found.bits > CLAIM) else { continue };
                let is_better =
                    |known: &checksum::Found| found.0.price() < known.price() || found.0.holds > 2 * known.holds;
                if best.as_ref().is_none_or(|(known, _)| is_better(known)) {
                    best = Some(found);
                }
            }
        }
        best
    }

    /// What is to be said of fields.
    fn value_findings(&self, proposals: &mut Vec<Proposal>) {
        let (Some(plan), Ok(strict)) = (lenient(&self.format), compile::plan(&self.format)) else { return };
        let (mut series, mut sound) = (Series::default(), Series::default());
        self.recording.play(&plan, usize::MAX, &mut series);
        self.recording.play(&strict, usize::MAX, &mut sound);
        // Damaged frames say nothing, unless none is sound by what is declared.
        if sound.records * 2 >= series.records {
            series = sound;
        }
        proposals.extend(series.proposals(&self.format, &plan.schema().kinds));
    }
}

/// The plan of a format by which frames are taken though their checksums do not hold.
fn lenient(format: &Format) -> Option<Plan> {
    let plan = compile::plan(format).ok()?;
    let mut inner = (*plan.0).clone();
    for frame in &mut inner.frames {
        if let Some(check) = &mut frame.check {
            check.lenient = true;
            check.others.iter_mut().for_each(|check| check.lenient = true);
        }
        if let Framing::Packet(packet) = &mut frame.framing {
            packet.fixed = None;
        }
    }
    Some(Plan(Arc::new(inner)))
}

/// The likeliest checksum of frames, with others that hold as well.
fn likeliest(frames: &checksum::Frames<'_>) -> Option<(checksum::Found, Vec<String>)> {
    let mut all = checksum::search(frames).into_iter();
    let best = all.next().filter(|best| best.bits >= WORTH_SAYING)?;
    let as_good = |found: &checksum::Found| found.bits > CLAIM && found.holds >= best.holds;
    let mut also: Vec<String> = Vec::new();
    for text in all.filter(as_good).map(|found| format::checksum_text(&found.check)) {
        if also.len() < ALSO && text != format::checksum_text(&best.check) && !also.contains(&text) {
            also.push(text);
        }
    }
    Some((best, also))
}

/// Keeps the frames of one declaration.
struct Frames {
    plan: Plan,
    number: usize,
    sent: Vec<Vec<u8>>,
}

impl Sink for Frames {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        let frame = self.plan.0.frames.get(self.number).filter(|frame| frame.kinds.contains(&record.kind));
        // A line that may come without its checksum, and does, says nothing of it.
        let has_check = |frame: &plan::Frame| match &frame.check {
            Some(check) if check.optional => check.marked(record.frame()).is_some(),
            _ => true,
        };
        if frame.is_some_and(has_check) {
            self.sent.push(record.frame().to_vec());
        }
        Ok(())
    }
}
