//! Tests of the built command.

mod cores;
mod endings;
mod run;
mod said;
mod truth;
