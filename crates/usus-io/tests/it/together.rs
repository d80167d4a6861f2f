//! Several lines at once: their order, queues between threads, the clock.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use usus::{Loss, Span, Time};
use usus_io::{
    Clock, Hand, LineInfo, Member, RecordedLine, RecordedSource, Recorder, Remark, Source, SourceError, SourceEvent,
    Stop, Together, WhenFull, open, queue, read_ahead,
};

/// A live source that says what a test gives it, at the time of a clock.
struct Scripted {
    clock: Clock,
    chunks: Arc<Mutex<VecDeque<Vec<u8>>>>,
    announced: bool,
    lines: usize,
    bytes: Vec<u8>,
    fails: bool,
}

impl Scripted {
    fn new(clock: &Clock) -> (Scripted, Arc<Mutex<VecDeque<Vec<u8>>>>) {
        let chunks = Arc::new(Mutex::new(VecDeque::new()));
        let (clock, fails) = (clock.clone(), false);
        let source =
            Scripted { clock, chunks: Arc::clone(&chunks), announced: false, lines: 0, bytes: Vec::new(), fails };
        (source, chunks)
    }
}

impl Source for Scripted {
    fn next(&mut self) -> Result<Option<SourceEvent<'_>>, SourceError> {
        if self.fails {
            return Err(SourceError::NoSettings { port: "made up".to_owned() });
        }
        if !std::mem::replace(&mut self.announced, true) {
            return Ok(Some(SourceEvent::Line(LineInfo::new(if self.lines > 0 { "own" } else { "" }))));
        }
        match self.chunks.lock().unwrap().pop_front() {
            Some(bytes) => {
                let time = Some(self.clock.now());
                if bytes == b"loss" {
                    return Ok(Some(SourceEvent::Loss { line: 0, why: Loss::Reopened, time }));
                }
                self.bytes = bytes;
                Ok(Some(SourceEvent::Chunk { line: 0, time, bytes: &self.bytes, faults: &[] }))
            }
            None => {
                std::thread::sleep(Duration::from_micros(300));
                Ok(Some(SourceEvent::Idle { time: Some(self.clock.now()) }))
            }
        }
    }

    fn has_times(&self) -> bool {
        true
    }

    fn is_live(&self) -> bool {
        true
    }

    fn has_lines(&self) -> bool {
        self.lines > 0
    }
}

fn milliseconds(count: i64) -> Span {
    Span::from_nanoseconds(count * 1_000_000)
}

fn member(name: &str, source: Scripted, lateness: Span) -> Member {
    Member { name: name.to_owned(), lateness, ..Member::new(Box::new(source)) }
}

/// What arrives late by one adapter and early by another comes out in the order in which it was on the wires. A machine that is busy with other things
/// lets a thread be later than is waited for: then it is tried again.
#[test]
fn lines_come_in_the_order_of_their_times() {
    let mut wrong = Vec::new();
    while let Err(what) = in_the_order_of_their_times() {
        wrong.push(what);
        assert!(wrong.len() < 5, "{wrong:?}");
    }
}

/// Whether it was so this time; what was not.
fn in_the_order_of_their_times() -> Result<(), String> {
    let clock = Clock::system();
    let stop = Stop::new();
    let (early, early_chunks) = Scripted::new(&clock);
    let (late, late_chunks) = Scripted::new(&clock);
    let members = vec![member("request", early, Span::default()), member("answer", late, milliseconds(40))];
    let mut together = Together::listen(members, clock.clone(), &stop);
    let begun = clock.now();
    let wires = std::thread::spawn({
        let stop = stop.clone();
        move || {
            for round in 0..20u8 {
                // On the wire, the answer comes 12 ms behind the request; its adapter gives it 40 ms later than the other would.
                early_chunks.lock().unwrap().push_back(vec![b'q', round]);
                std::thread::sleep(Duration::from_millis(26));
                // The next request arrives before this answer does.
                early_chunks.lock().unwrap().push_back(vec![b'x', round]);
                std::thread::sleep(Duration::from_millis(26));
                late_chunks.lock().unwrap().push_back(vec![b'a', round]);
            }
            std::thread::sleep(Duration::from_millis(100));
            stop.stop();
        }
    });
    let (mut order, mut last, mut lines, mut idle) = (Vec::new(), begun, Vec::new(), 0);
    loop {
        match together.next().unwrap() {
            Some(SourceEvent::Line(info)) => lines.push(info.name),
            Some(SourceEvent::Chunk { line, time: Some(time), bytes, .. }) => {
                if time < last && !order.is_empty() {
                    stop.stop();
                    wires.join().unwrap();
                    return Err(format!("{time} after {last}"));
                }
                last = time;
                assert_eq!(line, usize::from(bytes[0] == b'a'));
                order.push((bytes[0], bytes[1]));
            }
            // Idle promises that nothing earlier comes.
            Some(SourceEvent::Idle { time: Some(time) }) => {
                idle += 1;
                last = last.max(time);
            }
            Some(other) => panic!("{other:?}"),
            None => break,
        }
    }
    wires.join().unwrap();
    assert_eq!(lines, ["request", "answer"]);
    assert!(together.has_lines() && together.is_live() && together.has_times());
    let expected: Vec<(u8, u8)> = (0..20).flat_map(|round| [(b'q', round), (b'a', round), (b'x', round)]).collect();
    assert_eq!(order.len(), 60);
    // On a loaded machine a thread may be later than any lateness; most rounds must be in order all the same.
    let right = order.chunks(3).zip(expected.chunks(3)).filter(|(found, expected)| found == expected).count();
    if right < 15 {
        return Err(format!("{order:?}"));
    }
    assert!(idle > 0);
    Ok(())
}

/// A single line is handed on at once, whatever its lateness; its end is told when it is to stop, or when it ends.
#[test]
fn a_single_line_is_not_held_back() {
    let clock = Clock::system();
    let stop = Stop::new();
    let (source, chunks) = Scripted::new(&clock);
    let mut together = Together::listen(vec![member("", source, milliseconds(5_000))], clock.clone(), &stop);
    assert!(!together.has_lines());
    chunks.lock().unwrap().push_back(b"now".to_vec());
    let begun = clock.now();
    let time = loop {
        match together.next().unwrap().unwrap() {
            SourceEvent::Chunk { time, .. } => break time.unwrap(),
            _ => assert!(clock.now().since(begun) < milliseconds(4_000)),
        }
    };
    assert!(time < begun, "its time is when it was on the wire");
    stop.stop();
    while together.next().unwrap().is_some() {}
}

/// One of several that fails is told; the others go on. Lines of a source with lines of its own come behind the others.
#[test]
fn a_line_that_fails_leaves_the_others() {
    let clock = Clock::system();
    let stop = Stop::new();
    let (mut failing, _) = Scripted::new(&clock);
    failing.fails = true;
    let (mut several, several_chunks) = Scripted::new(&clock);
    several.lines = 1;
    let (sound, chunks) = Scripted::new(&clock);
    let members = vec![
        member("many", several, Span::default()),
        member("broken", failing, Span::default()),
        member("sound", sound, Span::default()),
    ];
    let mut together = Together::listen(members, clock, &stop);
    for index in 0..5u8 {
        chunks.lock().unwrap().push_back(vec![index]);
    }
    several_chunks.lock().unwrap().push_back(b"s".to_vec());
    let (mut names, mut errors, mut bytes) = (Vec::new(), Vec::new(), Vec::new());
    while bytes.len() < 6 || errors.is_empty() {
        match together.next() {
            Ok(Some(SourceEvent::Line(info))) => names.push(info.name),
            Ok(Some(SourceEvent::Chunk { line, bytes: more, .. })) => bytes.push((names[line].clone(), more.to_vec())),
            Ok(Some(_)) => {}
            Ok(None) => panic!("it ended"),
            Err(error) => errors.push(error.to_string()),
        }
    }
    stop.stop();
    names.sort();
    assert_eq!(names, ["broken", "many/own", "sound"]);
    assert_eq!(errors, ["broken: made up: a serial port needs line settings, such as `9600 8N1`"]);
    assert_eq!(bytes.iter().filter(|(name, _)| name == "sound").count(), 5);
    assert!(bytes.contains(&("many/own".to_owned(), b"s".to_vec())));
}

/// A full queue makes its sender wait, or loses chunks and books where they are missing; nothing else is lost.
#[test]
fn a_full_queue_waits_or_books_what_it_loses() {
    let (source, _) = Scripted::new(&Clock::system());
    let (sender, mut receiver) = queue(&source, 1_000, WhenFull::Lose);
    let chunk = |line, byte| SourceEvent::Chunk {
        line,
        time: Some(Time::from_nanoseconds(i64::from(byte))),
        bytes: Box::leak(vec![byte; 100].into_boxed_slice()),
        faults: &[],
    };
    for byte in 0..20 {
        assert!(sender.send(chunk(usize::from(byte % 2), byte)));
    }
    assert!(sender.send(SourceEvent::Note { line: 0, time: None, text: "kept".to_owned() }));
    let lost = sender.lost();
    assert!((1_000..2_000).contains(&lost), "{lost}");
    let mut taken = 0;
    while receiver.has_more() {
        match receiver.next().unwrap().unwrap() {
            SourceEvent::Chunk { bytes, .. } => taken += bytes.len() as u64,
            SourceEvent::Note { .. } => {}
            other => panic!("{other:?}"),
        }
    }
    assert_eq!(taken + lost, 2_000);
    // Where it goes on, each line says that something is missing.
    sender.send(chunk(1, 50));
    assert!(matches!(receiver.next(), Ok(Some(SourceEvent::Loss { line: 1, why: Loss::Gap, .. }))));
    assert!(matches!(receiver.next(), Ok(Some(SourceEvent::Chunk { line: 1, .. }))));
    drop(sender);
    assert!(matches!(receiver.next(), Ok(Some(SourceEvent::Loss { line: 0, why: Loss::Gap, .. }))));
    assert!(matches!(receiver.next(), Ok(None)));
    assert_eq!(receiver.remarks(), [Remark::NotConverted { bytes: lost }]);

    let (sender, mut receiver) = queue(&source, 1_000, WhenFull::Wait);
    let filling = std::thread::spawn(move || {
        for byte in 0..200 {
            sender.send(chunk(0, byte));
        }
    });
    let mut next = 0;
    loop {
        match receiver.next().unwrap() {
            Some(SourceEvent::Chunk { bytes, .. }) => {
                assert_eq!(bytes[0], next);
                next += 1;
            }
            Some(_) => {}
            None => break,
        }
    }
    assert_eq!(next, 200);
    filling.join().unwrap();
    // Who sends to nobody is told so.
    let (sender, receiver) = queue(&source, 1_000, WhenFull::Wait);
    drop(receiver);
    assert!(!sender.send(chunk(0, 1)));
}

/// A reader ahead hands on everything, the error at the end included.
#[test]
fn a_source_is_read_ahead() {
    let path = "../../demo/samples/rope-tension.pcapng";
    let all = |source: &mut dyn Source| {
        let mut all = Vec::new();
        while let Some(event) = source.next().unwrap() {
            if !matches!(event, SourceEvent::Idle { .. }) {
                all.push(format!("{event:?}"));
            }
        }
        all
    };
    let mut ahead = read_ahead(open(path.as_ref()).unwrap(), 4_000, WhenFull::Wait);
    assert_eq!(all(&mut ahead), all(&mut *open(path.as_ref()).unwrap()));
    let (mut failing, _) = Scripted::new(&Clock::system());
    failing.fails = true;
    let mut ahead = read_ahead(Box::new(failing), 4_000, WhenFull::Wait);
    assert!(matches!(ahead.next(), Err(SourceError::NoSettings { .. })));
    assert!(matches!(ahead.next(), Ok(None)));
}

/// Whatever the wall clock does, times go forward; its steps are told once each, and noted in a recording.
#[test]
fn a_wall_clock_that_is_stepped_is_noted() {
    let second = 1_000_000_000;
    let (steady, wall) = (Arc::new(AtomicI64::new(0)), Arc::new(AtomicI64::new(1_000 * second)));
    let hands = (Arc::clone(&steady), Arc::clone(&wall));
    let clock =
        Clock::reading(move || Hand { steady: hands.0.load(Ordering::Relaxed), wall: hands.1.load(Ordering::Relaxed) });
    let pass = |nanoseconds: i64, step: i64| {
        steady.fetch_add(nanoseconds, Ordering::Relaxed);
        wall.fetch_add(nanoseconds + step, Ordering::Relaxed);
    };
    let at = |time: i64| Time::from_nanoseconds(time);
    assert_eq!((clock.now(), clock.step()), (at(1_000 * second), None));
    // (what passes, the step, what the clock shows, the step that is told)
    let cases = [
        (second, 0, 1_001 * second, None),
        (second, 40_000_000, 1_002 * second + 40_000_000, None),
        (second, -40_000_000, 1_003 * second + 40_000_000, None),
        (second, 3_600 * second, 4_604 * second, Some(3_600 * second)),
        (second, 0, 4_605 * second, None),
        (second, -7_200 * second, 4_606 * second, Some(-7_200 * second)),
        (second, 0, 4_607 * second, None),
        (second, 3_600 * second, 4_608 * second, Some(3_600 * second)),
    ];
    let mut last = clock.now();
    for (passed, step, shown, told) in cases {
        pass(passed, step);
        assert_eq!((clock.now(), clock.step()), (at(shown), told.map(Span::from_nanoseconds)), "{step}");
        assert_eq!(clock.step(), None, "each is told once");
        assert!(clock.now() >= last);
        last = clock.now();
    }

    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("stepped.pcapng");
    let (source, chunks) = Scripted::new(&clock);
    let recorder = Recorder::create(&path, "s", &[RecordedLine::new("mast")]).unwrap();
    let mut kept = RecordedSource::new(Box::new(source), recorder, clock.clone());
    let mut say = |step: i64, bytes: &[u8]| {
        pass(second, step);
        chunks.lock().unwrap().push_back(bytes.to_vec());
        while !matches!(kept.next(), Ok(Some(SourceEvent::Chunk { .. }))) {}
    };
    say(0, b"before");
    say(-50 * second, b"put back");
    say(120 * second, b"put forward");
    drop(kept);
    let mut source = open(&path).unwrap();
    let (mut notes, mut times) = (Vec::new(), Vec::new());
    while let Some(event) = source.next().unwrap() {
        match event {
            SourceEvent::Note { text, .. } => notes.push(text),
            SourceEvent::Chunk { time, .. } => times.push(time.unwrap()),
            _ => {}
        }
    }
    assert!(times.is_sorted() && times.len() == 3, "{times:?}");
    assert_eq!(notes.len(), 2);
    assert!(notes[0].contains("put back by 50.000 s") && notes[1].contains("put forward by 120.000 s"), "{notes:?}");
}
