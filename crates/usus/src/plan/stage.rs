//! The stages of a plan: what is known of each before any frame is. What they do is in `stage/`.
//!
//! What they make records of are other records' frames, or frames that are read by layouts of their own; each stands in a *slot* of the record. Layouts
//! that give no record by themselves stand behind all others in the plan, and belong to the record that is made of them.

use alloc::boxed::Box;
use alloc::vec::Vec;
use core::ops::Range;

use super::{Envelope, Field, Form};
use crate::expression::Expression;
use crate::format::{Repeat, Table};
use crate::time::Span;

/// A stage behind the part that looks at each frame by itself. They are in this order.
#[derive(Clone)]
pub(crate) enum Stage {
    Block(Block),
    Multipart(Multipart),
    /// Exchanges whose questions come on the same lines: the question of one closes that of another.
    Exchange(Vec<Exchange>),
    Points(Points),
    Merge(Merge),
    Latest(Latest),
    Values(Values),
}

/// A record of parts that follow one another on a line. The slots are the parts'.
#[derive(Clone)]
pub(crate) struct Block {
    pub(crate) kind: u16,
    pub(crate) parts: Box<[BlockPart]>,
    pub(crate) any_order: bool,
    pub(crate) within: Span,
    /// What has to hold at its end, and what that asks.
    pub(crate) require: Option<(Expression<u16>, Box<[Required]>)>,
}

#[derive(Clone)]
pub(crate) struct BlockPart {
    pub(crate) layout: u16,
    pub(crate) repeat: Repeat,
    /// Whether an empty line ends it.
    pub(crate) until_empty: bool,
    /// The look of a line that ends it.
    pub(crate) until: Option<Box<Form>>,
}

/// What is asked of a block at its end.
#[derive(Clone)]
pub(crate) enum Required {
    /// A field of a part.
    Field(u16, Box<Field>),
    /// How often a part came.
    Count(u16),
    /// The sum of a field over all that came of a part.
    Sum(u16, Box<Field>),
}

/// Records that number themselves. All are in slot 0.
#[derive(Clone)]
pub(crate) struct Multipart {
    pub(crate) kind: u16,
    pub(crate) of: Box<[KeptAs]>,
    pub(crate) within: Span,
    /// Whether the key of each is its own.
    pub(crate) unique: bool,
    /// Fields whose texts are put together.
    pub(crate) join: Box<[u16]>,
}

/// A layout whose records are taken, and the one that they are kept as.
#[derive(Clone, Copy)]
pub(crate) struct KeptAs {
    pub(crate) from: u16,
    pub(crate) layout: u16,
}

/// Questions with their answers.
#[derive(Clone)]
pub(crate) struct Exchange {
    pub(crate) kind: u16,
    pub(crate) members: Box<[Member]>,
    pub(crate) within: Span,
    /// How many questions can be open.
    pub(crate) open: usize,
    pub(crate) echo: bool,
    /// Whether a key tells which question an answer belongs to.
    pub(crate) has_key: bool,
    /// Whether the key of each question is its own.
    pub(crate) unique: bool,
    /// Whether they are messages of Modbus, of which more is known; then where those lie in their contents.
    pub(crate) modbus: Option<Envelope>,
    /// The routes of lines on which answers come.
    pub(crate) routes: Box<[usize]>,
    /// Those on which questions come.
    pub(crate) ask_routes: Box<[usize]>,
    /// For each layout of a question, the fields that answers ask for.
    pub(crate) asked: Box<[AskedOf]>,
}

/// The fields of a question that the conditions of answers name, in their order; nothing for those that it does not have.
#[derive(Clone)]
pub(crate) struct AskedOf {
    pub(crate) layout: u16,
    pub(crate) fields: Box<[Option<Field>]>,
}

#[derive(Clone)]
pub(crate) struct Member {
    pub(crate) slot: u16,
    pub(crate) is: Side,
    pub(crate) by: By,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Side {
    Question,
    Answer,
    Error,
}

/// How what stands in a slot is found.
#[derive(Clone)]
pub(crate) enum By {
    /// It is a record of one of these layouts.
    Record(Box<[KeptAs]>),
    /// It is a frame that fits this layout.
    Layout(u16),
}

/// Values in the registers of units, out of what is asked and answered on a Modbus line.
#[derive(Clone)]
pub(crate) struct Points {
    /// The layouts of questions with their answers, and where the messages lie in the contents.
    pub(crate) of: Box<[(u16, Envelope)]>,
    pub(crate) units: Box<[UnitPoints]>,
    /// The routes of the lines on which they come.
    pub(crate) routes: Box<[usize]>,
}

/// The points of a unit, or of units that are alike.
#[derive(Clone)]
pub(crate) struct UnitPoints {
    pub(crate) kind: u16,
    /// What reads the registers of all points, one point behind the other. It stands in slot 0.
    pub(crate) layout: u16,
    /// Their addresses on the bus.
    pub(crate) ids: Box<[u8]>,
    /// Where the front of a message lies in it: the unit's address and the function. Behind that are the registers.
    pub(crate) front: Range<usize>,
    /// How many bytes it has, and how many registers.
    pub(crate) bytes: usize,
    pub(crate) registers: usize,
    pub(crate) points: Box<[Point]>,
}

/// A value in the registers of a unit.
#[derive(Clone)]
pub(crate) struct Point {
    pub(crate) table: Table,
    pub(crate) address: u16,
    /// Which of the registers are its own.
    pub(crate) registers: Range<usize>,
    /// How far apart in time they may be seen.
    pub(crate) within: Option<Span>,
    /// The points that tell its scale, its unit or its sign.
    pub(crate) needs: Box<[u16]>,
}

/// Records with the same key.
#[derive(Clone)]
pub(crate) struct Merge {
    pub(crate) kind: u16,
    /// For each slot, what is taken.
    pub(crate) of: Box<[Box<[KeptAs]>]>,
    /// Which slots have to be filled.
    pub(crate) complete: Option<Expression<u16>>,
    pub(crate) within: Span,
    pub(crate) open: usize,
}

/// Records of a kind that get fields of the latest of others.
#[derive(Clone)]
pub(crate) struct Latest {
    /// The layouts that get them.
    pub(crate) kinds: Box<[u16]>,
    pub(crate) of: Box<[LatestOf]>,
}

/// Another record of which fields are copied.
#[derive(Clone)]
pub(crate) struct LatestOf {
    pub(crate) slot: u16,
    pub(crate) of: Box<[KeptAs]>,
    pub(crate) within: Span,
}

/// Records of which each value becomes a record.
#[derive(Clone)]
pub(crate) struct Values {
    pub(crate) kind: u16,
    /// The layouts of those.
    pub(crate) of: Box<[u16]>,
    /// Whether only values are told that are not what they were the time before.
    pub(crate) changed: bool,
}

/// What agrees in records that belong together.
#[derive(Clone)]
pub(crate) enum Keyed {
    Field(Box<Field>),
    /// An output of a record that is made of several.
    Output(u16),
}

/// Which outputs a stage makes of what stands in a slot.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Standing {
    pub(crate) slot: u16,
    /// The place among the outputs of what stands there.
    pub(crate) output: u16,
}

const NO_TIME: Span = Span::from_nanoseconds(0);

impl Stage {
    /// Whether it joins what comes on several lines, where there are such, and so is to be told in the order of times.
    pub(crate) fn joins_lines(&self) -> bool {
        match self {
            Stage::Block(_) | Stage::Multipart(_) | Stage::Values(_) => false,
            Stage::Exchange(_) | Stage::Points(_) | Stage::Merge(_) | Stage::Latest(_) => true,
        }
    }

    /// How long it lets one line wait for another.
    pub(crate) fn within(&self) -> Span {
        match self {
            Stage::Block(block) => block.within,
            Stage::Multipart(multipart) => multipart.within,
            Stage::Exchange(exchanges) => exchanges.iter().map(|exchange| exchange.within).max().unwrap_or(NO_TIME),
            Stage::Points(_) | Stage::Values(_) => NO_TIME,
            Stage::Merge(merge) => merge.within,
            Stage::Latest(latest) => latest.of.iter().map(|of| of.within).max().unwrap_or(NO_TIME),
        }
    }

    /// The layouts whose records it takes, each as another one.
    pub(crate) fn taken(&self) -> Vec<KeptAs> {
        match self {
            Stage::Block(_) => Vec::new(),
            Stage::Multipart(multipart) => multipart.of.to_vec(),
            Stage::Exchange(exchanges) => {
                let taken = |member: &Member| match &member.by {
                    By::Record(taken) => taken.to_vec(),
                    By::Layout(_) => Vec::new(),
                };
                exchanges.iter().flat_map(|exchange| &exchange.members).flat_map(taken).collect()
            }
            Stage::Points(points) => points.of.iter().map(|(kind, _)| KeptAs { from: *kind, layout: *kind }).collect(),
            Stage::Merge(merge) => merge.of.iter().flat_map(|taken| taken.to_vec()).collect(),
            Stage::Values(values) => values.of.iter().map(|kind| KeptAs { from: *kind, layout: *kind }).collect(),
            Stage::Latest(latest) => {
                let own = latest.kinds.iter().map(|kind| KeptAs { from: *kind, layout: *kind });
                own.chain(latest.of.iter().flat_map(|of| of.of.to_vec())).collect()
            }
        }
    }

    /// The layouts by which it reads frames itself.
    pub(crate) fn layouts(&self) -> Vec<u16> {
        match self {
            Stage::Block(block) => block.parts.iter().map(|part| part.layout).collect(),
            Stage::Exchange(exchanges) => {
                let layout = |member: &Member| match member.by {
                    By::Layout(layout) => Some(layout),
                    By::Record(_) => None,
                };
                exchanges.iter().flat_map(|exchange| &exchange.members).filter_map(layout).collect()
            }
            Stage::Multipart(_) | Stage::Points(_) | Stage::Merge(_) | Stage::Latest(_) | Stage::Values(_) => {
                Vec::new()
            }
        }
    }
}
