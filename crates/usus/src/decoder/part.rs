//! Decoding a stream in parts at the same time, and joining them to what one decoder would have given.
//!
//! Whoever decodes a part begins a little before it, without knowing what is there, and throws away what that gives: by the time the part
//! begins, the decoder has nearly always found its place. Whether it has is seen when the decoder of what comes before has got there:
//! both have to agree in their joins, and nothing in the part may depend on what was counted before.

use super::Decoder;
use crate::framing::Behind;
use crate::input::LineId;

impl Decoder {
    /// Adds a line like [`Decoder::line`], amid its bytes: `offset` is the stream offset of the first byte that will be fed. Bytes before it
    /// are there, but another decoder has them.
    pub fn line_amid(&mut self, role: &str, offset: u64) -> Option<LineId> {
        self.add_line(role, offset, Behind::Unclaimed(0))
    }

    /// Begins a part: what comes from here on is accounted and counted for itself, until [`Decoder::follow`] puts it behind what came
    /// before. All events have to be drained.
    pub fn begin_part(&mut self) {
        for line in self.lines.all_mut() {
            line.begin_part(&self.plan.0);
        }
        self.begun = Some(self.stages.clone());
    }

    /// Puts this decoder's part behind what another has decoded, if one decoder for both would have given the same events. Its ledgers
    /// are those of both then, it goes on as that one decoder would, and the other is used up. Says whether it is so; if not, nothing has
    /// changed, and the part has to be decoded again, by the other.
    ///
    /// ```
    /// use usus::{Chunk, Decoder, Format, Record};
    ///
    /// let format = Format::parse(r#"
    ///     format = "scale"
    ///     [[frame]]
    ///     cut = "text"
    ///     [record.weight]
    ///     fields = [{ name = "weight", type = "number", unit = "kg" }]
    /// "#)?;
    /// let plan = format.compile()?;
    /// let bytes = b"12.50\n13.25\n14.00\n";
    /// let mut ignore = |_: &Record<'_>| {};
    ///
    /// let mut first = Decoder::new(&plan);
    /// let line = first.line("", 0).unwrap();
    /// let Ok(()) = first.feed(Chunk::new(line, &bytes[..8])).drain(&mut ignore);
    ///
    /// // The second begins four bytes before its part, in the middle of a line.
    /// let mut second = Decoder::new(&plan);
    /// let line = second.line_amid("", 4).unwrap();
    /// let Ok(()) = second.feed(Chunk::new(line, &bytes[4..8])).drain(&mut ignore);
    /// second.begin_part();
    /// let mut weights = Vec::new();
    /// let mut take = |record: &Record<'_>| weights.push(record.get("weight").unwrap().value.to_string());
    /// let Ok(()) = second.feed(Chunk::new(line, &bytes[8..])).drain(&mut take);
    ///
    /// assert!(second.follow(&mut first));
    /// assert_eq!(weights, ["13.25", "14.00"]);
    /// assert_eq!(second.ledger(line).recorded, 15);
    /// # Ok::<(), usus::Problems>(())
    /// ```
    pub fn follow(&mut self, before: &mut Decoder) -> bool {
        // Lines that were added in the part have nothing before them.
        let known = self.lines.all().filter(|line| line.is_part()).count();
        let plan = &self.plan.0;
        let stages_agree = self.begun.as_ref().is_none_or(|begun| begun.agrees(&before.stages));
        // What lies inside of lines goes on with what came before it, however long ago.
        let follows = plan.insides.is_empty()
            && known == before.lines.len()
            && stages_agree
            && self.lines.all().zip(before.lines.all()).all(|(line, before)| line.would_follow(plan, before));
        if follows {
            for (line, before) in self.lines.all_mut().zip(before.lines.all_mut()) {
                line.follow(plan, before);
            }
        }
        follows
    }
}
