//! Which CRC gives the numbers that were sent: one of the catalogue, one of its polynomials with another start, or any other.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use super::checksum::Candidate;
use super::evidence::commonest;
use super::polynomial::Polynomial;
use super::sums::{Pair, is_worth_it};
use crate::checksum::{Algorithm, Checksum, CyclicParameters};

/// Bytes of the longest frames of which a polynomial, or a start, is looked for.
const LONGEST: usize = 2_048;

/// Frames one of which has to hold before the others are looked at.
const FIRST: usize = 5;

/// What the search has made already, for one place after the other.
pub(super) struct Known {
    named: Vec<(&'static str, CyclicParameters, Checksum)>,
    /// The polynomials of the catalogue, each with its direction, beginning with zero.
    plain: Vec<(CyclicParameters, Checksum)>,
}

impl Known {
    pub(super) fn new() -> Known {
        let mut named = Vec::new();
        let mut plain: Vec<(CyclicParameters, Checksum)> = Vec::new();
        for entry in Checksum::catalogue() {
            let Some(parameters) = entry.cyclic.filter(|of| of.width <= 64) else { continue };
            named.extend(Checksum::named(entry.name).map(|checksum| (entry.name, parameters, checksum)));
            let bare = CyclicParameters { initial: 0, final_xor: 0, ..parameters };
            if bare.reflect_input == bare.reflect_output && plain.iter().all(|(known, _)| *known != bare) {
                plain.extend(Checksum::new(&Algorithm::Cyclic(bare)).map(|checksum| (bare, checksum)));
            }
        }
        Known { named, plain }
    }

    /// CRCs of the catalogue, and of its polynomials, that may give what was sent in so many whole bytes.
    pub(super) fn candidates(&self, pairs: &[Pair<'_>], bits: u8, found: &mut Vec<Candidate>) {
        let fits = |width: u8| width.div_ceil(8) * 8 == bits;
        let mut names = Vec::new();
        for (name, parameters, checksum) in self.named.iter().filter(|(_, of, _)| fits(of.width)) {
            if holds_often(pairs, checksum) {
                let cost = if USUAL.contains(name) { 2.0 } else { 5.0 };
                found.push(Candidate::new(Algorithm::Named((*name).into()), cost, 0));
                names.push(parameters);
            }
        }
        for (bare, checksum) in self.plain.iter().filter(|(of, _)| of.width == bits && bits.is_multiple_of(8)) {
            let is_named =
                |of: &&CyclicParameters| of.polynomial == bare.polynomial && of.reflect_input == bare.reflect_input;
            if !names.iter().any(is_named) {
                found.extend(with_any_start(pairs, *bare, checksum, 9.0, u32::from(bits)));
            }
        }
    }
}

/// CRCs that datasheets name without a thought.
const USUAL: [&str; 12] = [
    "CRC-16/MODBUS",
    "CRC-16/XMODEM",
    "CRC-16/IBM-3740",
    "CRC-16/ARC",
    "CRC-16/KERMIT",
    "CRC-16/IBM-SDLC",
    "CRC-32/ISO-HDLC",
    "CRC-32/ISCSI",
    "CRC-32/MPEG-2",
    "CRC-8/SMBUS",
    "CRC-8/MAXIM-DOW",
    "CRC-8/SAE-J1850",
];

fn holds_often(pairs: &[Pair<'_>], checksum: &Checksum) -> bool {
    let holds = |pair: &&Pair<'_>| checksum.of(pair.covered) == pair.sent;
    pairs.iter().take(FIRST).any(|pair| holds(&pair)) && is_worth_it(pairs.iter().filter(holds).count(), pairs.len())
}

/// CRCs of any polynomial, of so many bits.
pub(super) fn unknown(pairs: &[Pair<'_>], bits: u8, found: &mut Vec<Candidate>) {
    let groups = by_length(pairs);
    if pairs.iter().any(|pair| pair.covered.len() > LONGEST) {
        return;
    }
    let Some(group) = groups.iter().max_by_key(|group| group.len()).filter(|group| group.len() >= 4) else { return };
    let mut known: Vec<(u128, bool)> = Vec::new();
    for reflected in [false, true] {
        for polynomial in polynomials(group, bits, reflected) {
            if known.contains(&(polynomial, reflected)) {
                continue;
            }
            known.push((polynomial, reflected));
            if is_xor(polynomial, bits) {
                continue;
            }
            let mut bare = CyclicParameters::new(bits, polynomial);
            (bare.reflect_input, bare.reflect_output) = (reflected, reflected);
            if let Some(checksum) = Checksum::new(&Algorithm::Cyclic(bare)) {
                let free = 2 * u32::from(bits);
                found.extend(with_any_start(pairs, bare, &checksum, 12.0, free));
            }
        }
    }
}

/// Whether a polynomial does nothing but to xor bytes or words, which a copy of a value does, too: so many bytes later, everything is as it was.
fn is_xor(polynomial: u128, bits: u8) -> bool {
    let register = Register { parameters: CyclicParameters::new(bits, polynomial) };
    (1..=8).any(|bytes| register.after(1, bytes) == 1)
}

/// Pairs of one length each.
fn by_length<'p, 'a>(pairs: &'p [Pair<'a>]) -> Vec<Vec<&'p Pair<'a>>> {
    let mut sorted: Vec<&Pair<'_>> = pairs.iter().collect();
    sorted.sort_by_key(|pair| pair.covered.len());
    sorted.chunk_by(|one, other| one.covered.len() == other.covered.len()).map(<[_]>::to_vec).collect()
}

/// The polynomials, without their highest power, of which the differences of some of these are multiples.
fn polynomials(group: &[&Pair<'_>], bits: u8, reflected: bool) -> Vec<u128> {
    const TRIES: usize = 16;
    let codes: Vec<Vec<u8>> = group.iter().take(64).map(|pair| code(pair, bits, reflected)).collect();
    let mut found = Vec::new();
    let mut random = 0x9E37_79B9_7F4A_7C15u64;
    let mut next = |below: usize| {
        // Marsaglia's xorshift: which frames are taken together is to have no order.
        random ^= random << 13;
        random ^= random >> 7;
        random ^= random << 17;
        (random % below as u64) as usize
    };
    for _ in 0..TRIES {
        let base = next(codes.len());
        let mut common: Option<Polynomial> = None;
        for _ in 0..6 {
            let other = next(codes.len());
            let differs = |place: usize| codes[base][place / 8] ^ codes[other][place / 8];
            let bit = |place: usize| differs(place) >> (7 - place % 8) & 1 == 1;
            let difference = Polynomial::of_bits((0..8 * codes[base].len()).map(bit));
            if difference.degree().is_none() {
                continue;
            }
            common = Some(match common {
                None => difference,
                Some(common) => common.common(difference),
            });
            if common.as_ref().and_then(Polynomial::degree).is_none_or(|degree| degree < usize::from(bits)) {
                break;
            }
        }
        let divisors = common.map(|common| common.divisors_of(bits.into())).unwrap_or_default();
        let mask = u128::MAX >> (128 - bits);
        found.extend(divisors.into_iter().filter(|divisor| divisor & 1 == 1).map(|divisor| divisor & mask));
    }
    found.sort_unstable();
    found.dedup();
    found
}

/// The bits of a frame and its CRC as they go through the register, the first one highest.
fn code(pair: &Pair<'_>, bits: u8, reflected: bool) -> Vec<u8> {
    let size = usize::from(bits / 8);
    let sent = match reflected {
        true => (pair.sent.reverse_bits() >> (128 - bits)).to_be_bytes(),
        false => pair.sent.to_be_bytes(),
    };
    let turned = |byte: &u8| if reflected { byte.reverse_bits() } else { *byte };
    pair.covered.iter().map(turned).chain(sent[16 - size..].iter().copied()).collect()
}

/// A CRC of a polynomial, with what it begins with and is xored with as the frames ask; nothing if there is no such.
fn with_any_start(
    pairs: &[Pair<'_>],
    bare: CyclicParameters,
    checksum: &Checksum,
    cost: f64,
    free: u32,
) -> Option<Candidate> {
    // What is left of what was sent, once the bytes are taken out, is the same for all of one length.
    let groups = by_length(pairs);
    let mut rests: Vec<(u64, u128, usize)> = Vec::new();
    let (mut held, mut all) = (0, 0);
    let fits = |group: &&Vec<&Pair<'_>>| group.len() > 1 && group[0].covered.len() <= LONGEST;
    for group in groups.iter().filter(fits) {
        let rest = commonest(group.iter().map(|pair| pair.sent ^ checksum.of(pair.covered)));
        let Some((rest, count)) = rest else { continue };
        held += count - 1;
        all += group.len() - 1;
        if count > 1 && count * 3 >= group.len() * 2 {
            rests.push((group[0].covered.len() as u64, rest, count));
        }
    }
    if !is_worth_it(held, all) {
        return None;
    }
    rests.sort_by_key(|(_, _, count)| core::cmp::Reverse(*count));
    rests.truncate(6);
    let register = Register { parameters: bare };
    let (initial, final_xor, open) = register.start(&rests)?;
    let algorithm = Algorithm::Cyclic(CyclicParameters { initial, final_xor, ..bare }).by_name();
    let mut candidate = Candidate::new(algorithm, cost, free + u32::from(bare.width));
    candidate.open = open;
    Some(candidate)
}

/// A register of a CRC without a start.
struct Register {
    parameters: CyclicParameters,
}

impl Register {
    /// What a start is in the result, so many bytes later.
    fn after(&self, initial: u128, length: u64) -> u128 {
        let mask = u128::MAX >> (128 - self.parameters.width);
        let top = self.parameters.width - 1;
        let step = |register: u128, _| {
            let overflows = register >> top & 1 == 1;
            (register << 1 & mask) ^ if overflows { self.parameters.polynomial } else { 0 }
        };
        let register = (0..8 * length).fold(initial, step);
        match self.parameters.reflect_output {
            true => register.reverse_bits() >> (128 - self.parameters.width),
            false => register,
        }
    }

    /// A start and a final value that leave these rests, and what is left open; nothing if none do.
    fn start(&self, rests: &[(u64, u128, usize)]) -> Option<(u128, u128, Option<String>)> {
        let (&(first, rest, _), others) = rests.split_first()?;
        let mask = u128::MAX >> (128 - self.parameters.width);
        let last = |initial: u128| rest ^ self.after(initial, first);
        let fits = |initial: u128| {
            others.iter().all(|(length, rest, _)| self.after(initial, *length) ^ last(initial) == *rest)
        };
        // What anybody would have chosen, before what nobody would.
        let usual = [0, mask].into_iter().filter(|initial| fits(*initial));
        let best = usual
            .clone()
            .find(|initial| matches!(last(*initial), 0) || last(*initial) == mask)
            .or(usual.clone().next());
        if others.is_empty() {
            let initial = best?;
            let other = mask ^ initial;
            let open = format!(
                "all frames have one length, so what it begins with and what it is xored with cannot be told apart: \
                 initial {initial:#X} with final {:#X} holds as well as initial {other:#X} with final {:#X}, and any other initial with a final of its own",
                last(initial),
                last(other),
            );
            return Some((initial, last(initial), Some(open)));
        }
        let (solved, free) = self.solve(first, rest, others)?;
        let open = (free > 0).then(|| {
            format!("the lengths of these frames leave {} starts possible, each with a final of its own", 1u128 << free)
        });
        let initial = best.unwrap_or(solved);
        fits(initial).then(|| (initial, last(initial), open))
    }

    /// A start by elimination, and how many of its bits are free.
    fn solve(&self, first: u64, rest: u128, others: &[(u64, u128, usize)]) -> Option<(u128, u32)> {
        let width = u32::from(self.parameters.width);
        // Each row: the bit of the start that no other has, which others are in it, and what they have to come to.
        let mut rows: Vec<(u32, u128, bool)> = Vec::new();
        for (length, other, _) in others.iter().take(4) {
            let columns: Vec<u128> =
                (0..width).map(|bit| self.after(1 << bit, first) ^ self.after(1 << bit, *length)).collect();
            for place in 0..width {
                let row = columns.iter().enumerate().fold(0, |row, (bit, column)| row | (column >> place & 1) << bit);
                let mut row = (row, (rest ^ other) >> place & 1 == 1);
                for (pivot, known, value) in &rows {
                    if row.0 >> pivot & 1 == 1 {
                        row = (row.0 ^ known, row.1 ^ value);
                    }
                }
                match row {
                    (0, true) => return None,
                    (0, false) => {}
                    (bits, value) => {
                        let pivot = bits.trailing_zeros();
                        for (_, known, of) in &mut rows {
                            if *known >> pivot & 1 == 1 {
                                (*known, *of) = (*known ^ bits, *of ^ value);
                            }
                        }
                        rows.push((pivot, bits, value));
                    }
                }
            }
        }
        let solution = rows.iter().filter(|(.., value)| *value).fold(0, |start, (pivot, ..)| start | 1 << pivot);
        Some((solution, width - rows.len() as u32))
    }
}
