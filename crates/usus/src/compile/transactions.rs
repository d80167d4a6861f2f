//! What a Modbus line says where a format declares nothing of it but that: the transactions of the format that is shipped.

use alloc::borrow::Cow;
use alloc::string::String;
use alloc::vec::Vec;

use crate::format::{Direction, Exchange, Format, Frame, Side, Spanned};

/// The format that has them.
const SHIPPED: &str = "modbus-rtu";

/// A format with the transactions of its Modbus lines, if it declares neither exchanges nor records of those.
pub(super) fn with_transactions(format: &Format) -> Cow<'_, Format> {
    let on_bus = |frame: &&Frame| frame.of_modbus().is_some();
    let Some(first) = format.frames.iter().find(on_bus) else { return Cow::Borrowed(format) };
    let is_of = |name: &Option<Spanned<_>>| match name {
        Some(name) => format.frames.iter().filter(on_bus).any(|frame| frame.name == name.value),
        None => format.frames.iter().all(|frame| on_bus(&frame)),
    };
    let says_more = format.frames.iter().filter(on_bus).any(|frame| !frame.header.is_empty())
        || format.records.iter().any(|record| is_of(&record.frame))
        || !format.exchanges.is_empty();
    let shipped = crate::SHIPPED.iter().find(|(name, _)| *name == SHIPPED);
    let Some(shipped) = shipped.filter(|_| !says_more).and_then(|(_, text)| Format::read_alone(text)) else {
        return Cow::Borrowed(format);
    };
    let mut format = format.clone();
    let frames: Vec<(Spanned<_>, Option<Direction>)> = format
        .frames
        .iter()
        .filter_map(|frame| {
            let name = Spanned { span: frame.span.clone(), value: frame.name.clone() };
            Some((name, frame.of_modbus()?))
        })
        .collect();
    let header = shipped.frames.first().map(|frame| frame.header.clone()).unwrap_or_default();
    for frame in format.frames.iter_mut().filter(|frame| frame.of_modbus().is_some()) {
        frame.header.clone_from(&header);
    }
    for exchange in shipped.exchanges {
        let of = |sides: &[Side], other: Direction| {
            let on = frames.iter().filter(|(_, direction)| *direction != Some(other));
            on.flat_map(|(frame, _)| sides.iter().map(move |side| on_frame(side, frame))).collect()
        };
        format.exchanges.push(Exchange {
            asks: of(&exchange.asks, Direction::Answers),
            answers: of(&exchange.answers, Direction::Requests),
            errors: of(&exchange.errors, Direction::Requests),
            name: Spanned { span: first.span.clone(), ..exchange.name },
            ..exchange
        });
    }
    Cow::Owned(format)
}

/// A question or an answer as it is read from that frame.
fn on_frame(side: &Side, frame: &Spanned<String>) -> Side {
    match side {
        Side::Own(record) => {
            let mut record = record.clone();
            record.frame = Some(frame.clone());
            record.kind.span = frame.span.clone();
            Side::Own(record)
        }
        Side::Kind(name) => Side::Kind(name.clone()),
    }
}
