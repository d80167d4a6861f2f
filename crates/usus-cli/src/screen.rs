//! A terminal that is drawn on as a whole, and put back as it was.

use std::io;

use ratatui::DefaultTerminal;
use rustix::event::{PollFd, PollFlags, Timespec};

/// Does something with the whole terminal, and sets it back to what it was.
pub(crate) fn with_terminal<E>(
    run: impl FnOnce(&mut DefaultTerminal) -> Result<(), E>,
    wrong: impl Fn(io::Error) -> E,
) -> Result<(), E> {
    let mut terminal = ratatui::try_init().map_err(&wrong)?;
    let result = run(&mut terminal);
    // Where the terminal has gone away, there is nothing left to be set as it was, and dropping the view would panic over that.
    let cursor = terminal.show_cursor();
    let restored = ratatui::try_restore().and(cursor).map_err(wrong);
    std::mem::forget(terminal);
    if is_gone() { Ok(()) } else { result.and(restored) }
}

/// Whether the terminal has gone away. Who reads keys from one that has waits for ever.
pub(crate) fn is_gone() -> bool {
    let output = io::stdout();
    let mut asked = [PollFd::new(&output, PollFlags::empty())];
    let at_once = Timespec { tv_sec: 0, tv_nsec: 0 };
    rustix::event::poll(&mut asked, Some(&at_once)).is_ok_and(|told| told > 0)
}
