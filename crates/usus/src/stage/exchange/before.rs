//! What came right before a message on a bus: the request that it answers, if it is an answer.

use crate::time::Time;

/// The last bytes that came, whatever they were.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Before {
    bytes: [u8; LAST],
    count: usize,
    /// When the last of them came.
    pub(super) at: Option<Time>,
    /// Whether they are the end of a message, rather than what gave no record.
    is_message: bool,
}

/// So many are kept: no request that may be its own answer is much longer.
const LAST: usize = 16;

/// How many bytes of a request that is not whole show that it may have been there.
const TRACE: usize = 2;

/// How many show that where the last ones of it are altered.
const ALTERED: usize = 4;

impl Before {
    /// Nobody knows what came.
    pub(super) fn forget(&mut self) {
        *self = Before::default();
    }

    /// A message came.
    pub(super) fn message(&mut self, frame: &[u8], at: Option<Time>) {
        self.forget();
        self.add(frame, at);
        self.is_message = true;
    }

    /// Bytes came that gave no record.
    pub(super) fn add(&mut self, bytes: &[u8], at: Option<Time>) {
        self.at = at;
        let bytes = &bytes[bytes.len().saturating_sub(LAST)..];
        let kept = self.count.min(LAST - bytes.len());
        self.bytes.copy_within(self.count - kept..self.count, 0);
        self.bytes[kept..kept + bytes.len()].copy_from_slice(bytes);
        self.count = kept + bytes.len();
        self.is_message = false;
    }

    /// Whether what came last may be that frame, or what is left of it. Where nothing is known, it may.
    pub(super) fn may_end_with(&self, frame: &[u8]) -> bool {
        let came = &self.bytes[..self.count];
        if self.is_message {
            return frame.ends_with(came) || came.ends_with(frame);
        }
        // The end of a line is no part of a frame in ASCII.
        let came = if frame.first() == Some(&b':') { came.trim_ascii_end() } else { came };
        // Hardly anything else ends with the same byte of a checksum, and noise may stand behind what is left.
        came.last() == frame.last()
            || is_left(came.iter().rev(), frame.iter().rev())
            || 8 * in_common(came, frame) >= 5 * frame.len().min(LAST)
    }
}

/// Whether bytes that gave no record, behind a frame, may be what is left of the same frame.
pub(super) fn may_be_again(began: &[u8], frame: &[u8]) -> bool {
    is_left(began.iter(), frame.iter())
}

/// Whether bytes may be what is left of a frame, of which some were lost, and of the first of these bytes two may be altered.
fn is_left<'b>(
    bytes: impl ExactSizeIterator<Item = &'b u8> + Clone,
    frame: impl Iterator<Item = &'b u8> + Clone,
) -> bool {
    [(0, TRACE), (1, ALTERED), (2, ALTERED)].into_iter().any(|(altered, enough)| {
        let bytes = bytes.clone().skip(altered);
        let trace = in_order(bytes.clone(), frame.clone());
        trace >= enough || trace == bytes.len()
    })
}

/// How many bytes two sequences have in common, in their order: the longest common subsequence.
fn in_common(came: &[u8], frame: &[u8]) -> usize {
    let frame = &frame[frame.len().saturating_sub(LAST)..];
    // For each length of the frame's begin, what it has in common with what was looked at.
    let mut common = [0; LAST + 1];
    for byte in came {
        let mut diagonal = 0;
        for (place, other) in frame.iter().enumerate() {
            let above = common[place + 1];
            common[place + 1] = if byte == other { diagonal + 1 } else { above.max(common[place]) };
            diagonal = above;
        }
    }
    common[frame.len()]
}

/// How many bytes from the first one on are found in a frame, in their order, with others between them.
fn in_order<'b>(bytes: impl Iterator<Item = &'b u8>, frame: impl Iterator<Item = &'b u8>) -> usize {
    let mut frame = frame;
    bytes.take_while(|byte| frame.any(|other| other == *byte)).count()
}
