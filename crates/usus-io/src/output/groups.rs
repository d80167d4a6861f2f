//! Groups of a kind, those in items of others included: each has a table of its own.

use usus::quality::ItemPath;
use usus::{FieldSchema, Items, KindSchema, Record};

/// Where a group is: the place of its field in the record, or in the items of each group around it.
pub(super) type GroupPath = Vec<u16>;

/// Takes the items of a group: the numbers of the items around it, from 0, what they are called in notes, and the items.
type Show<'s, E> = dyn FnMut(&[u32], Option<ItemPath>, Items<'_>) -> Result<(), E> + 's;

/// All groups of a kind, each before those in its items.
pub(super) fn paths(kind: &KindSchema) -> Vec<GroupPath> {
    let mut paths = Vec::new();
    gather(&kind.fields, &mut Vec::new(), &mut paths);
    paths
}

fn gather(fields: &[FieldSchema], around: &mut GroupPath, paths: &mut Vec<GroupPath>) {
    for field in fields.iter().filter(|field| !field.items.is_empty()) {
        around.push(field.place);
        paths.push(around.clone());
        gather(&field.items, around, paths);
        around.pop();
    }
}

/// The fields of the groups on the way to a group, and its own at the end.
pub(super) fn fields<'s>(kind: &'s KindSchema, path: &[u16]) -> Vec<&'s FieldSchema> {
    let (mut fields, mut found) = (&kind.fields, Vec::new());
    for place in path {
        let Some(field) = fields.get(usize::from(*place)) else { break };
        found.push(field);
        fields = &field.items;
    }
    found
}

/// What a group is called: its name behind those of the groups around it, with points between.
pub(super) fn name(kind: &KindSchema, path: &[u16]) -> String {
    fields(kind, path).iter().map(|field| field.name.as_str()).collect::<Vec<_>>().join(".")
}

/// Shows the items of a group of a record, those in each item around it together: the numbers of those, from 0, and what they are called in notes.
pub(super) fn each<E>(record: &Record<'_>, path: &[u16], show: &mut Show<'_, E>) -> Result<(), E> {
    let Some((first, rest)) = path.split_first() else { return Ok(()) };
    match record.group_at(usize::from(*first)) {
        Some(items) => within(items, *first, rest, &mut Vec::new(), None, show),
        None => Ok(()),
    }
}

fn within<E>(
    items: Items<'_>,
    group: u16,
    rest: &[u16],
    around: &mut Vec<u32>,
    path: Option<ItemPath>,
    show: &mut Show<'_, E>,
) -> Result<(), E> {
    let Some((next, rest)) = rest.split_first() else { return show(around, path, items) };
    for (index, item) in items.enumerate() {
        let Some(inner) = item.group_at(usize::from(*next)) else { continue };
        let index = index as u32;
        let path = path.map_or(ItemPath::new(group, index), |path| path.within(group, index));
        around.push(index);
        within(inner, *next, rest, around, Some(path), show)?;
        around.pop();
    }
    Ok(())
}
