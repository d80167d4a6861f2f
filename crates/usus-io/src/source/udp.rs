//! Datagrams as a source: each sender is a line of its own, and each datagram a chunk.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, UdpSocket};
use std::os::fd::AsFd;

use usus::{Loss, Time};

use super::clock::Clock;
use super::{LineInfo, Remark, Source, SourceError, SourceEvent, is_readable};

/// Senders beyond this many are not listened to: whoever floods a port with made-up senders must not fill the memory.
const SENDERS: usize = 64;
/// What the system may keep of datagrams that were not yet read.
const BACKLOG: usize = 8 << 20;
/// The lost datagrams are asked for after so many that were read, and when nothing comes.
const ASK_AFTER: u32 = 256;

/// Reads a UDP port.
pub struct UdpSource {
    socket: UdpSocket,
    port: u16,
    senders: HashMap<SocketAddr, usize>,
    clock: Clock,
    datagram: Vec<u8>,
    /// A datagram of a sender whose line has just been announced.
    waiting: Option<(usize, usize, Time)>,
    /// Lines that are still to be told of a loss.
    lossy: usize,
    unlisted: u64,
    lost: u64,
    read: u32,
}

impl UdpSource {
    /// Listens at a port; `group` is a multicast group to join, an address of this machine, or empty for all of its addresses.
    ///
    /// # Errors
    ///
    /// If the port cannot be had or the group cannot be joined.
    pub fn open(group: &str, port: u16, clock: Clock) -> Result<UdpSource, SourceError> {
        let cannot = |error| SourceError::Listen { at: format!("udp://{group}:{port}"), error };
        let no_address = || std::io::Error::new(std::io::ErrorKind::InvalidInput, "that is no IP address");
        let address = match group {
            "" => None,
            text => Some(text.parse::<IpAddr>().map_err(|_| cannot(no_address()))?),
        };
        let socket = match address {
            None => UdpSocket::bind((Ipv6Addr::UNSPECIFIED, port)).or_else(|_| UdpSocket::bind(("0.0.0.0", port))),
            Some(IpAddr::V4(group)) if group.is_multicast() => UdpSocket::bind((group, port)).and_then(|socket| {
                socket.join_multicast_v4(&group, &Ipv4Addr::UNSPECIFIED)?;
                Ok(socket)
            }),
            Some(IpAddr::V6(group)) if group.is_multicast() => UdpSocket::bind((group, port)).and_then(|socket| {
                socket.join_multicast_v6(&group, 0)?;
                Ok(socket)
            }),
            Some(address) => UdpSocket::bind((address, port)),
        };
        let socket = socket.map_err(cannot)?;
        socket.set_nonblocking(true).map_err(cannot)?;
        // The system may allow less; that is no reason not to listen.
        let _ = rustix::net::sockopt::set_socket_recv_buffer_size(&socket, BACKLOG);
        let port = socket.local_addr().map_or(port, |address| address.port());
        Ok(UdpSource {
            socket,
            port,
            senders: HashMap::new(),
            clock,
            datagram: vec![0; 1 << 16],
            waiting: None,
            lossy: 0,
            unlisted: 0,
            lost: 0,
            read: 0,
        })
    }

    /// The port at which it listens.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Whether the system has lost datagrams because they came faster than they were read.
    fn ask_for_losses(&mut self) {
        self.read = 0;
        let lost = lost_datagrams(self.port);
        if lost > self.lost {
            self.lost = lost;
            self.lossy = self.senders.len();
        }
    }

    fn idle(&self) -> SourceEvent<'_> {
        SourceEvent::Idle { time: Some(self.clock.now()) }
    }

    fn chunk(&self, line: usize, length: usize, time: Time) -> SourceEvent<'_> {
        SourceEvent::Chunk { line, time: Some(time), bytes: &self.datagram[..length], faults: &[] }
    }
}

/// How many datagrams the system has lost at a port: the last column of its table of sockets.
fn lost_datagrams(port: u16) -> u64 {
    let lost = |table: &str| -> u64 {
        let text = std::fs::read_to_string(table).unwrap_or_default();
        let at_port = |line: &&str| {
            let local = line.split_whitespace().nth(1).unwrap_or_default();
            local.rsplit(':').next().and_then(|port| u16::from_str_radix(port, 16).ok()) == Some(port)
        };
        let count = |line: &str| line.split_whitespace().last().and_then(|count| count.parse().ok());
        text.lines().skip(1).filter(at_port).filter_map(count).fold(0, u64::saturating_add)
    };
    lost("/proc/self/net/udp").saturating_add(lost("/proc/self/net/udp6"))
}

impl Source for UdpSource {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        if self.lossy > 0 {
            self.lossy -= 1;
            let time = Some(self.clock.now());
            return Ok(Some(SourceEvent::Loss { line: self.lossy, why: Loss::Overrun, time }));
        }
        if let Some((line, length, time)) = self.waiting.take() {
            return Ok(Some(self.chunk(line, length, time)));
        }
        if !is_readable(self.socket.as_fd()) {
            self.ask_for_losses();
            return Ok(Some(self.idle()));
        }
        let (length, sender) = match self.socket.recv_from(&mut self.datagram) {
            Ok(got) => got,
            // Answers of the network to somebody else's datagrams are no reason to stop.
            Err(_) => return Ok(Some(self.idle())),
        };
        let time = self.clock.now();
        self.read += 1;
        if self.read == ASK_AFTER {
            self.ask_for_losses();
        }
        let lines = self.senders.len();
        match self.senders.get(&sender) {
            Some(line) => Ok(Some(self.chunk(*line, length, time))),
            None if lines == SENDERS => {
                self.unlisted += 1;
                Ok(Some(self.idle()))
            }
            None => {
                self.senders.insert(sender, lines);
                self.waiting = Some((lines, length, time));
                Ok(Some(SourceEvent::Line(LineInfo::new(name(sender)))))
            }
        }
    }

    fn has_times(&self) -> bool {
        true
    }

    fn has_lines(&self) -> bool {
        true
    }

    fn is_live(&self) -> bool {
        true
    }

    fn remarks(&self) -> Vec<Remark> {
        let mut remarks = Vec::new();
        if self.unlisted > 0 {
            remarks.push(Remark::TooManySenders { limit: SENDERS, datagrams: self.unlisted });
        }
        if self.lost > 0 {
            remarks.push(Remark::LostDatagrams { datagrams: self.lost });
        }
        remarks
    }
}

/// A sender as people write it: an IPv4 address that came over IPv6 as what it is.
fn name(sender: SocketAddr) -> String {
    match sender.ip().to_canonical() {
        IpAddr::V4(address) => format!("{address}:{}", sender.port()),
        IpAddr::V6(address) => format!("[{address}]:{}", sender.port()),
    }
}
