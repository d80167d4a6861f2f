//! The plant's names instead of the format's.

use alloc::string::{String, ToString};
use alloc::sync::Arc;
use alloc::vec::Vec;

use super::{Output, Plan, Stage, What};
use crate::schema::FieldSchema;

impl Plan {
    /// The same plan, in whose schema every field that has a tag is called by it. A tag that another field of the record has already, as its
    /// tag or as its name, is not used: no two fields are called alike, whether or not case counts.
    ///
    /// ```
    /// use usus::Format;
    ///
    /// let format = Format::parse(
    ///     "format = 'scale'\n[[frame]]\ncut = 'text'\n[record.weight]\nfields = [{ name = 'weight', type = 'number', tag = 'WT-101' }]",
    /// )?;
    /// let plan = format.compile()?.with_tags();
    /// assert_eq!(plan.schema().kinds[0].fields[0].name, "WT-101");
    /// # Ok::<(), usus::Problems>(())
    /// ```
    pub fn with_tags(&self) -> Plan {
        let mut inner = (*self.0).clone();
        for schema in &mut inner.schema.kinds {
            rename(&mut schema.fields);
        }
        // The frames of a group of frames say what their fields are called.
        let mut items = Vec::new();
        for kind in inner.kinds.iter_mut().filter(|kind| !kind.is_part) {
            let schema = &inner.schema.kinds[usize::from(kind.record)];
            take_names(&mut kind.outputs, &schema.fields);
            let parts = kind.outputs.iter().filter_map(|output| match output.what {
                What::Parts(slot) => Some((kind.record, slot, output.schema.items.clone())),
                _ => None,
            });
            items.extend(parts);
        }
        for (record, slot, fields) in items {
            let layout = inner.stages.iter().find_map(|stage| match stage {
                Stage::Block(block) if block.kind == record => block.parts.get(usize::from(slot)),
                _ => None,
            });
            if let Some(kind) = layout.and_then(|part| inner.kinds.get_mut(usize::from(part.layout))) {
                take_names(&mut kind.outputs, &fields);
            }
        }
        Plan(Arc::new(inner))
    }
}

/// Gives fields that stand together the names that they are to have.
fn rename(fields: &mut [FieldSchema]) {
    let mut taken: Vec<String> = fields.iter().map(|field| field.name.to_lowercase()).collect();
    for field in fields {
        if let Some(tag) = field.tag.as_ref().filter(|tag| !taken.contains(&tag.to_lowercase())) {
            taken.push(tag.to_lowercase());
            let declared = core::mem::replace(&mut field.name, tag.clone());
            field.declared.get_or_insert(declared);
        }
        let name = field.name.to_string();
        match field.is_list() {
            // The values of a list are called as it is.
            true => field.items.iter_mut().for_each(|item| item.name.clone_from(&name)),
            false => rename(&mut field.items),
        }
    }
}

fn take_names(outputs: &mut [Output], fields: &[FieldSchema]) {
    for (output, field) in outputs.iter_mut().zip(fields) {
        *output.schema = field.clone();
        if let What::Group(group) = &mut output.what {
            // Items of a list that are not all alike have an output each.
            match &*field.items {
                [one] if field.is_list() => {
                    group.outputs.iter_mut().for_each(|output| output.schema.name.clone_from(&one.name));
                }
                _ => take_names(&mut group.outputs, &field.items),
            }
        }
    }
}
