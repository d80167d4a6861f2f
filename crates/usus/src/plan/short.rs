//! Columns of texts with a short way to their values: the columns that instruments send most.
//!
//! A short way gives the same readings as the long one, or leaves the column to it.

use alloc::boxed::Box;
use alloc::vec::Vec;

use super::{At, Constant, Convert, Field, Meaning, NumberOf, Raw};
use crate::value::{Decimal, Name, Pattern};

/// The short way to the value of a column. Small, since many lie side by side.
#[allow(clippy::box_collection)] // A box is one word, a slice or a vector two or three.
#[derive(Clone)]
pub(crate) enum Shortcut {
    /// There is none but that the column may be empty or not there.
    Long,
    /// A number as it is.
    Number,
    /// A text as it is.
    Text,
    /// Not a column, but characters from the first to before the second, as they are.
    Characters(u16, u16),
    /// A number in a whole range.
    Range(i32, i32),
    /// A number as it is if a column from the item's start holds this one character: the unit in which it is given.
    Unit { column: u32, letter: u8 },
    /// Names of small whole numbers, in their order.
    Codes(Box<Vec<Option<Name>>>),
    /// Names of single characters.
    Letters(Box<Letters>),
    /// Degrees and minutes with a hemisphere in the next column: the largest degree and the letters.
    Degrees { most: u8, letters: [u8; 2] },
    /// A time of day of two digits each, perhaps with a fraction.
    Clock(Box<Pattern>),
    /// A date of two digits each.
    Date(Box<Pattern>),
}

/// Names of single characters, by a table: which one comes cannot be guessed.
#[derive(Clone)]
pub(crate) struct Letters {
    /// The place of each character's name.
    places: [u8; 128],
    names: Vec<Name>,
}

impl Letters {
    /// Names of codes that are one character each; nothing if one is not.
    fn new(codes: &[(Box<[u8]>, Box<str>)]) -> Option<Letters> {
        let (mut places, mut names) = ([u8::MAX; 128], Vec::new());
        for (code, name) in codes {
            let [letter] = **code else { return None };
            let place = places.get_mut(usize::from(letter)).filter(|_| letter.is_ascii_graphic())?;
            // The first name of a character is the one that counts.
            if *place == u8::MAX {
                *place = names.len() as u8;
                names.push(Name::new(name));
            }
        }
        Some(Letters { places, names })
    }

    #[inline(always)]
    pub(crate) fn name(&self, letter: u8) -> Option<&Name> {
        let place = self.places.get(usize::from(letter))?;
        self.names.get(usize::from(*place))
    }
}

/// Numbers with names that are looked up at once.
const MOST_CODES: i64 = 64;

/// The short way to a field of a text, if it is a column or several counted from the front, and the first of them.
pub(super) fn short(field: &Field) -> Option<(u32, Shortcut)> {
    let At::Front(column) = field.at else { return None };
    let bare = field.no_data.is_empty() && field.range.is_none();
    let way = match field.raw {
        Raw::Characters(first, end) if is_bare_text(field) => {
            Shortcut::Characters(u16::try_from(first).ok()?, u16::try_from(end).ok()?)
        }
        Raw::Columns(1) | Raw::Apart(1) | Raw::Found if field.no_data.is_empty() && field.notation.is_none() => {
            way(field)
        }
        Raw::Columns(1) | Raw::Apart(1) | Raw::Found => Shortcut::Long,
        Raw::Columns(2) if bare => match field.meaning {
            Meaning::Degrees { most, letters } => Shortcut::Degrees { most, letters },
            _ => return None,
        },
        _ => return None,
    };
    Some((u32::try_from(column).ok()?, way))
}

fn is_bare_text(field: &Field) -> bool {
    let text = matches!(&field.meaning, Meaning::Text { fill: None, codes, .. } if codes.is_empty());
    text && field.no_data.is_empty()
}

fn way(field: &Field) -> Shortcut {
    let way = match (&field.meaning, field.range) {
        (Meaning::Number { of: NumberOf::Decimal, convert, codes }, Some([low, high])) => {
            let bound = |bound: Decimal| i32::try_from(bound.to_integer()?).ok();
            let bare = convert.is_nothing() && codes.is_empty();
            bound(low).zip(bound(high)).filter(|_| bare).map(|(low, high)| Shortcut::Range(low, high))
        }
        (Meaning::Number { of: NumberOf::Decimal, convert, codes }, None) if codes.is_empty() => {
            if convert.is_nothing() { Some(Shortcut::Number) } else { unit(convert) }
        }
        (Meaning::Number { of: NumberOf::Decimal, convert, codes }, None) if convert.is_nothing() => {
            let mut names = Vec::new();
            let placed = codes.iter().rev().try_for_each(|(number, name)| {
                let number = i64::try_from(number.to_integer()?).ok()?;
                if !(0..MOST_CODES).contains(&number) {
                    return None;
                }
                if names.len() <= number as usize {
                    names.resize(number as usize + 1, None);
                }
                names[number as usize] = Some(Name::new(name));
                Some(())
            });
            placed.map(|()| Shortcut::Codes(Box::new(names)))
        }
        (Meaning::Text { fill: None, codes, .. }, None) => match codes.is_empty() {
            true => Some(Shortcut::Text),
            false => Letters::new(codes).map(Box::new).map(Shortcut::Letters),
        },
        (Meaning::Clock(layout), None) => layout.pattern().map(Box::new).map(Shortcut::Clock),
        (Meaning::Date(layout), None) => layout.pattern().map(Box::new).map(Shortcut::Date),
        _ => None,
    };
    way.unwrap_or(Shortcut::Long)
}

/// The way of a number that may be given in several units.
fn unit(convert: &Convert) -> Option<Shortcut> {
    let Convert { scale: None, scale_from: None, add: None, sign: None, unit: Some(unit), sent: None } = convert else {
        return None;
    };
    // The unit's own column is looked up in it as it stands: by the first of its codes that fits.
    let (Raw::Columns(1) | Raw::Apart(1) | Raw::Found, At::Front(column)) = (&unit.field.raw, unit.field.at) else {
        return None;
    };
    let (Constant::Text(text), _) = unit.units.iter().find(|(_, conversion)| conversion.is_identity())? else {
        return None;
    };
    match **text {
        [letter] if letter.is_ascii_graphic() => Some(Shortcut::Unit { column: u32::try_from(column).ok()?, letter }),
        _ => None,
    }
}
