//! Waiting for more: whether the bytes that came since nothing more could be said change that.

use super::scan::Scan;
use super::{Expect, Rest, View, text};
use crate::format::LineEnd;
use crate::limits;
use crate::plan::{Cut, Inner, Route};

/// Whether the bytes that came since nothing more could be said still say no more. Looks at each of them once.
#[inline]
pub(crate) fn waits(plan: &Inner, route: &Route, view: &View<'_>, at: u64, rest: Rest, scan: &mut Scan) -> bool {
    if rest.line_end != Expect::Nothing {
        return false;
    }
    if scan.waits(view) {
        return true;
    }
    match route.text.map(|frame| &plan.frames[usize::from(frame)].cut) {
        Some(Cut::Text { end, limit, .. }) if route.searching.is_empty() && !rest.overlong => {
            view.end() - at <= *limit as u64 && scan.no_line_end_before > at && {
                let seen = scan.no_line_end_before.clamp(view.base, view.end());
                let waits = text::waits(*end, view.between(seen, view.end()));
                if waits && *end != LineEnd::CrLf {
                    scan.no_line_end_before = view.end();
                }
                waits
            }
        }
        _ => false,
    }
}

/// Bytes that say no more about what is open: all before an offset, but those that may end it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Calm {
    pub(crate) to: u64,
    pub(crate) ends: Bytes,
}

/// A set of bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Bytes([u64; 4]);

impl Bytes {
    pub(crate) const NONE: Bytes = Bytes([0; 4]);

    const fn with(mut self, byte: u8) -> Bytes {
        self.0[byte as usize / 64] |= 1 << (byte % 64);
        self
    }

    /// All that are not in sentences, or may stand at their end.
    const AROUND_SENTENCES: Bytes = {
        let (mut bytes, mut byte) = (Bytes::NONE, 0);
        while byte < 255 {
            if byte < b'+' || byte > b'~' {
                bytes = bytes.with(byte);
            }
            byte += 1;
        }
        bytes.with(255)
    };

    #[inline(always)]
    pub(crate) fn has(&self, byte: u8) -> bool {
        self.0[usize::from(byte / 64)] >> (byte % 64) & 1 == 1
    }
}

/// Which bytes say no more about what is open at `at`.
pub(crate) fn calm(plan: &Inner, route: &Route, at: u64, rest: Rest, scan: &Scan) -> Option<Calm> {
    if let Some(open) = scan.open {
        return Some(Calm { to: open.start + limits::SENTENCE as u64, ends: Bytes::AROUND_SENTENCES });
    }
    match route.text.map(|frame| &plan.frames[usize::from(frame)].cut) {
        Some(Cut::Text { end, limit, .. })
            if rest == Rest::CLEAN && route.searching.is_empty() && scan.no_line_end_before >= at =>
        {
            let [first, second] = text::ends(*end);
            Some(Calm { to: at + *limit as u64, ends: Bytes::NONE.with(first).with(second) })
        }
        _ => None,
    }
}
