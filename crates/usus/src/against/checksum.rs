//! Which checksum a frame has: tried are places, ways to write it, ranges, and algorithms.

use alloc::collections::{BTreeMap, BTreeSet};
use alloc::rc::Rc;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;

use super::cyclic::{self, Known};
use super::evidence::{rank_of_bits, rank_of_numbers, surprise};
use super::sums::{self, Pair};
use crate::check::{self, Whole};
use crate::checksum::{Algorithm, Checksum};
use crate::compile::check_of;
use crate::format::{self, Characters, Check, CheckForm, Presence};
use crate::framing::whole_of;
use crate::integer::{Integer, Order};
use crate::plan;

/// An algorithm that may be it.
pub(super) struct Candidate {
    pub(super) algorithm: Algorithm,
    /// Bits that it costs to name it among all that were tried.
    pub(super) cost: f64,
    /// Bits of its parameters that were chosen to fit.
    pub(super) free: u32,
    /// What a sum adds up; nothing of a CRC, which takes each bit apart.
    pub(super) unit: Option<Integer>,
    /// What the frames leave open.
    pub(super) open: Option<String>,
}

impl Candidate {
    pub(super) fn new(algorithm: Algorithm, cost: f64, free: u32) -> Candidate {
        let unit = if let Algorithm::Sum(sum) = &algorithm { Some(sum.of) } else { None };
        let algorithm = algorithm.by_name();
        // What has a name is likelier.
        let cost = if matches!(algorithm, Algorithm::Named(_)) { (cost - 3.0).max(1.0) } else { cost };
        Candidate { algorithm, cost, free, unit, open: None }
    }
}

/// A checksum that holds.
#[derive(Clone, Debug)]
pub(super) struct Found {
    pub(super) check: Check,
    /// How many of the frames hold it.
    pub(super) holds: usize,
    pub(super) of: usize,
    /// How unlikely it is that it holds by chance, in bits.
    pub(super) bits: f64,
    /// The same if each frame is taken to be independent of all others.
    by_number: f64,
    pub(super) open: Option<String>,
    cost: f64,
    /// Bits of its parameters that were chosen to fit, where they are not declared.
    free: f64,
    /// How many of its bits are not always the same.
    varying: u32,
}

impl Found {
    /// How little simple it is to say, less what it says: of a wide one, a part may well be a narrow one.
    pub(super) fn price(&self) -> f64 {
        self.cost + 0.3 * self.free - f64::from(self.varying)
    }
}

/// Frames of one declaration, as they were sent.
pub(super) struct Frames<'f> {
    pub(super) declared: &'f format::Frame,
    pub(super) planned: &'f plan::Frame,
    pub(super) sent: &'f [Vec<u8>],
    /// Other checksums that it has: what stands there is known.
    pub(super) others: &'f [Check],
    /// A checksum that is to stand in another place than the declared one, if they were cut so.
    pub(super) behind: Option<(usize, bool)>,
}

impl Frames<'_> {
    /// The checksum that somebody has declared.
    fn declared_check(&self) -> Option<&Check> {
        if self.behind.is_some() { None } else { self.declared.checksums.first() }
    }
}

/// Frames that everything is tried on, that a polynomial is looked for in, and that what may hold is counted on.
const FEW: usize = 16;
const TRIED: usize = 160;
const COUNTED: usize = 2_048;

/// Bytes that are covered in all tries together: what is likelier is tried first, and long frames leave less of it.
const WORK: usize = 12_000_000;

/// Bytes of a try; fewer frames are tried where they are long.
const LONG: usize = 16_384;

/// All checksums that hold for most frames, the likeliest first. Among those that hold for the same frames, the one that is simplest to say.
pub(super) fn search(frames: &Frames<'_>) -> Vec<Found> {
    let known = Known::new();
    let mut ways = ways(frames);
    ways.retain(|way| !frames.others.iter().any(|other| overlap(&way.check, other)));
    let contents = contents_of(frames);
    let seen: Vec<Vec<Seen>> = ways.iter().map(|way| see(frames, &contents, way)).collect();
    let mut tries: Vec<(f64, usize, Range)> = Vec::new();
    for (number, way) in ways.iter().enumerate().filter(|(number, _)| !seen[*number].is_empty()) {
        tries.extend(ranges(frames, way).into_iter().map(|range| (way.cost + range.cost, number, range)));
    }
    tries.sort_by(|(one, ..), (other, ..)| one.total_cmp(other));
    let mut all: Vec<Found> = Vec::new();
    for unknown in [false, true] {
        let (mut enough, mut work) = (f64::INFINITY, WORK);
        for (cost, number, range) in
            tries.iter().filter(|(.., number, range)| !unknown || may_be_unknown(&ways[*number], range))
        {
            if *cost > enough + NEARLY || work == 0 {
                break;
            }
            let before = all.len();
            let done = try_range(&seen[*number], &ways[*number], range, &known, unknown, &mut all);
            work = work.saturating_sub(done);
            // Once one is found, only what is nearly as simple to say is tried.
            let found = all[before..].iter().filter(|found| found.bits > super::CLAIM).map(|found| found.cost);
            enough = found.fold(enough, f64::min);
        }
        if all.iter().any(|found| found.bits > super::CLAIM) {
            break;
        }
    }
    let claimed = all.iter().filter(|found| found.bits > super::CLAIM);
    let (most, bits) = claimed.fold((0, 0.0f64), |(most, bits), found| (most.max(found.holds), bits.max(found.bits)));
    // Damage may lie where one covers less than another.
    let is_it = |found: &Found| most > 0 && found.by_number > super::CLAIM && found.holds + 1 + most / 20 >= most;
    // Of a wide one, a part may well be a narrow one: what is claimed for the part is claimed for the whole.
    for found in all.iter_mut().filter(|found| is_it(found)) {
        found.bits = found.bits.max(bits);
    }
    all.sort_by(|one, other| {
        let first = is_it(other).cmp(&is_it(one));
        first.then(one.price().total_cmp(&other.price())).then(other.holds.cmp(&one.holds))
    });
    all
}

/// How much less simple to say than one that was found others may be, to be looked at.
const NEARLY: f64 = 3.0;

/// Where CRCs that nobody knows are looked for: they cost more.
fn may_be_unknown(way: &Way, range: &Range) -> bool {
    matches!(way.check.form, CheckForm::Binary(_) | CheckForm::Hex(_)) && way.cost <= 6.0 && range.cost <= 5.0
}

/// Whether two checksums stand on one another, as far as places say without a frame.
fn overlap(one: &Check, other: &Check) -> bool {
    let place = |check: &Check| check.byte.unwrap_or(-(check.form.size() as i64));
    let (first, second) = (place(one), place(other));
    let meet = first < second + other.form.size() as i64 && second < first + one.form.size() as i64;
    one.behind == other.behind && meet && (first < 0) == (second < 0)
}

/// A place and a way to write it.
struct Way {
    check: Check,
    cost: f64,
    /// The algorithm that is declared, whatever stands there.
    declared: Option<Algorithm>,
}

/// Where a checksum may stand, and how it may be written.
fn ways(frames: &Frames<'_>) -> Vec<Way> {
    let declared = frames.declared_check();
    let algorithm = declared.map(|check| check.algorithm.clone().by_name());
    let mut ways = Vec::new();
    let mut add = |check, cost| ways.push(Way { check, cost, declared: algorithm.clone() });
    let bare = |form| Check::new("SUM-8", form);
    if let Some((size, through_end)) = frames.behind {
        for form in forms(size) {
            let check = Check { behind: true, through_end, ..bare(form) };
            add(check, 2.0);
        }
        return ways;
    }
    if let Some(declared) = declared {
        for form in forms(declared.form.size()) {
            let cost = if form == declared.form { 0.0 } else { 2.0 };
            add(Check { form, presence: Presence::Required, ..declared.clone() }, cost);
            if !declared.behind && declared.mark.is_none() {
                let over_sent = !declared.over_sent;
                let check = Check { form, over_sent, presence: Presence::Required, ..declared.clone() };
                add(check, cost + 4.0);
            }
        }
        add(Check { presence: Presence::Required, ..declared.clone() }, 0.0);
    }
    let shortest = frames.sent.iter().map(Vec::len).min().unwrap_or(0);
    let tail = frames.declared.checksums.first().is_some_and(|check| check.behind);
    for size in [1, 2, 3, 4, 5, 8, 10] {
        for form in forms(size) {
            for after in 0..4 {
                let byte = (after > 0).then(|| -((form.size() + after) as i64));
                let check = Check { byte, ..bare(form) };
                let more = if after == 0 { 1.0 } else { 5.0 };
                let written = if matches!(form, CheckForm::Binary(_)) { 0.0 } else { 1.0 };
                if !tail {
                    add(check.clone(), more + written);
                }
                if after == 0 {
                    add(Check { over_sent: true, ..check }, 5.0 + written);
                }
            }
        }
        for byte in 1..shortest.min(12) as i64 {
            for form in forms(size).into_iter().filter(|form| matches!(form, CheckForm::Binary(_))).take(2) {
                let behind_it = byte + form.size() as i64;
                // It covers what stands behind it, or what stands before.
                add(Check { byte: Some(byte), from: behind_it, to: Some(-1), ..bare(form) }, 8.0);
                add(Check { byte: Some(byte), ..bare(form) }, 8.0);
            }
        }
    }
    ways
}

/// Ways to write a checksum in so many bytes.
fn forms(size: usize) -> Vec<CheckForm> {
    let integer = |bytes: usize, order| Integer { signed: false, bytes: bytes as u8, order };
    let mut forms = Vec::new();
    if size <= 8 && size > 0 {
        forms.push(CheckForm::Binary(integer(size, Order::Big)));
        if size > 1 {
            forms.push(CheckForm::Binary(integer(size, Order::Little)));
        }
    }
    if size.is_multiple_of(2) && (1..=8).contains(&(size / 2)) {
        forms.push(CheckForm::Hex(integer(size / 2, Order::Big)));
        if size > 2 {
            forms.push(CheckForm::Hex(integer(size / 2, Order::Little)));
        }
    }
    if matches!(size, 1..=5 | 10) {
        forms.push(CheckForm::Decimal(Some(size)));
    }
    let characters = |zero, bits, order| CheckForm::Characters(Characters { order, zero, bits, width: size });
    match size {
        1 => forms.extend([b' ', b'!', b'0', b'@', b'A'].map(|zero| characters(zero, 8, Order::Big))),
        2 => {
            for zero in [b'0', b'@', b'A', b' '] {
                forms.extend([Order::Big, Order::Little].map(|order| characters(zero, 4, order)));
            }
            for zero in [b' ', b'0', b'@'] {
                forms.extend([Order::Big, Order::Little].map(|order| characters(zero, 6, order)));
            }
        }
        3 => {
            for zero in [b' ', b'0', b'@'] {
                forms.extend([Order::Big, Order::Little].map(|order| characters(zero, 6, order)));
            }
        }
        4 | 8 => {
            for zero in [b'0', b'@'] {
                forms.extend([Order::Big, Order::Little].map(|order| characters(zero, 4, order)));
            }
        }
        _ => {}
    }
    forms
}

/// The bits that a form shows, and the moduli that go with its digits.
fn shown(form: CheckForm) -> (Vec<u8>, Vec<u64>) {
    match form {
        CheckForm::Binary(integer) | CheckForm::Hex(integer) => match integer.bytes {
            1 => (vec![8, 7, 6], Vec::new()),
            bytes => (vec![8 * bytes], Vec::new()),
        },
        CheckForm::Decimal(width) => match width.unwrap_or(3) {
            1 => (Vec::new(), vec![10]),
            2 => (Vec::new(), vec![100]),
            3 => (vec![8], vec![1_000, 100]),
            4 => (Vec::new(), vec![10_000]),
            5 => (vec![16], vec![100_000]),
            _ => (vec![32], Vec::new()),
        },
        CheckForm::Characters(Characters { width: 1, .. }) => {
            (vec![7, 6], vec![95, 94, 96, 64, 90, 100, 10, 16, 26, 32])
        }
        CheckForm::Characters(of) => {
            let all = (of.width * usize::from(of.bits)) as u8;
            // There may be more room than it needs.
            (if all.is_multiple_of(8) { vec![all] } else { vec![all, all / 8 * 8] }, Vec::new())
        }
    }
}

/// A frame as a way sees it: the bytes among which covered ones are counted, the last that is covered if nothing is said, and what was sent.
struct Seen {
    area: Rc<[u8]>,
    last: usize,
    sent: u128,
}

/// The contents of frames, which most ways share; nothing of those that have none.
fn contents_of(frames: &Frames<'_>) -> Vec<Option<Rc<[u8]>>> {
    let probe = plan::Frame { check: None, ..frames.planned.clone() };
    let mut decoded = Vec::new();
    let step = frames.sent.len().div_ceil(COUNTED).max(1);
    let contents = |sent: &Vec<u8>| whole_of(&probe, sent, &mut decoded).map(|whole| whole.contents.into());
    frames.sent.iter().step_by(step).map(contents).collect()
}

/// Frames as a way sees them; none if it does not go with most.
fn see(frames: &Frames<'_>, contents: &[Option<Rc<[u8]>>], way: &Way) -> Vec<Seen> {
    let Some(planned) = check_of(&way.check, frames.declared) else { return Vec::new() };
    let probe = plan::Frame { check: Some(planned.clone()), ..frames.planned.clone() };
    let is_altered =
        matches!(probe.framing, plan::Framing::Stuffed(_) | plan::Framing::Dle(_)) || !probe.coding.is_empty();
    if way.check.over_sent && !is_altered {
        return Vec::new();
    }
    let is_within = !way.check.over_sent && !way.check.behind;
    let mut decoded = Vec::new();
    let step = frames.sent.len().div_ceil(COUNTED).max(1);
    let see_one = |(sent, contents): (&Vec<u8>, &Option<Rc<[u8]>>)| {
        let contents = contents.as_ref()?;
        let whole = match is_within {
            true => Whole { contents, frame: &[], sent: &[] },
            false => whole_of(&probe, sent, &mut decoded)?,
        };
        let (_, last) = check::covered(&planned, whole);
        let sent = check::number(way.check.form, check::written(&planned, whole)?)?;
        let area = if is_within { contents.clone() } else { check::area(&planned, whole).into() };
        Some(Seen { area, last, sent })
    };
    let seen: Vec<Seen> = frames.sent.iter().step_by(step).zip(contents).filter_map(see_one).collect();
    if seen.len() * 5 < contents.len() * 3 || seen.len() < 3 { Vec::new() } else { seen }
}

/// What may be covered: from a byte, to so many bytes before where it ends if nothing is said.
struct Range {
    from: i64,
    less: usize,
    cost: f64,
}

fn ranges(frames: &Frames<'_>, way: &Way) -> Vec<Range> {
    let declared = frames.declared_check();
    let start = match &frames.declared.cut {
        format::Cut::Packet { start, .. } => start.length() as i64,
        format::Cut::Text { start, .. } => start.as_ref().map_or(0, |start| start.length() as i64),
        _ => 0,
    };
    let base = if way.check.to == Some(-1) { way.check.from } else { 0 };
    let mut ranges = Vec::new();
    for more in 0..=12 {
        let from = base + more;
        let of_from = match from {
            from if declared.is_some_and(|declared| declared.from == from) => 0.0,
            from if from == 0 || from == start || from == 1 => 1.0,
            _ => 4.0,
        };
        for less in 0..=3 {
            let of_less = if less == 0 { 0.0 } else { 4.0 };
            ranges.push(Range { from, less, cost: of_from + of_less });
        }
    }
    ranges
}

/// What a range covers of frames, each once.
fn pairs<'s>(seen: &'s [Seen], range: &Range, most: usize) -> Vec<Pair<'s>> {
    let step = seen.len().div_ceil(most).max(1);
    let mut distinct = BTreeSet::new();
    let covered = |frame: &'s Seen| range.of(frame).map(|covered| Pair { covered, sent: frame.sent });
    let all = seen.iter().step_by(step).filter_map(covered);
    all.filter(|pair| distinct.insert((pair.covered, pair.sent))).collect()
}

/// Tries a range, and says how many bytes it covered.
fn try_range(seen: &[Seen], way: &Way, range: &Range, known: &Known, unknown: bool, all: &mut Vec<Found>) -> usize {
    let length = seen.first().and_then(|frame| range.of(frame)).map_or(1, <[u8]>::len);
    let few = pairs(seen, range, if unknown { TRIED } else { (LONG / length.max(1)).clamp(6, FEW) });
    let work = few.iter().map(|pair| pair.covered.len()).sum();
    if few.len() < 3 {
        return work;
    }
    let mut candidates = Vec::new();
    let (widths, moduli) = shown(way.check.form);
    for bits in &widths {
        // Sums of fewer bits than there is room for leave the others zero.
        if few.iter().any(|pair| pair.sent >> bits != 0) {
            continue;
        }
        match unknown {
            true if matches!(bits, 8 | 16 | 32) => cyclic::unknown(&few, *bits, &mut candidates),
            true => {}
            false => {
                sums::candidates(&few, *bits, &mut candidates);
                known.candidates(&few, *bits, &mut candidates);
            }
        }
    }
    if !unknown {
        sums::modular(&few, &moduli, &mut candidates);
    }
    if candidates.is_empty() {
        return work;
    }
    let pairs = pairs(seen, range, usize::MAX);
    let varying = varying(&pairs);
    for candidate in candidates {
        let Some(checksum) = Checksum::new(&candidate.algorithm) else { continue };
        let holding: Vec<&[u8]> =
            pairs.iter().filter(|pair| checksum.of(pair.covered) == pair.sent).map(|pair| pair.covered).collect();
        if holding.len() * 2 < pairs.len() || varying < 3 {
            continue;
        }
        let held = |frame: &&Seen| range.of(frame).is_some_and(|covered| checksum.of(covered) == frame.sent);
        let holds = seen.iter().filter(held).count();
        let (width, free) = (f64::from(checksum.width()), f64::from(candidate.free));
        let spread: Vec<&[u8]> = holding.iter().copied().step_by(holding.len().div_ceil(96)).collect();
        // What is declared is likelier than anything else.
        let is_declared = way.declared.as_ref() == Some(&candidate.algorithm);
        let of_algorithm = if is_declared { 0.0 } else { candidate.cost };
        let cost = way.cost + range.cost + of_algorithm;
        let by_number = surprise(pairs.len() as f64, holding.len() as f64, width) - free;
        // Values may depend on one another without being a checksum: a sum says no more than that each of them is in it.
        let by_rank = match candidate.unit {
            None => (rank_of_bits(&spread, 40) + 1) as f64 * width - free,
            Some(unit) => {
                let known = if free > 0.0 { 0 } else { 1 };
                (rank_of_numbers(&spread, unit, 40) + known) as f64 * width.min(8.0)
            }
        };
        // A few frames may well have something in common.
        let by_count = if candidate.unit.is_some() { 2.0 * holding.len() as f64 } else { f64::INFINITY };
        let bits = (by_number.min(by_rank) - cost - SEARCHED).min(by_count);
        let check =
            Check { algorithm: candidate.algorithm, from: range.from, to: range.to(way, seen), ..way.check.clone() };
        all.push(Found {
            check,
            holds,
            of: seen.len(),
            bits,
            open: candidate.open,
            cost,
            free: if is_declared { 0.0 } else { free },
            by_number: by_number - cost,
            varying,
        });
    }
    work
}

/// How many bits of what was sent differ between frames of one length: what follows from the length is no checksum.
fn varying(pairs: &[Pair<'_>]) -> u32 {
    let mut first: BTreeMap<usize, u128> = BTreeMap::new();
    let differs = |pair: &Pair<'_>| pair.sent ^ *first.entry(pair.covered.len()).or_insert(pair.sent);
    pairs.iter().map(differs).fold(0, |all, bits| all | bits).count_ones()
}

impl Range {
    /// What of a frame it covers.
    fn of<'s>(&self, frame: &'s Seen) -> Option<&'s [u8]> {
        frame.area.get(self.from as usize..frame.last.checked_sub(self.less)?).filter(|covered| !covered.is_empty())
    }

    /// How a format says where it ends.
    fn to(&self, way: &Way, seen: &[Seen]) -> Option<i64> {
        let less = self.less as i64;
        let Some(frame) = seen.first().filter(|_| less > 0) else { return way.check.to };
        match (way.check.byte, way.check.to) {
            (Some(0..), None) => Some(frame.last as i64 - 1 - less),
            _ => Some(-1 - less - (frame.area.len() as i64 - frame.last as i64)),
        }
    }
}

/// Bits of what was tried beyond what the costs say.
const SEARCHED: f64 = 2.0;
