//! Captures: what is written is read again, a judge that knows nothing of us reads it too, and a torn end costs nothing before it.

use pcap_parser::pcapng::Block;
use pcap_parser::traits::PcapReaderIterator;
use pcap_parser::{PcapBlockOwned, PcapError, PcapNGOption, PcapNGReader};
use proptest::prelude::*;
use usus::{Fault, FaultKind, Loss, Time};
use usus_io::{CaptureLine, CaptureReader, CaptureWriter, LINK_TYPE, Source, SourceError, SourceEvent, Torn};

/// What a capture holds, in order.
#[derive(Clone, Debug, PartialEq)]
enum Entry {
    Line { name: String, start: u64, baud: Option<u32> },
    Chunk { line: usize, time: i64, bytes: Vec<u8>, faults: Vec<Fault> },
    Loss { line: usize, time: i64, why: Loss },
}

type Everything = (Vec<Entry>, Option<Torn>, Option<SourceError>, Option<String>);

fn read(bytes: &[u8]) -> Everything {
    read_from(bytes)
}

fn read_from(bytes: impl std::io::Read) -> Everything {
    let mut reader = CaptureReader::new(bytes, None);
    let mut entries = Vec::new();
    let error = loop {
        match reader.next() {
            Ok(None) => break None,
            Ok(Some(SourceEvent::Line(line))) => {
                entries.push(Entry::Line {
                    name: line.name,
                    start: line.start,
                    baud: line.serial.map(|serial| serial.baud),
                });
            }
            Ok(Some(SourceEvent::Chunk { line, time, bytes, faults })) => entries.push(Entry::Chunk {
                line,
                time: time.map_or(-1, Time::nanoseconds),
                bytes: bytes.to_vec(),
                faults: faults.to_vec(),
            }),
            Ok(Some(SourceEvent::Loss { line, why, time })) => {
                entries.push(Entry::Loss { line, time: time.map_or(-1, Time::nanoseconds), why });
            }
            Ok(Some(_)) => {}
            Err(error) => break Some(error),
        }
    };
    (entries, reader.torn(), error, reader.stream().map(str::to_owned))
}

fn write(entries: &[Entry]) -> Vec<u8> {
    let mut capture = CaptureWriter::new(Vec::new(), "tower-4").unwrap();
    for entry in entries {
        match entry {
            Entry::Line { name, start, baud } => {
                let serial = baud.map(|baud| format!("{baud} 8N1"));
                capture
                    .line(&CaptureLine { name: name.clone(), serial, base: *start, ..CaptureLine::default() })
                    .unwrap();
            }
            Entry::Chunk { line, time, bytes, faults } => {
                capture.chunk(*line as u32, Time::from_nanoseconds(*time), bytes, faults).unwrap();
            }
            Entry::Loss { line, time, why } => capture.loss(*line as u32, Time::from_nanoseconds(*time), *why).unwrap(),
        }
    }
    capture.finish().unwrap()
}

fn sample() -> Vec<Entry> {
    let chunk = |line, time, bytes: &[u8]| Entry::Chunk { line, time, bytes: bytes.to_vec(), faults: Vec::new() };
    vec![
        Entry::Line { name: "request".to_owned(), start: 0, baud: Some(9_600) },
        Entry::Line { name: "answer ü".to_owned(), start: 4_711, baud: None },
        chunk(0, 1_795_586_400_123_456_789, b"\x01\x03\x00"),
        chunk(1, 1_795_586_400_123_456_790, b""),
        Entry::Chunk {
            line: 1,
            time: 1_795_586_400_200_000_000,
            bytes: b"12345".to_vec(),
            faults: vec![Fault { at: 0, kind: FaultKind::Parity }, Fault { at: 5, kind: FaultKind::Break }],
        },
        Entry::Loss { line: 0, time: 1_795_586_401_000_000_000, why: Loss::Reopened },
        chunk(0, 1_795_586_402_000_000_000, &[0xA5; 300]),
        Entry::Loss { line: 1, time: 1_795_586_403_000_000_000, why: Loss::Overrun },
    ]
}

#[test]
fn what_is_written_is_read() {
    let (entries, torn, error, stream) = read(&write(&sample()));
    assert_eq!(entries, sample());
    assert_eq!((torn, stream.as_deref()), (None, Some("tower-4")));
    assert!(error.is_none());
}

/// A parser of pcapng that shares nothing with ours finds the same lines, times and bytes.
#[test]
fn a_judge_reads_the_same() {
    let bytes = write(&sample());
    let mut judge = PcapNGReader::new(65_536, &bytes[..]).unwrap();
    let mut entries = Vec::new();
    let mut names = Vec::new();
    let mut customs = 0;
    loop {
        match judge.next() {
            Ok((length, PcapBlockOwned::NG(block))) => {
                match block {
                    Block::InterfaceDescription(interface) => {
                        assert_eq!(interface.linktype.0, i32::from(LINK_TYPE));
                        assert_eq!(interface.if_tsresol, 9);
                        names.extend(interface.options.iter().filter(|option| option.code.0 == 2).map(text));
                    }
                    Block::EnhancedPacket(packet) => {
                        let time = (u64::from(packet.ts_high) << 32 | u64::from(packet.ts_low)) as i64;
                        let bytes = packet.data[..packet.caplen as usize].to_vec();
                        assert_eq!(packet.caplen, packet.origlen);
                        entries.push((packet.if_id as usize, time, bytes));
                    }
                    Block::Custom(_) => customs += 1,
                    Block::SectionHeader(_) => {}
                    other => panic!("{other:?}"),
                }
                judge.consume(length);
            }
            Ok(_) => panic!("a block that is none of pcapng"),
            Err(PcapError::Eof) => break,
            Err(PcapError::Incomplete(_)) => judge.refill().unwrap(),
            Err(error) => panic!("{error:?}"),
        }
    }
    let chunks: Vec<_> = sample()
        .into_iter()
        .filter_map(|entry| match entry {
            Entry::Chunk { line, time, bytes, .. } => Some((line, time, bytes)),
            _ => None,
        })
        .collect();
    assert_eq!(entries, chunks);
    assert_eq!(names, ["request", "answer ü"]);
    assert_eq!(customs, 2);
}

fn text(option: &PcapNGOption<'_>) -> String {
    String::from_utf8_lossy(&option.value[..usize::from(option.len)]).into_owned()
}

/// Cut at every byte: all whole blocks are there, and the tail is told, not refused.
#[test]
fn a_torn_tail_costs_nothing_before_it() {
    let bytes = write(&sample());
    let mut ends = vec![0];
    while let Some(length) = bytes.get(ends[ends.len() - 1] + 4..ends[ends.len() - 1] + 8) {
        ends.push(ends[ends.len() - 1] + u32::from_le_bytes(length.try_into().unwrap()) as usize);
    }
    for cut in 0..=bytes.len() {
        let whole = *ends.iter().rev().find(|end| **end <= cut).unwrap();
        let blocks = ends.iter().filter(|end| **end > 0 && **end <= cut).count();
        let (entries, torn, error, _) = read(&bytes[..cut]);
        assert!(error.is_none(), "cut at {cut}: {error:?}");
        assert_eq!(entries, sample()[..blocks.saturating_sub(1)], "cut at {cut}");
        let tail = (cut - whole) as u64;
        assert_eq!(torn, (tail > 0).then_some(Torn { at: whole as u64, bytes: tail }), "cut at {cut}");
        // A file system that lost the tail may have kept the length and filled up with zeros.
        let mut zeroed = bytes[..cut].to_vec();
        zeroed.resize(cut + 40, 0);
        let (entries, ..) = read(&zeroed);
        let whole = blocks.saturating_sub(1);
        assert_eq!(entries[..whole], sample()[..whole], "cut at {cut} and filled up");
    }
}

#[test]
fn damage_is_an_error_at_its_place_after_all_before_it() {
    let bytes = write(&sample());
    let section = u32::from_le_bytes(bytes[4..8].try_into().unwrap()) as usize;
    let mut broken = bytes.clone();
    broken[section + 4] = 13;
    let (entries, _, error, _) = read(&broken);
    assert!(entries.is_empty());
    assert_eq!(
        error.unwrap().to_string(),
        format!("not a sound capture at byte {section}: the length of a block is impossible")
    );
    let mut other_link = bytes.clone();
    other_link[section + 8] = 1;
    let (_, _, error, _) = read(&other_link);
    assert_eq!(error.unwrap().to_string(), "interface 0 has link type 1; a serial line is captured with 147");
    let mut huge = bytes;
    huge[section + 4..section + 8].copy_from_slice(&0x7FFF_FFFCu32.to_le_bytes());
    assert!(read(&huge).2.is_some());
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever bytes stand behind a section header: an end, a torn tail or an error, within bounds, never a panic.
    #[test]
    fn any_bytes_are_survived(edits in proptest::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 0..8), cut in any::<prop::sample::Index>()) {
        let mut bytes = write(&sample());
        for (at, byte) in edits {
            let at = at.index(bytes.len());
            bytes[at] = byte;
        }
        bytes.truncate(cut.index(bytes.len()) + 1);
        read(&bytes);
    }

    /// Pauses, interrupts and short reads, in the middle of blocks too, lose nothing.
    #[test]
    fn captures_come_through_any_reader(sizes in proptest::collection::vec(0..40u8, 0..200)) {
        let bytes = write(&sample());
        let (entries, torn, error, _) = read_from(crate::pumping::Jumpy(&bytes, sizes));
        prop_assert!(torn.is_none() && error.is_none());
        prop_assert_eq!(entries, sample());
    }

    #[test]
    fn chunks_of_any_size_are_kept(chunks in proptest::collection::vec((0i64..i64::MAX, proptest::collection::vec(any::<u8>(), 0..70)), 0..20)) {
        let mut entries = vec![Entry::Line { name: String::new(), start: 9, baud: Some(1) }];
        entries.extend(chunks.into_iter().map(|(time, bytes)| Entry::Chunk { line: 0, time, bytes, faults: Vec::new() }));
        prop_assert_eq!(read(&write(&entries)).0, entries);
    }
}

/// Big-endian, microseconds, a second section, blocks that are none of ours.
#[test]
fn other_writers_captures_are_read() {
    let mut bytes = Vec::new();
    let mut block = |kind: u32, body: &[u8]| {
        let length = (body.len() as u32 + 12).to_be_bytes();
        bytes.extend_from_slice(&kind.to_be_bytes());
        bytes.extend_from_slice(&length);
        bytes.extend_from_slice(body);
        bytes.extend_from_slice(&length);
    };
    let section = [&0x1A2B_3C4Du32.to_be_bytes()[..], &[0, 1, 0, 0], &[0xFF; 8]].concat();
    for _ in 0..2 {
        block(0x0A0D_0D0A, &section);
        block(1, &[&[0, 147, 0, 0][..], &[0; 4]].concat());
        block(5, &[0; 12]);
        // One second in microseconds; three of five bytes were kept.
        let stamp = 1_000_000u32.to_be_bytes();
        block(6, &[&[0; 8][..], &stamp, &3u32.to_be_bytes(), &5u32.to_be_bytes(), b"abc\0"].concat());
    }
    let (entries, torn, error, _) = read(&bytes);
    assert!(torn.is_none() && error.is_none(), "{torn:?} {error:?}");
    let of_section = |line| {
        vec![
            Entry::Line { name: String::new(), start: 0, baud: None },
            Entry::Chunk { line, time: 1_000_000_000, bytes: b"abc".to_vec(), faults: Vec::new() },
            Entry::Loss { line, time: 1_000_000_000, why: Loss::Gap },
        ]
    };
    assert_eq!(entries, [of_section(0), of_section(1)].concat());
}

/// A little-endian capture put together by hand.
#[derive(Default)]
struct Blocks(Vec<u8>);

impl Blocks {
    fn block(mut self, kind: u32, body: &[u8]) -> Blocks {
        let length = (body.len().next_multiple_of(4) as u32 + 12).to_le_bytes();
        self.0.extend_from_slice(&kind.to_le_bytes());
        self.0.extend_from_slice(&length);
        self.0.extend_from_slice(body);
        self.0.resize(self.0.len().next_multiple_of(4), 0);
        self.0.extend_from_slice(&length);
        self
    }

    fn section(self, options: &[u8]) -> Blocks {
        self.block(0x0A0D_0D0A, &[&0x1A2B_3C4Du32.to_le_bytes()[..], &[1, 0, 0, 0], &[0xFF; 8], options].concat())
    }

    fn interface(self, most: u32, options: &[u8]) -> Blocks {
        self.block(1, &[&[147, 0, 0, 0][..], &most.to_le_bytes(), options].concat())
    }

    fn read(&self) -> (Everything, Vec<String>) {
        let mut reader = CaptureReader::new(&self.0[..], None);
        while let Ok(Some(_)) = reader.next() {}
        (read(&self.0), reader.remarks().iter().map(ToString::to_string).collect())
    }
}

fn option(code: u16, value: &[u8]) -> Vec<u8> {
    let mut option = [&code.to_le_bytes()[..], &(value.len() as u16).to_le_bytes(), value].concat();
    option.resize(option.len().next_multiple_of(4), 0);
    option
}

fn own(text: &str) -> Vec<u8> {
    option(2988, &[&32_473u32.to_le_bytes()[..], b"usus:", text.as_bytes()].concat())
}

fn packet(interface: u32, stamp: u64, bytes: &[u8]) -> Vec<u8> {
    let length = (bytes.len() as u32).to_le_bytes();
    let stamp = [((stamp >> 32) as u32).to_le_bytes(), (stamp as u32).to_le_bytes()].concat();
    [&interface.to_le_bytes()[..], &stamp, &length, &length, bytes].concat()
}

/// Packets in the simple and in the obsolete block, times from another origin, blocks of unknown kinds: read, or told.
#[test]
fn all_packets_of_other_writers_are_read() {
    let nanoseconds = [option(9, &[9]), option(14, &100i64.to_le_bytes())].concat();
    let old = |interface: u16, drops: u16, bytes: &[u8]| {
        let mut body = packet(0, 5, bytes);
        body[..2].copy_from_slice(&interface.to_le_bytes());
        body[2..4].copy_from_slice(&drops.to_le_bytes());
        body
    };
    let capture = Blocks::default()
        .section(&[])
        .interface(4, &nanoseconds)
        .interface(0, &[])
        .block(3, &[&3u32.to_le_bytes()[..], b"abc\0"].concat())
        .block(3, &[&9u32.to_le_bytes()[..], b"defg"].concat())
        .block(2, &old(1, 0, b"h"))
        .block(2, &old(1, u16::MAX, b"i"))
        .block(2, &old(0, 7, b"jk"))
        .block(6, &packet(0, 1, b"l"))
        .block(0x77, b"what is this")
        .block(0x77, b"")
        .block(5, &[0; 12])
        .block(0xBAD, &[1, 0, 0, 0]);
    let ((entries, torn, error, _), remarks) = capture.read();
    assert!(torn.is_none() && error.is_none(), "{error:?}");
    let line = || Entry::Line { name: String::new(), start: 0, baud: None };
    let chunk = |line, time, bytes: &[u8]| Entry::Chunk { line, time, bytes: bytes.to_vec(), faults: Vec::new() };
    let loss = |line, time, why| Entry::Loss { line, time, why };
    assert_eq!(
        entries,
        [
            line(),
            line(),
            chunk(0, -1, b"abc"),
            chunk(0, -1, b"defg"),
            loss(0, -1, Loss::Gap),
            chunk(1, 5_000, b"h"),
            chunk(1, 5_000, b"i"),
            loss(0, -1, Loss::Overrun),
            chunk(0, 100_000_000_005, b"jk"),
            chunk(0, 100_000_000_001, b"l"),
        ]
    );
    assert_eq!(
        remarks,
        [
            "2 blocks of the unknown kind 0x00000077 were passed over",
            "1 blocks of the unknown kind 0x00000bad were passed over"
        ]
    );
    // A packet, or a loss, of what is not there, is an error.
    for block in [(3, vec![0; 8]), (2, old(3, 0, b"x")), (6, packet(3, 0, b"x"))] {
        let broken = Blocks::default().section(&[]).block(block.0, &block.1).read().0.2;
        assert!(broken.unwrap().to_string().contains("an interface that is not there"));
    }
    let lost = [&32_473u32.to_le_bytes()[..], b"usus:loss;line=4;why=gap;time=1"].concat();
    let broken = Blocks::default().section(&[]).interface(0, &[]).block(0xBAD, &lost).read().0.2;
    assert!(broken.unwrap().to_string().contains("a loss belongs to an interface that is not there"));
}

/// A time that there cannot be is absent and told, and stays so in a copy; an impossible place of a line is an error.
#[test]
fn impossible_times_and_places_are_told() {
    let nanoseconds = option(9, &[9]);
    let capture = Blocks::default()
        .section(&[])
        .interface(0, &nanoseconds)
        .block(6, &packet(0, u64::MAX, b"never"))
        .block(6, &packet(0, 7, b"once"));
    let ((entries, ..), remarks) = capture.read();
    let times: Vec<i64> = entries
        .iter()
        .filter_map(|entry| if let Entry::Chunk { time, .. } = entry { Some(*time) } else { None })
        .collect();
    assert_eq!(times, [-1, 7]);
    assert_eq!(remarks, ["1 times are none that there can be; what they belong to has no time"]);
    let folder = tempfile::tempdir().unwrap();
    let (original, copy) = (folder.path().join("a.pcapng"), folder.path().join("b.pcapng"));
    std::fs::write(&original, &capture.0).unwrap();
    let source = usus_io::open(&original).unwrap();
    usus_io::copy_captures(vec![usus_io::Original { name: String::new(), source }], &copy).unwrap();
    assert_eq!(read(&std::fs::read(&copy).unwrap()).0, entries);

    for (base, sound) in [
        ("9223372036854775807", true),
        ("9223372036854775808", false),
        ("18446744073709551615", false),
        ("-1", false),
        ("x", false),
    ] {
        let capture = Blocks::default().section(&[]).interface(0, &own(&format!("base={base}")));
        let error = capture.read().0.2.map(|error| error.to_string());
        assert_eq!(error.is_none(), sound, "{base}: {error:?}");
        let behind = capture.block(6, &packet(0, 0, b"x")).read().0.2.map(|error| error.to_string());
        assert!(behind.is_some_and(|error| error.contains("stream offset")), "{base}");
    }
}

/// Lines, interfaces, names and notes have bounds, and what is beyond costs no more than reading it.
#[test]
fn captures_are_bounded() {
    let named = |count: usize| {
        (0..count).fold(Blocks::default().section(&[]), |capture, index| {
            capture.interface(0, &option(2, format!("l{index}").as_bytes()))
        })
    };
    let lines = |capture: &Blocks| capture.read().0.0.len();
    assert_eq!(lines(&named(1_024)), 1_024);
    assert!(named(1_024).read().0.2.is_none());
    assert!(named(1_025).read().0.2.unwrap().to_string().contains("more than 1,024 interfaces"));
    // New lines in ever new sections are lines all the same.
    let sections = |count: usize| {
        (0..count).fold(Blocks::default(), |capture, index| {
            capture.section(&own(&format!("stream={index}"))).interface(0, &[])
        })
    };
    assert!(sections(1_024).read().0.2.is_none());
    assert!(sections(1_025).read().0.2.unwrap().to_string().contains("more than 1,024 lines"));
    // A stream that goes on may do so as often as it likes.
    let again = (0..20_000).fold(Blocks::default(), |capture, _| capture.section(&own("stream=x")).interface(0, &[]));
    assert_eq!(lines(&again), 1);
    let long = |length: usize| Blocks::default().section(&[]).interface(0, &option(2, &vec![b'n'; length]));
    assert!(long(1_024).read().0.2.is_none());
    assert!(long(1_025).read().0.2.is_some());
    let notes = [packet(0, 0, b""), option(1, b"n").repeat(100_000)].concat();
    let (_, remarks) = Blocks::default().section(&[]).interface(0, &[]).block(6, &notes).read();
    assert_eq!(remarks, ["99936 notes were passed over: too many at one place"]);
}
