//! Where bytes come from and where records go: raw files and captures as sources, CSV and JSON Lines as outputs, and the pump
//! that carries chunks from a source through a decoder into a sink.
//!
//! Nothing here decodes: that is `usus`. Nothing here prints or knows of a terminal: that is the command.
//!
//! ```no_run
//! use usus::{Decoder, Format, Record};
//! use usus_io::{open, pump};
//!
//! let plan = Format::parse(&std::fs::read_to_string("rope-tension.toml")?)?.compile()?;
//! let mut source = open("rope-tension.bin".as_ref())?;
//! let mut decoder = Decoder::new(&plan);
//! let mut sink = |record: &Record<'_>| println!("{record:?}");
//! pump(&mut *source, &mut decoder, &mut sink, &mut |_| true)?;
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod output;
mod pieces;
mod pump;
mod source;

pub use output::{
    Destination, JsonLines, OutputError, Outputs, RejectFile, TableOptions, Tables, escape_json, received_text,
};
pub use pieces::{PieceOptions, Pieces, pump_pieces};
pub use pump::{Progress, PumpError, Pumped, pump};
pub use source::capture::{CaptureLine, CaptureReader, CaptureWriter, LINK_TYPE};
pub use source::raw::RawReader;
pub use source::{LineInfo, Source, SourceError, SourceEvent, Torn, open};
