//! Stages: what needs more than one frame, in order, behind the part that looks at each by itself.

mod counters;

pub(crate) use counters::Counters;
