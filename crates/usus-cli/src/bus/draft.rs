//! What is known of a bus, to be filled in: a register map as CSV, and a format.

use usus::Format;
use usus::bus::{Register, Survey};
use usus::format::{Cut, Field, FieldType, Frame, Point, Table, Unit};

use super::Hearing;
use super::report::unit_name;

/// What was seen, as points: of each the unit, the table, the address, the type as a word, and what was seen of it.
fn seen(survey: &Survey) -> Vec<(u8, Table, u16, String, String)> {
    let mut points = Vec::new();
    for (id, unit) in survey.units().iter().filter(|(id, _)| **id > 0) {
        let mut behind_wide = None;
        for ((of, address), register) in &unit.registers {
            if behind_wide.take() == Some((*of, *address)) {
                continue;
            }
            let wide = register.likely();
            behind_wide = wide.and_then(|_| Some((*of, address.checked_add(1)?)));
            let word = match wide {
                _ if of.is_bits() => String::new(),
                Some(wide) => wide.type_word(),
                None if register.least_signed < 0 && register.most_signed >= 0 => "i16be".to_owned(),
                None => "u16be".to_owned(),
            };
            points.push((*id, *of, *address, word, said(register)));
        }
    }
    points
}

/// What was seen of a register, in a few words.
fn said(register: &Register) -> String {
    match register.changes {
        0 => format!("always {}", register.last),
        changes => format!("{} to {}, {changes} changes, last {}", register.least, register.most, register.last),
    }
}

fn name_of(of: Table, address: u16) -> String {
    format!("{}_{address}", of.word().trim_end_matches("_register"))
}

/// A register map as `points` of a format can name it.
pub(super) fn points(survey: &Survey) -> String {
    let mut text = "unit_id,table,address,name,type,scale,unit,title\n".to_owned();
    for (id, of, address, word, said) in seen(survey) {
        let name = name_of(of, address);
        text += &format!("{},{},{address},{name},{word},,,\"{said}\"\n", unit_name(id), of.word());
    }
    text
}

fn is_modbus(frame: &Frame) -> bool {
    frame.modbus.is_some() || matches!(frame.cut, Cut::ModbusRtu { .. })
}

/// A format with all registers that were seen, whose lines and frames are those of the format that they were seen by.
pub(super) fn format(survey: &Survey, name: &str, by: &Hearing) -> String {
    let mut format = Format::new("bus");
    format.title = Some(format!("What was seen on {name}: rename what you know"));
    format.serial = by.serial;
    format.lines.clone_from(&by.format.lines);
    format.frames.extend(by.format.frames.iter().filter(|frame| is_modbus(frame)).cloned());
    // With fields of its own, a frame would want transactions of its own, too.
    format.frames.iter_mut().for_each(|frame| frame.header.clear());
    for (id, of, address, word, said) in seen(survey) {
        let mut field = Field::new(name_of(of, address));
        field.title = Some(said);
        field.kind = FieldType::named(&word).map(Into::into);
        let record = format!("unit_{id}");
        if format.units.last().is_none_or(|unit| unit.name.value != record) {
            format.units.push(Unit::new(record, id));
        }
        if let Some(unit) = format.units.last_mut() {
            unit.points.push(Point::new(field, of, address));
        }
    }
    format.to_toml()
}
