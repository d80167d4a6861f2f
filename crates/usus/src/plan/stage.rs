//! The stages of a plan: what is known of each before any frame is. What they do is in `stage/`.

use alloc::boxed::Box;

use super::Output;
use crate::time::Span;

/// A stage behind the part that looks at each frame by itself.
#[derive(Clone)]
pub(crate) enum Stage {
    /// Two kinds of record, on one line or two, that become one where their keys agree.
    Join(Join),
    /// A kind whose frames are read as another, by the record before them on their line.
    Reread { kind: u16, other: u16 },
    /// All records get a number.
    Number,
}

/// Records of two kinds that become one.
#[derive(Clone)]
pub(crate) struct Join {
    pub(crate) kinds: [u16; 2],
    pub(crate) joined: u16,
    /// What has to agree.
    pub(crate) keys: [Box<Output>; 2],
    /// How long one waits for the other.
    pub(crate) within: Span,
    /// How many can wait.
    pub(crate) most: usize,
}

impl Stage {
    /// Whether it takes records of a kind.
    pub(crate) fn takes(&self, kind: u16) -> bool {
        match self {
            Stage::Join(join) => join.kinds.contains(&kind),
            Stage::Reread { .. } | Stage::Number => true,
        }
    }

    /// Whether its state follows from all that came before, so that it has to run in order. That of others follows from what lies a bounded stretch
    /// before.
    pub(crate) fn carries(&self) -> bool {
        match self {
            Stage::Number => true,
            Stage::Join(_) | Stage::Reread { .. } => false,
        }
    }

    /// How long one line waits for another, if it joins what comes on several.
    pub(crate) fn joins_lines(&self) -> Option<Span> {
        match self {
            Stage::Join(join) => Some(join.within),
            Stage::Reread { .. } | Stage::Number => None,
        }
    }
}
