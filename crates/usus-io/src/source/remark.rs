//! What is to be known about a source as a whole, beside its events.

use std::path::PathBuf;

/// Something about a source that belongs to no place in it.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Remark {
    /// Time stamps ran backwards; the time before them was kept.
    TimesBackwards {
        /// How many.
        count: u64,
        /// The first of them: the line of the text, from 1.
        first: u64,
    },
    /// Commands of the telnet protocol were taken out.
    TelnetCommands {
        /// Their bytes.
        bytes: u64,
    },
    /// There were more senders than are listened to.
    TooManySenders {
        /// How many are listened to.
        limit: usize,
        /// What the others have sent.
        datagrams: u64,
    },
    /// Bytes could not be kept in a capture, because the disk was full.
    NotRecorded {
        /// How many.
        bytes: u64,
    },
    /// Bytes came faster than they were decoded, and were left out of the conversion.
    NotConverted {
        /// How many.
        bytes: u64,
    },
    /// Something could not be done to a finished capture.
    Capture {
        /// Its path.
        path: PathBuf,
        /// What, and why.
        what: String,
    },
    /// Blocks of a capture were passed over, since nothing is known of their kind.
    UnknownBlocks {
        /// Their kind, as pcapng numbers it.
        kind: u32,
        /// How many.
        count: u64,
    },
    /// Times in a capture are none that there can be; what they belong to has no time.
    ImpossibleTimes {
        /// How many.
        count: u64,
    },
    /// Notes of a capture were passed over, since there were too many at one place.
    TooManyNotes {
        /// How many.
        count: u64,
    },
    /// The system has lost datagrams that came faster than they were read.
    LostDatagrams {
        /// How many.
        datagrams: u64,
    },
}

impl std::fmt::Display for Remark {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Remark::TimesBackwards { count, first } => {
                write!(
                    f,
                    "time stamps that run backwards: {count}, the first in line {first}; the time before them was kept"
                )
            }
            Remark::TelnetCommands { bytes } => write!(f, "{bytes} bytes of telnet commands were taken out"),
            Remark::TooManySenders { limit, datagrams } => {
                write!(f, "{datagrams} datagrams came from other senders than the first {limit}, and were left out")
            }
            Remark::NotRecorded { bytes } => {
                write!(f, "{bytes} bytes could not be kept in the capture: the disk was full")
            }
            Remark::NotConverted { bytes } => {
                write!(f, "{bytes} bytes came faster than they could be converted, and were left out of the conversion")
            }
            Remark::Capture { path, what } => write!(f, "{}: {what}", path.display()),
            Remark::UnknownBlocks { kind, count } => {
                write!(f, "{count} blocks of the unknown kind {kind:#010x} were passed over")
            }
            Remark::ImpossibleTimes { count } => {
                write!(f, "{count} times are none that there can be; what they belong to has no time")
            }
            Remark::TooManyNotes { count } => write!(f, "{count} notes were passed over: too many at one place"),
            Remark::LostDatagrams { datagrams } => {
                write!(f, "{datagrams} datagrams came faster than they were read, and were lost")
            }
        }
    }
}
