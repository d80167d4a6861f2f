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
            // The top bit stays, so that a damaged sentence is one of text. No star goes or comes: what it ends then would now and then
            // have the right sum by chance.
            loop {
                let (place, bit) = (rng.usize(begin..input.len()), 1 << rng.u8(0..7));
                if input[place] != b'*' && input[place] ^ bit != b'*' {
                    input[place] ^= bit;
                    break;
                }
            }
        }
    }
    input
}
