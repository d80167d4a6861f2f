//! How long a message is. A stream that is only listened to does not say which way a message goes, so each has a length as a request and one as an
//! answer. What cannot be in either, such as a count of nothing, makes it no message.

/// Bytes of the longest message: 253 behind the unit's address, and that. Units that answer with a full count of bytes send a little more.
pub(crate) const LONGEST: usize = 3 + 0xFF;

/// The bit of a function code that says that the unit did not do what it was asked.
pub(crate) const EXCEPTION: u8 = 0x80;

/// How long a message is, as far as its bytes so far tell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Length {
    /// So many bytes.
    Is(usize),
    /// That is told by the first so many bytes.
    Needs(usize),
    /// It is no message of that direction.
    None,
}

impl Length {
    /// The bytes that are to be there, as far as that is known.
    pub(crate) fn bytes(self) -> Option<usize> {
        match self {
            Length::Is(bytes) | Length::Needs(bytes) => Some(bytes),
            Length::None => None,
        }
    }
}

/// Whether a message can begin with this function code.
#[inline]
pub(crate) fn is_known(code: u8) -> bool {
    matches!(code & !EXCEPTION, 1..=8 | 11 | 12 | 15..=17 | 20..=24 | 43)
}

/// Whether a message of a function has no length of its own: only silences tell where it ends.
pub(crate) fn is_open(code: u8) -> bool {
    !is_known(code) && code & !EXCEPTION != 0 || code == ENCAPSULATED
}

/// Whether a message has all that its own bytes say of its length; of those that silences end, anything goes.
pub(crate) fn is_whole(message: &[u8], length: Length) -> bool {
    let is_other = |message: &[u8]| match message.get(1..3) {
        Some([ENCAPSULATED, carried]) => *carried != IDENTIFICATION,
        _ => message.get(1).is_some_and(|code| is_open(*code) && code & EXCEPTION == 0),
    };
    length == Length::Is(message.len()) || is_other(message)
}

/// The length of a request.
pub(crate) fn of_request(message: &[u8]) -> Length {
    let Some(&[_, code]) = message.first_chunk() else { return Length::Needs(2) };
    match code {
        1 | 2 => asks(message, BITS),
        3 | 4 => asks(message, REGISTERS),
        5 => with(message, 6, |message| matches!(message[4..6], [0x00 | 0xFF, 0x00])),
        6 | 8 => Length::Is(6),
        7 | 11 | 12 | 17 => Length::Is(2),
        15 => with_told(message, 6, |message| {
            let bytes = usize::from(message[6]);
            range(message, 2, BITS) && bytes == bytes_of_bits(word(message, 4))
        }),
        16 => with_told(message, 6, |message| {
            range(message, 2, REGISTERS) && usize::from(message[6]) == 2 * word(message, 4)
        }),
        // Each part names a file, a record and a length.
        20 => with_parts(message, 0, |_| 7),
        21 => with_parts(message, 0, |part| 7 + 2 * word(part, 5)),
        22 => Length::Is(8),
        23 => with_told(message, 10, |message| {
            range(message, 2, REGISTERS)
                && range(message, 6, REGISTERS)
                && usize::from(message[10]) == 2 * word(message, 8)
        }),
        24 => Length::Is(4),
        ENCAPSULATED => with(message, 5, |message| message[2] == IDENTIFICATION && matches!(message[3], 1..=4)),
        _ => Length::None,
    }
}

/// The length of an answer, also of one that says that the unit did not do what it was asked.
pub(crate) fn of_answer(message: &[u8]) -> Length {
    let Some(&[_, code]) = message.first_chunk() else { return Length::Needs(2) };
    if code & EXCEPTION != 0 {
        let can_be = is_known(code) || code != EXCEPTION;
        return if can_be { with(message, 3, |message| message[2] > 0) } else { Length::None };
    }
    match code {
        1 | 2 | 17 => with_told(message, 2, |message| message[2] > 0),
        3 | 4 | 23 => with_told(message, 2, |message| message[2] > 0 && message[2].is_multiple_of(2)),
        7 => Length::Is(3),
        11 => Length::Is(6),
        5 | 6 | 8 | 22 => of_request(message),
        // Status, two counts, and what happened.
        12 => with_told(message, 2, |message| message[2] >= 6),
        15 => asks(message, BITS),
        16 => asks(message, REGISTERS),
        20 => with_parts(message, 1, |part| 1 + usize::from(part.first().copied().unwrap_or_default())),
        21 => of_request(message),
        24 => fifo(message),
        ENCAPSULATED => identification(message),
        _ => Length::None,
    }
}

/// The most that a range can have.
const BITS: usize = 0xFF * 8;
const REGISTERS: usize = 0x7F;

/// The function that carries other protocols.
const ENCAPSULATED: u8 = 43;

/// What tells that function 43 asks what a unit is.
pub(super) const IDENTIFICATION: u8 = 14;

/// The 16 bits from a byte on; bytes that are not there are zero.
pub(super) fn word(message: &[u8], at: usize) -> usize {
    let byte = |at: usize| usize::from(message.get(at).copied().unwrap_or_default());
    byte(at) << 8 | byte(at + 1)
}

pub(super) fn bytes_of_bits(bits: usize) -> usize {
    bits.div_ceil(8)
}

/// Whether an address and a count make a range.
fn range(message: &[u8], at: usize, most: usize) -> bool {
    let (address, count) = (word(message, at), word(message, at + 2));
    (1..=most).contains(&count) && address + count <= 0x1_0000
}

/// A message of an address and a count.
fn asks(message: &[u8], most: usize) -> Length {
    with(message, 6, |message| range(message, 2, most))
}

/// A message of so many bytes, if they can be that.
fn with(message: &[u8], length: usize, can_be: impl Fn(&[u8]) -> bool) -> Length {
    match message.get(..length) {
        None => Length::Is(length),
        Some(message) if can_be(message) => Length::Is(length),
        Some(_) => Length::None,
    }
}

/// A message that ends as many bytes behind one as that says.
fn with_told(message: &[u8], at: usize, can_be: impl Fn(&[u8]) -> bool) -> Length {
    match message.get(at) {
        None => Length::Needs(at + 1),
        Some(told) if can_be(message) => Length::Is(at + 1 + usize::from(*told)),
        Some(_) => Length::None,
    }
}

/// A message of parts of files: how long each is follows from itself, and at a place of it stands how it refers to its file.
fn with_parts(message: &[u8], at: usize, length: impl Fn(&[u8]) -> usize) -> Length {
    // There is one way to refer to a file.
    let refers = |part: &[u8]| part.get(at) == Some(&6);
    with_told(message, 2, |message| {
        let mut parts = message.get(3..3 + usize::from(message[2])).unwrap_or_default();
        while let Some(part) = parts.get(..length(parts)).filter(|part| refers(part)) {
            parts = &parts[part.len()..];
        }
        message[2] > 0 && parts.is_empty()
    })
}

/// A queue of at most 31 registers: a count of bytes, a count of registers, and those.
fn fifo(message: &[u8]) -> Length {
    if message.len() < 6 {
        return Length::Needs(6);
    }
    let (bytes, registers) = (word(message, 2), word(message, 4));
    if registers <= 31 && bytes == 2 + 2 * registers { Length::Is(4 + bytes) } else { Length::None }
}

/// What a unit is: a number of texts, each with its length in front.
fn identification(message: &[u8]) -> Length {
    if message.len() < 8 {
        return Length::Needs(8);
    }
    let more = matches!(message[5], 0x00 | 0xFF);
    if message[2] != IDENTIFICATION || !matches!(message[3], 1..=4) || !more || message[7] == 0 {
        return Length::None;
    }
    let mut at = 8;
    for _ in 0..message[7] {
        let Some(length) = message.get(at + 1) else { return needs(at + 2) };
        at += 2 + usize::from(*length);
    }
    if at <= LONGEST { Length::Is(at) } else { Length::None }
}

fn needs(bytes: usize) -> Length {
    if bytes <= LONGEST { Length::Needs(bytes) } else { Length::None }
}
