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

/// Bytes that say no more about what is open, up to an offset.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Calm {
    None,
    /// Those that do not stop a sentence.
    Sentence {
        to: u64,
    },
    /// Those that end no line.
    Text {
        ends: [u8; 2],
        to: u64,
    },
}

impl Calm {
    /// Whether a byte at an offset is one of them.
    #[inline(always)]
    pub(crate) fn is_so(self, byte: u8, offset: u64) -> bool {
        match self {
            Calm::None => false,
            Calm::Sentence { to } => offset < to && (b'+'..=b'~').contains(&byte),
            Calm::Text { ends, to } => offset < to && !ends.contains(&byte),
        }
    }
}

/// Which bytes say no more about what is open at `at`.
pub(crate) fn calm(plan: &Inner, route: &Route, at: u64, rest: Rest, scan: &Scan) -> Calm {
    if rest != Rest::CLEAN && scan.open.is_none() {
        return Calm::None;
    }
    if let Some(open) = scan.open {
        return Calm::Sentence { to: open.start + limits::SENTENCE as u64 };
    }
    match route.text.map(|frame| &plan.frames[usize::from(frame)].cut) {
        Some(Cut::Text { end, limit, .. }) if route.searching.is_empty() && scan.no_line_end_before >= at => {
            Calm::Text { ends: text::ends(*end), to: at + *limit as u64 }
        }
        _ => Calm::None,
    }
}
