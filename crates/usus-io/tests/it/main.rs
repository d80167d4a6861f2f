//! Tests of sources and outputs through the public interface.

mod beside;
mod captures;
mod copying;
mod databases;
mod existing;
mod outputs;
mod pieces;
mod ports;
mod pumping;
mod recording;
mod searching;
mod simulated_receiver;
mod sources;
mod styles;
mod text_buffer;
mod together;
mod whole_files;
