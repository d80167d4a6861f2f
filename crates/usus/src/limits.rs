//! Every bound of the core, as a number.
//!
//! Format files and input are untrusted. Whatever could grow has its largest size here; tests go to each
//! bound and one past it. A format may lower some of them for itself (`limits` in the format file).

/// Largest format file, in bytes.
pub const FORMAT_BYTES: usize = 1 << 20;
/// Problems reported for one format file; further ones are counted only.
pub const PROBLEMS: usize = 100;
/// Longest name of a format, field, record or role, in characters.
pub const NAME: usize = 63;
/// `[[frame]]` entries in a format.
pub const FRAMES: usize = 16;
/// `[record.KIND]` and `[[ignore]]` entries in a format, each.
pub const KINDS: usize = 1_024;
/// Fields of one record, those of its groups and its header included.
pub const FIELDS: usize = 2_048;
/// Fields of all records together; those of a header, or of a group, count for each record that has them.
pub const ALL_FIELDS: usize = 65_536;
/// Codes of all records together, counted like their fields.
pub const ALL_CODES: usize = 262_144;
/// Entries of one `codes` or `flags` table.
pub const CODES: usize = 4_096;
/// Bytes of a part of a packet that goes on until a pattern, and stands before the packet's length.
pub const PART_BEFORE: usize = 256;
/// Bytes of a start pattern, or of another text by which frames and their parts are found.
pub const START: usize = 64;
/// Checksums of a frame.
pub const CHECKSUMS: usize = 8;
/// Texts of a `separator`.
pub const SEPARATORS: usize = 16;
/// Places of parts that are written down of one frame: one for each item, and two for each part of it.
pub const PARTS: usize = 65_535;
/// Groups in one another.
pub const NESTING: usize = 4;
/// Largest frame of a `packet` cut, in bytes. `limits.frame` lowers it.
pub const FRAME: usize = 65_536;
/// Longest line of a `text` cut, in bytes without its end: a place behind it fits sixteen bits. `limits.line` lowers it.
pub const LINE: usize = 65_534;
/// Longest sentence of the `nmea-0183` cut, from its `$` to before its line end. The standard says 80.
pub const SENTENCE: usize = 1_024;
/// Longest sentence that NMEA 0183 allows, with `$`, CR and LF. A longer one is taken with a notice.
pub const STANDARD_SENTENCE: usize = 82;
/// Bytes of the automaton that a `printed` or `pattern` becomes.
pub const PATTERN: usize = 256 << 10;
/// Bytes of all automata of a format together.
pub const ALL_PATTERNS: usize = 16 << 20;
/// Nesting of a `pattern`.
pub const PATTERN_DEPTH: u32 = 64;
/// Forms of one `printed`.
pub const FORMS: usize = 64;
/// Nesting of an expression.
pub const EXPRESSION_DEPTH: usize = 64;
/// Length of an expression, in bytes.
pub const EXPRESSION_BYTES: usize = 4_096;
/// Series of one counter that are remembered. `limits.series` lowers it. Later series are not followed.
pub const SERIES: usize = 65_536;
/// Names that `count_by` counts one by one; later ones are counted together as "other". `limits.names` lowers it.
pub const NAMES: usize = 256;
/// Frames that one record is made of: lines of a block, parts of a multipart. `limits.parts` lowers it.
pub const JOINED: usize = 65_536;
/// Bytes of the frames that one record is made of. `limits.held` lowers it.
pub const HELD: usize = 16 << 20;
/// Questions, or keys, of which frames wait for others at the same time, for each record that is made of several. `limits.open` lowers it.
pub const OPEN: usize = 4_096;
/// A run of bytes that nothing claims is reported in pieces that end at multiples of this stream offset.
pub const RUN: u64 = 65_536;
/// Digits of a decimal number that are exact; a longer number is invalid.
pub const DIGITS: usize = 38;
/// Places after the decimal point of a decimal number.
pub const PLACES: u8 = 38;
