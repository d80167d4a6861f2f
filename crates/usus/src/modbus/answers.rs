//! Whether a message answers another.

use super::exception;
use super::length::{EXCEPTION, IDENTIFICATION, bytes_of_bits, is_whole, of_answer, word};

/// Whether nobody answers a request: all units listen to it.
pub(crate) fn is_broadcast(request: &[u8]) -> bool {
    request.first() == Some(&0)
}

/// Whether what begins so, and is damaged behind that, was the answer to a request: it refuses it, or has as many bytes as that asks for, which the request,
/// damaged and asked again, has not where they stand.
pub(crate) fn begins_answer(request: &[u8], begin: [u8; 4]) -> bool {
    let [unit, code, third, _] = begin;
    let asked = match request.get(1) {
        _ if code & EXCEPTION != 0 => exception(third).map(|_| third),
        Some(1 | 2) => u8::try_from(bytes_of_bits(word(request, 4))).ok(),
        Some(3 | 4 | 23) => u8::try_from(2 * word(request, 4)).ok(),
        _ => None,
    };
    request.first_chunk() == Some(&[unit, code & !EXCEPTION])
        && asked == Some(third)
        && request.get(2) != asked.as_ref()
}

/// Whether a message is what a request asks for, or the refusal of it.
pub(crate) fn answers(request: &[u8], answer: &[u8]) -> bool {
    let (Some(&[unit, code]), Some(&[of, said])) = (request.first_chunk(), answer.first_chunk()) else { return false };
    if unit != of || code != said & !EXCEPTION || !is_whole(answer, of_answer(answer)) {
        return false;
    }
    if said & EXCEPTION != 0 {
        return true;
    }
    let told = || usize::from(answer.get(2).copied().unwrap_or_default());
    match code {
        1 | 2 => told() == bytes_of_bits(word(request, 4)),
        3 | 4 => told() == 2 * word(request, 4),
        5 | 6 | 21 | 22 => request == answer,
        // A register or a counter is told; all else comes back.
        8 if matches!(word(request, 2), 2 | 11..=18) => request.get(2..4) == answer.get(2..4),
        8 => request == answer,
        15 | 16 => request.get(2..6) == answer.get(2..6),
        23 => told() == 2 * word(request, 4),
        43 if request.get(2) == Some(&IDENTIFICATION) => request.get(2..4) == answer.get(2..4),
        43 => request.get(2) == answer.get(2),
        _ => true,
    }
}
