//! Why bytes gave no record: plain data, rendered with the names of a plan.

use alloc::string::String;
use core::fmt;

use crate::format::{CheckForm, Limits};
use crate::integer::Order;
use crate::limits;
use crate::plan::{Check, Plan, Stage};

/// Why bytes gave no record.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Reason {
    /// Nothing in them looks like the start of a frame.
    NoStart,
    /// A frame begins, but the input ends, or bytes are missing, before its end.
    CutShort {
        /// The frame.
        frame: u16,
    },
    /// The recording began in the middle of it.
    BegunBefore,
    /// A frame begins, but no record has this length.
    Length {
        /// The frame.
        frame: u16,
        /// The length that the frame says it has, in bytes.
        found: u64,
    },
    /// A frame begins, but a constant of its header has another value.
    Constant {
        /// The frame.
        frame: u16,
        /// Index of the field in the header.
        field: u16,
    },
    /// The checksum does not hold.
    Checksum {
        /// The frame.
        frame: u16,
        /// Which of its checksums, as they stand in the format.
        number: u8,
        /// What the bytes give; of a checksum wider than 64 bits, its low bits.
        computed: u64,
        /// What was sent; nothing if it is no number.
        sent: Option<u64>,
    },
    /// There has to be a checksum, and there is none.
    ChecksumAbsent {
        /// The frame.
        frame: u16,
    },
    /// A sentence without a checksum does not begin where a line begins.
    SentenceAmidLine {
        /// The frame.
        frame: u16,
    },
    /// A packet does not end where it has to: where its length says, or within the length of the longest.
    NoEnd {
        /// The frame.
        frame: u16,
        /// That length, in bytes.
        length: u32,
    },
    /// A part that varies, behind which a packet's length stands, does not end.
    LengthPast {
        /// The frame.
        frame: u16,
    },
    /// Another packet seems to begin before this one has ended.
    BeginsAnew {
        /// The frame.
        frame: u16,
    },
    /// An escape stands before a byte that needs none.
    Escape {
        /// The frame.
        frame: u16,
    },
    /// What has to be hex digits is something else.
    Coding {
        /// The frame.
        frame: u16,
    },
    /// The places that tell the length of a packet do not say the same, or are no numbers.
    LengthsDiffer {
        /// The frame.
        frame: u16,
    },
    /// A sentence holds a byte that no sentence may hold.
    SentenceByte {
        /// The frame.
        frame: u16,
        /// The byte.
        byte: u8,
    },
    /// A sentence is longer than the limit.
    SentenceTooLong {
        /// The frame.
        frame: u16,
    },
    /// A line is longer than the limit.
    LineTooLong {
        /// The frame.
        frame: u16,
        /// The limit in bytes.
        limit: u32,
    },
    /// A whole frame that no record claims and no `ignore` names.
    Unclaimed {
        /// The frame.
        frame: u16,
    },
    /// A text has too few columns.
    Columns {
        /// The kind.
        kind: u16,
        /// Columns needed.
        needed: u32,
        /// Columns found.
        found: u32,
    },
    /// A text has columns that the format does not speak of.
    MoreColumns {
        /// The kind.
        kind: u16,
        /// Columns declared.
        declared: u32,
        /// Columns found.
        found: u32,
    },
    /// A text whose columns are separated by blanks has two of them in a row, or begins with one: then it is not known which value is which.
    EmptyColumn {
        /// The kind.
        kind: u16,
        /// The first column with nothing in it, from 1.
        column: u32,
    },
    /// A column begins with a quote, and none closes it.
    OpenQuote {
        /// The frame.
        frame: u16,
    },
    /// A key comes twice.
    RepeatedKey {
        /// The frame.
        frame: u16,
        /// Where it comes again, in bytes of the contents.
        at: u32,
    },
    /// A pair that has to be there is not.
    NotThere {
        /// The kind.
        kind: u16,
        /// Index of the field among those that have to be there.
        label: u16,
    },
    /// No line has named the columns yet, or bytes are missing since it did.
    NoHeading {
        /// The kind.
        kind: u16,
    },
    /// The line that names the columns does not name one that has to be there, or names it twice.
    NotNamed {
        /// The kind.
        kind: u16,
        /// Index of the field among those that are named.
        label: u16,
    },
    /// There is a value that the record does not speak of.
    MoreKeys {
        /// The kind.
        kind: u16,
        /// Where the value is, in bytes of the contents.
        at: u32,
    },
    /// Behind the quote that closes a column comes no separator.
    BehindQuote {
        /// The frame.
        frame: u16,
    },
    /// Something looks like part of a record that is made of several frames, and none of those is begun.
    Astray {
        /// The layout of the part.
        kind: u16,
    },
    /// Before a record that is made of several frames was whole, something came that is none of its parts.
    PartUnknown {
        /// The kind.
        kind: u16,
    },
    /// A record that is made of several frames began again before it was whole.
    BeganAgain {
        /// The kind.
        kind: u16,
    },
    /// A record that is made of several frames was not whole in time.
    TooLate {
        /// The kind.
        kind: u16,
    },
    /// A record is made of more frames, or bytes, than allowed.
    TooLong {
        /// The kind.
        kind: u16,
    },
    /// What a record of several frames requires at its end does not hold.
    Required {
        /// The kind.
        kind: u16,
    },
    /// The recording ends, or bytes are missing, before a record of several frames is whole.
    NotWhole {
        /// The kind.
        kind: u16,
    },
    /// Frames that number themselves came, and one of them is missing.
    PartMissing {
        /// The kind.
        kind: u16,
        /// The number that should have come.
        expected: u64,
        /// The number that came.
        found: u64,
    },
    /// The numbers by which frames number themselves are none, or the one is greater than the other.
    PartNumber {
        /// The kind.
        kind: u16,
    },
    /// So many bytes gave no record between two frames that those may be of different records.
    Between {
        /// The kind.
        kind: u16,
    },
    /// Too many records of several frames were begun at the same time.
    TooManyOpen {
        /// The kind.
        kind: u16,
    },
    /// An answer to no question.
    NoQuestion {
        /// The kind.
        kind: u16,
    },
    /// An answer whose question waits no longer.
    LateAnswer {
        /// The kind.
        kind: u16,
    },
    /// Another answer to a question that has one.
    SecondAnswer {
        /// The kind.
        kind: u16,
    },
    /// The recording ends, or bytes are missing, while an answer is waited for.
    NoEndOfExchange {
        /// The kind.
        kind: u16,
    },
    /// A record that is merged with others has no value in a field in which they have to agree.
    NoKey {
        /// The kind of what comes of them.
        kind: u16,
    },
    /// A record that is merged with others came when those were done with.
    Late {
        /// The kind of what comes of them.
        kind: u16,
    },
    /// Others with which a record is merged did not come.
    Incomplete {
        /// The kind of what comes of them.
        kind: u16,
        /// The first that is missing, by its place among those that are merged.
        missing: u16,
    },
    /// A group's count does not go with the length of the frame.
    Count {
        /// The kind.
        kind: u16,
        /// The count that was sent; nothing if it is absent or no number.
        sent: Option<i64>,
    },
    /// There are more parts than can be told apart, or the frame is too long for that.
    TooManyParts {
        /// The kind.
        kind: u16,
    },
    /// Behind the last field of a record there are bytes that nothing names.
    BytesLeft {
        /// The kind.
        kind: u16,
        /// How many.
        count: u32,
    },
    /// The frame ends before all of a part is there.
    PartCutOff {
        /// The kind.
        kind: u16,
        /// The number of the part.
        part: u16,
    },
    /// What tells the size of a part, or the number of its items, is absent or no such number.
    PartSize {
        /// The kind.
        kind: u16,
        /// The number of the part.
        part: u16,
    },
    /// What ends a part is not there.
    PartNoEnd {
        /// The kind.
        kind: u16,
        /// The number of the part.
        part: u16,
    },
    /// An item is smaller than its fields, or reaches beyond what it lies in.
    ItemSize {
        /// The kind.
        kind: u16,
        /// Its size, in bytes; the largest number if it is not known.
        size: u32,
    },
    /// An item of no bytes.
    EmptyItem {
        /// The kind.
        kind: u16,
        /// The number of the part.
        part: u16,
    },
    /// A field of an item that must have one value, or a valid one, has another.
    ItemField {
        /// The kind.
        kind: u16,
        /// The number of the group among the parts.
        part: u16,
    },
    /// A field in the items of a group that must have one value, or a valid one, has another.
    Item {
        /// The kind.
        kind: u16,
        /// Index of the group among those whose items decide.
        group: u16,
    },
    /// A field that must have one value has another.
    Equals {
        /// The kind.
        kind: u16,
        /// Index of the field among those that decide.
        field: u16,
    },
    /// A field that must be valid is not.
    Invalid {
        /// The kind.
        kind: u16,
        /// Index of the field among those that decide.
        field: u16,
    },
}

impl Reason {
    /// A short word for it, the same for all instances: what rejects are counted by.
    pub const fn word(&self) -> &'static str {
        match self {
            Reason::NoStart => "no start of a frame",
            Reason::CutShort { .. } => "cut short",
            Reason::BegunBefore => "begun before the recording",
            Reason::Length { .. } => "length",
            Reason::Constant { .. } => "header constant",
            Reason::Checksum { .. } => "checksum",
            Reason::ChecksumAbsent { .. } => "checksum absent",
            Reason::SentenceAmidLine { .. } => "sentence amid a line",
            Reason::NoEnd { .. } => "no end",
            Reason::LengthPast { .. } => "no length",
            Reason::BeginsAnew { .. } => "begins anew",
            Reason::Escape { .. } => "escape",
            Reason::Coding { .. } => "coding",
            Reason::LengthsDiffer { .. } => "lengths differ",
            Reason::SentenceByte { .. } => "byte not allowed in a sentence",
            Reason::SentenceTooLong { .. } => "sentence too long",
            Reason::LineTooLong { .. } => "line too long",
            Reason::Unclaimed { .. } => "claimed by no record",
            Reason::Columns { .. } => "too few columns",
            Reason::MoreColumns { .. } => "too many columns",
            Reason::EmptyColumn { .. } => "empty column",
            Reason::OpenQuote { .. } => "open quote",
            Reason::RepeatedKey { .. } => "repeated key",
            Reason::NotThere { .. } => "field not there",
            Reason::NoHeading { .. } => "no heading",
            Reason::NotNamed { .. } => "column not named",
            Reason::MoreKeys { .. } => "value of no field",
            Reason::BehindQuote { .. } => "text behind a quote",
            Reason::Astray { .. } => "astray part",
            Reason::PartUnknown { .. } => "unknown part",
            Reason::BeganAgain { .. } => "began again",
            Reason::TooLate { .. } => "not whole in time",
            Reason::TooLong { .. } => "too many parts together",
            Reason::Required { .. } => "requirement",
            Reason::NotWhole { .. } => "not whole",
            Reason::PartMissing { .. } => "part missing",
            Reason::PartNumber { .. } => "part number",
            Reason::Between { .. } => "too much between",
            Reason::TooManyOpen { .. } => "too many begun",
            Reason::NoQuestion { .. } => "answer without a question",
            Reason::LateAnswer { .. } => "late answer",
            Reason::SecondAnswer { .. } => "second answer",
            Reason::NoEndOfExchange { .. } => "exchange not whole",
            Reason::NoKey { .. } => "no key",
            Reason::Late { .. } => "too late for its merge",
            Reason::Incomplete { .. } => "incomplete merge",
            Reason::Count { .. } => "group count",
            Reason::TooManyParts { .. } => "too many parts",
            Reason::BytesLeft { .. } => "bytes left",
            Reason::PartCutOff { .. } => "part cut off",
            Reason::PartSize { .. } => "size of a part",
            Reason::PartNoEnd { .. } => "part without end",
            Reason::ItemSize { .. } => "item size",
            Reason::EmptyItem { .. } => "empty item",
            Reason::ItemField { .. } | Reason::Item { .. } => "field of an item",
            Reason::Equals { .. } => "field constant",
            Reason::Invalid { .. } => "invalid field",
        }
    }

    /// The reason in a sentence, with the names of `plan`.
    pub fn describe<'a>(&'a self, plan: &'a Plan) -> impl fmt::Display + 'a {
        Description { reason: self, plan }
    }
}

struct Description<'a> {
    reason: &'a Reason,
    plan: &'a Plan,
}

impl fmt::Display for Description<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let plan = self.plan;
        let kind = |kind: u16| plan.kind_name(kind);
        let gate = |kind: u16, field: u16| {
            let kind = plan.0.kinds.get(usize::from(kind));
            kind.and_then(|kind| kind.gates.get(usize::from(field))).map_or("", |gate| gate.name.as_str())
        };
        let part = |kind: u16, part: u16| {
            let parts = plan.0.kinds.get(usize::from(kind)).and_then(|kind| kind.parts.as_ref());
            let name = parts.and_then(|parts| parts.names.get(usize::from(part)));
            name.map_or("a part", String::as_str)
        };
        let named = |frame: u16| alloc::format!("a frame ({})", plan.frame_name(frame));
        match *self.reason {
            Reason::NoStart => f.write_str("nothing in it looks like the start of a frame"),
            Reason::CutShort { frame } => write!(f, "{} begins, but its end is not there", named(frame)),
            Reason::BegunBefore => f.write_str("it began before the recording, or before the gap in it"),
            Reason::Length { frame, found } => {
                write!(f, "{} begins, but no record is {found} bytes long", named(frame))
            }
            Reason::Constant { frame, field } => {
                let header = plan.0.frames.get(usize::from(frame)).map(|frame| &frame.header);
                let name = header.and_then(|header| header.get(usize::from(field))).map_or("", |field| &field.name);
                write!(f, "{} begins, but its {} is not what it has to be", named(frame), or_constant(name))
            }
            Reason::Checksum { frame, number, computed, sent: Some(sent) } => {
                let (which, name) = (plan.which_check(frame, number), named(frame));
                let [computed_text, sent_text] = [computed, sent].map(|value| plan.check_text(frame, number, value));
                write!(f, "the {which} of {name} does not hold: computed {computed_text}, sent {sent_text}")?;
                match plan.check_if_swapped(frame, number) {
                    Some((size, word)) if sent == computed.swap_bytes() >> (64 - 8 * size) => {
                        write!(f, "; it would hold with its bytes swapped, as {word}")
                    }
                    _ => Ok(()),
                }
            }
            Reason::Checksum { frame, number, computed, sent: None } => {
                let (which, computed) = (plan.which_check(frame, number), plan.check_text(frame, number, computed));
                write!(f, "the {which} of {} is no number; computed {computed}", named(frame))
            }
            Reason::ChecksumAbsent { frame } => {
                write!(f, "{} without the checksum that it has to have", named(frame))
            }
            Reason::SentenceAmidLine { frame } => {
                write!(f, "{} without a checksum begins amid a line", named(frame))
            }
            Reason::NoEnd { frame, length } => {
                write!(f, "{} begins, but does not end within {length} bytes", named(frame))
            }
            Reason::LengthPast { frame } => {
                let most = limits::PART_BEFORE;
                write!(f, "{} begins, but what stands before its length does not end within {most} bytes", named(frame))
            }
            Reason::BeginsAnew { frame } => write!(f, "{} begins, and begins anew before its end", named(frame)),
            Reason::Escape { frame } => {
                write!(f, "{} begins, but holds an escape before a byte that needs none", named(frame))
            }
            Reason::Coding { frame } => write!(f, "{} begins, but holds what are no hex digits", named(frame)),
            Reason::LengthsDiffer { frame } => {
                write!(f, "{} begins, but what tells its length is no number, or says different ones", named(frame))
            }
            Reason::SentenceByte { frame, byte } => {
                write!(f, "{} begins, but holds the byte {byte:02X}", named(frame))
            }
            Reason::SentenceTooLong { frame } => {
                write!(f, "{} begins, but does not end within {} characters", named(frame), limits::SENTENCE)
            }
            Reason::LineTooLong { frame, limit } => {
                write!(f, "{} does not end within {limit} bytes", named(frame))
            }
            Reason::Unclaimed { frame } => {
                write!(f, "no record claims {}, and no ignore names it", named(frame))
            }
            Reason::Columns { kind: of, needed, found } => {
                write!(f, "{} needs {needed} columns, this has {found}", kind(of))
            }
            Reason::MoreColumns { kind: of, declared, found } => {
                write!(f, "{} has {declared} columns, this has {found}", kind(of))
            }
            Reason::EmptyColumn { kind: of, column } => {
                write!(
                    f,
                    "column {column} of {} is empty: two blanks in a row, or one at the begin, would move every value behind it",
                    kind(of)
                )
            }
            Reason::OpenQuote { frame } => {
                write!(f, "{} has a column that begins with a quote which nothing closes", named(frame))
            }
            Reason::RepeatedKey { frame, at } => {
                write!(f, "{} has a key twice, the second time at character {}", named(frame), at + 1)
            }
            Reason::NotThere { kind: of, label } => {
                let labels = plan.0.kinds.get(usize::from(of)).and_then(|kind| kind.shape.labels.as_ref());
                let name = labels.and_then(|labels| labels.required.get(usize::from(label)));
                write!(f, "{} of {} is not there", or_constant(name.map_or("", |(_, name)| name)), kind(of))
            }
            Reason::NoHeading { kind: of } => {
                write!(f, "no line before this {} names its columns, or bytes are missing between", kind(of))
            }
            Reason::NotNamed { kind: of, label } => {
                let heading = plan.0.kinds.get(usize::from(of)).and_then(|kind| kind.heading.as_ref());
                let label = heading.and_then(|heading| heading.labels.get(usize::from(label)));
                let label = alloc::string::String::from_utf8_lossy(label.map_or(&[][..], |label| label));
                write!(f, "the heading of {} has no column {label:?}, or several", kind(of))
            }
            Reason::MoreKeys { kind: of, at } => {
                write!(f, "{} has no field for the value at character {}", kind(of), at + 1)
            }
            Reason::BehindQuote { frame } => {
                write!(f, "{} has more in a column than stands between its quotes", named(frame))
            }
            Reason::Astray { kind: of } => {
                write!(f, "it looks like part of {}, and does not come where that could be", kind(of))
            }
            Reason::PartUnknown { kind: of } => {
                write!(f, "before all of {} was there, something came that is none of its parts", kind(of))
            }
            Reason::BeganAgain { kind: of } => write!(f, "{} began again before all of it was there", kind(of)),
            Reason::TooLate { kind: of } => write!(f, "not all of {} came in time", kind(of)),
            Reason::TooLong { kind: of } => {
                let Limits { parts, held, .. } = plan.0.limits;
                write!(f, "{} has more than {parts} frames, or {held} bytes", kind(of))
            }
            Reason::Required { kind: of } => {
                write!(f, "all of {} is there, and what it requires does not hold", kind(of))
            }
            Reason::NotWhole { kind: of } => {
                write!(f, "the recording ends, or bytes are missing, before all of {} is there", kind(of))
            }
            Reason::PartMissing { kind: of, expected, found } => {
                write!(f, "part {expected} of {} should come, and part {found} came", kind(of))
            }
            Reason::PartNumber { kind: of } => {
                write!(f, "the number of a part of {}, or of its parts, is no number from 1", kind(of))
            }
            Reason::Between { kind: of } => {
                write!(f, "so much was rejected before it that it may belong to another {}", kind(of))
            }
            Reason::TooManyOpen { kind: of } => {
                write!(f, "too many of {} were begun at the same time ({})", kind(of), plan.0.limits.open)
            }
            Reason::NoQuestion { kind: of } => write!(f, "an answer, and no question of {} was asked", kind(of)),
            Reason::LateAnswer { kind: of } => {
                write!(f, "an answer to a question of {} that waits for none any more", kind(of))
            }
            Reason::SecondAnswer { kind: of } => {
                write!(f, "an answer to a question of {} that has one already", kind(of))
            }
            Reason::NoEndOfExchange { kind: of } => {
                write!(f, "the recording ends, or bytes are missing, before the answer to this {}", kind(of))
            }
            Reason::NoKey { kind: of } => {
                write!(f, "what it has in common with the rest of {} has no value", kind(of))
            }
            Reason::Late { kind: of } => write!(f, "it came when its {} was done with", kind(of)),
            Reason::Incomplete { kind: of, missing } => {
                let merge = plan.0.stages.iter().find_map(|stage| match stage {
                    Stage::Merge(merge) if merge.kind == of => merge.of.get(usize::from(missing)),
                    _ => None,
                });
                let missing = merge.and_then(|taken| taken.first()).map_or("", |taken| kind(taken.from));
                write!(f, "what belongs to the same {} did not come: {missing}", kind(of))
            }
            Reason::Count { kind: of, sent: Some(sent) } => {
                write!(f, "the group of {} has {sent} items by its count, which does not go with the length", kind(of))
            }
            Reason::Count { kind: of, sent: None } => write!(f, "the group of {} has no usable count", kind(of)),
            Reason::TooManyParts { kind: of } => {
                write!(f, "{} has more parts than can be told apart ({})", kind(of), limits::PARTS)
            }
            Reason::BytesLeft { kind: of, count: 1 } => {
                write!(f, "behind the last field of {} is a byte more", kind(of))
            }
            Reason::BytesLeft { kind: of, count } => {
                write!(f, "behind the last field of {} are {count} bytes more", kind(of))
            }
            Reason::PartCutOff { kind: of, part: number } => {
                write!(f, "{} ends before all of {} is there", kind(of), part(of, number))
            }
            Reason::PartSize { kind: of, part: number } => {
                write!(f, "{} does not say how large {} is", kind(of), part(of, number))
            }
            Reason::PartNoEnd { kind: of, part: number } => {
                write!(f, "what ends {} of {} is not there", part(of, number), kind(of))
            }
            Reason::ItemSize { kind: of, size: u32::MAX } => {
                write!(f, "an item of {} does not say how large it is", kind(of))
            }
            Reason::ItemSize { kind: of, size } => {
                write!(
                    f,
                    "an item of {} is {size} bytes large, which does not go with its fields or its place",
                    kind(of)
                )
            }
            Reason::EmptyItem { kind: of, part: number } => {
                write!(f, "an item of {} of {} has no bytes", part(of, number), kind(of))
            }
            Reason::ItemField { kind: of, part: number } => {
                write!(f, "a field in an item of {} of {} is not what it has to be", part(of, number), kind(of))
            }
            Reason::Item { kind: of, group } => {
                let gates = plan.0.kinds.get(usize::from(of)).and_then(|kind| kind.item_gates.get(usize::from(group)));
                let name = gates.map_or("a group", |gates| gates.name.as_str());
                write!(f, "a field in an item of {name} of {} is not what it has to be", kind(of))
            }
            Reason::Equals { kind: of, field } => {
                write!(f, "{} of {} is not what it has to be", or_constant(gate(of, field)), kind(of))
            }
            Reason::Invalid { kind: of, field } => {
                write!(f, "{} of {} is not a value of its type", gate(of, field), kind(of))
            }
        }
    }
}

fn or_constant(name: &str) -> &str {
    if name.is_empty() { "constant" } else { name }
}

impl Plan {
    /// One of a frame's checksums.
    pub(crate) fn check(&self, frame: u16, number: u8) -> Option<&Check> {
        self.0.frames.get(usize::from(frame))?.check.as_ref()?.all().nth(number.into())
    }

    /// What a checksum is called where its frame has several.
    fn which_check(&self, frame: u16, number: u8) -> alloc::string::String {
        let count = self.0.frames.get(usize::from(frame)).and_then(|frame| frame.check.as_ref());
        match count.map_or(0, |check| check.others.len()) {
            0 => "checksum".into(),
            _ => alloc::format!("checksum {}", number + 1),
        }
    }

    /// Bytes of a frame's checksum, and the type that has them in the other order.
    fn check_if_swapped(&self, frame: u16, number: u8) -> Option<(u32, alloc::string::String)> {
        let check = self.check(frame, number)?;
        let CheckForm::Binary(integer) = check.form else { return None };
        let order = if integer.order == Order::Big { "le" } else { "be" };
        (integer.bytes > 1).then(|| (integer.bytes.into(), alloc::format!("u{}{order}", 8 * integer.bytes)))
    }

    /// The value of a checksum as people are shown it: in hex, unless it is sent in decimal digits.
    fn check_text(&self, frame: u16, number: u8, value: u64) -> alloc::string::String {
        let check = self.check(frame, number);
        let digits = check.map_or(2, |check| usize::from(check.checksum.width()).div_ceil(4));
        match check.map(|check| check.form) {
            Some(CheckForm::Decimal(width)) => alloc::format!("{value:0width$}", width = width.unwrap_or(1)),
            _ => alloc::format!("{value:0digits$X}"),
        }
    }
}
