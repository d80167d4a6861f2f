//! A format compiled for running: places resolved, checksums ready, conditions bound. The plan is walked for each frame and
//! never changed.

mod by_value;
mod field;
mod fixed;
mod form;
mod framing;
mod inside;
mod layout;
mod output;
mod parts;
mod pattern;
mod select;
mod separation;
mod short;
mod stage;
mod tags;

use alloc::boxed::Box;
use alloc::string::String;
use alloc::sync::Arc;
use alloc::vec::Vec;
use core::fmt;

use crate::checksum::Checksum;
use crate::expression::Expression;
use crate::format::{CheckForm, Limits};
use crate::schema::Schema;
use crate::time::Span;
use crate::value::Decimal;

pub use by_value::Which;
pub(crate) use field::{
    At, Bcd, Convert, Counter, Field, Meaning, NumberOf, Raw, ScaleFrom, SentUnits, SignFrom, Taken, Tested, Tests,
    UnitFrom, Word,
};
pub(crate) use fixed::{FixedPacket, FixedPackets, fixed_packets};
pub(crate) use form::{Form, Step, Walk};
pub(crate) use framing::{
    Burst, Dle, Envelope, Framing, Length, LengthPast, Modbus, Packet, PartBefore, Sentence, Stuffed, Stuffing, Text,
};
pub(crate) use inside::{Carried, Inside};
pub use layout::LayoutRow;
pub(crate) use output::{Group, Output, Plain, Stride, What};
pub(crate) use parts::{
    Addressed, Asked, GroupItems, ItemSize, Level, Many, PartExtent, PartThere, Parts, RowPart, place_of,
};
pub(crate) use pattern::Pattern;
pub use select::{UnknownName, Wants};
pub(crate) use separation::{Apart, Begins, Pairs, Separation};
pub(crate) use short::Shortcut;
pub(crate) use stage::{
    AskedOf, Block, BlockPart, By, Exchange, KeptAs, Keyed, Latest, LatestOf, Member, Merge, Multipart, Point, Points,
    Required, Side, Stage, Standing, UnitPoints, Values,
};

/// Words of plain fields that begin before this byte are taken from a packet's front, without asking for each whether it is there.
pub(crate) const NEAR: usize = 64;

/// Groups around a field, and the record.
pub(crate) const NESTING: usize = crate::limits::NESTING + 1;

/// A format, ready to decode. Clones share it.
///
/// Made by [`Format::compile`](crate::Format::compile).
#[derive(Clone)]
pub struct Plan(pub(crate) Arc<Inner>);

impl Plan {
    /// What its records can say.
    pub fn schema(&self) -> &Schema {
        &self.0.schema
    }

    /// Roles of the lines, if the format speaks of several.
    pub fn roles(&self) -> impl Iterator<Item = &str> {
        self.0.roles.iter().map(|role| role.name.as_str())
    }

    /// Whether silence matters, so that input without times cannot be decoded as declared.
    pub fn needs_times(&self) -> bool {
        self.0.frames.iter().any(|frame| match &frame.framing {
            Framing::Text(text) => text.idle.is_some(),
            Framing::Burst(burst) => burst.idle.is_some(),
            _ => false,
        })
    }

    /// Whether breaks end its frames, so that input without them cannot be decoded as declared.
    pub fn needs_breaks(&self) -> bool {
        self.0.frames.iter().any(|frame| matches!(&frame.framing, Framing::Burst(burst) if burst.idle.is_none()))
    }

    /// Whether its records can only be told in order, from the first on: then a stream is decoded by one decoder.
    pub fn needs_order(&self) -> bool {
        // What was taken out before a byte is known only by whoever saw it.
        self.0.routes.iter().any(|route| route.cleaning.takes_out())
            || self.0.kinds.iter().any(|kind| kind.heading.is_some())
            || !self.0.insides.is_empty()
    }

    /// The fields whose bytes are lines of their own, as `kind.field`: frames are cut again from what they carry.
    pub fn insides(&self) -> impl Iterator<Item = &str> {
        self.0.insides.iter().map(|inside| inside.name.as_str())
    }

    /// Whether records are made of several frames, so that some are held until others come. Then each chunk is to be decoded before the next is fed:
    /// what waits is looked at where the time goes on.
    pub fn holds_frames(&self) -> bool {
        !self.0.stages.is_empty()
    }

    /// Whether all its frames are texts.
    pub fn reads_text_only(&self) -> bool {
        self.0.frames.iter().all(|frame| frame.reading == Reading::Text)
    }

    /// Whether all its frames are packets of bytes.
    pub fn reads_packets_only(&self) -> bool {
        self.0.frames.iter().all(|frame| frame.reading == Reading::Bytes)
    }

    /// The largest number of bytes that a decoder keeps for one line: the largest frame, or a run of rejected bytes.
    pub fn largest_window(&self) -> usize {
        let largest = self.0.routes.iter().map(|route| route.largest).max().unwrap_or(0);
        largest + crate::limits::RUN as usize
    }

    /// Where each field stands in its frame, as a table.
    pub fn layout(&self) -> &[LayoutRow] {
        &self.0.layout
    }

    /// Name of the record that a layout is of.
    pub(crate) fn kind_name(&self, kind: u16) -> &str {
        let record =
            self.0.kinds.get(usize::from(kind)).and_then(|kind| self.0.schema.kinds.get(usize::from(kind.record)));
        record.map_or("", |record| record.name.as_str())
    }

    /// Name of a frame by its number in a reject.
    pub(crate) fn frame_name(&self, frame: u16) -> &str {
        self.0.frames.get(usize::from(frame)).map_or("", |frame| frame.name.as_str())
    }
}

impl fmt::Debug for Plan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Plan({})", self.0.schema.format)
    }
}

#[derive(Clone)]
pub(crate) struct Inner {
    pub(crate) schema: Schema,
    pub(crate) roles: Vec<Role>,
    pub(crate) frames: Vec<Frame>,
    /// A layout for each kind of the schema, in its order, and then those of variants.
    pub(crate) kinds: Vec<Kind>,
    pub(crate) ignores: Vec<Ignore>,
    /// The counts that are kept.
    pub(crate) counters: Vec<Slot>,
    /// What looks at more than one frame, in order.
    pub(crate) stages: Vec<Stage>,
    /// How the bytes of a line are cut: one entry for each role, or a single one; then one for each of `insides`.
    pub(crate) routes: Vec<Route>,
    /// Lines that lie inside of others.
    pub(crate) insides: Vec<Inside>,
    pub(crate) limits: Limits,
    pub(crate) layout: Vec<LayoutRow>,
    /// How long a character takes, where the serial settings are known.
    pub(crate) character: Option<Span>,
}

/// A count that is kept.
#[derive(Clone, Copy)]
pub(crate) struct Slot {
    /// The last value before it begins again at 0.
    pub(crate) last: u64,
    /// Whether it is the first of some kind's: series are counted by those.
    pub(crate) is_first: bool,
}

#[derive(Clone)]
pub(crate) struct Role {
    pub(crate) name: String,
    pub(crate) character: Option<Span>,
}

/// What is taken out of a line before anything is cut.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Cleaning {
    /// The highest bit of each byte.
    pub(crate) parity: bool,
    pub(crate) nul: bool,
    pub(crate) flow: bool,
    pub(crate) escapes: bool,
}

impl Cleaning {
    /// Whether there is nothing to be done.
    pub(crate) fn is_nothing(self) -> bool {
        self == Cleaning::default()
    }

    /// Whether bytes may be taken out, so that others move up.
    pub(crate) fn takes_out(self) -> bool {
        self.nul || self.flow || self.escapes
    }
}

/// The framings that run on a line of one role.
#[derive(Clone)]
pub(crate) struct Route {
    pub(crate) cleaning: Cleaning,
    /// Frames that are searched for, in the order of the file.
    pub(crate) searching: Vec<u16>,
    /// The frame that takes what is left, or the first of several whose lines are told apart by what they begin with.
    pub(crate) text: Option<u16>,
    /// All of those, in the order of the file.
    pub(crate) lines: Vec<u16>,
    /// Whether the coding of one of them tells whether a line is its.
    pub(crate) is_coded: bool,
    /// The largest frame there can be.
    pub(crate) largest: usize,
}

impl Route {
    /// The first frame for a line with such a begin; nothing if there is none.
    #[inline]
    pub(crate) fn line_frame(&self, plan: &Inner, line: &[u8]) -> Option<u16> {
        self.lines.iter().copied().find(|frame| plan.frames[usize::from(*frame)].begins_line(line))
    }
}

#[derive(Clone)]
pub(crate) struct Frame {
    pub(crate) name: String,
    pub(crate) framing: Framing,
    pub(crate) check: Option<Check>,
    /// Whether its contents are messages of Modbus, and where those lie in them.
    pub(crate) modbus: Option<(Modbus, Envelope)>,
    /// What is made of its contents before anything is read of them, step by step.
    pub(crate) coding: Box<[Coding]>,
    pub(crate) header: Vec<HeaderField>,
    pub(crate) reading: Reading,
    pub(crate) separation: Separation,
    /// Whether anything is read by columns.
    pub(crate) has_columns: bool,
    /// Whether columns are told apart before it is known what claims a frame: its header or a record is read by them.
    pub(crate) splits: bool,
    /// Whether its header is read by columns.
    pub(crate) header_splits: bool,
    /// Whether the look of a line decides what claims it.
    pub(crate) has_forms: bool,
    /// Whether more is to be done with its contents than to find the columns, so that none of its frames is known at once.
    pub(crate) takes_long: bool,
    /// Whether the parts of a record of it are walked through.
    pub(crate) is_walked: bool,
    /// Bytes of the contents before the first column.
    pub(crate) lead: usize,
    /// What its lines begin with, if that tells them from others.
    pub(crate) line_start: Option<Pattern>,
    pub(crate) kinds: Vec<u16>,
    pub(crate) ignores: Vec<u16>,
    pub(crate) key: ChoiceKey,
    /// What becomes of its frames where stages look at them first; nothing if none does.
    pub(crate) open: Option<Open>,
    /// Counters of its header, if no record of it is told apart by series: frames that are ignored count, too.
    pub(crate) counters: Vec<Counter>,
    /// Header fields that have one value only, by their places in `header`.
    pub(crate) constants: Vec<u16>,
}

impl Frame {
    /// Whether a line begins as this frame's do.
    #[inline(always)]
    pub(crate) fn begins_line(&self, line: &[u8]) -> bool {
        self.line_start.as_ref().is_none_or(|start| start.begins(line))
    }
}

/// How what is in a frame is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Reading {
    /// As bytes: all of the contents.
    Bytes,
    /// As text: what stands before a checksum.
    Text,
}

/// What a condition names.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Named {
    /// A field, by its place: of a frame's condition in its header, of a field's among those that it asks.
    Field(u16),
    /// How many bytes the contents of the frame have.
    Length,
    /// How many columns its text has.
    Columns,
    /// A field of the question that is open, by its place among those that answers ask for.
    Ask(u16),
}

/// Frames that stages look at before anything is made of them.
#[derive(Clone)]
pub(crate) struct Open {
    /// The layout of those that nothing has claimed.
    pub(crate) kind: u16,
    /// The layouts by which stages read them.
    pub(crate) layouts: Box<[u16]>,
}

/// What claims a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Choice {
    Undecided,
    Kind(u16),
    Ignore(u16),
    Unclaimed,
}

/// Which bytes of a frame decide what claims it. Where they are few, the choice is remembered by them.
#[derive(Clone)]
pub(crate) enum ChoiceKey {
    /// They are not known to be few.
    Unknown,
    /// None: all texts are claimed alike.
    Nothing(Choice),
    /// This byte of a packet: the choice for each of its values.
    Byte { at: usize, choices: Box<[Choice; 256]> },
    /// These bytes of a packet, at most eight.
    Bytes { from: usize, to: usize },
    /// So many characters of a text, and its first column where that is meant.
    Text { characters: usize, column: bool },
}

#[derive(Clone)]
pub(crate) struct Check {
    pub(crate) checksum: Checksum,
    pub(crate) form: CheckForm,
    pub(crate) place: CheckPlace,
    pub(crate) from: Edge,
    /// The last byte covered; what stands before the mark, if there is one.
    pub(crate) to: Edge,
    /// What it stands behind: the last of these in a text.
    pub(crate) mark: Option<Box<[u8]>>,
    /// Whether a text may come without it.
    pub(crate) optional: bool,
    /// Whether it covers what was sent, not what came out of it.
    pub(crate) over_sent: bool,
    /// What has to hold, too.
    pub(crate) others: Box<[Check]>,
    /// Whether a frame is taken though it does not hold: to look at those that fail.
    pub(crate) lenient: bool,
}

/// A step from what was sent to the contents.
#[derive(Clone, Debug)]
pub(crate) struct Coding {
    /// Two hex digits are a byte, from the first byte to the last.
    pub(crate) from: Edge,
    pub(crate) to: Edge,
}

impl Check {
    /// It and the others.
    pub(crate) fn all(&self) -> impl Iterator<Item = &Check> {
        core::iter::once(self).chain(&self.others)
    }

    /// Where the mark is before which a text ends; nothing if there is none.
    pub(crate) fn marked(&self, contents: &[u8]) -> Option<usize> {
        memchr::memmem::rfind(contents, self.mark.as_deref()?)
    }
}

/// The columns of a record whose fields another record's line names.
#[derive(Clone)]
pub(crate) struct Heading {
    /// That record's number in the schema.
    pub(crate) record: u16,
    /// Columns of the header, which are where they are.
    pub(crate) front: usize,
    /// What the columns of the fields are called.
    pub(crate) labels: Box<[Box<[u8]>]>,
    /// Which of them have to be there.
    pub(crate) required: Box<[bool]>,
}

/// Columns of a record of which some may not be there.
#[derive(Clone)]
pub(crate) struct Gaps {
    /// All columns before a part of varying size, in their order.
    pub(crate) parts: Box<[Part]>,
    /// The fields that conditions ask.
    pub(crate) fields: Box<[Field]>,
}

/// Columns that are there together, or not at all.
#[derive(Clone)]
pub(crate) struct Part {
    pub(crate) columns: usize,
    pub(crate) there: There,
}

/// Whether columns are there.
#[derive(Clone)]
pub(crate) enum There {
    Always,
    /// If this holds.
    If(Expression<Named>),
    /// If there are so many more.
    Counted {
        behind: usize,
    },
}

/// Where a checksum stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum CheckPlace {
    /// In the contents.
    In(Edge),
    /// Behind the last mark in the contents, and the last of them.
    Marked,
    /// Behind the frame's end, which it may cover.
    Behind { through_end: bool },
}

/// A place in a frame counted from one of its ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Edge {
    /// Bytes from the start.
    Front(usize),
    /// Bytes before the end: 1 is the last byte.
    Back(usize),
}

impl Edge {
    pub(crate) fn of(place: i64) -> Edge {
        match place {
            0.. => Edge::Front(place as usize),
            _ => Edge::Back(place.unsigned_abs() as usize),
        }
    }

    pub(crate) fn in_frame(self, length: usize) -> Option<usize> {
        match self {
            Edge::Front(place) => (place < length).then_some(place),
            Edge::Back(place) => length.checked_sub(place),
        }
    }
}

#[derive(Clone)]
pub(crate) struct HeaderField {
    pub(crate) name: String,
    pub(crate) field: Field,
    /// The only value allowed.
    pub(crate) equals: Option<Constant>,
}

/// A value that a field is compared with.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Constant {
    Number(Decimal),
    /// The bits of a floating-point number.
    Bits(u64),
    Text(Box<[u8]>),
}

/// How the frames of one kind of record are laid out. A record with variants has several of them.
#[derive(Clone)]
pub(crate) struct Kind {
    /// The number of the record in the schema: its own, unless it is a variant, which stand behind all of them.
    pub(crate) record: u16,
    /// The number of the frame that it is read from.
    pub(crate) frame: u16,
    pub(crate) when: Option<Expression<Named>>,
    /// What its lines look like, where that decides, too.
    pub(crate) form: Option<Box<Form>>,
    /// Whether its sentences need a checksum.
    pub(crate) checksum_required: bool,
    pub(crate) shape: Shape,
    /// Columns of it that may not be there amid others.
    pub(crate) gaps: Option<Box<Gaps>>,
    /// What stands between its columns, where it is not read as its frame is.
    pub(crate) separation: Option<Box<Separation>>,
    /// Its parts, where they are walked through to know where they are.
    pub(crate) parts: Option<Box<Parts>>,
    /// Fields in the items of its groups that decide whether the frame is taken.
    pub(crate) item_gates: Box<[ItemGates]>,
    /// What names its columns.
    pub(crate) heading: Option<Box<Heading>>,
    /// Whether its lines name the columns of others.
    pub(crate) names_columns: bool,
    /// Fields that decide whether the frame is taken at all.
    pub(crate) gates: Vec<Gate>,
    pub(crate) outputs: Vec<Output>,
    /// Whether all plain ones begin near the front of a packet.
    pub(crate) near: bool,
    pub(crate) counters: Vec<Counter>,
    pub(crate) series: Vec<Field>,
    pub(crate) wanted: bool,
    /// Whether a stage takes its records.
    pub(crate) staged: bool,
    /// Whether it gives no record by itself: a stage reads frames by it, or keeps records as such.
    pub(crate) is_part: bool,
    /// Whether it is made of what stages hold, and of no frame by itself.
    pub(crate) is_composed: bool,
    /// Whether it stands for frames that nothing has claimed.
    pub(crate) is_open: bool,
    /// What agrees in records that belong together, if it is part of one.
    pub(crate) keyed: Box<[Keyed]>,
    /// Its fields whose bytes are lines of their own.
    pub(crate) carries: Box<[Carried]>,
    /// The length of its packets, if they have only one and nothing but it, the header's choice and the checksum decides about them.
    pub(crate) exact: Option<usize>,
}

impl Kind {
    /// Whether anybody hears of its records.
    #[inline(always)]
    pub(crate) fn is_heard(&self) -> bool {
        self.wanted || self.staged || !self.carries.is_empty()
    }
}

/// What a frame needs to be for its record to fit.
#[derive(Clone)]
pub(crate) struct Shape {
    pub(crate) unit: ShapeUnit,
    /// Bytes or columns before the part of varying size.
    pub(crate) front: usize,
    /// Those of them that have to be there.
    pub(crate) front_required: usize,
    /// Bytes or columns of one item of the varying part; 0 if there is no such part.
    pub(crate) item: usize,
    pub(crate) count: Count,
    /// Bytes or columns behind it.
    pub(crate) tail: usize,
    pub(crate) tail_required: usize,
    /// Bytes at the frame's end that are counted from there.
    pub(crate) back: usize,
    /// Whether more columns may follow.
    pub(crate) more: bool,
    /// The labels that have to be there, and those that may be: of pairs.
    pub(crate) labels: Option<Box<Labels>>,
    /// Whether no column may be empty: where blanks separate, two of them in a row would move all values behind them by a place.
    pub(crate) no_gaps: bool,
}

/// What a record in pairs needs.
#[derive(Clone)]
pub(crate) struct Labels {
    /// For each label of the frame, whether the record knows it.
    pub(crate) known: Box<[bool]>,
    /// The columns that have to be there, with the names of their fields.
    pub(crate) required: Box<[(usize, String)]>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ShapeUnit {
    Bytes,
    /// Bytes, part by part: of a frame that is longer or shorter, a part says so.
    Parts,
    /// Columns that lie side by side.
    Columns,
    /// Columns that lie apart.
    Apart,
    /// Values behind keys.
    Pairs,
    /// What an automaton found in a line.
    Printed,
    /// Only characters are read: every text fits.
    Characters,
}

impl Shape {
    /// So many bytes, and no part of varying size.
    pub(crate) fn fixed_bytes(front: usize, back: usize) -> Shape {
        Shape {
            unit: ShapeUnit::Bytes,
            front,
            front_required: front,
            item: 0,
            count: Count::ToEnd,
            tail: 0,
            tail_required: 0,
            back,
            more: false,
            labels: None,
            no_gaps: false,
        }
    }

    /// The bytes of a frame without any item.
    pub(crate) fn least(&self) -> usize {
        self.front + self.tail + self.back
    }

    /// Whether a frame's contents can have so many bytes.
    #[inline(always)]
    pub(crate) fn admits(&self, bytes: usize) -> bool {
        match self.item {
            _ if self.unit == ShapeUnit::Parts => bytes >= self.least(),
            0 => bytes == self.least(),
            item => bytes >= self.least() && (bytes - self.least()).is_multiple_of(item),
        }
    }
}

#[derive(Clone)]
pub(crate) enum Count {
    /// As many as there is room for.
    ToEnd,
    /// As many as this field says.
    Field(Box<Field>),
}

/// The fields of a group's items that decide whether the frame is taken at all.
#[derive(Clone)]
pub(crate) struct ItemGates {
    pub(crate) name: String,
    pub(crate) group: Group,
    pub(crate) gates: Vec<Gate>,
}

/// A field that has to hold for the record to be taken.
#[derive(Clone)]
pub(crate) struct Gate {
    pub(crate) name: String,
    pub(crate) field: Field,
    /// The only value allowed; without it, the value has to be valid.
    pub(crate) equals: Option<Constant>,
}

#[derive(Clone)]
pub(crate) struct Ignore {
    pub(crate) when: Option<Expression<Named>>,
    pub(crate) form: Option<Box<Form>>,
    pub(crate) count_by: Option<Field>,
}
