//! Choosing some kinds and fields of a plan.

use alloc::string::{String, ToString};
use alloc::sync::Arc;
use alloc::vec::Vec;

use super::Plan;
use crate::problem::nearest;

/// What is wanted of a format. Nothing said means everything that is not only part of something else.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wants {
    /// Kinds that are wanted; if empty, all but those that are only part of others.
    pub records: Vec<String>,
    /// Fields that are wanted, as `kind.field`. A kind of which none is named keeps all of its fields.
    pub fields: Vec<String>,
}

/// A name in [`Wants`] that the format does not have.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the format `{format}` has no {what} `{name}`{}", suggestion(.nearest))]
pub struct UnknownName {
    /// The format.
    pub format: String,
    /// What was looked for.
    pub what: &'static str,
    /// The name.
    pub name: String,
    /// The known name most like it.
    pub nearest: Option<String>,
}

fn suggestion(nearest: &Option<String>) -> String {
    nearest.as_ref().map(|nearest| alloc::format!("; did you mean `{nearest}`?")).unwrap_or_default()
}

impl Plan {
    /// The same plan, or one in which these kinds are wanted and nothing that is made of them, if one of them is only part of others.
    pub(crate) fn with_wanted(&self, names: &[&str]) -> Plan {
        let mut inner = (*self.0).clone();
        let is_part = |name: &&str| self.schema().kind(name).is_some_and(|kind| !kind.wanted);
        if names.iter().any(is_part) {
            for kind in inner.kinds.iter_mut().filter(|kind| !kind.is_part) {
                let schema = &mut inner.schema.kinds[usize::from(kind.record)];
                schema.wanted = names.contains(&schema.name.as_str());
                kind.wanted = schema.wanted;
            }
        }
        Plan(Arc::new(inner))
    }

    /// The same plan with only the wanted kinds and fields in its schema. Everything is decoded and booked as before; what is
    /// not wanted is not handed out.
    ///
    /// # Errors
    ///
    /// A kind or field that the format does not have, with the nearest that it has.
    pub fn select(&self, wants: &Wants) -> Result<Plan, UnknownName> {
        let mut inner = (*self.0).clone();
        let unknown = |what, name: &str, known: Vec<&str>| UnknownName {
            format: self.schema().format.clone(),
            what,
            name: name.to_string(),
            nearest: nearest(name, known),
        };
        let kinds = || self.schema().kinds.iter().map(|kind| kind.name.as_str()).collect::<Vec<_>>();
        for name in &wants.records {
            if self.schema().kind(name).is_none() {
                return Err(unknown("record", name, kinds()));
            }
        }
        for path in &wants.fields {
            let Some((kind_name, field_name)) = path.split_once('.') else {
                return Err(unknown("field (they are written `record.field`)", path, Vec::new()));
            };
            let Some(kind) = self.schema().kind(kind_name) else {
                return Err(unknown("record", kind_name, kinds()));
            };
            if kind.field(field_name).is_none() {
                let known = kind.fields.iter().map(|field| field.name.as_str());
                let mut unknown = unknown("field", field_name, known.collect());
                unknown.name.clone_from(path);
                unknown.nearest = unknown.nearest.map(|nearest| alloc::format!("{kind_name}.{nearest}"));
                return Err(unknown);
            }
        }
        // What is part of others is read as those say, whatever is wanted of it by itself.
        for kind in inner.kinds.iter_mut().filter(|kind| !kind.is_part) {
            let schema = &mut inner.schema.kinds[usize::from(kind.record)];
            if !wants.records.is_empty() {
                kind.wanted = wants.records.contains(&schema.name);
                schema.wanted = kind.wanted;
            }
            let wanted =
                |field: &str| wants.fields.iter().any(|path| path.split_once('.') == Some((&schema.name, field)));
            if !schema.fields.iter().any(|field| wanted(&field.name)) {
                continue;
            }
            kind.outputs.retain(|output| wanted(&output.schema.name));
            super::Output::count_neighbours(&mut kind.outputs);
            super::Output::number(&mut kind.outputs);
            schema.fields = kind.outputs.iter().map(|output| (*output.schema).clone()).collect();
        }
        Ok(Plan(Arc::new(inner)))
    }
}
