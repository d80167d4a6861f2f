//! Inputs: frames from a seed, one in a thousand damaged.

use fastrand::Rng;

/// About `size` bytes of frames, in each thousandth of which one bit is flipped.
pub fn frames(size: usize, mut next: impl FnMut(&mut Rng, &mut Vec<u8>)) -> Vec<u8> {
    let mut rng = Rng::with_seed(1);
    let mut input = Vec::with_capacity(size + 1_024);
    while input.len() < size {
        let begin = input.len();
        next(&mut rng, &mut input);
        if rng.u32(0..1_000) == 0 {
            let place = rng.usize(begin..input.len());
            // The top bit stays, so that a damaged sentence is one of text.
            input[place] ^= 1 << rng.u8(0..7);
        }
    }
    input
}
