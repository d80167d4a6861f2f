//! Plans with stages that no format declares: they prove what stages can do, for tests. Nothing else should use them.

use alloc::boxed::Box;
use alloc::sync::Arc;
use alloc::vec::Vec;

use crate::plan::{Join, Output, Plan, Stage, What};
use crate::schema::{FieldSchema, KindSchema};
use crate::stage::outputs_of_part;
use crate::time::Span;
use crate::value::ValueType;

/// The same plan, in which records of two kinds become one of a third where the values of their fields agree. One waits for the other so long, and
/// only so many wait.
pub fn join(plan: &Plan, kinds: [(&str, &str); 2], joined: &str, within: Span, most: usize) -> Option<Plan> {
    let mut inner = (*plan.0).clone();
    let number = |name: &str| inner.schema.kinds.iter().position(|kind| kind.name == name);
    let numbers = [number(kinds[0].0)?, number(kinds[1].0)?];
    let key = |half: usize| {
        let mut outputs = inner.kinds[numbers[half]].outputs.iter();
        outputs.find(|output| output.schema.name == kinds[half].1).cloned().map(Box::new)
    };
    let keys = [key(0)?, key(1)?];
    let outputs = |half: usize| {
        let mut outputs = outputs_of_part(&inner.kinds[numbers[half]].outputs, half as u16);
        for output in &mut outputs {
            // Both may have fields of one name.
            output.schema.name = alloc::format!("{}_{}", kinds[half].0, output.schema.name);
        }
        outputs
    };
    let mut made: Vec<Output> = [outputs(0), outputs(1)].concat();
    Output::number(&mut made);
    let fields = made.iter().map(|output| (*output.schema).clone()).collect();
    let record = inner.schema.kinds.len() as u16;
    let kind = crate::plan::Kind { record, outputs: made, counters: Vec::new(), ..inner.kinds[numbers[0]].clone() };
    let joined_number = inner.kinds.len() as u16;
    inner.kinds.push(kind);
    inner.schema.kinds.push(KindSchema { name: joined.into(), title: None, fields, wanted: true });
    let kinds = numbers.map(|number| number as u16);
    inner.stages.push(Stage::Join(Join { kinds, joined: joined_number, keys, within, most }));
    Some(staged(inner))
}

/// The same plan, in which a record of one kind is held until the next comes on its line, and is of another kind if the one before it was of the first
/// kind, too.
pub fn reread(plan: &Plan, kind: &str, other: &str) -> Option<Plan> {
    let mut inner = (*plan.0).clone();
    let number = |name: &str| inner.schema.kinds.iter().position(|kind| kind.name == name).map(|kind| kind as u16);
    let (kind, other) = (number(kind)?, number(other)?);
    inner.stages.push(Stage::Reread { kind, other });
    Some(staged(inner))
}

/// The same plan, in which all records get a number in front.
pub fn number(plan: &Plan, name: &str) -> Plan {
    let mut inner = (*plan.0).clone();
    for kind in &mut inner.kinds {
        let schema = &mut inner.schema.kinds[usize::from(kind.record)];
        let field = FieldSchema {
            name: name.into(),
            title: None,
            tag: None,
            unit: None,
            value_type: ValueType::Decimal,
            declared: None,
            numbers: None,
            is_instant: false,
            has_quality: false,
            items: Vec::new(),
            place: 0,
        };
        // Of what is a row already, each output says itself in which frame it stands.
        let is_row = kind.outputs.iter().any(|output| matches!(output.what, What::Part(..)));
        let outputs = if is_row { kind.outputs.clone() } else { outputs_of_part(&kind.outputs, 0) };
        kind.outputs = core::iter::once(Output::new(field, What::Made(0), None)).chain(outputs).collect();
        Output::number(&mut kind.outputs);
        schema.fields = kind.outputs.iter().map(|output| (*output.schema).clone()).collect();
    }
    inner.stages.push(Stage::Number);
    staged(inner)
}

fn staged(mut inner: crate::plan::Inner) -> Plan {
    for (number, kind) in inner.kinds.iter_mut().enumerate() {
        kind.staged = inner.stages.iter().any(|stage| stage.takes(number as u16));
    }
    Plan(Arc::new(inner))
}
