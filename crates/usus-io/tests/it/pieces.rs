//! Decoding in pieces at the same time gives what one decoder gives, wherever the pieces are joined.

use std::collections::VecDeque;

use proptest::prelude::*;
use usus::{Decoder, Event, Fault, FaultKind, Format, LineId, Loss, Notice, Plan, Record, Reject, Sink, Time};
use usus_io::{
    Destination, LineInfo, OutputOptions, Outputs, PieceOptions, Pieces, PumpError, Pumped, RawBytes, ReadAt, Source,
    SourceError, SourceEvent, TableOptions, pump, pump_pieces,
};

/// A source of what it holds.
#[derive(Clone)]
struct Held(VecDeque<Step>, Vec<u8>, Vec<Fault>);

#[derive(Clone, Debug)]
enum Step {
    Line(&'static str, u64),
    Chunk(usize, Option<i64>, Vec<u8>, Vec<Fault>),
    Loss(usize),
    Broken,
}

impl Held {
    fn new(steps: impl IntoIterator<Item = Step>) -> Held {
        Held(steps.into_iter().collect(), Vec::new(), Vec::new())
    }

    /// The bytes in one piece, if that is all there is: one line without a name, without times and faults.
    fn raw(&self) -> Option<Vec<u8>> {
        let mut bytes = Vec::new();
        for step in &self.0 {
            match step {
                Step::Line("", 0) => {}
                Step::Chunk(0, None, chunk, faults) if faults.is_empty() => bytes.extend(chunk),
                _ => return None,
            }
        }
        (self.0.len() > 1).then_some(bytes)
    }

    /// One line without a name, cut at these places.
    fn cut(bytes: &[u8], places: &[usize]) -> Held {
        let mut steps = vec![Step::Line("", 0)];
        let mut from = 0;
        for &to in places.iter().chain([&bytes.len()]) {
            steps.push(Step::Chunk(0, None, bytes[from..to].to_vec(), Vec::new()));
            from = to;
        }
        Held::new(steps)
    }
}

impl Source for Held {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        let Some(step) = self.0.pop_front() else { return Ok(None) };
        Ok(Some(match step {
            Step::Line(name, start) => {
                let mut line = LineInfo::new(name);
                line.start = start;
                SourceEvent::Line(line)
            }
            Step::Chunk(line, time, bytes, faults) => {
                (self.1, self.2) = (bytes, faults);
                SourceEvent::Chunk { line, time: time.map(Time::from_nanoseconds), bytes: &self.1, faults: &self.2 }
            }
            Step::Loss(line) => SourceEvent::Loss { line, why: Loss::Overrun, time: None },
            Step::Broken => return Err(SourceError::Read { at: 7, error: std::io::Error::other("unplugged") }),
        }))
    }
}

/// Bytes of which only the first can be read.
struct Torn<'b>(&'b [u8], usize);

impl ReadAt for Torn<'_> {
    fn read_at(&self, buffer: &mut [u8], offset: u64) -> std::io::Result<usize> {
        match (&self.0[..self.1]).read_at(buffer, offset)? {
            0 => Err(std::io::Error::other("worn out")),
            read => Ok(read),
        }
    }
}

/// Everything a sink is told, as text.
#[derive(Clone, Debug, Default, PartialEq)]
struct Told {
    events: Vec<String>,
    names: Vec<String>,
    full_after: Option<usize>,
}

impl Told {
    fn tell(&mut self, line: LineId, event: Event<'_>) -> Result<(), String> {
        if self.full_after == Some(self.events.len()) {
            return Err("full".to_owned());
        }
        let name = self.names.get(line.index()).map_or("?", String::as_str);
        let received = match &event {
            Event::Record(record) => format!(" {:?} {:?}", record.received(), record.completed()),
            _ => String::new(),
        };
        self.events.push(format!("{name}: {event:?}{received}"));
        Ok(())
    }
}

impl Sink for Told {
    type Error = String;

    fn line(&mut self, _line: LineId, name: &str) {
        self.names.push(name.to_owned());
    }

    fn record(&mut self, record: &Record<'_>) -> Result<(), String> {
        self.tell(record.line(), Event::Record(*record))
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), String> {
        self.tell(reject.line, Event::Reject(*reject))
    }

    fn clipped(&mut self, clipped: &Reject<'_>) -> Result<(), String> {
        self.tell(clipped.line, Event::Clipped(*clipped))
    }

    fn notice(&mut self, notice: &Notice<'_>) -> Result<(), String> {
        self.tell(notice.line, Event::Notice(*notice))
    }
}

impl Pieces for Told {
    type Piece = Told;

    fn piece(&self) -> Told {
        Told { names: self.names.clone(), ..Told::default() }
    }

    fn join(&mut self, piece: &mut Told) -> Result<(), String> {
        for event in std::mem::take(&mut piece.events) {
            if self.full_after == Some(self.events.len()) {
                return Err("full".to_owned());
            }
            self.events.push(event);
        }
        Ok(())
    }
}

fn plan(text: &str) -> Plan {
    Format::parse(&format!("format = 'x'\n{text}")).unwrap().compile().unwrap()
}

const PACKETS: &str = "
    [[frame]]
    cut = 'packet'
    start = 'AA'
    length = 4
    checksum = { algorithm = 'SUM-8', type = 'u8' }
    [record.r]
    fields = [{ name = 'n', type = 'u8', counter = true }, { name = 'v', type = 'u8' }]";

const SENTENCES: &str = "
    [[frame]]
    cut = 'nmea-0183'
    checksum = { presence = 'optional' }
    header = [{ name = 'address', column = 1, type = 'text' }]
    [record.a]
    when = \"address == 'A'\"
    more = 'ignore'
    fields = [{ name = 'n', column = 2, type = 'number', counter = true, rollover = 99, optional = true }]
    [[ignore]]
    when = \"address == 'B'\"
    count_by = 'address'";

const LINES: &str = "
    [[frame]]
    cut = 'text'
    idle = '3 ms'
    [record.r]
    fields = [{ name = 'a' }]";

/// Counters of a few series, more than are followed; and names, more than are counted.
const SERIES: &str = "
    limits = { series = 2, names = 2 }
    [[frame]]
    cut = 'packet'
    start = 'AA'
    length = 4
    checksum = { algorithm = 'SUM-8', type = 'u8' }
    header = [{ name = 'which', byte = 1, type = 'u8' }]
    [record.r]
    when = 'which < 3'
    series = 'which'
    fields = [{ name = 'n', type = 'u8', counter = true }]
    [[ignore]]
    count_by = 'which'";

/// Without a checksum, a start in the middle of a packet is taken for one again and again.
const LOST: &str = "
    [[frame]]
    cut = 'packet'
    start = 'AA'
    length = 3
    [record.r]
    fields = [{ name = 'v', type = 'u16be' }]";

const TWO: &str = "
    [line.up]
    [line.down]
    [[frame]]
    name = 'text'
    cut = 'text'
    on = 'up'
    [[frame]]
    cut = 'packet'
    name = 'down'
    on = 'down'
    start = 'AA'
    length = 3
    [record.up]
    frame = 'text'
    fields = [{ name = 'a' }]
    [record.down]
    frame = 'down'
    fields = [{ name = 'v', type = 'u16be' }]";

/// What one core and several give, in batches and, where bytes are all there is, in ranges. Returns what is known of the batches.
fn both(plan: &Plan, source: &Held, options: PieceOptions) -> Pumped {
    if let Some(bytes) = source.raw() {
        let size = bytes.len() as u64;
        // Also a file that has become longer or shorter since it was opened.
        for size in [size, size / 2, size + 9] {
            compare(plan, source, &mut RawBytes::new(&bytes[..], size), options);
        }
    }
    compare(plan, source, &mut source.clone(), options)
}

fn compare(plan: &Plan, source: &Held, pieced: &mut dyn Source, options: PieceOptions) -> Pumped {
    let (mut one, mut several) = (Told::default(), Told::default());
    let (mut alone, mut together) = (Decoder::new(plan), Decoder::new(plan));
    let expected = pump(&mut source.clone(), &mut alone, &mut one, &mut |_| true);
    let found = pump_pieces(pieced, &mut together, &mut several, options, &mut |_| true);
    let differs = one.events.iter().zip(&several.events).position(|(one, other)| one != other);
    let around = |events: &[String]| {
        let at = differs.unwrap_or(0);
        events[at.saturating_sub(3).min(events.len())..(at + 12).min(events.len())].join("\n")
    };
    assert!(
        one.events == several.events,
        "{options:?}\none core\n{}\nseveral\n{}",
        around(&one.events),
        around(&several.events)
    );
    let ledgers = |decoder: &Decoder| decoder.lines().map(|line| decoder.ledger(line)).collect::<Vec<_>>();
    assert_eq!(ledgers(&alone), ledgers(&together));
    match (expected, found) {
        (Ok(expected), Ok(found)) => {
            assert_eq!(
                (expected.lines, expected.times, expected.bytes),
                (found.lines.clone(), found.times, found.bytes)
            );
            found
        }
        (Err(expected), Err(found)) => {
            assert_eq!(expected.to_string(), found.to_string());
            Pumped::default()
        }
        (expected, found) => panic!("{expected:?} and {found:?}"),
    }
}

fn packet(number: u8, value: u8) -> [u8; 4] {
    [0xAA, number, value, 0xAAu8.wrapping_add(number).wrapping_add(value)]
}

#[test]
fn pieces_join_at_every_offset() {
    let packets: Vec<u8> = [packet(0, 0xAA), packet(1, 1), packet(3, 0xAA), packet(4, 3)]
        .concat()
        .into_iter()
        .chain([0xAA, 0xAA])
        .collect();
    let sentences = b"1,2*00\r\n$A,1*5D\r\n$A,2\r\n$B,x\r\n!!$A,4*58\r\nnoise$A,$A,5*59".to_vec();
    for (plan, bytes) in [(plan(PACKETS), packets), (plan(SENTENCES), sentences)] {
        let mut again = 0;
        for at in 0..=bytes.len() {
            for next in at..=bytes.len() {
                for (jobs, before) in [(2, 0), (2, 6), (3, 1_000)] {
                    let options = PieceOptions { jobs, size: 1, before };
                    again += both(&plan, &Held::cut(&bytes, &[at, next]), options).again;
                }
            }
        }
        assert!(again > 0, "joins that fail are to be met, too");
    }
}

/// Texts in every way in which they can be declared, each with a stream that is partly damaged.
const TEXTS: [(&str, &[u8]); 10] = [
    (
        "[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a', type = 'number', scale = '1/3', places = 2 }, { name = 'b', type = 'bytes', digits = 'hex', invalid = 'reject' }]",
        b"1,00ff\n2,0\n3,\n4,AbCd\n5,zz\n6\n7,11 \n",
    ),
    (
        "[[frame]]\ncut = 'text'\nseparator = [';', ', ']\nquote = '\"'\n[record.r]\nfields = [{ name = 'a' }, { name = 'b', type = 'number' }]",
        b"x;1\n\"a;\"\"b\"\"\", 2\n\"open;3\n;;\nx, 4\r\nlast;5",
    ),
    (
        "[[frame]]\ncut = 'text'\nread = 'pairs'\nseparator = ' '\njoined = true\n[record.r]\nmore = 'ignore'\nfields = [{ name = 'n', type = 'number', counter = true, rollover = 9 }, { name = 'b', optional = true }]",
        b"n=1 b=x\n b=y  n=2\nb=z\nn=4 n=5\nn=6 q=1\nn=7",
    ),
    (
        "[[frame]]\ncut = 'text'\n[record.r]\nprinted = ['at {a}[, {b} m]', '{b} m']\nfields = [{ name = 'a' }, { name = 'b', type = 'number' }]\n[record.p]\npattern = '#(?<v>)#.*'\nfields = [{ name = 'v', type = 'number' }]\n[[ignore]]\nprinted = '> {command}'",
        b"at x, 5 m\n> go\n7 m\n#12#rest\n#1x#\nat y\n> stop",
    ),
    (
        "[[frame]]\nname = 'm'\ncut = 'text'\nstart = \"'@'\"\n[[frame]]\nname = 'p'\ncut = 'text'\n[record.r]\nframe = 'm'\nfields = [{ name = 'n', type = 'number', counter = true, rollover = 9 }, { name = 'f', type = 'number', unit = 'kN' }]\n[[record.r.variant]]\nframe = 'p'\nprinted = 'no {n}: {f} N'\nfields = [{ name = 'n', type = 'number', counter = true, rollover = 9 }, { name = 'f', type = 'number', unit = 'N' }]",
        b"@1,5\nno 2: 7 N\n@4,6\nno 5: x N\n@6,7,8\nno 7: 1 N",
    ),
    (
        "[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }, { name = 'b', optional = true }, { name = 'c', type = 'number' }]\n",
        b"x,1\nx,y,2\nx\nx,y,z,3\nx,,4",
    ),
    (
        "[[frame]]\ncut = 'text'\n[record.h]\nwhen = \"columns == 3\"\nmore = 'ignore'\nfields = []\n[record.r]\nheading = 'h'\nmore = 'ignore'\nfields = [{ name = 'v', type = 'number' }]\n",
        b"1,2\nv,w,\n3,4,\n5,6\nw,v,v\n7,8,9\nw,v,q\n1,2",
    ),
    (
        "clean = ['escapes', 'nul', 'parity']\n[[frame]]\ncut = 'text'\n[record.r]\nfields = [{ name = 'a' }, { name = 'b', type = 'number' }]",
        b"x,1\n\x1B[1mx\x1B[0m,\0\xB2\n\x1B]0;t\x07x,3\nx,\x1B",
    ),
    (
        "[[frame]]\ncut = 'text'\ncharset = ['utf-8', 'latin-1']\nchecksum = { algorithm = 'XOR-8', type = 'u8', digits = 'hex', mark = \"'*'\", presence = 'optional' }\n[record.r]\nfields = [{ name = 'a' }]",
        b"x*78\nx*79\ny\ncaf\xE9\n*00\nz*7A",
    ),
    (
        "[[frame]]\ncut = 'text'\nheader = [{ name = 'k', chars = '1', internal = true }]\n[record.p]\nwhen = \"k == 'P'\"\nread = 'pairs'\nfields = [{ name = 'first', column = 1 }, { name = 'a', type = 'number', sign_from = 's' }, { name = 's', codes = { U = '+', D = '-' } }]\n[record.c]\nfields = [{ name = 'x' }]",
        b"P,a=1,s=U\nQ\nP,s=D,a=2\nP,a=3\nR\nP,s=D,a=4",
    ),
];

/// Frames of bytes in every way in which they can be declared, with streams that are partly damaged.
const BYTES: [(&str, &[u8]); 8] = [
    (
        "[[frame]]\ncut = 'packet'\nstart = 'A9'\nlength = { past = { byte = 1, until = '00' }, byte = 1, type = 'u8', add = 3 }\nchecksum = { algorithm = 'SUM-8', type = 'u8' }\n[record.r]\nfields = [{ name = 's', type = 'text', until = '00' }, { type = 'u8', reserved = true }, { name = 'v', type = 'bytes' }]",
        b"\xA9\x4E\x00\x02\x11\x22\x2C\xA9\x00\x00\xA9\xA9\xA9\xA9\x57\x53\x57\x00\x02\xA9\x00\x55\xA9\x45\x00\x01\x78\x01\xA9\x53\x00\x01\x79\x76\xA9\x61\x62",
    ),
    (
        "[[frame]]\ncut = 'cobs'\nchecksum = { algorithm = 'SUM-8', type = 'u8' }\n[record.r]\nfields = [{ name = 'a', byte = 0, type = 'u8', counter = true }, { name = 'b', type = 'bytes' }]",
        b"\x05\x02\x03\x05\0\0\x02\x01\x03\x04\x05\0\x03\x03\x03\0\x09\x03\0\x03\x04\x04",
    ),
    (
        "[[frame]]\ncut = 'hdlc'\nchecksum = { algorithm = 'SUM-8', type = 'u8' }\n[record.r]\nfields = [{ name = 'a', byte = 0, type = 'u8', counter = true }, { name = 'b', type = 'bytes' }]",
        b"\x7E\x01\x7D\x5E\x7F\x7E\x7E\x7E\x02\x7D\x7E\x03\x03\x7E\x05\x7D\x05\x7E\x04\x04",
    ),
    (
        "[[frame]]\ncut = 'dle'\nchecksum = { algorithm = 'SUM-8', type = 'u8', behind = true }\n[record.r]\nfields = [{ name = 'a', byte = 0, type = 'u8', counter = true }, { name = 'b', type = 'bytes' }]",
        b"\x10\x02\x01\x10\x10\x10\x03\x11\x10\x10\x02\x02\x10\x03\x02\x10\x02\x04\x10\x02\x05\x10\x03\x10\x10\x02",
    ),
    (
        "[[frame]]\ncut = 'fixed'\nlength = 3\nchecksum = { algorithm = 'XOR-8', type = 'u8' }\n[record.r]\nfields = [{ name = 'a', byte = 0, type = 'u8', counter = true }, { name = 'b', type = 'u8' }]",
        b"\x01\x02\x03\x02\x07\x05\x09\x03\x01\x02\x04\x01\x05\x05\x05",
    ),
    (
        "[[frame]]\ncut = 'text'\ncoding = [{ step = 'hex' }]\nread = 'bytes'\n[record.r]\nframe = 'text'\nfields = [{ name = 'a', byte = 0, type = 'u8', counter = true }, { name = 'b', type = 'bytes' }]\n[[frame]]\nname = 't'\ncut = 'text'\n[record.t]\nframe = 't'\nfields = [{ name = 'line' }]",
        b"01 aa\n02FF\nhello\n0g\n04\n\n05 0",
    ),
    (
        "[[frame]]\ncut = 'packet'\nstart = ['80/C0', 'C1']\nlength = { byte = 1, type = 'u8', bits = '0-3', scale = 2, add = 3 }\nchecksum = { algorithm = 'XOR-8', type = 'u8' }\n[record.r]\nfields = [{ name = 'n', byte = 2, type = 'u8', when = 'length > 6' }, { name = 'items', up_to = 'end', size = 's', fields = [{ name = 's', type = 'u8' }, { name = 'v', type = 'text' }] }]",
        b"\x81\x00\x81\x82\x11\x01\x01\x92\xC1\x02\x05\x03x\x00\xB9\x83\x02\x05\x03AB\x84\x80",
    ),
    (
        "[[frame]]\ncut = 'slip'\n[record.r]\nfields = [{ name = 'a', byte = 0, type = 'text', until = 'NUL' }, { name = 'g', until = 'FF', fields = [{ name = 'n', type = 'u8' }, { name = 'l', type = 'b4', count = 2 }] }, { name = 'z', type = 'u8', when = \"a == 'x'\" }]",
        b"\xC0x\0\x01\x23\xFF\x07\xC0y\0\xFF\xC0x\0\xFF\xC0\xC0\0\x01\x02\x03\x04\xFF\xC0x",
    ),
];

/// Bursts are cut by times or breaks, which belong to chunks.
#[test]
fn bursts_join_at_every_chunk() {
    let check = "checksum = { algorithm = 'XOR-8', type = 'u8' }\n[record.r]\nfields = [{ name = 'a', byte = 0, type = 'u8', counter = true }]";
    for (cut, by_break) in [("cut = 'idle'\nidle = '5 ms'", false), ("cut = 'break'", true)] {
        let plan = plan(&format!("[[frame]]\n{cut}\n{check}"));
        let mut rng = fastrand::Rng::with_seed(3);
        for _ in 0..30 {
            let (mut steps, mut time) = (vec![Step::Line("", 0)], 0);
            for number in 0..rng.u8(1..40) {
                let sent = if rng.u32(0..6) == 0 { vec![number] } else { vec![number, number] };
                time += rng.i64(0..12) * 1_000_000;
                let faults =
                    if by_break && rng.bool() { vec![Fault { at: 0, kind: FaultKind::Break }] } else { vec![] };
                for (place, byte) in sent.into_iter().enumerate() {
                    let faults = if place == 0 { faults.clone() } else { Vec::new() };
                    steps.push(Step::Chunk(0, Some(time), vec![byte], faults));
                }
            }
            for (jobs, before) in [(2, 0), (2, 6), (3, 1_000)] {
                both(&plan, &Held::new(steps.clone()), PieceOptions { jobs, size: 1, before });
            }
        }
    }
}

#[test]
fn texts_and_bytes_join_at_every_offset() {
    for (text, bytes) in TEXTS.into_iter().chain(BYTES) {
        let plan = plan(text);
        for at in 0..=bytes.len() {
            for next in (at..=bytes.len()).step_by(7) {
                for (jobs, before) in [(2, 0), (2, 6), (3, 1_000)] {
                    both(&plan, &Held::cut(bytes, &[at, next]), PieceOptions { jobs, size: 1, before });
                }
            }
        }
    }
}

#[test]
fn counters_go_on_from_piece_to_piece() {
    let series = plan(SERIES);
    let stream = |packets: &[(u8, u8)]| -> Vec<u8> {
        packets.iter().flat_map(|(which, number)| packet(*which, *number)).collect()
    };
    // What becomes of the pieces behind the first: how many are decoded again, since they say something else behind what came before.
    type Packets = &'static [(u8, u8)];
    let cases: [(&str, Packets, u64); 6] = [
        ("both series go on", &[(0, 1), (1, 7), (0, 2), (1, 8), (1, 9), (0, 3)], 0),
        ("one makes a jump where pieces meet", &[(0, 1), (1, 7), (0, 2), (1, 9), (0, 3), (1, 10)], 1),
        ("a jump inside of a piece", &[(0, 1), (0, 2), (0, 3), (0, 5), (0, 6), (0, 7)], 0),
        ("a third series is one too many", &[(0, 1), (1, 1), (2, 1), (2, 7), (2, 9), (2, 9)], 2),
        ("names that fit", &[(4, 1), (5, 1), (5, 1), (4, 1), (4, 1), (5, 1)], 0),
        ("names that do not", &[(4, 1), (5, 1), (6, 1), (5, 1), (6, 1), (5, 1)], 0),
    ];
    for (what, packets, again) in cases {
        let source = Held::cut(&stream(packets), &[8, 16]);
        let pumped = both(&series, &source, PieceOptions { jobs: 2, size: 8, before: 4 });
        assert_eq!((pumped.pieces, pumped.again), (4, again), "{what}");
    }
}

/// Questions and answers, by their numbers, and what is neither.
const TALK: &str = "
    [line.up]
    [line.down]
    [[frame]]
    cut = 'packet'
    start = 'AA'
    length = 4
    checksum = { algorithm = 'SUM-8', type = 'u8' }
    header = [{ name = 'n', byte = 1, type = 'u8' }]
    [record.ask]
    when = 'n < 100'
    fields = [{ name = 'v', type = 'u8' }]
    [record.tell]
    when = 'n < 200'
    fields = [{ name = 'v', type = 'u8' }]
    [record.aside]
    fields = [{ name = 'v', type = 'u8' }]";

#[test]
fn stages_say_the_same_on_several_cores() {
    let of = |more: &str| plan(&format!("{TALK}\n{more}"));
    let pair = "ask = 'ask'\nanswers = 'tell'\nkey = 'v'\nwithin = '40 ms'";
    let plans = [
        ("exchange", of(&format!("[exchange.pair]\n{pair}\nopen = 8"))),
        ("exchange, few", of(&format!("[exchange.pair]\n{pair}"))),
        ("merge", of("[merge.both]\nof = ['ask', 'tell']\nkey = 'v'\nwithin = '40 ms'\nopen = 3")),
        ("multipart", of("[multipart.whole]\nof = 'ask'\npart = 'v'\nparts = 'n'\nwithin = '60 ms'")),
        ("latest", plan(&TALK.replace("[record.aside]", "[record.aside]\nlatest = [{ name = 'last', of = 'ask.v', within = '30 ms' }]"))),
        (
            "block",
            plan(&TALK.replace("[record.ask]", "[record.block]\nwithin = '50 ms'\n[[record.block.part]]\nwhen = 'n < 60'\nfields = [{ name = 'v', type = 'u8' }]\n\
                [[record.block.part]]\nname = 'rows'\nrepeat = 'any'\nwhen = 'n < 120'\nfields = [{ name = 'w', type = 'u8' }]\n\
                [[record.block.part]]\nwhen = 'n < 200'\nfields = [{ name = 'x', type = 'u8' }]\n[record.ask]")),
        ),
        ("all", of(&format!("[exchange.pair]\n{pair}\nopen = 2\nlatest = [{{ name = 'aside', of = 'aside.v' }}]"))),
    ];
    for (name, plan) in &plans {
        let (mut pieces, mut again) = (0, 0);
        for seed in 0..40 {
            let mut rng = fastrand::Rng::with_seed(seed);
            let (mut steps, mut time) = (vec![Step::Line("up", 0), Step::Line("down", 0)], 0);
            for _ in 0..rng.usize(1..80) {
                time += rng.i64(0..20);
                let mut bytes: Vec<u8> = (0..rng.usize(1..4)).flat_map(|_| packet(rng.u8(..), rng.u8(0..6))).collect();
                match rng.u32(0..12) {
                    0 => bytes.truncate(rng.usize(0..bytes.len())),
                    1 => bytes.insert(rng.usize(0..bytes.len()), 0xAA),
                    _ => {}
                }
                let line = rng.usize(0..2);
                let time = Some(time * 1_000_000).filter(|_| seed % 3 > 0);
                let split = rng.usize(0..=bytes.len());
                let (first, second) = bytes.split_at(split);
                steps.push(Step::Chunk(line, time, first.to_vec(), Vec::new()));
                steps.push(Step::Chunk(line, time, second.to_vec(), Vec::new()));
                if rng.u32(0..30) == 0 {
                    steps.push(Step::Loss(line));
                }
            }
            for (size, before) in [(1, 0), (30, 12), (60, 60)] {
                let pumped = both(plan, &Held::new(steps.clone()), PieceOptions { jobs: 2, size, before });
                pieces += pumped.pieces;
                again += pumped.again;
            }
        }
        match plan.needs_order() {
            true => assert_eq!(pieces, 0, "{name}"),
            false => assert!(pieces > 100 && again < pieces, "{name}: {again} of {pieces} again"),
        }
    }
}

/// A Modbus line: its transactions, the points of its units, each value, and only those that changed.
#[test]
fn a_bus_says_the_same_on_several_cores() {
    use usus::{Wants, Which};
    use usus_sim::{Device, Faults, record};
    let points = Format::parse(Device::DriveCabinet.format().unwrap()).unwrap().compile().unwrap();
    let wants = Wants { records: vec!["transaction".to_owned(), "drive".to_owned()], ..Wants::default() };
    let plans = [points.select(&wants).unwrap(), points.by_value(Which::Each), points.by_value(Which::Changed), points];
    let (mut pieces, mut again) = (0, 0);
    for seed in 0..12 {
        let recording = record(Device::DriveCabinet, seed, 30, &Faults::all());
        let mut steps = vec![Step::Line("", 0)];
        for chunk in recording.chunks {
            let time = Some(chunk.time).filter(|_| seed % 3 > 0);
            steps.push(Step::Chunk(0, time, chunk.bytes, Vec::new()));
        }
        for plan in &plans {
            for (size, before) in [(1, 0), (200, 100), (800, 400)] {
                let pumped = both(plan, &Held::new(steps.clone()), PieceOptions { jobs: 2, size, before });
                pieces += pumped.pieces;
                again += pumped.again;
            }
        }
    }
    assert!(pieces > 100 && again < pieces, "{again} of {pieces} again");
}

#[test]
fn pieces_that_never_join_are_left_to_one_core() {
    let bytes = [0xAA; 4_000];
    let places: Vec<usize> = (1..500).map(|piece| piece * 8).collect();
    let pumped = both(&plan(LOST), &Held::cut(&bytes, &places), PieceOptions { jobs: 2, size: 1, before: 0 });
    assert!(pumped.unjoined && pumped.pieces < 100, "{pumped:?}");
    // Of a sound stream all pieces but perhaps those at edges join.
    let bytes: Vec<u8> = (0..1_000).flat_map(|number| packet(number as u8, 7)).collect();
    let pumped = both(&plan(PACKETS), &Held::cut(&bytes, &places), PieceOptions { jobs: 2, size: 100, before: 20 });
    assert!(!pumped.unjoined && pumped.again == 0 && pumped.pieces > 30, "{pumped:?}");
}

#[test]
fn errors_come_where_they_would_come_from_one_core() {
    let plan = plan(PACKETS);
    let chunk = |number| Step::Chunk(0, None, packet(number, 1).to_vec(), Vec::new());
    let broken = [Step::Line("", 0), chunk(0), chunk(1), chunk(2), Step::Broken];
    both(&plan, &Held::new(broken), PieceOptions { jobs: 2, size: 1, before: 4 });
    let bytes: Vec<u8> = (0..6).flat_map(|number| packet(number, 1)).collect();
    for full_after in 0..6 {
        let mut held = Held::new([Step::Line("", 0)].into_iter().chain((0..6).map(chunk)));
        let mut raw = RawBytes::new(&bytes[..], bytes.len() as u64);
        for source in [&mut held as &mut dyn Source, &mut raw] {
            let mut told = Told { full_after: Some(full_after), ..Told::default() };
            let options = PieceOptions { jobs: 2, size: 4, before: 4 };
            let result = pump_pieces(source, &mut Decoder::new(&plan), &mut told, options, &mut |_| true);
            assert!(matches!(result, Err(PumpError::Sink(error)) if error == "full"));
            assert_eq!(told.events.len(), full_after);
        }
    }
    for sound in 0..6 {
        let mut told = Told::default();
        let mut source = RawBytes::new(Torn(&bytes, sound * 4), bytes.len() as u64);
        let options = PieceOptions { jobs: 2, size: 4, before: 4 };
        let result = pump_pieces(&mut source, &mut Decoder::new(&plan), &mut told, options, &mut |_| true);
        assert!(matches!(result, Err(PumpError::Source(SourceError::Read { at, .. })) if at == sound as u64 * 4));
        assert_eq!(told.events.len(), sound);
    }
    let mut source = Held::new([Step::Line("up", 0), Step::Line("middle", 0)]);
    let options = PieceOptions { jobs: 2, size: 1, before: 4 };
    let plan = self::plan(TWO);
    let result = pump_pieces(&mut source, &mut Decoder::new(&plan), &mut Told::default(), options, &mut |_| true);
    assert!(matches!(result, Err(PumpError::UnknownLine { line, .. }) if line == "middle"));
}

/// The files that a conversion writes, with what it says of them.
fn files(plan: &Plan, source: &Held, destination: &str, jobs: usize) -> Vec<(String, Vec<u8>, Option<u64>)> {
    let folder = tempfile::tempdir().unwrap();
    let named = Destination::named(&folder.path().join(destination)).unwrap();
    let options = TableOptions { origin: true, ..TableOptions::default() };
    let rejects = folder.path().join("rejects.jsonl");
    let mut outputs = Outputs::open(
        plan,
        &named,
        &OutputOptions { columns: options, rejects: Some(rejects), ..OutputOptions::default() },
    )
    .unwrap();
    outputs.begin_source("held", "held").unwrap();
    let pieces = PieceOptions { jobs, size: 64, before: 24 };
    let pumped =
        pump_pieces(&mut source.clone(), &mut Decoder::new(plan), &mut outputs, pieces, &mut |_| true).unwrap();
    assert!(jobs == 1 || (pumped.pieces > 20 && pumped.again < 4), "{pumped:?}");
    outputs.finish().unwrap();
    let rows = outputs.files();
    let mut files = Vec::new();
    let mut folders = vec![folder.path().to_owned()];
    while let Some(inside) = folders.pop() {
        for entry in std::fs::read_dir(inside).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            let rows = rows.iter().find(|(file, _)| *file == path).map(|(_, rows)| *rows);
            let name = path.strip_prefix(folder.path()).unwrap().to_string_lossy().into_owned();
            files.push((name, std::fs::read(&path).unwrap(), rows));
        }
    }
    files.sort();
    files
}

#[test]
fn outputs_are_the_same_to_the_byte() {
    let groups = plan(
        "
        [[frame]]
        cut = 'nmea-0183'
        header = [{ name = 'address', column = 1, type = 'text' }]
        [record.list]
        when = \"address == 'L'\"
        fields = [{ name = 'values', column = 2, up_to = 'end', fields = [{ name = 'v', type = 'number' }] }]
        [record.one]
        when = \"address == 'O'\"
        fields = [{ name = 'v', column = 2, type = 'number', range = [0, 50] }]",
    );
    let sentence = |text: &str| format!("${text}*{:02X}\r\n", text.bytes().fold(0, |sum, byte| sum ^ byte));
    let text: String = (0..200)
        .map(|number| match number % 3 {
            0 => sentence(&format!("L,{number},{}", number * 7)),
            1 => sentence(&format!("O,{number}")),
            _ if number % 5 == 0 => format!("noise {number}\r\n"),
            _ => sentence("O,x"),
        })
        .collect();
    let places: Vec<usize> = (1..text.len() / 16).map(|piece| piece * 16).collect();
    let source = Held::cut(text.as_bytes(), &places);
    for destination in ["tables", "records.jsonl"] {
        let alone = files(&groups, &source, destination, 1);
        assert!(alone.len() >= 2 && alone.iter().all(|(_, bytes, _)| !bytes.is_empty()));
        assert_eq!(alone, files(&groups, &source, destination, 2));
        assert_eq!(alone, files(&groups, &source, destination, 3));
    }
}

#[test]
fn a_stop_is_a_stop() {
    let plan = plan(PACKETS);
    let bytes: Vec<u8> = (0..100).flat_map(|number| packet(number, 7)).collect();
    let mut source = Held::cut(&bytes, &(1..100).map(|piece| piece * 4).collect::<Vec<_>>());
    let (mut told, mut decoder) = (Told::default(), Decoder::new(&plan));
    let options = PieceOptions { jobs: 2, size: 40, before: 8 };
    let pumped =
        pump_pieces(&mut source, &mut decoder, &mut told, options, &mut |progress| progress.bytes < 200).unwrap();
    assert!(pumped.stopped);
    assert_eq!((pumped.bytes, told.events.len()), (200, 50));
}

/// Pieces of frames and noise, of every format.
fn fragment() -> impl Strategy<Value = Vec<u8>> {
    prop_oneof![
        (any::<u8>(), any::<u8>()).prop_map(|(number, value)| packet(number % 7, value).to_vec()),
        prop::sample::select(vec!["$A,1*5D\r\n", "$A,2\r\n", "$B,7\r\n", "$A,", "x\r\n", "\r", "\n", "abc"])
            .prop_map(|text| text.as_bytes().to_vec()),
        prop::collection::vec(any::<u8>(), 0..6),
        Just(vec![0xAA; 3]),
    ]
}

fn steps(lines: usize) -> impl Strategy<Value = Vec<Step>> {
    let fault = (0usize..8, prop::sample::select(vec![FaultKind::Parity, FaultKind::Framing]));
    let faults = prop_oneof![4 => Just(Vec::new()), 1 => prop::collection::vec(fault, 0..3)]
        .prop_map(|faults| faults.into_iter().map(|(at, kind)| Fault { at, kind }).collect::<Vec<_>>());
    let chunk = (0..lines, 0i64..6_000_000, prop::collection::vec(fragment(), 0..4), faults)
        .prop_map(|(line, gap, fragments, faults)| Step::Chunk(line, Some(gap), fragments.concat(), faults));
    let step = prop_oneof![12 => chunk, 1 => (0..lines).prop_map(Step::Loss)];
    prop::collection::vec(step, 0..24).prop_map(|mut steps| {
        // Gaps become times.
        let mut now = 0;
        for step in &mut steps {
            if let Step::Chunk(_, Some(time), ..) = step {
                now += *time;
                *time = now;
            }
        }
        steps
    })
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(250) })]

    #[test]
    fn pieces_give_what_one_core_gives(
        steps in steps(1), format in 0usize..5, jobs in 2usize..4, size in 1usize..40, before in 0usize..40,
    ) {
        let plan = plan([PACKETS, SENTENCES, LINES, LOST, SERIES][format]);
        let bytes: Vec<u8> = steps
            .iter()
            .filter_map(|step| if let Step::Chunk(_, _, bytes, _) = step { Some(bytes.clone()) } else { None })
            .flatten()
            .collect();
        let steps = [Step::Line("", 0)].into_iter().chain(steps);
        both(&plan, &Held::new(steps), PieceOptions { jobs, size, before });
        both(&plan, &Held::cut(&bytes, &[]), PieceOptions { jobs, size, before });
    }

    #[test]
    fn lines_may_come_late(steps in steps(2), at in 0usize..24, jobs in 2usize..4, size in 1usize..40, before in 0usize..40) {
        let mut steps: VecDeque<Step> = steps.into();
        steps.insert(at.min(steps.len()), Step::Line("down", 70));
        steps.push_front(Step::Line("up", 0));
        both(&plan(TWO), &Held::new(steps), PieceOptions { jobs, size, before });
    }
}
