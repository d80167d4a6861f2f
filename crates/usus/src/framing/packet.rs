//! The `packet` framing: a start pattern; a length that is fixed or told by a field, or an end pattern, or both; constants in the header; a checksum.

use super::scan::{Sought, Start};
use super::{Behind, Candidate, CheckState, Contents, Recognise, Recognised, Tools, Verdict, View, coding};
use crate::check::{self, Whole};
use crate::claim::Choices;
use crate::integer::Integer;
use crate::limits;
use crate::plan::{
    Check, CheckPlace, Choice, Count, Field, Frame, Inner, Length, LengthPast, Packet, PartBefore, Reading, ShapeUnit,
};
use crate::read::{Cells, word_of};
use crate::reason::Reason;

/// A packet, but for its checksum.
struct Outline {
    length: usize,
    /// How many of its bytes are its contents.
    contents: usize,
    choice: Choice,
}

impl Packet {
    /// Whether a packet seems to begin with `bytes`.
    #[inline(always)]
    fn begins(&self, bytes: &[u8]) -> bool {
        self.start.begins(bytes)
    }

    /// Where the next start pattern is, or where one may begin that the window's end hides.
    pub(super) fn find(&self, view: &View<'_>, from: u64) -> Start {
        let bytes = view.from(from);
        if bytes.is_empty() {
            return Start::NotBefore(from);
        }
        // Nearly always the next packet follows at once.
        if self.begins(bytes) {
            return Start::At(from);
        }
        if let Some(offset) = self.start.find(bytes) {
            return Start::At(from + offset as u64);
        }
        Start::NotBefore(view.end() - self.start.hidden(bytes) as u64)
    }

    /// What the bytes from a start pattern on are.
    pub(super) fn judge(&self, candidate: &Candidate<'_>, sought: &mut Sought, tools: &mut Tools<'_>) -> Verdict {
        let Candidate { plan, frame: number, bytes, start, .. } = *candidate;
        let looked_at = sought.no_end_before.saturating_sub(start) as usize;
        let outline = match self.outline(plan, number, bytes, looked_at, tools.choices) {
            Ok(outline) => outline,
            Err(verdict) => {
                if let (Verdict::Need(_), Length::ToEnd) = (&verdict, &self.length) {
                    sought.no_end_before = start + bytes.len() as u64;
                }
                return verdict;
            }
        };
        let Some(packet) = bytes.get(..outline.length) else { return Verdict::Need(outline.length) };
        let frame = &plan.frames[usize::from(number)];
        let check = &frame.check;
        if !frame.coding.is_empty() {
            return self.judge_coded(frame, number, packet, &outline, tools);
        }
        let sent = self.whole(packet, outline.contents);
        let computed = check.as_ref().map(|check| {
            let (from, to) = check::covered(check, sent);
            let offset = |place: usize| start + place as u64;
            sought.overlaps.checksum(&check.checksum, candidate.line(), offset(from), offset(to))
        });
        match check.as_ref().zip(computed).map(|(check, computed)| check::compare(check, sent, computed)) {
            Some(Err(wrong)) => Verdict::Fail(wrong.reason(number)),
            tested => {
                let check = if tested.is_some() { CheckState::Holds } else { CheckState::Undeclared };
                let contents = Contents::Lie(0, outline.contents as u32);
                Verdict::Frame { length: outline.length, contents, check, choice: outline.choice }
            }
        }
    }

    /// What a packet is whose contents are coded.
    fn judge_coded(
        &self,
        frame: &Frame,
        number: u16,
        packet: &[u8],
        outline: &Outline,
        tools: &mut Tools<'_>,
    ) -> Verdict {
        let raw = &packet[..outline.contents];
        let Some(contents) = coding::decoded(&frame.coding, raw, tools.decoded) else {
            return Verdict::Fail(Reason::Coding { frame: number });
        };
        let Some(check) = &frame.check else {
            return Verdict::Frame {
                length: outline.length,
                contents,
                check: CheckState::Undeclared,
                choice: Choice::Undecided,
            };
        };
        match check::test(check, whole_of_coded(frame, check, contents, packet, raw, tools.decoded)) {
            Ok(()) => {
                Verdict::Frame { length: outline.length, contents, check: CheckState::Holds, choice: Choice::Undecided }
            }
            Err(wrong) => Verdict::Fail(wrong.reason(number)),
        }
    }

    /// A packet as its checksum is tested on it.
    #[inline(always)]
    fn whole<'f>(&self, packet: &'f [u8], contents: usize) -> Whole<'f> {
        let contents = packet.get(..contents).unwrap_or_default();
        // As it is sent, so it is read.
        Whole { contents, frame: packet, sent: contents }
    }

    /// The contents of a whole packet.
    pub(super) fn contents(&self, packet: &[u8]) -> Option<Contents> {
        let behind = self.end.as_ref().map_or(0, |end| end.length() + self.behind);
        Some(Contents::Lie(0, packet.len().checked_sub(behind)? as u32))
    }

    /// What the bytes from a start pattern on seem to be; that they are all there is not said. No end begins before `looked_at`.
    #[inline(always)]
    fn outline(
        &self,
        plan: &Inner,
        number: u16,
        bytes: &[u8],
        looked_at: usize,
        choices: &mut Choices,
    ) -> Result<Outline, Verdict> {
        let frame = &plan.frames[usize::from(number)];
        if bytes.len() < self.header {
            return Err(Verdict::Need(self.header));
        }
        let header = Cells::of_bytes(bytes);
        let is_coded = !frame.coding.is_empty();
        for &index in if is_coded { &[][..] } else { &frame.constants } {
            let field = &frame.header[usize::from(index)];
            if let Some(constant) = &field.equals
                && !header.equals(&field.field, 0, constant)
            {
                return Err(Verdict::Fail(Reason::Constant { frame: number, field: index }));
            }
        }
        let length = match self.length {
            Length::Record => self.length_of_record(plan, number, bytes, choices)?,
            _ => self.length(number, bytes, looked_at)?,
        };
        let behind = self.end.as_ref().map_or(0, |end| end.length() + self.behind);
        let Some(contents) = length.checked_sub(behind).filter(|contents| *contents >= self.start.length()) else {
            return Err(Verdict::Fail(Reason::Length { frame: number, found: length as u64 }));
        };
        // A text is claimed once all of it is there: its length tells nothing about the record.
        let choice = match frame.reading {
            Reading::Bytes if !is_coded => choices.choose(plan, number, frame, &header, contents),
            Reading::Bytes | Reading::Text => Choice::Undecided,
        };
        if !self.admits(plan, choice, length, contents) {
            return Err(Verdict::Fail(Reason::Length { frame: number, found: length as u64 }));
        }
        if let Some(end) = &self.end
            && !matches!(self.length, Length::ToEnd)
        {
            let Some(behind) = bytes.get(contents..length) else { return Err(Verdict::Need(length)) };
            if !end.begins(behind) {
                return Err(Verdict::Fail(Reason::NoEnd { frame: number, length: length as u32 }));
            }
        }
        Ok(Outline { length, contents, choice })
    }

    /// The length of the whole packet.
    #[inline(always)]
    fn length(&self, number: u16, bytes: &[u8], looked_at: usize) -> Result<usize, Verdict> {
        let length = match &self.length {
            Length::Fixed(length) => return Ok(*length),
            Length::Fields(fields) => self.told_by_fields(number, fields, bytes)?,
            Length::Past(past) => self.told_past(number, past, bytes)?,
            // It is known once the record is.
            Length::Record => return Ok(0),
            Length::ToEnd => return self.length_to_end(number, bytes, looked_at),
            Length::Field { at, integer: Integer { bytes: 1, signed: false, .. }, add } => {
                i128::from(i64::from(bytes.get(*at).copied().unwrap_or(0)).saturating_add(*add))
            }
            Length::Field { at, integer, add } => integer_at(bytes, *at, *integer).saturating_add(i128::from(*add)),
        };
        match usize::try_from(length) {
            Ok(length) if (self.shortest..=self.longest).contains(&length) => Ok(length),
            _ => {
                let found = u64::try_from(length).unwrap_or(0);
                Err(Verdict::Fail(Reason::Length { frame: number, found }))
            }
        }
    }

    /// What fields say of the length, which all have to be the same.
    #[inline(never)]
    fn told_by_fields(&self, number: u16, fields: &[Field], bytes: &[u8]) -> Result<i128, Verdict> {
        let header = Cells::of_bytes(bytes);
        let mut told = fields.iter().map(|field| header.integer(field, 0));
        let Some(Some(first)) = told.next() else {
            return Err(Verdict::Fail(Reason::LengthsDiffer { frame: number }));
        };
        match told.all(|other| other == Some(first)) {
            true => Ok(first),
            false => Err(Verdict::Fail(Reason::LengthsDiffer { frame: number })),
        }
    }

    /// What a field behind a part that varies says of the length.
    #[inline(never)]
    fn told_past(&self, number: u16, past: &LengthPast, bytes: &[u8]) -> Result<i128, Verdict> {
        let fail = |found: usize| Verdict::Fail(Reason::Length { frame: number, found: found as u64 });
        let part = match &past.part {
            PartBefore::Told(field) => {
                let told = Cells::of_bytes(bytes).integer(field, 0);
                told.and_then(|told| usize::try_from(told).ok()).ok_or(fail(0))?
            }
            PartBefore::Until(from, until) => {
                let most = from + limits::PART_BEFORE;
                let seen = bytes.get(*from..bytes.len().min(most)).unwrap_or_default();
                match until.find(seen) {
                    Some(place) => place + until.length(),
                    None if bytes.len() < most => return Err(Verdict::Need(bytes.len() + 1)),
                    None => return Err(Verdict::Fail(Reason::LengthPast { frame: number })),
                }
            }
        };
        let end = part.checked_add(past.end).filter(|end| *end <= self.longest).ok_or(fail(part))?;
        if bytes.len() < end {
            return Err(Verdict::Need(end));
        }
        // As if that part was not there.
        let told = Cells::of_bytes(bytes.get(part..).unwrap_or_default()).integer(&past.field, 0).ok_or(fail(0))?;
        Ok(told.saturating_add(part as i128))
    }

    /// The length of the record that the header chooses.
    #[inline(never)]
    fn length_of_record(
        &self,
        plan: &Inner,
        number: u16,
        bytes: &[u8],
        choices: &mut Choices,
    ) -> Result<usize, Verdict> {
        let frame = &plan.frames[usize::from(number)];
        let fail = |found: usize| Verdict::Fail(Reason::Length { frame: number, found: found as u64 });
        let header = Cells::of_bytes(bytes);
        let Choice::Kind(kind) = choices.choose(plan, number, frame, &header, 0) else { return Err(fail(0)) };
        let shape = &plan.kinds[usize::from(kind)].shape;
        let items = match &shape.count {
            _ if shape.item == 0 => 0,
            Count::Field(_) if bytes.len() < shape.front => return Err(Verdict::Need(shape.front)),
            Count::Field(count) => {
                let count = header.integer(count, 0).and_then(|count| usize::try_from(count).ok());
                count.and_then(|count| count.checked_mul(shape.item)).ok_or(fail(0))?
            }
            Count::ToEnd => return Err(fail(0)),
        };
        let behind = self.end.as_ref().map_or(0, |end| end.length() + self.behind);
        let length = (shape.least() + behind).checked_add(items).filter(|length| *length <= self.longest);
        length.ok_or(fail(items))
    }

    /// The same, up to the first end there can be. No later one is tried, and where another packet seems to begin before it, this one is none.
    #[inline(never)]
    fn length_to_end(&self, number: u16, bytes: &[u8], looked_at: usize) -> Result<usize, Verdict> {
        let Some(end) = &self.end else { return Ok(bytes.len()) };
        let behind = end.length() + self.behind;
        let limit = self.longest.saturating_sub(behind);
        let first = self.shortest.saturating_sub(behind);
        let seen = &bytes[..bytes.len().min(limit + end.length())];
        let overlap = end.length().max(self.start.length()) - 1;
        let from = looked_at.saturating_sub(overlap).min(seen.len());
        let found = seen.get(first.max(from)..).and_then(|bytes| end.find(bytes));
        let found = found.map(|place| first.max(from) + place);
        let before = &seen[from.max(1).min(seen.len())..found.unwrap_or(seen.len())];
        if self.start.find(before).is_some() {
            return Err(Verdict::Fail(Reason::BeginsAnew { frame: number }));
        }
        match found {
            Some(contents) => Ok(contents + behind),
            None if seen.len() < bytes.len() || seen.len() == limit + end.length() => {
                Err(Verdict::Fail(Reason::NoEnd { frame: number, length: self.longest as u32 }))
            }
            None => Err(Verdict::Need((bytes.len() + 1).max(first + behind))),
        }
    }

    /// Whether a packet of that length can be what claims it. One that nothing claims may be as long as any.
    #[inline(always)]
    fn admits(&self, plan: &Inner, choice: Choice, length: usize, contents: usize) -> bool {
        match choice {
            Choice::Kind(kind) => match plan.kinds[usize::from(kind)].shape.unit {
                ShapeUnit::Bytes | ShapeUnit::Parts => plan.kinds[usize::from(kind)].shape.admits(contents),
                ShapeUnit::Columns
                | ShapeUnit::Apart
                | ShapeUnit::Pairs
                | ShapeUnit::Printed
                | ShapeUnit::Characters => true,
            },
            _ => length <= self.longest,
        }
    }
}

/// A packet whose contents are coded as its checksum is tested on it.
pub(super) fn whole_of_coded<'f>(
    frame: &Frame,
    check: &Check,
    contents: Contents,
    packet: &'f [u8],
    raw: &'f [u8],
    decoded: &'f [u8],
) -> Whole<'f> {
    let (contents, _) = contents.of(packet, decoded);
    let sent = match check.place {
        CheckPlace::In(edge) if check.over_sent => {
            coding::sent_before(&frame.coding, edge.in_frame(contents.len()).unwrap_or(0), raw)
        }
        CheckPlace::Behind { through_end: true } => {
            packet.get(..packet.len().saturating_sub(check.form.size())).unwrap_or_default()
        }
        _ => raw,
    };
    Whole { contents, frame: packet, sent }
}

#[inline(always)]
fn integer_at(bytes: &[u8], at: usize, integer: Integer) -> i128 {
    let Some(bytes) = bytes.get(at..at + usize::from(integer.bytes)) else { return -1 };
    let value = word_of(bytes, integer.order);
    let unused = 64 - u32::from(integer.bytes) * 8;
    match integer.signed {
        true => i128::from(((value << unused) as i64) >> unused),
        false => i128::from(value),
    }
}

/// A packet whose checksum holds.
#[derive(Clone, Copy)]
pub(crate) struct AnyPacket<'p> {
    pub(crate) packet: &'p Packet,
    pub(crate) plan: &'p Inner,
    pub(crate) number: u16,
    pub(crate) check: Option<&'p Check>,
}

impl Recognise for AnyPacket<'_> {
    const DECIDES: bool = false;
    const SPLITS: bool = false;

    #[inline(always)]
    fn recognise(&self, bytes: &[u8], tools: &mut Tools<'_>) -> Option<Recognised> {
        if !self.packet.begins(bytes) {
            return None;
        }
        let outline = self.packet.outline(self.plan, self.number, bytes, 0, tools.choices).ok()?;
        let packet = bytes.get(..outline.length)?;
        let sent = self.packet.whole(packet, outline.contents);
        if let Some(check) = self.check {
            check::test(check, sent).ok()?;
        }
        Some(Recognised {
            length: outline.length,
            contents: Contents::Lie(0, outline.contents as u32),
            check: if self.check.is_some() { CheckState::Holds } else { CheckState::Undeclared },
            choice: outline.choice,
            filler: 0,
            behind: Behind::Frame,
        })
    }
}
