//! The `usus` command: arguments, messages, exit statuses. What it does is done by the libraries.

mod against;
mod arguments;
mod bus;
mod capture;
mod check;
mod compare;
mod convert;
mod demo;
mod formats;
mod inspect;
mod ledgers;
mod manual;
mod ports;
mod problems;
mod replay;
mod safe;
mod screen;
mod serving;
mod simulate;
mod site;
mod source;
mod stop;
mod summary;
mod tally;
mod voice;
mod whole;

use std::process::ExitCode;

use clap::Parser;
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};

use arguments::{Account, Arguments, Verb};
use voice::Voice;

/// How a run ended, as its exit status.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Ending {
    /// All was done; also if the user stopped it.
    Done = 0,
    Failed = 1,
    WrongUsage = 2,
    NoBytes = 3,
    NothingRecognised = 4,
    TooManyRejects = 5,
    /// Bytes were lost while they were recorded.
    BytesLost = 6,
}

/// A format may have a thousand kinds of record, each with a file of its own, which is more than a system usually lets a program have open.
fn allow_many_files() {
    const MANY: u64 = 65_536;
    let limit = getrlimit(Resource::Nofile);
    let current = limit.maximum.map_or(MANY, |most| most.min(MANY));
    if limit.current.is_some_and(|now| now < current) {
        // If it may not be, opening them will say so.
        let _ = setrlimit(Resource::Nofile, Rlimit { current: Some(current), ..limit });
    }
}

/// A writer of workbooks panics where a file cannot be written. That is caught, and told as the error that it is.
fn pass_over_told_panics() {
    let usual = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !panic.location().is_some_and(|place| place.file().contains("rust_xlsxwriter")) {
            usual(panic);
        }
    }));
}

fn main() -> ExitCode {
    allow_many_files();
    pass_over_told_panics();
    let arguments = Arguments::parse();
    arguments.color.choose();
    let account = match (arguments.quiet, arguments.brief) {
        (true, _) => Account::None,
        (false, true) => Account::Brief,
        (false, false) => Account::Full,
    };
    let voice = Voice::new(arguments.messages, account);
    let ending = match arguments.verb {
        Verb::Ports(ports) => ports::run(&ports, &voice),
        Verb::Capture(capture) => capture::run(&capture, &voice),
        Verb::Replay(replay) => replay::run(&replay, &voice),
        Verb::Inspect(inspect) => inspect::run(&inspect, &voice),
        Verb::Bus(bus) => bus::run(&bus, &voice),
        Verb::Check(check) => check::run(&check, &voice),
        Verb::Convert(convert) => convert::run(&convert, &voice),
        Verb::Compare(compare) => compare::run(&compare, &voice),
        Verb::Formats(formats) => formats::run(&formats, &voice),
        Verb::Simulate(simulate) => simulate::run(&simulate, &voice),
        Verb::Demo(demo) => demo::run(&demo, &voice),
        Verb::Completions(completions) => manual::completions(&completions, &voice),
        Verb::Manual(manual) => manual::run(&manual, &voice),
    };
    ExitCode::from(ending as u8)
}
