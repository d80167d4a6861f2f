//! Tests of the built command.

mod cores;
mod endings;
mod line;
mod recording;
mod run;
mod said;
mod site;
mod truth;
