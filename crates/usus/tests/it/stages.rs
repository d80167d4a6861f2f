//! What records of several frames hold is bounded, and waits no longer than declared.

use std::convert::Infallible;

use usus::{Chunk, Decoder, Event, Format, Notice, Plan, Record, Reject, Sink, Span, Time};

use crate::drive::render;

fn plan(text: &str) -> Plan {
    Format::parse(text).and_then(|format| format.compile()).unwrap_or_else(|problems| panic!("{problems}\n{text}"))
}

#[derive(Default)]
struct Told(Vec<String>);

impl Sink for Told {
    type Error = Infallible;

    fn record(&mut self, record: &Record<'_>) -> Result<(), Infallible> {
        self.0.push(render(&Event::Record(*record)));
        Ok(())
    }

    fn reject(&mut self, reject: &Reject<'_>) -> Result<(), Infallible> {
        self.0.push(render(&Event::Reject(*reject)));
        Ok(())
    }

    fn notice(&mut self, _: &Notice<'_>) -> Result<(), Infallible> {
        Ok(())
    }
}

/// What comes of a text, and the most bytes that were pending behind a line of it.
fn held(plan: &Plan, text: &str) -> (Vec<String>, u64) {
    let mut decoder = Decoder::new(plan);
    let line = decoder.line("", 0).unwrap();
    let (mut told, mut most) = (Told::default(), 0);
    for text in text.split_inclusive('\n') {
        let Ok(()) = decoder.decode(Chunk::new(line, text.as_bytes()), &mut told);
        most = most.max(decoder.ledger(line).pending);
    }
    let Ok(()) = decoder.finish().drain(&mut told);
    (told.0, most)
}

#[test]
fn a_record_is_made_of_so_many_frames_and_bytes() {
    let format = |limits: &str| {
        format!(
            "format = 'long'\n[limits]\n{limits}\n[[frame]]\ncut = 'text'\n[record.list]\n[[record.list.part]]\nprinted = 'LIST'\n\
             [[record.list.part]]\nname = 'rows'\nrepeat = 'any'\nprinted = 'row {{n}}'\nfields = [{{ name = 'n', type = 'number' }}]\n\
             [[record.list.part]]\nprinted = 'END'\n\
             [record.piece]\nprinted = 'piece {{n}} of {{all}}'\nfields = [{{ name = 'n', type = 'number' }}, {{ name = 'all', type = 'number' }}]\n\
             [multipart.pieces]\nof = 'piece'\npart = 'n'\nparts = 'all'"
        )
    };
    let list = |rows: usize| format!("LIST\n{}END\n", "row 7\n".repeat(rows));
    let pieces = |all: usize| (1..=all).map(|n| format!("piece {n} of {all}\n")).collect::<String>();
    let is_whole = |plan: &Plan, text: &str| {
        let (told, most) = held(plan, text);
        (told[0].contains("list") || told[0].contains("pieces"))
            && !told[0].contains("reject")
            && told.len() == 1
            && most < 100
    };
    // Of frames: the head and the foot count, too.
    let by_parts = plan(&format("parts = 6"));
    assert!(is_whole(&by_parts, &list(4)));
    assert!(!is_whole(&by_parts, &list(5)));
    assert!(held(&by_parts, &list(5)).0[0].contains("list has more than 6 frames"));
    assert!(is_whole(&by_parts, &pieces(6)));
    assert!(held(&by_parts, &pieces(7)).0[0].contains("pieces has more than 6 frames"));
    // Of bytes: LIST, END, and five for each row.
    let by_bytes = plan(&format("held = 27"));
    assert!(is_whole(&by_bytes, &list(4)));
    assert!(held(&by_bytes, &list(5)).0[0].contains("or 27 bytes"));
    let by_bytes = plan(&format("held = 36"));
    assert!(is_whole(&by_bytes, &pieces(3)));
    assert!(held(&by_bytes, &pieces(4)).0[0].contains("or 36 bytes"));
    // However many follow, no more than that is held.
    for (text, most) in [(list(100_000), 6 * 5), (pieces(100_000), 6 * 20)] {
        let (_, found) = held(&by_parts, &text);
        assert!(found <= most + 20, "{found} bytes were held");
    }
}

#[test]
fn so_many_keys_wait_at_the_same_time() {
    let text = "format = 'talk'\n[limits]\nopen = 3\n[[frame]]\ncut = 'text'\nheader = [{ name = 'what', column = 1, internal = true }, { name = 'n', type = 'number' }]\n\
                [record.a]\nwhen = \"what == 'a'\"\nfields = [{ name = 'x', type = 'number' }]\n\
                [record.b]\nwhen = \"what == 'b'\"\nfields = [{ name = 'y', type = 'number' }]\n";
    let merge = plan(&format!("{text}[merge.both]\nof = ['a', 'b']\nkey = 'n'\nopen = 3"));
    let exchange = plan(&format!("{text}[exchange.both]\nask = 'a'\nanswers = 'b'\nkey = 'n'\nopen = 3"));
    let multipart =
        plan(&format!("{text}[multipart.both]\nof = 'a'\npart = 'x'\nparts = 'two'\nkey = 'n'").replace(
            "name = 'x', type = 'number' }",
            "name = 'x', type = 'number' }, { name = 'two', type = 'number' }",
        ));
    for (plan, ask, tell) in [(&merge, "1", "b"), (&exchange, "1", "b"), (&multipart, "1,2", "a")] {
        for (waiting, whole) in [(3, 3), (4, 3), (1_000, 3)] {
            let asked: String = (0..waiting).map(|n| format!("a,{n},{ask}\n")).collect();
            let rest = if tell == "a" { "2,2" } else { "2" };
            // Those that came last wait.
            let told: String = (waiting - 3..waiting).map(|n| format!("{tell},{n},{rest}\n")).collect();
            let (events, most) = held(plan, &(asked + &told));
            let found = events.iter().filter(|event| {
                event.contains(" both n=") && !event.contains("no_answer") && !event.contains("reject")
            });
            assert_eq!(found.count(), whole, "{events:#?}");
            assert!(most <= 4 * 12, "{most} bytes were held of {waiting}");
        }
    }
}

#[test]
fn a_line_waits_for_another_no_longer_than_declared() {
    let plan = plan(
        "format = 'two'\n[line.a]\n[line.b]\n[[frame]]\nname = 'q'\non = 'a'\ncut = 'text'\n[[frame]]\nname = 'r'\non = 'b'\ncut = 'text'\n\
         [exchange.poll]\nwithin = '50 ms'\n[exchange.poll.ask]\nframe = 'q'\nfields = [{ name = 'asked' }]\n\
         [[exchange.poll.answers]]\nframe = 'r'\nfields = [{ name = 'told' }]",
    );
    let ms = |ms: i64| Time::from_nanoseconds(ms * 1_000_000);
    let mut decoder = Decoder::new(&plan);
    let (a, b) = (decoder.line("a", 0).unwrap(), decoder.line("b", 0).unwrap());
    let mut told = Told::default();
    // The other line has begun something, and does not end it.
    let Ok(()) = decoder.decode(Chunk { time: Some(ms(0)), ..Chunk::new(b, b"half a li") }, &mut told);
    let Ok(()) = decoder.decode(Chunk { time: Some(ms(10)), ..Chunk::new(a, b"first\n") }, &mut told);
    // The question waits for that, and for its answer: together no longer than 50 ms.
    let deadline = decoder.next_deadline().unwrap();
    assert_eq!(deadline, ms(60).after(Span::from_nanoseconds(1)), "{:?}", told.0);
    let Ok(()) = decoder.tick(ms(60)).drain(&mut told);
    assert_eq!(told.0.len(), 0, "{:?}", told.0);
    let Ok(()) = decoder.tick(deadline).drain(&mut told);
    assert!(told.0.len() == 1 && told.0[0].contains("no_answer"), "{:?}", told.0);
    let Ok(()) = decoder.decode(Chunk { time: Some(ms(61)), ..Chunk::new(b, b"ne\n") }, &mut told);
    // Nobody else has begun anything: the question waits for no other line, only for its answer.
    let Ok(()) = decoder.decode(Chunk { time: Some(ms(200)), ..Chunk::new(a, b"second\n") }, &mut told);
    assert_eq!(decoder.next_deadline(), Some(ms(200).after(Span::from_nanoseconds(1))));
    let Ok(()) = decoder.tick(ms(201)).drain(&mut told);
    assert_eq!(decoder.next_deadline(), Some(ms(250).after(Span::from_nanoseconds(1))));
    told.0.clear();
    let Ok(()) = decoder.tick(ms(251)).drain(&mut told);
    assert_eq!(told.0.len(), 1);
    assert!(told.0[0].contains("asked=\"second\" told=<notsent> outcome=\"no_answer\""), "{:?}", told.0);
}
