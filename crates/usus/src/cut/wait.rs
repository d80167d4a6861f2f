//! Waiting for more: whether the bytes that came since nothing more could be said change that.

use super::scan::Scan;
use super::{Expect, Rest, View, text};
use crate::format::{LineEnd, Presence};
use crate::limits;
use crate::plan::{Cut, Inner, Route};

/// Whether it can be that the bytes which came since nothing more could be said still say no more.
#[inline(always)]
pub(crate) fn may_wait(at: u64, end: u64, scan: &Scan) -> bool {
    scan.open.is_some() || scan.need > end || scan.no_line_end_before > at
}

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

/// A set of bytes, made of those that are told apart here.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Bytes(u8);

impl Bytes {
    pub(crate) const NONE: Bytes = Bytes(0);
    const CARRIAGE_RETURN: Bytes = Bytes(1);
    const LINE_FEED: Bytes = Bytes(2);
    /// All that are not in sentences, or may stand at their end.
    const AROUND_SENTENCES: Bytes = Bytes(4);
    const NOT_CARRIAGE_RETURN: Bytes = Bytes(8);
    /// The same as around sentences, but for those that begin them.
    const IN_NO_SENTENCE: Bytes = Bytes(16);

    /// The sets that each byte is in.
    const OF: [u8; 256] = {
        let mut of = [0; 256];
        let mut byte = 0;
        while byte < of.len() {
            of[byte] = match byte as u8 {
                b'\r' => Bytes::CARRIAGE_RETURN.0,
                b'\n' => Bytes::LINE_FEED.0 | Bytes::NOT_CARRIAGE_RETURN.0,
                _ => Bytes::NOT_CARRIAGE_RETURN.0,
            };
            if byte < b'+' as usize || byte > b'~' as usize {
                of[byte] |= Bytes::AROUND_SENTENCES.0;
                if byte != b'$' as usize && byte != b'!' as usize {
                    of[byte] |= Bytes::IN_NO_SENTENCE.0;
                }
            }
            byte += 1;
        }
        of
    };

    #[inline(always)]
    pub(crate) fn has(self, byte: u8) -> bool {
        Bytes::OF[usize::from(byte)] & self.0 != 0
    }
}

/// The bytes one of which is the last of every line end.
fn ends(end: LineEnd) -> Bytes {
    match end {
        LineEnd::Any => Bytes(Bytes::CARRIAGE_RETURN.0 | Bytes::LINE_FEED.0),
        LineEnd::Lf | LineEnd::CrLf => Bytes::LINE_FEED,
        LineEnd::Cr => Bytes::CARRIAGE_RETURN,
    }
}

/// Whether sentences have checksums, where there is nothing but sentences.
#[inline]
fn only_sentences(plan: &Inner, route: &Route) -> Option<Presence> {
    match (&route.searching[..], route.text) {
        ([frame], None) => match plan.frames[usize::from(*frame)].cut {
            Cut::Sentence { checksum } => Some(checksum),
            _ => None,
        },
        _ => None,
    }
}

/// The offset that the window has to reach before anything can be said, when all was said before and [`calm`] knows no better.
#[inline]
pub(crate) fn needs(route: &Route, at: u64, rest: Rest, scan: &Scan) -> u64 {
    match rest.line_end {
        // No record can end sooner.
        Expect::Nothing => scan.need.max(at + route.smallest as u64),
        _ => scan.need,
    }
}

/// Which bytes say no more about what is open at `at`, of those that come behind `end`, when all was said.
#[inline]
pub(crate) fn calm(plan: &Inner, route: &Route, at: u64, end: u64, rest: Rest, scan: &mut Scan) -> Option<Calm> {
    if let Some(open) = scan.open {
        return Some(Calm { to: open.start + limits::SENTENCE as u64, ends: Bytes::AROUND_SENTENCES });
    }
    if at == end && rest.line_end == Expect::CrOrLf {
        return Some(Calm { to: end + 1, ends: Bytes::NOT_CARRIAGE_RETURN });
    }
    if at == end
        && rest.line_end == Expect::Nothing
        && let Some(presence) = only_sentences(plan, route)
    {
        scan.expect_sentence(at, presence != Presence::Absent);
        return Some(Calm { to: at + limits::SENTENCE as u64, ends: Bytes::IN_NO_SENTENCE });
    }
    match route.text.map(|frame| &plan.frames[usize::from(frame)].cut) {
        Some(Cut::Text { end: line_end, limit, .. })
            if rest == Rest::CLEAN && route.searching.is_empty() && (scan.no_line_end_before >= at || at == end) =>
        {
            Some(Calm { to: at + *limit as u64, ends: ends(*line_end) })
        }
        _ => None,
    }
}
