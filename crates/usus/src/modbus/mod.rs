//! What is known of Modbus beyond what a format can declare: how long a message can be, seen from its beginning, and whether one answers another.
//!
//! By the MODBUS Application Protocol Specification V1.1b3; the numbers in the code are those of its chapter 6. A message is the unit's address, the
//! function code and what belongs to it, without the checksum of the line, so that both transmission modes share it. How frames are found in a stream is in
//! `framing/modbus.rs`; what their fields are is declared in the formats that are shipped.

mod answers;
mod bits;
mod carried;
mod length;

pub(crate) use answers::{answers, begins_answer, is_broadcast};
pub(crate) use bits::bits;
pub(crate) use carried::{Carried, carried, perhaps_written};
pub(crate) use length::{EXCEPTION, LONGEST, Length, is_known, is_open, is_whole, of_answer, of_request};

/// What functions are called, by their codes.
const NAMES: [(u8, &str); 19] = [
    (1, "read_coils"),
    (2, "read_discrete_inputs"),
    (3, "read_holding_registers"),
    (4, "read_input_registers"),
    (5, "write_coil"),
    (6, "write_register"),
    (7, "read_exception_status"),
    (8, "diagnose"),
    (11, "count_events"),
    (12, "log_events"),
    (15, "write_coils"),
    (16, "write_registers"),
    (17, "identify_unit"),
    (20, "read_file"),
    (21, "write_file"),
    (22, "mask_register"),
    (23, "read_write_registers"),
    (24, "read_queue"),
    (43, "encapsulated"),
];

/// What a function is called, as in the format that is shipped.
pub(crate) fn name(code: u8) -> Option<&'static str> {
    NAMES.iter().find(|(known, _)| *known == code).map(|(_, name)| *name)
}

/// Why a unit does not do what it is asked, by the number of the exception.
const EXCEPTIONS: [(u8, &str); 9] = [
    (1, "illegal_function"),
    (2, "illegal_address"),
    (3, "illegal_value"),
    (4, "failure"),
    (5, "acknowledged"),
    (6, "busy"),
    (8, "memory_parity"),
    (10, "no_path"),
    (11, "no_response_behind"),
];

/// What an exception is called, as in the format that is shipped.
pub(crate) fn exception(number: u8) -> Option<&'static str> {
    EXCEPTIONS.iter().find(|(known, _)| *known == number).map(|(_, name)| *name)
}
