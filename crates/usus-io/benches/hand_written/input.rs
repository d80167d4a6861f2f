//! Inputs: frames from a seed, some of them damaged.

use fastrand::Rng;

/// About `size` bytes of frames, of which in one of `damage` one bit is flipped.
pub fn frames(size: usize, damage: u32, mut next: impl FnMut(&mut Rng, &mut Vec<u8>)) -> Vec<u8> {
    let mut rng = Rng::with_seed(1);
    let mut input = Vec::with_capacity(size + 1_024);
    while input.len() < size {
        let begin = input.len();
        next(&mut rng, &mut input);
        if rng.u32(0..damage) == 0 {
            let mut place = rng.usize(begin..input.len());
            while input[place] == b'*' {
                // The next sentence would end this one too, and now and then its sum would fit by chance.
                place = rng.usize(begin..input.len());
            }
            // The top bit stays, so that a damaged sentence is one of text.
            input[place] ^= 1 << rng.u8(0..7);
        }
    }
    input
}
