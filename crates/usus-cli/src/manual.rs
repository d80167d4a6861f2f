//! `usus completions` and `usus manual`: what shells and `man` need, made from the arguments themselves.

use clap::CommandFactory;

use crate::Ending;
use crate::arguments::{Arguments, Completions, Manual};
use crate::voice::Voice;

pub(crate) fn completions(arguments: &Completions, voice: &Voice) -> Ending {
    let mut text = Vec::new();
    clap_complete::generate(arguments.shell, &mut Arguments::command(), "usus", &mut text);
    print(&text, voice)
}

pub(crate) fn run(arguments: &Manual, voice: &Voice) -> Ending {
    match &arguments.out {
        None => {
            let mut page = Vec::new();
            match clap_mangen::Man::new(Arguments::command()).render(&mut page) {
                Ok(()) => print(&page, voice),
                Err(error) => failed(&format!("cannot make the manual page: {error}"), voice),
            }
        }
        Some(directory) => {
            let written = std::fs::create_dir_all(directory)
                .and_then(|()| clap_mangen::generate_to(Arguments::command(), directory));
            match written {
                Ok(()) => {
                    voice.say(&format!("wrote the manual pages into {}", directory.display()));
                    Ending::Done
                }
                Err(error) => failed(&format!("cannot write into {}: {error}", directory.display()), voice),
            }
        }
    }
}

fn print(text: &[u8], voice: &Voice) -> Ending {
    match voice.print(&String::from_utf8_lossy(text)) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
            failed(&format!("cannot write to standard output: {error}"), voice)
        }
        _ => Ending::Done,
    }
}

fn failed(text: &str, voice: &Voice) -> Ending {
    voice.fail(text);
    Ending::Failed
}
