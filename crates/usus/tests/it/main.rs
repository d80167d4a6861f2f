//! Tests of the library through its public interface.

mod against;
mod any_format;
mod bad_texts;
mod bounds;
mod cases;
mod checksums;
mod declarations;
mod drive;
mod encoders;
mod formats;
mod framings;
mod fuzz;
mod inside;
mod modbus;
mod parts;
mod properties;
mod reference;
mod schema;
mod several;
mod stages;
mod survey;
mod tables;
mod texts;
mod twin;
mod values;
mod ways;
