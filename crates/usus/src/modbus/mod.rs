//! What is known of Modbus beyond what a format can declare: how long a message can be, seen from its beginning, and whether one answers another.
//!
//! By the MODBUS Application Protocol Specification V1.1b3; the numbers in the code are those of its chapter 6. A message is the unit's address, the
//! function code and what belongs to it, without the checksum of the line, so that both transmission modes share it. How frames are found in a stream is in
//! `framing/modbus.rs`; what their fields are is declared in the formats that are shipped.

mod answers;
mod bits;
mod carried;
mod length;

pub(crate) use answers::{answers, is_broadcast};
pub(crate) use bits::bits;
pub(crate) use carried::{Carried, carried, perhaps_written};
pub(crate) use length::{LONGEST, Length, is_known, of_answer, of_request};
