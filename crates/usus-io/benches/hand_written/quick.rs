//! What the tuned decoders share: a CRC of eight bytes at a time, digits a word at a time, and one pass over a text. As fast as it can
//! honestly be made in safe Rust, and for the one input: nothing is declared, and what cannot come is not looked for.

use wide::i8x16;

const DIGITS: u64 = u64::from_ne_bytes([b'0'; 8]);

/// CRC-16/MODBUS by eight tables.
pub struct Crc(Box<[[u16; 256]; 8]>);

impl Crc {
    pub fn new() -> Crc {
        let mut tables = Box::new([[0; 256]; 8]);
        for (byte, entry) in tables[0].iter_mut().enumerate() {
            let step = |crc: u16, _| if crc & 1 == 1 { crc >> 1 ^ 0xA001 } else { crc >> 1 };
            *entry = (0..8).fold(byte as u16, step);
        }
        for table in 1..8 {
            for byte in 0..256 {
                let before = tables[table - 1][byte];
                tables[table][byte] = before >> 8 ^ tables[0][usize::from(before & 0xFF)];
            }
        }
        Crc(tables)
    }

    /// Of a number of bytes that is known when this is compiled.
    #[inline(always)]
    pub fn of<const N: usize>(&self, bytes: &[u8; N]) -> u16 {
        let mut crc = 0xFFFF_u16;
        let (eights, rest) = bytes.as_chunks::<8>();
        for eight in eights {
            let word = (u64::from_le_bytes(*eight) ^ u64::from(crc)).to_le_bytes();
            crc = (0..8).fold(0, |crc, place| crc ^ self.0[7 - place][usize::from(word[place])]);
        }
        // The bytes that are left do not wait for each other either.
        let last = rest.len();
        let mut sum = if last == 1 { crc >> 8 } else { 0 };
        for (place, byte) in rest.iter().enumerate() {
            let register = match place {
                0 => crc as u8,
                1 => (crc >> 8) as u8,
                _ => 0,
            };
            sum ^= self.0[last - 1 - place][usize::from(byte ^ register)];
        }
        if last == 0 { crc } else { sum }
    }
}

/// A number of at most eight characters, as all are: its digits without the point, and its places. `wide` begins with it.
#[inline(always)]
pub fn number(text: &[u8], wide: &[u8]) -> Option<(i64, usize)> {
    let negative = usize::from(*text.first()? == b'-');
    let length = text.len() - negative;
    if length > 8 {
        return None;
    }
    let eight = match wide[negative..].first_chunk::<8>() {
        Some(eight) => u64::from_le_bytes(*eight),
        None => text[negative..].iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte)),
    };
    let word = (eight ^ DIGITS) << (64 - 8 * length);
    let other = word ^ u64::from_ne_bytes([b'.' ^ b'0'; 8]);
    let points = other.wrapping_sub(u64::from_ne_bytes([1; 8])) & !other & u64::from_ne_bytes([0x80; 8]);
    let (digits, places) = if points == 0 {
        (word, 0)
    } else {
        let below = ((points & points.wrapping_neg()) >> 7) - 1;
        ((word & below) << 8 | word & !(below << 8 | 0xFF), (63 - points.trailing_zeros()) / 8)
    };
    let value = digits.wrapping_mul(10 << 8 | 1) >> 8 & 0x00FF_00FF_00FF_00FF;
    let value = value.wrapping_mul(100 << 16 | 1) >> 16 & 0x0000_FFFF_0000_FFFF;
    let value = (value.wrapping_mul(10_000 << 32 | 1) >> 32) as i64;
    Some((if negative == 1 { -value } else { value }, places as usize))
}

/// Copies a number as it was written: its form is the one that is wanted. `wide` begins with it.
#[inline(always)]
pub fn copy(text: &[u8], wide: &[u8], out: &mut Vec<u8>) {
    match wide.first_chunk::<16>() {
        Some(block) if text.len() <= 16 => {
            let length = out.len() + text.len();
            out.extend_from_slice(block);
            out.truncate(length);
        }
        _ => out.extend_from_slice(text),
    }
}

/// Where a text of at most 128 bytes ends, where its columns begin, and the xor of its bytes.
pub struct Text {
    pub length: usize,
    pub sum: u8,
    commas: u128,
}

impl Text {
    /// Up to the first byte that is `end`; nothing if there is none within 128 bytes.
    #[inline(always)]
    pub fn until(end: u8, bytes: &[u8]) -> Option<Text> {
        let mut few = [0; 128];
        let bytes = match bytes.first_chunk::<128>() {
            Some(bytes) => bytes,
            None => {
                few[..bytes.len()].copy_from_slice(bytes);
                &few
            }
        };
        let (end, comma) = (i8x16::splat(end as i8), i8x16::splat(b',' as i8));
        let (mut ends, mut commas, mut sum) = (0u128, 0u128, 0u128);
        for (index, block) in bytes.as_chunks::<16>().0.iter().enumerate() {
            let lanes = i8x16::new(block.map(|byte| byte as i8));
            ends = u128::from(lanes.simd_eq(end).to_bitmask());
            commas |= u128::from(lanes.simd_eq(comma).to_bitmask()) << (16 * index);
            let word = u128::from_le_bytes(*block);
            if ends != 0 {
                ends <<= 16 * index;
                let here = ends.trailing_zeros() as usize - 16 * index;
                sum ^= word & ((1 << (8 * here)) - 1);
                break;
            }
            sum ^= word;
        }
        if ends == 0 {
            return None;
        }
        let length = ends.trailing_zeros() as usize;
        let sum = sum as u64 ^ (sum >> 64) as u64;
        let sum = sum ^ sum >> 32;
        let sum = sum ^ sum >> 16;
        Some(Text { length, sum: (sum ^ sum >> 8) as u8, commas: commas & ((1 << length) - 1) })
    }

    /// Its columns, each with what follows it.
    #[inline(always)]
    pub fn columns<'a, const N: usize>(&self, bytes: &'a [u8], columns: &mut [(&'a [u8], &'a [u8]); N]) -> usize {
        let (mut from, mut count, mut commas) = (0, 0, self.commas);
        while commas != 0 && count < N - 1 {
            let to = commas.trailing_zeros() as usize;
            columns[count] = (&bytes[from..to], &bytes[from..]);
            (from, count, commas) = (to + 1, count + 1, commas & (commas - 1));
        }
        columns[count] = (&bytes[from..self.length], &bytes[from..]);
        count + 1
    }
}
