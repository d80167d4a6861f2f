//! The bits that a message carries.

use alloc::vec::Vec;

use super::length::word;

/// The coils or discrete inputs that were read or written, from the first address on, as digits; nothing of messages without such.
pub(crate) fn bits(request: &[u8], answer: Option<&[u8]>) -> Option<Vec<u8>> {
    let code = *request.get(1)?;
    let of_bytes = |bytes: &[u8]| {
        let bit = |place: usize| bytes.get(place / 8).map_or(b'0', |byte| b'0' + (byte >> (place % 8) & 1));
        (0..word(request, 4)).map(bit).collect()
    };
    match code {
        1 | 2 => Some(of_bytes(answer.filter(|answer| answer.get(1) == Some(&code))?.get(3..)?)),
        5 => Some([if request.get(4) == Some(&0xFF) { b'1' } else { b'0' }].into()),
        15 => Some(of_bytes(request.get(7..)?)),
        _ => None,
    }
}
