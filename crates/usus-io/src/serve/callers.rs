//! Whoever calls a socket is given what a device says. What callers say is counted, and goes nowhere.

use std::io::{self, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};

use super::BACKLOG;

/// A socket and those who have called.
pub struct Callers {
    server: TcpListener,
    address: SocketAddr,
    clients: Vec<Client>,
    dropped: u64,
}

struct Client {
    stream: TcpStream,
    waiting: Vec<u8>,
}

impl Callers {
    /// Waits for callers at an address.
    ///
    /// # Errors
    ///
    /// If it cannot be had.
    pub fn at(address: SocketAddr) -> io::Result<Callers> {
        TcpListener::bind(address).and_then(|server| {
            server.set_nonblocking(true)?;
            let address = server.local_addr()?;
            Ok(Callers { server, address, clients: Vec::new(), dropped: 0 })
        })
    }

    /// Where.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Whether anybody has called and is still there.
    pub fn are_there(&self) -> bool {
        !self.clients.is_empty()
    }

    /// Most that any of them has not taken yet, in bytes.
    pub fn behind(&self) -> usize {
        self.clients.iter().map(|client| client.waiting.len()).max().unwrap_or(0)
    }

    /// Bytes that callers were given up with before they took them.
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// Gives bytes to all of them. Returns how many bytes they have sent.
    pub fn serve(&mut self, bytes: &[u8]) -> u64 {
        while let Ok((stream, _)) = self.server.accept() {
            if stream.set_nonblocking(true).is_ok() {
                self.clients.push(Client { stream, waiting: Vec::new() });
            }
        }
        let mut received = 0;
        self.clients.retain_mut(|client| {
            let stays = client.serve(bytes, &mut received);
            // Who hangs up wants no more; who is given up has missed something.
            if client.waiting.len() >= BACKLOG {
                self.dropped += client.waiting.len() as u64;
            }
            stays
        });
        received
    }
}

impl Client {
    /// Hands on what it takes at the moment. Returns whether it is still there.
    fn serve(&mut self, bytes: &[u8], received: &mut u64) -> bool {
        self.waiting.extend_from_slice(bytes);
        let mut buffer = [0; 256];
        loop {
            match self.stream.read(&mut buffer) {
                Ok(0) => return false,
                Ok(got) => *received += got as u64,
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => break,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(_) => return false,
            }
        }
        while !self.waiting.is_empty() {
            match self.stream.write(&self.waiting) {
                Ok(written) => drop(self.waiting.drain(..written)),
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return self.waiting.len() < BACKLOG,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(_) => return false,
            }
        }
        true
    }
}
