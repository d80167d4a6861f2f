//! Sockets, dumps, compressed files and shifted clocks as sources.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream, UdpSocket};
use std::time::Duration;

use proptest::prelude::*;
use usus::{Loss, Span, Time};
use usus_io::{
    Address, AddressError, Clock, DumpLayout, DumpReader, LayoutError, LineEvent, LineEvents, Remark, Source,
    SourceError, SourceEvent, SourceOptions, Stop, TcpSource, UdpSource, open_address,
};

/// What a source says, in short.
fn told(source: &mut dyn Source) -> Result<Vec<String>, SourceError> {
    let mut told = Vec::new();
    while let Some(event) = source.next()? {
        told.push(match event {
            SourceEvent::Line(info) => format!("line {}", info.name),
            SourceEvent::Chunk { line, time, bytes, .. } => {
                let time = time.map_or(String::new(), |time| format!("{time} "));
                format!("{line} {time}{}", String::from_utf8_lossy(bytes).escape_debug())
            }
            SourceEvent::Loss { line, why, .. } => format!("{line} loss {why:?}"),
            _ => continue,
        });
    }
    Ok(told)
}

/// The bytes of all lines, in the order in which they came.
fn all_bytes(source: &mut dyn Source) -> Vec<u8> {
    let mut all = Vec::new();
    while let Some(event) = source.next().unwrap() {
        if let SourceEvent::Chunk { bytes, .. } = event {
            all.extend_from_slice(bytes);
        }
    }
    all
}

fn dump(layout: &str, text: &str) -> Result<Vec<String>, SourceError> {
    told(&mut DumpReader::new(text.as_bytes(), DumpLayout::parse(layout).unwrap()))
}

#[test]
fn addresses() {
    use Address::*;
    for (text, expected) in [
        ("-", StandardInput),
        ("mast.bin", File("mast.bin".into())),
        ("a,b.bin", File("a,b.bin".into())),
        ("/dev/null", File("/dev/null".into())),
        ("tcp://tower-4.example:4001", Call("tower-4.example:4001".to_owned())),
        ("tcp://[::1]:4001", Call("[::1]:4001".to_owned())),
        ("tcp://:4001", Answer(4_001)),
        ("udp://:10110", Datagrams(String::new(), 10_110)),
        ("udp://239.192.0.4:60004", Datagrams("239.192.0.4".to_owned(), 60_004)),
        ("udp://[ff12::4]:60004", Datagrams("ff12::4".to_owned(), 60_004)),
    ] {
        assert_eq!(Address::parse(text), Ok(expected), "{text}");
    }
    assert!(matches!(Address::parse("/dev/ttyUSB97"), Ok(Port(names)) if names.len() == 1));
    assert!(matches!(Address::parse("adapter:SW1/1,/dev/ttyUSB97"), Ok(Port(names)) if names.len() == 2));
    for text in ["tcp://tower", "tcp://tower:x", "udp://", "tcp://:99999"] {
        assert!(matches!(Address::parse(text), Err(AddressError::NoPort { .. })), "{text}");
    }
    assert!(matches!(Address::parse("ftp://x:1"), Err(AddressError::Scheme { .. })));
    assert_eq!(Address::parse("adapter:"), Err(AddressError::NoSerial));
}

#[test]
fn dumps_are_read_as_their_columns_say() {
    for (layout, text, expected) in [
        ("hex", "24 57 49\n0x0D0A\n\n# remark\n41", &["line ", "0 $WI", "0 \\r\\n", "0 A"][..]),
        ("offset hex*4 note", "0000: 24 57  49 4D $WIM\n0004: 41  AB\n", &["line ", "0 $WIM", "0 A"]),
        // Bytes beside which text stands that could be hex: a wide gap or a bar sets it off.
        ("offset hex note", "0: 41 42   be ef\n2: 43 |C|\n", &["line ", "0 AB", "0 C"]),
        ("offset hex", "10 41 42\n14 43\n", &["line ", "0 AB", "0 loss Gap", "0 C"]),
        (
            "time direction hex",
            "2026-11-25T06:00:00.5Z > 41\n2026-11-25T06:00:00.750Z < 42 43\n",
            &["line >", "0 2026-11-25T06:00:00.500000000Z A", "line <", "1 2026-11-25T06:00:00.750000000Z BC"],
        ),
        (
            "time text+CRLF",
            "[2026-11-25 06:00:00,25] boot  4\n[2026-11-25 06:00:01,00] $WI\r\n",
            &["line ", "0 2026-11-25T06:00:00.250000000Z boot  4\\r\\n", "0 2026-11-25T06:00:01.000000000Z $WI\\r\\n"],
        ),
        (
            "time skip hex",
            "23:59:59.9 x 41\n00:00:00.1 y 42",
            &["line ", "0 1970-01-01T23:59:59.900000000Z A", "0 1970-01-02T00:00:00.100000000Z B"],
        ),
        ("time hex", "1795586400.25 41", &["line ", "0 2026-11-25T06:00:00.250000000Z A"]),
        ("text", "as it is\n", &["line ", "0 as it is"]),
        ("hex", "", &[]),
    ] {
        assert_eq!(dump(layout, text).unwrap(), expected, "{layout}: {text:?}");
    }
}

/// Each error names its place.
#[test]
fn errors_in_dumps_name_their_place() {
    for (layout, text, place, what) in [
        ("hex", "41 42\n41 4x 43\n", (2, 4), "hex digits"),
        ("hex", "414\n", (1, 1), "hex digits"),
        ("time hex", "41 42\n\nsoon 41\n", (3, 1), "no time"),
        ("time hex", "2026-13-01T00:00:00Z 41\n", (1, 1), "no time"),
        ("offset hex", "0 41 42\n1 43\n", (2, 1), "smaller"),
        ("offset hex", "zz 41\n", (1, 1), "no offset"),
        ("offset hex", "ffffffffffffffff 41\n", (1, 1), "their offset is too large"),
        ("offset hex", "7fffffffffffffff 41\n", (1, 1), "their offset is too large"),
        ("skip skip hex", "a\n", (1, 2), "missing"),
    ] {
        match dump(layout, text) {
            Err(SourceError::Dump { line, column, what: found, .. }) => {
                assert_eq!((line, column), place, "{layout}: {text:?}: {found}");
                assert!(found.contains(what), "{found}");
            }
            other => panic!("{layout}: {text:?}: {other:?}"),
        }
    }
    let endless = "41 ".repeat(1 << 19);
    assert!(matches!(dump("hex", &endless), Err(SourceError::Dump { .. })));
    let marks: String = (0..70).map(|mark| format!("{mark} 41\n")).collect();
    assert!(dump("direction hex", &marks).is_err());
    for (layout, expected) in [
        ("time", LayoutError::NoData),
        ("hex text", LayoutError::Twice),
        ("time time hex", LayoutError::Twice),
        ("note hex", LayoutError::Behind),
        ("hex*0", LayoutError::Column { column: "hex*0".to_owned() }),
        ("hax", LayoutError::Column { column: "hax".to_owned() }),
    ] {
        assert_eq!(DumpLayout::parse(layout), Err(expected), "{layout}");
    }
}

#[test]
fn times_that_run_backwards_stay_and_are_counted() {
    let text = "10.0 41\n12.0 42\n11.0 43\n11.5 44\n13.0 45\n";
    let mut source = DumpReader::new(text.as_bytes(), DumpLayout::parse("time hex").unwrap());
    let told = told(&mut source).unwrap();
    let seconds: Vec<&str> = told[1..].iter().map(|told| &told[19..21]).collect();
    assert_eq!(seconds, ["10", "12", "12", "12", "13"]);
    assert_eq!(source.remarks(), [Remark::TimesBackwards { count: 2, first: 3 }]);
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever somebody takes for a dump, reading it ends, and what it gives are no more bytes than stand there.
    #[test]
    fn no_dump_does_harm(text in "[ -~\\n\\t\\r0-9a-f:|]{0,300}", layout in prop::sample::select(vec![
        "hex", "time hex", "offset hex note", "time direction hex", "direction text+CRLF", "skip hex*3 note", "time offset hex*16 note",
    ])) {
        let mut source = DumpReader::new(text.as_bytes(), DumpLayout::parse(layout).unwrap());
        let mut bytes = 0;
        loop {
            match source.next() {
                Ok(Some(SourceEvent::Chunk { bytes: got, .. })) => bytes += got.len(),
                Ok(Some(_)) => {}
                Ok(None) | Err(_) => break,
            }
        }
        prop_assert!(bytes <= text.len() * 3);
    }

    /// Bytes written as hex in lines of any width are read back.
    #[test]
    fn what_is_dumped_is_read_back(bytes in prop::collection::vec(any::<u8>(), 1..200), width in 1usize..20) {
        let rows = bytes.chunks(width).enumerate().map(|(row, part)| {
            let hex: Vec<String> = part.iter().map(|byte| format!("{byte:02x}")).collect();
            format!("{:04x}: {}   |......|\n", row * width, hex.join(" "))
        });
        let text: String = rows.collect();
        let mut source = DumpReader::new(text.as_bytes(), DumpLayout::parse("offset hex note").unwrap());
        prop_assert_eq!(all_bytes(&mut source), bytes);
    }
}

#[test]
fn compressed_files_are_what_is_in_them() {
    let folder = tempfile::tempdir().unwrap();
    let samples = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/samples/");
    for name in ["wind-mast.pcapng", "wind-mast.bin"] {
        let plain = std::fs::read(format!("{samples}{name}")).unwrap();
        let compress = |bytes: &[u8]| {
            let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
            encoder.write_all(bytes).unwrap();
            encoder.finish().unwrap()
        };
        // Compressed files may be put behind each other; these need not end where blocks do.
        let (front, back) = plain.split_at(plain.len() / 2);
        let path = folder.path().join(format!("{name}.gz"));
        std::fs::write(&path, [compress(front), compress(back)].concat()).unwrap();
        let open = |path: &str| open_address(&Address::parse(path).unwrap(), &SourceOptions::default()).unwrap();
        let unpacked = all_bytes(&mut *open(path.to_str().unwrap()));
        assert_eq!(unpacked, all_bytes(&mut *open(&format!("{samples}{name}"))));
        // A torn one is told; what came before it stays.
        let whole = std::fs::read(&path).unwrap();
        std::fs::write(&path, &whole[..whole.len() - 20]).unwrap();
        assert!(told(&mut *open(path.to_str().unwrap())).is_err());
    }
}

#[test]
fn a_clock_is_put_right() {
    let mut options = SourceOptions::default();
    options.shift = Span::from_nanoseconds(-1_500_000_000);
    options.lateness = Span::from_nanoseconds(250_000_000);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("dump.txt");
    std::fs::write(&path, "10.0 41\n").unwrap();
    options.dump = Some(DumpLayout::parse("time hex").unwrap());
    let mut source = open_address(&Address::File(path), &options).unwrap();
    assert_eq!(told(&mut *source).unwrap()[1], format!("0 {} A", Time::from_nanoseconds(8_250_000_000)));
}

/// The next that is no pause.
fn next(events: &mut LineEvents) -> Option<Result<LineEvent, SourceError>> {
    events.next()
}

fn data(events: &mut LineEvents) -> Vec<u8> {
    match next(events) {
        Some(Ok(LineEvent::Data { bytes, .. })) => bytes,
        other => panic!("{other:?}"),
    }
}

fn silent(mut peer: &TcpStream) {
    peer.set_read_timeout(Some(Duration::from_millis(50))).unwrap();
    let mut buffer = [0; 8];
    assert!(!matches!(peer.read(&mut buffer), Ok(1..)), "something was sent to the device");
}

#[test]
fn a_call_ends_when_the_other_side_ends() {
    let server = TcpListener::bind("127.0.0.1:0").unwrap();
    let peer = server.local_addr().unwrap().to_string();
    let mut options = SourceOptions::default();
    (options.keep_alive, options.telnet) = (true, true);
    let mut events = LineEvents::new(Box::new(TcpSource::call(&peer, options).unwrap()), Stop::new());
    let (mut device, _) = server.accept().unwrap();
    assert!(matches!(next(&mut events), Some(Ok(LineEvent::Opened { line: 0, .. }))));
    device.write_all(b"$WI\xFF\xFF\xFF\xFD\x01MWV").unwrap();
    assert_eq!(data(&mut events), b"$WI\xFFMWV");
    silent(&device);
    drop(device);
    assert!(next(&mut events).is_none());
    // Nobody there.
    drop(server);
    let error = TcpSource::call(&peer, SourceOptions::default()).err().unwrap();
    assert!(matches!(error, SourceError::Connect { .. }), "{error}");
    assert!(TcpSource::call("no-such-host.invalid:1", SourceOptions::default()).is_err());
}

#[test]
fn a_connection_that_breaks_is_an_error_with_its_place() {
    let server = TcpListener::bind("127.0.0.1:0").unwrap();
    let peer = server.local_addr().unwrap().to_string();
    let mut events = LineEvents::new(Box::new(TcpSource::call(&peer, SourceOptions::default()).unwrap()), Stop::new());
    let (mut device, _) = server.accept().unwrap();
    next(&mut events);
    device.write_all(b"abc").unwrap();
    assert_eq!(data(&mut events), b"abc");
    // A reset instead of an end.
    rustix::net::sockopt::set_socket_linger(&device, Some(Duration::ZERO)).unwrap();
    drop(device);
    assert!(matches!(next(&mut events), Some(Err(SourceError::Lost { at: 3, .. }))));
    assert!(next(&mut events).is_none());
}

#[test]
fn callers_come_one_after_the_other() {
    let source = TcpSource::answer(0, SourceOptions::default()).unwrap();
    let port = source.local_address().unwrap().port();
    let mut events = LineEvents::new(Box::new(source), Stop::new());
    next(&mut events);
    let mut first = TcpStream::connect(("127.0.0.1", port)).unwrap();
    first.write_all(b"one").unwrap();
    assert_eq!(data(&mut events), b"one");
    silent(&first);
    let mut second = TcpStream::connect(("127.0.0.1", port)).unwrap();
    second.write_all(b"two").unwrap();
    drop(first);
    assert!(matches!(next(&mut events), Some(Ok(LineEvent::Closed { .. }))));
    assert!(matches!(next(&mut events), Some(Ok(LineEvent::Loss { why: Loss::Reopened, .. }))));
    assert_eq!(data(&mut events), b"two");
    // The port is taken now.
    let taken = TcpSource::answer(port, SourceOptions::default()).err().unwrap();
    assert!(matches!(taken, SourceError::Listen { .. }));
}

#[test]
fn each_sender_of_datagrams_is_a_line() {
    let source = UdpSource::open("127.0.0.1", 0, Clock::system()).unwrap();
    let to = ("127.0.0.1", source.port());
    let mut events = LineEvents::new(Box::new(source), Stop::new());
    let senders: Vec<UdpSocket> = (0..2).map(|_| UdpSocket::bind("127.0.0.1:0").unwrap()).collect();
    for (sender, text) in [(0, "a"), (1, "b"), (0, "c")] {
        senders[sender].send_to(text.as_bytes(), to).unwrap();
        if text != "c" {
            let Some(Ok(LineEvent::Opened { line, info })) = next(&mut events) else { panic!("a line") };
            assert_eq!((line, info.name), (sender, senders[sender].local_addr().unwrap().to_string()));
        }
        match next(&mut events) {
            Some(Ok(LineEvent::Data { line, bytes, .. })) => assert_eq!((line, &bytes[..]), (sender, text.as_bytes())),
            other => panic!("{other:?}"),
        }
    }
    for sender in &senders {
        sender.set_nonblocking(true).unwrap();
        assert!(sender.recv(&mut [0; 8]).is_err(), "nothing is sent back");
    }
    assert!(UdpSource::open("no address", 1, Clock::system()).is_err());
}

#[test]
fn a_flood_of_datagrams_is_bounded_and_what_is_lost_is_told() {
    let mut source = UdpSource::open("127.0.0.1", 0, Clock::system()).unwrap();
    let to = ("127.0.0.1", source.port());
    let senders: Vec<UdpSocket> = (0..70).map(|_| UdpSocket::bind("127.0.0.1:0").unwrap()).collect();
    for sender in &senders {
        sender.send_to(b"x", to).unwrap();
    }
    let big = vec![0u8; 60_000];
    for _ in 0..2_000 {
        let _ = senders[0].send_to(&big, to);
    }
    let (mut lines, mut bytes, mut losses, mut pauses) = (0, 0, 0, 0);
    while pauses < 2 {
        match source.next().unwrap().unwrap() {
            SourceEvent::Line(_) => lines += 1,
            SourceEvent::Chunk { bytes: got, .. } => bytes += got.len(),
            SourceEvent::Loss { why: Loss::Overrun, .. } => losses += 1,
            // The datagrams of senders beyond the bound look like pauses, too.
            _ => pauses += usize::from(bytes > 1_000_000),
        }
    }
    assert_eq!(lines, 64);
    let remarks = source.remarks();
    assert!(remarks.contains(&Remark::TooManySenders { limit: 64, datagrams: 6 }), "{remarks:?}");
    let lost = remarks.iter().find_map(|remark| match remark {
        Remark::LostDatagrams { datagrams } => Some(*datagrams as usize),
        _ => None,
    });
    let sent = 64 + 2_000 * big.len();
    assert_eq!(bytes + lost.unwrap_or(0) * big.len(), sent, "every datagram was read or told to be lost");
    assert_eq!(losses > 0, lost.is_some());
}
