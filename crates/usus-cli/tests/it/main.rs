//! Tests of the built command.

mod account;
mod again;
mod against;
mod blanks;
mod bus;
mod cores;
mod endings;
mod inside;
mod killed;
mod line;
mod recording;
mod recording_live;
mod results;
mod run;
mod said;
mod screen;
mod site;
mod truth;
