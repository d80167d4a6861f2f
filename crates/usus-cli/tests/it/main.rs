//! Tests of the built command.

mod endings;
mod run;
mod said;
mod truth;
