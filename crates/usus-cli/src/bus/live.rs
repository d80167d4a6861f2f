//! A survey that goes on, in a terminal: what was seen so far, twice a second.

use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use ratatui::crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers};
use ratatui::layout::{Constraint, Layout};
use ratatui::style::{Modifier, Style};
use ratatui::text::Line;
use ratatui::widgets::Paragraph;
use ratatui::{DefaultTerminal, Frame};

use super::{Listening, report};
use crate::screen::{is_gone, with_terminal};

/// How often what was seen is told anew.
const REFRESH: Duration = Duration::from_millis(500);

/// What is seen, apart from the terminal it is seen in.
#[derive(Default)]
struct View {
    rows: Vec<String>,
    /// The first row that is shown.
    top: usize,
    height: usize,
    paused: bool,
}

pub(super) fn show(listening: &mut Listening, name: &str, shows_pairs: bool, stop: &AtomicBool) -> Result<(), String> {
    let wrong = |error: io::Error| format!("cannot draw on the terminal: {error}");
    with_terminal(|terminal| run(listening, name, shows_pairs, stop, terminal, &wrong), wrong)?;
    listening.finish();
    Ok(())
}

fn run(
    listening: &mut Listening,
    name: &str,
    shows_pairs: bool,
    stop: &AtomicBool,
    terminal: &mut DefaultTerminal,
    wrong: &impl Fn(io::Error) -> String,
) -> Result<(), String> {
    let (mut view, mut told) = (View::default(), None::<Instant>);
    while !stop.load(Ordering::Relaxed) {
        let more = listening.step()?;
        // Who reads keys from a terminal that has gone away waits for ever.
        if is_gone() || !more {
            break;
        }
        let mut draws = keys(&mut view).map_err(wrong)?;
        if told.is_none_or(|told| told.elapsed() >= REFRESH) {
            told = Some(Instant::now());
            if !view.paused {
                view.rows = report::of(listening.best(), name, shows_pairs).lines().map(str::to_owned).collect();
            }
            draws = Wish::Draw;
        }
        match draws {
            Wish::Quit => break,
            Wish::Draw => {
                terminal.draw(|frame| view.draw(frame)).map_err(wrong)?;
            }
            Wish::Nothing => {}
        }
    }
    Ok(())
}

/// What a key asks for.
#[derive(Clone, Copy, PartialEq)]
enum Wish {
    Nothing,
    Draw,
    Quit,
}

fn keys(view: &mut View) -> io::Result<Wish> {
    let mut wish = Wish::Nothing;
    while event::poll(Duration::ZERO)? {
        match event::read()? {
            Event::Key(key) if key.kind != KeyEventKind::Release => {
                let interrupt = key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c');
                if interrupt || matches!(key.code, KeyCode::Char('q') | KeyCode::Esc) {
                    return Ok(Wish::Quit);
                }
                view.key(key.code);
                wish = Wish::Draw;
            }
            _ => wish = Wish::Draw,
        }
    }
    Ok(wish)
}

impl View {
    fn key(&mut self, key: KeyCode) {
        let page = self.height.saturating_sub(1).max(1);
        match key {
            KeyCode::Char(' ') => self.paused = !self.paused,
            KeyCode::Up => self.top = self.top.saturating_sub(1),
            KeyCode::Down => self.top += 1,
            KeyCode::PageUp => self.top = self.top.saturating_sub(page),
            KeyCode::PageDown => self.top += page,
            KeyCode::Home => self.top = 0,
            KeyCode::End => self.top = usize::MAX,
            _ => {}
        }
    }

    fn draw(&mut self, frame: &mut Frame<'_>) {
        let parts = Layout::vertical([Constraint::Min(1), Constraint::Length(1)]).split(frame.area());
        self.height = usize::from(parts[0].height).max(1);
        self.top = self.top.min(self.rows.len().saturating_sub(self.height));
        let bold = Style::new().add_modifier(Modifier::BOLD);
        let shown = self.rows.iter().skip(self.top).take(self.height).map(|row| {
            let is_heading = !row.starts_with(' ') && !row.is_empty();
            if is_heading { Line::styled(row.as_str(), bold) } else { Line::raw(row.as_str()) }
        });
        frame.render_widget(Paragraph::new(shown.collect::<Vec<_>>()), parts[0]);
        let paused = if self.paused { " PAUSED: more is heard, and counted  " } else { "" };
        let below = self.rows.len().saturating_sub(self.top + self.height);
        let more = if below > 0 { format!(" {below} rows below  ") } else { String::new() };
        let footer = format!("{paused}{more} space pause   arrows, page up/down scroll   q quit, and print");
        let width = usize::from(frame.area().width);
        let bar = Style::new().add_modifier(Modifier::REVERSED);
        frame.render_widget(Paragraph::new(Line::styled(format!("{footer:<width$}"), bar)), parts[1]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;

    #[test]
    fn rows_are_scrolled_through() {
        let rows = (0..40).map(|row| format!("  row {row}")).collect();
        let mut view = View { rows, ..View::default() };
        let mut terminal = Terminal::new(TestBackend::new(90, 6)).unwrap();
        let mut first = |view: &mut View| {
            terminal.draw(|frame| view.draw(frame)).unwrap();
            let buffer = terminal.backend().buffer();
            let row = |y| (0..90).map(|x| buffer[(x, y)].symbol()).collect::<String>().trim().to_owned();
            (row(0), row(5))
        };
        assert_eq!(first(&mut view).0, "row 0");
        view.key(KeyCode::PageDown);
        assert_eq!(first(&mut view).0, "row 4");
        view.key(KeyCode::End);
        assert_eq!(first(&mut view).0, "row 35");
        view.key(KeyCode::Char(' '));
        assert!(first(&mut view).1.contains("PAUSED"));
        view.key(KeyCode::Home);
        assert!(first(&mut view).1.contains("35 rows below"));
    }
}
