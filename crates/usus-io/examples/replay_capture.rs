//! A capture played to another program over TCP, a hundred times as fast as it was recorded: `replay_capture CAPTURE`.

#![allow(clippy::print_stdout)]

use std::io::Read;
use std::net::TcpStream;

use usus_io::{ReplayOptions, ServePlace, Server, Stop, open, replay};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let path = std::env::args().nth(1).unwrap_or("demo/samples/rope-tension.pcapng".to_owned());
    let mut server = Server::open(&ServePlace::parse("tcp://127.0.0.1:0").ok_or("no place")??)?;
    let address = server.to_string().replace("tcp://", "");
    // The other program.
    let listening = std::thread::spawn(move || {
        let mut heard = Vec::new();
        TcpStream::connect(address).and_then(|mut stream| stream.read_to_end(&mut heard)).map(|_| heard.len())
    });
    let options = ReplayOptions { speed: 100.0, ..ReplayOptions::default() };
    let replayed = replay(&mut *open(path.as_ref())?, &options, &mut server, &Stop::new())?;
    drop(server);
    let heard = listening.join().map_err(|_| "the listener has panicked")??;
    println!("{} bytes played, {heard} heard, {} came back", replayed.bytes, replayed.received);
    Ok(())
}
