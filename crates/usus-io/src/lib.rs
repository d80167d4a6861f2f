//! Where bytes come from and where records go: ports, sockets, raw files and captures as sources, CSV and JSON Lines as outputs, and the pump
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

mod beside;
mod listen;
mod output;
mod pieces;
mod port;
mod pump;
mod queue;
mod record;
mod records;
mod replay;
mod search;
mod serve;
mod source;

pub use beside::files_beside;
pub use listen::{LineEvent, LineEvents, Stop, listen};
#[cfg(feature = "sqlite")]
pub use output::Database;
#[cfg(feature = "parquet")]
pub use output::ParquetFiles;
#[cfg(feature = "xlsx")]
pub use output::Workbook;
pub use output::{
    Destination, Existing, JsonLines, Listing, Output, OutputError, OutputOptions, Outputs, Protected, RejectFile,
    Safe, TableOptions, TableStyle, Tables, TextBuffer, TimeStyle, TrackForm, Tracks, Zone, received_text,
};
pub use pieces::{PieceOptions, Pieces, pump_pieces};
pub use port::{
    Adapter, ControlLine, CopiedSystem, Counters, Holder, LinuxSystem, Owner, Permission, Port, PortError, PortInfo,
    PortOptions, Process, Refused, System, Use, list_ports,
};
pub use pump::{Progress, PumpError, Pumped, pump};
pub use queue::{EventQueue, EventSender, WhenFull, queue, read_ahead};
pub use record::{
    Copied, CopyError, Original, RecordError, RecordedLine, RecordedSource, Recorder, Rotation, Standing, copy_captures,
};
pub use records::{Records, records};
pub use replay::{ReplayError, ReplayOptions, Replayed, extract, replay};
pub use search::{
    Found, Likely, Listened, Receiver, ReceiverError, SearchError, SearchOptions, SourceReceiver, Tried, search,
};
pub use serve::{Callers, ServeError, ServePlace, Server, Terminal};
pub use source::address::{Address, AddressError, PortName};
pub use source::between::{Between, parse_time};
pub use source::capture::{CaptureLine, CaptureReader, CaptureWriter, LINK_TYPE};
pub use source::clock::{Clock, Hand};
pub use source::dump::{DumpLayout, DumpReader, LayoutError};
pub use source::port::PortSource;
pub use source::raw::{RawBytes, RawReader};
pub use source::shifted::Shifted;
pub use source::tcp::TcpSource;
pub use source::together::{Member, Together};
pub use source::udp::UdpSource;
pub use source::{
    Anywhere, LineInfo, ReadAt, Remark, Source, SourceError, SourceEvent, SourceOptions, Torn, open, open_address,
    open_parts,
};
