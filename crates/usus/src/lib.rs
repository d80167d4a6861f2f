//! Usus turns the bytes of somebody else's device into exact records.
//!
//! A record format is declared once, in a small TOML file that reads like the datasheet's table. [`Format::parse`] reads it,
//! [`Format::compile`] makes a [`Plan`], and a [`Decoder`] walks the plan over the bytes, in whatever pieces they come. Every byte is
//! accounted for in a [`Ledger`]: it belongs to a record, or to something the format ignores, or to filler, or to a frame that the
//! edge of the recording clipped, or to a reject with its [`Reason`].
//!
//! This crate has no I/O, no clock, no threads and no global state. Files, captures and outputs are in `usus-io`.
//!
//! ```
//! use usus::{Chunk, Decoder, Event, Format};
//!
//! let format = Format::parse(r#"
//!     format = "rope-tension"
//!     title  = "Haul-rope tension cell"
//!
//!     [[frame]]
//!     cut      = "packet"
//!     start    = "A5 5A"
//!     length   = 6
//!     checksum = { algorithm = "SUM-8", type = "u8", from = 2 }
//!
//!     [record.sample]
//!     fields = [
//!       { name = "sequence", type = "u8", counter = true },
//!       { name = "tension", type = "u16be", scale = 0.01, unit = "kN", range = [0, 500] },
//!     ]
//! "#)?;
//! let plan = format.compile()?;
//! let mut decoder = Decoder::new(&plan);
//! let line = decoder.line("", 0).unwrap();
//!
//! // Noise, then a packet: start, sequence 7, tension 12345, sum.
//! let bytes = [0x00, 0xA5, 0x5A, 0x07, 0x30, 0x39, 0x70];
//! let mut events = decoder.feed(Chunk::new(line, &bytes));
//! while let Some(event) = events.next() {
//!     match event {
//!         Event::Record(record) => {
//!             assert_eq!(record.offset(), 1);
//!             assert_eq!(record.get("tension").unwrap().value.to_string(), "123.45");
//!         }
//!         Event::Clipped(clipped) => assert_eq!(clipped.bytes, [0x00]),
//!         other => panic!("{other:?}"),
//!     }
//! }
//! let ledger = decoder.ledger(line);
//! assert_eq!((ledger.recorded, ledger.clipped, ledger.pending), (6, 1, 0));
//! # Ok::<(), usus::Problems>(())
//! ```
//!
//! # Features
//!
//! - `std` (on): only turns on the faster paths of dependencies. Without it the crate needs `core` and `alloc`.
//! - `serde` (on): [`Record::to`] fills the user's own structs, and [`OwnedRecord`] can be serialised.

#![no_std]
#![forbid(unsafe_code)]

extern crate alloc;
#[cfg(feature = "std")]
extern crate std;

pub mod against;
mod check;
pub mod checksum;
mod claim;
mod clean;
mod compile;
mod contents;
mod decoder;
mod event;
pub mod example;
pub mod explain;
mod expression;
pub mod fast;
/// A format as it was written: the types of the declaration.
pub mod format;
mod framing;
mod input;
mod integer;
mod ledger;
pub mod limits;
mod logarithm;
mod marks;
mod modbus;
mod owned;
/// What joining decoders needs that each decode a part of a stream: see [`Decoder::follow`].
pub mod parts {
    pub use crate::decoder::Join;
}
/// What a Modbus line carries.
pub mod bus;
pub mod plan;
pub mod problem;
pub mod quality;
mod read;
mod reason;
mod record;
mod schema;
mod sink;
mod stage;
/// What a stream looks like before anything of it is understood.
pub mod survey;
mod time;
#[doc(hidden)]
mod unit;
mod value;

/// The snippet of the README is compiled and run like any other.
#[cfg(doctest)]
#[doc = include_str!("../../../README.md")]
struct Readme;

/// The formats that ship with Usus: their names, and the texts of their files.
///
/// ```
/// let (_, text) = usus::SHIPPED.iter().find(|(name, _)| *name == "nmea-0183").unwrap();
/// let plan = usus::Format::parse(text)?.compile()?;
/// assert!(plan.schema().kind("gga").is_some());
/// # Ok::<(), usus::Problems>(())
/// ```
pub const SHIPPED: [(&str, &str); 2] = [
    ("nmea-0183", include_str!("../formats/nmea-0183.toml")),
    ("modbus-rtu", include_str!("../formats/modbus-rtu.toml")),
];

pub use decoder::{Decoder, Events, LineInside};
pub use event::{Event, Notice, NoticeKind, Reject};
pub use format::Format;
pub use input::{Chunk, Fault, FaultKind, LineId, Loss};
pub use ledger::Ledger;
pub use owned::{OwnedCell, OwnedReading, OwnedRecord, OwnedValue};
#[cfg(feature = "serde")]
pub use owned::{RecordError, RecordReader};
pub use plan::{Plan, Wants, Which};
pub use problem::{Problem, ProblemKind, Problems};
pub use read::Sent;
pub use reason::Reason;
pub use record::{Cell, Item, Items, Record};
pub use schema::{FieldSchema, KindSchema, Numbers, Place, Schema};
pub use sink::{Sink, Try};
pub use time::{Span, Time};
pub use value::{Absent, Clock, Date, DateTime, Decimal, Quality, Reading, Text, Value, ValueType};
