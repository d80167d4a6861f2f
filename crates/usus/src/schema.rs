//! What records can say, known before the first byte.

use alloc::string::String;
use alloc::vec::Vec;

use crate::value::ValueType;

/// The kinds of record of a plan, with their fields, in the order of the format file.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Schema {
    /// Name of the format.
    pub format: String,
    /// What the format is for.
    pub title: Option<String>,
    /// Its version.
    pub version: Option<String>,
    /// Its kinds.
    pub kinds: Vec<KindSchema>,
}

impl Schema {
    /// The kind of that name.
    pub fn kind(&self, name: &str) -> Option<&KindSchema> {
        self.kinds.iter().find(|kind| kind.name == name)
    }
}

/// One kind of record.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct KindSchema {
    /// Its name.
    pub name: String,
    /// What it is, for people.
    pub title: Option<String>,
    /// Its fields; header fields first.
    pub fields: Vec<FieldSchema>,
    /// Whether records of this kind are wanted. Others are decoded and booked, but not handed out.
    pub wanted: bool,
}

impl KindSchema {
    /// The place of the field of that name in [`KindSchema::fields`].
    pub fn field(&self, name: &str) -> Option<usize> {
        self.fields.iter().position(|field| field.name == name)
    }

    /// Whether a reading of this kind, outside of its groups, can have a quality other than good.
    pub fn has_quality(&self) -> bool {
        self.fields.iter().any(|field| field.has_quality)
    }
}

/// One field.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct FieldSchema {
    /// Its name.
    pub name: String,
    /// Its name in the format, if it is called otherwise: by its tag.
    pub declared: Option<String>,
    /// What it is, for people.
    pub title: Option<String>,
    /// What the plant calls it.
    pub tag: Option<String>,
    /// Unit of its values.
    pub unit: Option<String>,
    /// Type of its values.
    pub value_type: ValueType,
    /// What its numbers can be, where its declaration tells that.
    pub numbers: Option<Numbers>,
    /// Whether its values are instants: dates with times of day whose offset from UTC is known.
    pub is_instant: bool,
    /// Whether its readings can have a quality other than good.
    pub has_quality: bool,
    /// Fields of one item, if it is a group.
    pub items: Vec<FieldSchema>,
    /// Its place among the fields of its record, or of its group's items.
    pub place: u16,
}

/// What the numbers of a field can be: all have the same places, and coefficients within bounds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Numbers {
    /// Digits behind the point.
    pub places: u8,
    /// No coefficient is less.
    pub least: i128,
    /// No coefficient is more.
    pub most: i128,
}

impl Numbers {
    /// What two declarations of one field allow together; nothing if their places differ.
    pub(crate) fn united(self, other: Numbers) -> Option<Numbers> {
        let (least, most) = (self.least.min(other.least), self.most.max(other.most));
        (self.places == other.places).then_some(Numbers { least, most, ..self })
    }

    /// How many digits a coefficient has at most.
    pub fn digits(self) -> u32 {
        self.least.unsigned_abs().max(self.most.unsigned_abs()).max(1).ilog10() + 1
    }
}

impl FieldSchema {
    /// Its name in the format.
    pub fn declared_name(&self) -> &str {
        self.declared.as_deref().unwrap_or(&self.name)
    }

    /// Whether a reading of an item can have a quality other than good.
    pub fn items_have_quality(&self) -> bool {
        self.items.iter().any(|field| field.has_quality || field.items_have_quality())
    }

    /// Whether it is a list of values: its items are shown as that one value.
    pub fn is_list(&self) -> bool {
        self.value_type == ValueType::List
    }

    /// What a field of its items is called in messages: `peaks[2].force`, counted from 1; of a list of values `cells[2]`.
    pub fn item_path(&self, item: usize, field: &str) -> String {
        match self.is_list() {
            true => alloc::format!("{}[{}]", self.name, item + 1),
            false => alloc::format!("{}[{}].{field}", self.name, item + 1),
        }
    }
}

/// Where a field stands in the records of a plan: found once by its name, read many times without it.
///
/// ```
/// use usus::{Format, Record};
///
/// let format = Format::parse("format = 'scale'\n[[frame]]\ncut = 'text'\n[record.weight]\nfields = [{ name = 'weight', type = 'number' }]")?;
/// let plan = format.compile()?;
/// let weight = plan.schema().place("weight", "weight").unwrap();
/// let mut weights = Vec::new();
/// let mut take = |record: &Record<'_>| weights.extend(record.at(weight).map(|reading| reading.value.to_string()));
/// let Ok(_) = plan.decode(b"12.5\n13\n", &mut take);
/// assert_eq!(weights, ["12.5", "13"]);
/// # Ok::<(), usus::Problems>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Place {
    /// The number of its kind in the schema.
    pub kind: usize,
    /// Its number among the fields of the kind.
    pub field: usize,
}

impl Schema {
    /// Where a field of a kind stands; nothing if the kind has no field of that name.
    pub fn place(&self, kind: &str, field: &str) -> Option<Place> {
        let kind = self.kinds.iter().position(|known| known.name == kind)?;
        Some(Place { kind, field: self.kinds[kind].field(field)? })
    }
}
