//! Variants of a record: what each says is brought into the units of the first, and into one list of fields.

use alloc::borrow::Cow;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::format::{self, Field as Declared, Spanned};
use crate::plan::{Group, Kind, Output, What};
use crate::problem::{ProblemKind, Problems};
use crate::schema::FieldSchema;
use crate::value::ValueType;

/// The units of a record's fields, by their names and those of their groups, as the first variant has them that has the field.
#[derive(Default)]
pub(super) struct Units(Vec<Known>);

struct Known {
    group: Option<String>,
    name: String,
    unit: Option<Spanned<String>>,
}

impl Units {
    /// The fields of the next variant, converted to the units of those before it.
    pub(super) fn convert<'f>(&mut self, fields: &'f [Declared], problems: &mut Problems) -> Cow<'f, [Declared]> {
        let mut converted = Cow::Borrowed(fields);
        self.convert_all(None, &mut converted, problems);
        converted
    }

    fn convert_all(&mut self, group: Option<&str>, fields: &mut Cow<'_, [Declared]>, problems: &mut Problems) {
        for place in 0..fields.len() {
            let Some(name) = fields[place].name.as_ref().map(|name| name.value.clone()) else { continue };
            if let Some(inner) = fields[place].group.as_ref().map(|inner| inner.fields.clone()) {
                let mut items = Cow::Owned(inner);
                self.convert_all(Some(&name), &mut items, problems);
                if let Some(inner) = &mut fields.to_mut()[place].group {
                    inner.fields = items.into_owned();
                }
            }
            let unit = fields[place].unit.clone();
            match self.0.iter().find(|known| known.group.as_deref() == group && known.name == name) {
                None => self.0.push(Known { group: group.map(ToString::to_string), name, unit }),
                Some(first) if written(&first.unit) != written(&unit) => {
                    convert(&mut fields.to_mut()[place], first.unit.as_ref(), problems);
                }
                Some(_) => {}
            }
        }
    }
}

fn written(unit: &Option<Spanned<String>>) -> Option<&str> {
    unit.as_ref().map(|unit| unit.value.as_str())
}

/// Declares a field in another unit than its own.
fn convert(field: &mut Declared, unit: Option<&Spanned<String>>, problems: &mut Problems) {
    let Some(own) = field.unit.clone() else {
        problems.add(
            field.span.clone(),
            ProblemKind::VariantUnit { unit: written(&unit.cloned()).map(ToString::to_string) },
        );
        return;
    };
    if unit.is_none() || field.range.is_some() {
        let unit = unit.map(|unit| unit.value.clone());
        problems.add(own.span.clone(), ProblemKind::VariantUnit { unit });
        return;
    }
    let tells =
        field.unit_sent.is_some() || field.unit_from.is_some() || field.suffixes.iter().any(|(_, unit)| unit.is_some());
    field.unit = unit.map(|unit| Spanned { span: own.span.clone(), value: unit.value.clone() });
    if !tells {
        field.unit_sent = Some(own);
    }
}

/// Brings what the variants of a record say into one list of fields, in the order in which they first appear.
pub(super) fn unite(owner: &format::Record, kinds: &mut [&mut Kind], problems: &mut Problems) -> Vec<FieldSchema> {
    let mut fields = Vec::new();
    let several = kinds.len() > 1;
    match &*kinds {
        [kind] => fields.extend(kind.outputs.iter().map(|output| (*output.schema).clone())),
        kinds => kinds.iter().for_each(|kind| join(owner, &mut fields, &kind.outputs, problems)),
    }
    for kind in kinds {
        if several {
            kind.outputs = spread(&fields, core::mem::take(&mut kind.outputs));
        }
        Output::count_neighbours(&mut kind.outputs);
        Output::number(&mut kind.outputs);
        kind.near = kind.outputs.iter().all(Output::is_near);
    }
    for (place, field) in fields.iter_mut().enumerate() {
        field.place = place as u16;
        field.items.iter_mut().enumerate().for_each(|(place, item)| item.place = place as u16);
    }
    fields
}

fn join(owner: &format::Record, fields: &mut Vec<FieldSchema>, outputs: &[Output], problems: &mut Problems) {
    for output in outputs {
        let schema = &*output.schema;
        let Some(known) = fields.iter_mut().find(|known| known.name == schema.name) else {
            fields.push(schema.clone());
            continue;
        };
        match both(known.value_type, schema.value_type) {
            Some(value_type) => known.value_type = value_type,
            None => {
                let kind = ProblemKind::VariantType {
                    name: schema.name.clone(),
                    first: known.value_type.word(),
                    found: schema.value_type.word(),
                };
                problems.add(owner.kind.span.clone(), kind);
            }
        }
        // Fields of the record itself were converted, or that was reported.
        if known.unit != schema.unit && problems.is_empty() {
            let kind = ProblemKind::VariantUnit { unit: known.unit.clone() };
            problems.add(owner.kind.span.clone(), kind);
        }
        known.numbers = match (known.numbers, schema.numbers) {
            (Some(numbers), Some(others)) => numbers.united(others),
            _ => None,
        };
        known.is_instant &= schema.is_instant;
        known.has_quality |= schema.has_quality;
        known.title = known.title.take().or_else(|| schema.title.clone());
        known.tag = known.tag.take().or_else(|| schema.tag.clone());
        if let What::Group(group) = &output.what {
            join(owner, &mut known.items, &group.outputs, problems);
        }
    }
}

/// The type of what is of one type here and of another there.
pub(super) fn both(first: ValueType, second: ValueType) -> Option<ValueType> {
    use ValueType::{Code, Decimal, Integer};
    match (first, second) {
        _ if first == second => Some(first),
        (Integer, Decimal) | (Decimal, Integer) => Some(Decimal),
        (Code, Integer | Decimal) | (Integer | Decimal, Code) => Some(Code),
        _ => None,
    }
}

/// Outputs in the order of the fields, with nothing where there is none.
fn spread(fields: &[FieldSchema], mut outputs: Vec<Output>) -> Vec<Output> {
    let output = |field: &FieldSchema| match outputs.iter().position(|output| output.schema.name == field.name) {
        Some(place) => {
            let mut output = outputs.swap_remove(place);
            output.schema = field.clone().into();
            if let What::Group(group) = &mut output.what {
                group.outputs = spread(&field.items, core::mem::take(&mut group.outputs));
                Output::count_neighbours(&mut group.outputs);
            }
            output
        }
        None if field.value_type == ValueType::Group => {
            let first = crate::plan::At::Front(0);
            let group = Group {
                first,
                step: crate::plan::Stride::Even(0),
                count: Some(0),
                outputs: spread(&field.items, Vec::new()),
            };
            Output::of_group(field.clone(), group)
        }
        None => Output::new(field.clone(), What::NotThere, None),
    };
    fields.iter().map(output).collect()
}
