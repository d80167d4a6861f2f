//! What the stuffings make of the bytes between two delimiters, and where in them a place of the contents was sent.

use alloc::vec::Vec;

use memchr::memchr;

use super::Contents;
use crate::plan::{Check, CheckPlace, Stuffing};

/// Bytes behind what is decoded: a word may be taken near the end.
const PADDING: usize = 8;

/// Pads what is decoded, and says how long it is.
pub(super) fn padded(decoded: &mut Vec<u8>) -> Contents {
    let length = decoded.len();
    decoded.resize(length + PADDING, 0);
    Contents::Decoded(length as u32)
}

/// A way to stuff.
pub(crate) trait Unstuff: Copy {
    /// The byte that delimits frames, and never stands in one.
    const DELIMITER: u8;

    /// The contents of a frame that begins with so many delimiters and ends with one; nothing if it is not stuffed as it has to be.
    fn contents(frame: &[u8], front: usize, decoded: &mut Vec<u8>) -> Option<Contents>;
}

impl Stuffing {
    pub(super) fn delimiter(self) -> u8 {
        match self {
            Stuffing::Slip => Slip::DELIMITER,
            Stuffing::Hdlc => Hdlc::DELIMITER,
            Stuffing::Cobs => Cobs::DELIMITER,
        }
    }

    pub(super) fn unstuff(self, frame: &[u8], front: usize, decoded: &mut Vec<u8>) -> Option<Contents> {
        match self {
            Stuffing::Slip => Slip::contents(frame, front, decoded),
            Stuffing::Hdlc => Hdlc::contents(frame, front, decoded),
            Stuffing::Cobs => Cobs::contents(frame, front, decoded),
        }
    }

    /// The bytes of a sent frame before its checksum, and behind the delimiter that may be the last frame's; so many contents bytes came out of all.
    pub(super) fn sent_before<'f>(self, check: &Check, contents: usize, frame: &'f [u8]) -> &'f [u8] {
        let CheckPlace::In(edge) = check.place else { return frame };
        let Some(at) = edge.in_frame(contents) else { return &[] };
        let front = usize::from(frame.first() == Some(&self.delimiter()));
        let mut place = front;
        match self {
            Stuffing::Slip | Stuffing::Hdlc => {
                let escape = if self == Stuffing::Slip { Slip::ESC } else { Hdlc::ESC };
                for _ in 0..at {
                    place += 1 + usize::from(frame.get(place) == Some(&escape));
                }
            }
            // Each byte has its own; between blocks of 254 there is one more.
            Stuffing::Cobs => {
                let (mut left, mut code) = (at, place);
                place += 1;
                while left > 0 {
                    let block = usize::from(frame.get(code).copied().unwrap_or(1));
                    if place == code + block {
                        // Behind a block stands the zero that it ends with, unless it is a full one.
                        left -= usize::from(block < 0xFF);
                        (code, place) = (place, place + 1);
                        continue;
                    }
                    (left, place) = (left - 1, place + 1);
                }
            }
        }
        frame.get(front..place).unwrap_or_default()
    }
}

/// RFC 1055: an END in the contents is sent as ESC and another byte, and so is an ESC.
#[derive(Clone, Copy)]
pub(crate) struct Slip;

impl Slip {
    const ESC: u8 = 0xDB;
    /// What follows ESC for an END, and for an ESC.
    const ESC_END: u8 = 0xDC;
    const ESC_ESC: u8 = 0xDD;
}

impl Unstuff for Slip {
    const DELIMITER: u8 = 0xC0;

    #[inline(always)]
    fn contents(frame: &[u8], front: usize, decoded: &mut Vec<u8>) -> Option<Contents> {
        unescaped(frame, front, decoded, Slip::ESC, |byte| match byte {
            Slip::ESC_END => Some(Slip::DELIMITER),
            Slip::ESC_ESC => Some(Slip::ESC),
            _ => None,
        })
    }
}

/// RFC 1662: a flag, an escape, and whatever else the sender likes are sent as an escape and the byte with its sixth bit turned round.
#[derive(Clone, Copy)]
pub(crate) struct Hdlc;

impl Hdlc {
    const ESC: u8 = 0x7D;
}

impl Unstuff for Hdlc {
    const DELIMITER: u8 = 0x7E;

    #[inline(always)]
    fn contents(frame: &[u8], front: usize, decoded: &mut Vec<u8>) -> Option<Contents> {
        // An escape before the flag that closes the frame aborts it; one before an escape stands for nothing.
        unescaped(frame, front, decoded, Hdlc::ESC, |byte| (byte != Hdlc::ESC).then_some(byte ^ 0x20))
    }
}

/// The contents of a frame in which an escape stands before what stands for another byte.
#[inline(always)]
fn unescaped(
    frame: &[u8],
    front: usize,
    decoded: &mut Vec<u8>,
    escape: u8,
    meant: impl Fn(u8) -> Option<u8>,
) -> Option<Contents> {
    let end = frame.len().checked_sub(1)?;
    let mut rest = frame.get(front..end)?;
    let Some(mut at) = memchr(escape, rest) else { return Some(Contents::Lie(front as u32, end as u32)) };
    decoded.clear();
    loop {
        decoded.extend_from_slice(&rest[..at]);
        decoded.push(meant(*rest.get(at + 1)?)?);
        rest = &rest[at + 2..];
        at = match memchr(escape, rest) {
            Some(at) => at,
            None => break,
        };
    }
    decoded.extend_from_slice(rest);
    Some(padded(decoded))
}

/// Blocks without a zero: the first byte of each says how long it is, and that a zero follows it, unless it is the last one or as long as it can be.
#[derive(Clone, Copy)]
pub(crate) struct Cobs;

impl Unstuff for Cobs {
    const DELIMITER: u8 = 0;

    #[inline(always)]
    fn contents(frame: &[u8], front: usize, decoded: &mut Vec<u8>) -> Option<Contents> {
        let end = frame.len().checked_sub(1)?;
        let mut rest = frame.get(front..end)?;
        // What is one block has its contents as they are.
        if let Some((&code, block)) = rest.split_first()
            && usize::from(code) == rest.len()
            && !block.is_empty()
        {
            return Some(Contents::Lie(front as u32 + 1, end as u32));
        }
        decoded.clear();
        while let Some((&code, block)) = rest.split_first() {
            let (block, behind) = block.split_at_checked(usize::from(code).checked_sub(1)?)?;
            decoded.extend_from_slice(block);
            if code < 0xFF && !behind.is_empty() {
                decoded.push(0);
            }
            rest = behind;
        }
        Some(padded(decoded))
    }
}
