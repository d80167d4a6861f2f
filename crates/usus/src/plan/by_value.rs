//! A plan that gives a record for each value.

use alloc::boxed::Box;
use alloc::string::{String, ToString};
use alloc::sync::Arc;
use alloc::vec::Vec;

use super::{Output, Plan, Stage, Values, What};
use crate::compile::{blank, made};
use crate::schema::{FieldSchema, KindSchema};
use crate::value::ValueType;

/// Which values [`Plan::by_value`] gives.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Which {
    /// Each.
    Each,
    /// Those that are not what they were the time before, of their field and series.
    Changed,
}

impl Plan {
    /// The same plan with a record `value` for each value of the records that are wanted, in place of those: what it is of, its name, the number, all of it as
    /// text, its unit, and what is to be said about it. Of units on a bus only points are values.
    ///
    /// ```
    /// use usus::{Chunk, Decoder, Format, Which};
    ///
    /// let format = Format::parse(r#"
    ///     format = "brake-box"
    ///     [[frame]]
    ///     cut = "text"
    ///     [record.brake]
    ///     fields = [{ name = "force", type = "number", unit = "kN" }, { name = "state", type = "text" }]
    /// "#)?;
    /// let plan = format.compile()?.by_value(Which::Changed);
    /// let mut rows = Vec::new();
    /// let mut take = |record: &usus::Record<'_>| {
    ///     rows.push(["name", "text"].map(|field| record.get(field).unwrap().value.to_string()).join(" "));
    /// };
    /// let mut decoder = Decoder::new(&plan);
    /// let line = decoder.line("", 0).unwrap();
    /// let Ok(()) = decoder.decode(Chunk::new(line, b"12.5,held\n12.5,free\n"), &mut take);
    /// assert_eq!(rows, ["force 12.5", "state held", "state free"]);
    /// # Ok::<(), usus::Problems>(())
    /// ```
    pub fn by_value(&self, which: Which) -> Plan {
        let mut inner = (*self.0).clone();
        let record = inner.schema.kinds.len() as u16;
        let is_wanted = |place: &usize| inner.kinds[*place].wanted && !inner.kinds[*place].is_part;
        let of: Box<[u16]> = (0..inner.kinds.len()).filter(is_wanted).map(|place| place as u16).collect();
        for place in &of {
            let kind = &mut inner.kinds[usize::from(*place)];
            (kind.wanted, kind.staged) = (false, true);
            inner.schema.kinds[usize::from(kind.record)].wanted = false;
        }
        let mut outputs: Vec<Output> =
            fields().into_iter().zip(0..).map(|(field, place)| Output::new(field, What::Made(place), None)).collect();
        Output::number(&mut outputs);
        let mut schema = KindSchema {
            name: self.free_name(),
            title: Some("One value of another record".to_string()),
            fields: outputs.iter().map(|output| (*output.schema).clone()).collect(),
            wanted: true,
        };
        schema.fields.iter_mut().zip(0..).for_each(|(field, place)| field.place = place);
        inner.schema.kinds.push(schema);
        let kind = inner.kinds.len() as u16;
        inner.kinds.push(super::Kind { outputs, ..blank(record) });
        inner.stages.push(Stage::Values(Values { kind, of, changed: which == Which::Changed }));
        Plan(Arc::new(inner))
    }

    /// `value`, or that with something behind it where a record is called so.
    fn free_name(&self) -> String {
        let mut name = "value".to_string();
        while self.schema().kind(&name).is_some() {
            name.push('_');
        }
        name
    }
}

fn fields() -> [FieldSchema; 7] {
    [
        made("record", "The record that it is of", ValueType::Text),
        made("series", "Which of several that are alike", ValueType::Text),
        made("name", "The field", ValueType::Text),
        made("value", "The number; of a flag 1 or 0", ValueType::Decimal),
        made("text", "The value as it is written", ValueType::Text),
        made("unit", "Unit of the value", ValueType::Text),
        made("quality", "What is to be said about it", ValueType::Text),
    ]
}
