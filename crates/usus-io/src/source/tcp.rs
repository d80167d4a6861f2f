//! A TCP connection as a source: one that is made, or one that is waited for. Nothing is ever sent on it.

use std::io::{self, Read};
use std::net::{Ipv6Addr, SocketAddr, TcpListener, TcpStream, ToSocketAddrs};
use std::os::fd::AsFd;
use std::time::Duration;

use usus::Loss;

use super::clock::Clock;
use super::telnet::Telnet;
use super::{LineInfo, Remark, Source, SourceError, SourceEvent, SourceOptions, is_readable};

/// How long a peer may take to answer a call.
const ANSWERS_WITHIN: Duration = Duration::from_secs(5);
/// With keep-alive: a silent peer is asked after so long, and given up after three questions without an answer.
const ASKED_AFTER: Duration = Duration::from_secs(20);

/// Reads a TCP connection as one line.
pub struct TcpSource {
    server: Option<TcpListener>,
    stream: Option<TcpStream>,
    peer: String,
    options: SourceOptions,
    telnet: Telnet,
    announced: bool,
    callers: u64,
    at: u64,
    clock: Clock,
    read: Vec<u8>,
    data: Vec<u8>,
}

impl TcpSource {
    /// Calls `host:port`. The stream ends when the other side closes.
    ///
    /// # Errors
    ///
    /// If nobody answers there.
    pub fn call(peer: &str, options: SourceOptions) -> Result<TcpSource, SourceError> {
        let cannot = |error| SourceError::Connect { peer: peer.to_owned(), error };
        let mut last = io::Error::new(io::ErrorKind::NotFound, "the name has no address");
        for address in peer.to_socket_addrs().map_err(cannot)? {
            match TcpStream::connect_timeout(&address, ANSWERS_WITHIN) {
                Ok(stream) => {
                    let mut source = TcpSource::new(None, peer.to_owned(), options);
                    source.begin(stream).map_err(cannot)?;
                    return Ok(source);
                }
                Err(error) => last = error,
            }
        }
        Err(cannot(last))
    }

    /// Waits for callers at a port, one at a time.
    ///
    /// # Errors
    ///
    /// If the port cannot be had.
    pub fn answer(port: u16, options: SourceOptions) -> Result<TcpSource, SourceError> {
        let peer = format!(":{port}");
        let cannot = |error| SourceError::Listen { at: format!("tcp://{peer}"), error };
        // Where there is no IPv6, there is IPv4 alone.
        let server = TcpListener::bind((Ipv6Addr::UNSPECIFIED, port))
            .or_else(|_| TcpListener::bind(("0.0.0.0", port)))
            .map_err(cannot)?;
        server.set_nonblocking(true).map_err(cannot)?;
        Ok(TcpSource::new(Some(server), peer, options))
    }

    fn new(server: Option<TcpListener>, peer: String, options: SourceOptions) -> TcpSource {
        TcpSource {
            server,
            stream: None,
            peer,
            telnet: Telnet::default(),
            announced: false,
            callers: 0,
            at: 0,
            clock: options.clock.clone(),
            options,
            read: vec![0; 1 << 16],
            data: Vec::new(),
        }
    }

    /// Where it waits for callers.
    pub fn local_address(&self) -> Option<SocketAddr> {
        self.server.as_ref().and_then(|server| server.local_addr().ok())
    }

    fn begin(&mut self, stream: TcpStream) -> io::Result<()> {
        stream.set_nonblocking(true)?;
        if self.options.keep_alive {
            use rustix::net::sockopt;
            sockopt::set_socket_keepalive(&stream, true)?;
            sockopt::set_tcp_keepidle(&stream, ASKED_AFTER)?;
            sockopt::set_tcp_keepintvl(&stream, Duration::from_secs(5))?;
            sockopt::set_tcp_keepcnt(&stream, 3)?;
        }
        self.telnet.begin();
        self.stream = Some(stream);
        self.callers += 1;
        Ok(())
    }

    fn idle(&self) -> SourceEvent<'_> {
        SourceEvent::Idle { time: Some(self.clock.now()) }
    }

    /// Waits a moment for a caller.
    fn wait_for_caller(&mut self) -> Result<SourceEvent<'_>, SourceError> {
        let Some(server) = &self.server else { return Ok(self.idle()) };
        if !is_readable(server.as_fd()) {
            return Ok(self.idle());
        }
        match server.accept().and_then(|(stream, _)| self.begin(stream)) {
            Ok(()) if self.callers > 1 => {
                Ok(SourceEvent::Loss { line: 0, why: Loss::Reopened, time: Some(self.clock.now()) })
            }
            // A caller that is gone again before it was answered is none.
            Ok(()) | Err(_) => Ok(self.idle()),
        }
    }
}

impl Source for TcpSource {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        if !std::mem::replace(&mut self.announced, true) {
            return Ok(Some(SourceEvent::Line(LineInfo::new(""))));
        }
        let Some(stream) = &mut self.stream else { return self.wait_for_caller().map(Some) };
        if !is_readable(stream.as_fd()) {
            return Ok(Some(self.idle()));
        }
        let got = match stream.read(&mut self.read) {
            Ok(got) => got,
            Err(error) if super::is_pause(&error) => return Ok(Some(self.idle())),
            Err(_) if self.server.is_some() => 0,
            Err(error) => return Err(SourceError::Lost { peer: self.peer.clone(), at: self.at, error }),
        };
        if got == 0 {
            self.stream = None;
            let waits_on = self.server.is_some();
            return Ok(waits_on.then(|| SourceEvent::Gone { line: 0, time: Some(self.clock.now()) }));
        }
        self.at += got as u64;
        let time = Some(self.clock.now());
        let bytes = if self.options.telnet {
            self.data.clear();
            self.telnet.take(&self.read[..got], &mut self.data);
            &self.data
        } else {
            &self.read[..got]
        };
        Ok(Some(match bytes.is_empty() {
            true => SourceEvent::Idle { time },
            false => SourceEvent::Chunk { line: 0, time, bytes, faults: &[] },
        }))
    }

    fn has_times(&self) -> bool {
        true
    }

    fn is_live(&self) -> bool {
        true
    }

    fn remarks(&self) -> Vec<Remark> {
        let commands = self.telnet.commands;
        if commands > 0 { vec![Remark::TelnetCommands { bytes: commands }] } else { Vec::new() }
    }
}
