//! Rows live in a terminal: pause, scroll, find.

use std::collections::VecDeque;
use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use ratatui::crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers};
use ratatui::layout::{Constraint, Layout};
use ratatui::style::{Modifier, Style};
use ratatui::text::Line;
use ratatui::widgets::Paragraph;
use ratatui::{DefaultTerminal, Frame};

use super::{Failure, Inspection};
use crate::safe::Safe;
use crate::screen::{is_gone, with_terminal};
use crate::summary::{grouped, plural};

/// Rows that can be scrolled back to.
const KEPT: usize = 20_000;
/// How often the screen is drawn, at most.
const REDRAW: Duration = Duration::from_millis(50);
/// The rate is told over so long.
const RATE_OVER: Duration = Duration::from_secs(2);

/// What is seen, apart from the terminal it is seen in.
struct View {
    title: String,
    head: String,
    rows: VecDeque<String>,
    /// Rows that were dropped at the front.
    dropped: usize,
    /// The first row that is shown, while paused; nothing while the newest are.
    top: Option<usize>,
    height: usize,
    finding: Option<String>,
    found: Option<(String, Option<usize>)>,
    bytes: u64,
    rate: f64,
    measured: (Instant, u64),
    last: Option<Instant>,
}

/// What a key asks for.
#[derive(PartialEq)]
enum Wish {
    Nothing,
    Quit,
}

pub(super) fn show(inspection: &mut Inspection, stop: &AtomicBool) -> Result<(), Failure> {
    with_terminal(|terminal| run(inspection, stop, terminal), Failure::Output)
}

fn run(inspection: &mut Inspection, stop: &AtomicBool, terminal: &mut DefaultTerminal) -> Result<(), Failure> {
    let mut view = View::new(&inspection.name);
    let mut drawn = Instant::now() - REDRAW;
    let mut text = String::new();
    while !stop.load(Ordering::Relaxed) {
        let more = inspection.step(&mut text)?;
        view.take(&text, inspection);
        text.clear();
        if drawn.elapsed() >= REDRAW {
            terminal.draw(|frame| view.draw(frame)).map_err(Failure::Output)?;
            drawn = Instant::now();
        }
        if is_gone() || keys(&mut view).map_err(Failure::Output)? == Wish::Quit || !more {
            break;
        }
    }
    Ok(())
}

/// Takes the keys that were pressed.
fn keys(view: &mut View) -> io::Result<Wish> {
    while event::poll(Duration::ZERO)? {
        if let Event::Key(key) = event::read()?
            && key.kind != KeyEventKind::Release
        {
            let interrupt = key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c');
            if interrupt || view.key(key.code) == Wish::Quit {
                return Ok(Wish::Quit);
            }
        }
    }
    Ok(Wish::Nothing)
}

impl View {
    fn new(title: &str) -> View {
        View {
            title: Safe(title).to_string(),
            head: String::new(),
            rows: VecDeque::new(),
            dropped: 0,
            top: None,
            height: 1,
            finding: None,
            found: None,
            bytes: 0,
            rate: 0.0,
            measured: (Instant::now(), 0),
            last: None,
        }
    }

    /// Takes what the inspection has to show.
    fn take(&mut self, text: &str, inspection: &Inspection) {
        self.head = inspection.rows.head().trim_end().to_owned();
        // The head stands above, and is no row.
        self.rows.extend(text.lines().filter(|line| *line != self.head).map(str::to_owned));
        while self.rows.len() > KEPT {
            self.rows.pop_front();
            self.dropped += 1;
        }
        let bytes = inspection.lines.iter().map(|line| line.survey.bytes()).sum();
        if bytes > self.bytes {
            self.last = Some(Instant::now());
        }
        self.bytes = bytes;
        let (since, before) = self.measured;
        if since.elapsed() >= RATE_OVER {
            self.rate = (bytes - before) as f64 / since.elapsed().as_secs_f64();
            self.measured = (Instant::now(), bytes);
        }
        if let Some(line) = inspection.lines.first().filter(|_| inspection.lines.len() == 1) {
            let serial = line.serial.map_or(String::new(), |serial| format!("  {serial}"));
            self.title = format!("{}{serial}", Safe(&inspection.name));
        }
    }

    fn key(&mut self, key: KeyCode) -> Wish {
        if let Some(finding) = &mut self.finding {
            match key {
                KeyCode::Char(character) => finding.push(character),
                KeyCode::Backspace => drop(finding.pop()),
                KeyCode::Esc => self.finding = None,
                KeyCode::Enter => {
                    let wanted = self.finding.take().unwrap_or_default();
                    self.found = Some((wanted, None));
                    self.find();
                }
                _ => {}
            }
            return Wish::Nothing;
        }
        let page = self.height.saturating_sub(1).max(1);
        match key {
            KeyCode::Char('q') | KeyCode::Esc => return Wish::Quit,
            KeyCode::Char(' ') => self.top = if self.top.is_some() { None } else { Some(self.newest_top()) },
            KeyCode::Up => self.scroll(-1),
            KeyCode::Down => self.scroll(1),
            KeyCode::PageUp => self.scroll(-(page as isize)),
            KeyCode::PageDown => self.scroll(page as isize),
            KeyCode::Home => self.top = Some(self.dropped),
            KeyCode::End => self.top = None,
            KeyCode::Char('/') => self.finding = Some(String::new()),
            KeyCode::Char('n') => self.find(),
            _ => {}
        }
        Wish::Nothing
    }

    /// The first row that is shown while the newest are.
    fn newest_top(&self) -> usize {
        self.dropped + self.rows.len().saturating_sub(self.height)
    }

    /// Moves what is shown; it stays there while more comes.
    fn scroll(&mut self, by: isize) {
        let top = self.top.unwrap_or(self.newest_top());
        self.top = Some(top.saturating_add_signed(by).clamp(self.dropped, self.newest_top()));
    }

    /// Goes back to the row before the last find, or before what is shown, in which the text stands.
    fn find(&mut self) {
        let Some((wanted, at)) = &self.found else { return };
        if wanted.is_empty() {
            return;
        }
        let before = at.map_or(self.rows.len(), |at| at.saturating_sub(self.dropped).min(self.rows.len()));
        let place = self.rows.range(..before).rposition(|row| row.contains(wanted.as_str()));
        let place = place.map(|place| place + self.dropped);
        if let Some(place) = place {
            self.top = Some(place.saturating_sub(self.height / 2).clamp(self.dropped, self.newest_top()));
        }
        self.found = Some((wanted.clone(), place));
    }

    fn draw(&mut self, frame: &mut Frame<'_>) {
        let parts =
            Layout::vertical([Constraint::Length(2), Constraint::Min(1), Constraint::Length(1)]).split(frame.area());
        self.height = usize::from(parts[1].height).max(1);
        let top = self.top.map_or(self.newest_top(), |top| top.max(self.dropped));
        let bar = Style::new().add_modifier(Modifier::REVERSED);
        let bold = Style::new().add_modifier(Modifier::BOLD);
        let width = usize::from(frame.area().width);
        let title =
            vec![Line::styled(format!("{:<width$}", self.status()), bar), Line::styled(self.head.clone(), bold)];
        frame.render_widget(Paragraph::new(title), parts[0]);
        let found = self.found.as_ref().and_then(|(_, place)| *place);
        let shown = self.rows.iter().enumerate().skip(top - self.dropped).take(self.height);
        let shown: Vec<Line<'_>> = shown
            .map(|(index, row)| match found == Some(index + self.dropped) {
                true => Line::styled(row.as_str(), bold),
                false => Line::raw(row.as_str()),
            })
            .collect();
        frame.render_widget(Paragraph::new(shown), parts[1]);
        frame.render_widget(Paragraph::new(Line::styled(format!("{:<width$}", self.footer()), bar)), parts[2]);
    }

    fn status(&self) -> String {
        let last = match self.last {
            None => "nothing yet".to_owned(),
            Some(last) if last.elapsed() < Duration::from_secs(2) => {
                format!("{} bytes a second", grouped(self.rate.round() as u64))
            }
            Some(last) => format!("silent for {} s", grouped(last.elapsed().as_secs())),
        };
        let paused = if self.top.is_some() { "   PAUSED: more comes, and is kept" } else { "" };
        format!(" {}   {}   {last}{paused}", self.title, plural(self.bytes, "byte"))
    }

    fn footer(&self) -> String {
        if let Some(finding) = &self.finding {
            return format!(" find: {}_   (enter finds it upwards, escape gives up)", Safe(finding));
        }
        let found = match &self.found {
            Some((wanted, None)) => format!(" `{}` is not in the rows before  ", Safe(wanted)),
            Some((wanted, Some(_))) => format!(" found `{}`; n: the one before  ", Safe(wanted)),
            None => String::new(),
        };
        format!("{found} space pause   arrows, page up/down scroll   end newest   / find   q quit")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;

    fn screen(view: &mut View) -> Vec<String> {
        let mut terminal = Terminal::new(TestBackend::new(100, 8)).unwrap();
        terminal.draw(|frame| view.draw(frame)).unwrap();
        let buffer = terminal.backend().buffer().clone();
        let row = |y| (0..100).map(|x| buffer[(x, y)].symbol()).collect::<String>().trim_end().to_owned();
        (0..8).map(row).collect()
    }

    fn view() -> View {
        let mut view = View::new("evil\u{1B}[31m");
        view.rows.extend((0..40).map(|row| format!("row {row}")));
        screen(&mut view);
        view
    }

    #[test]
    fn the_newest_rows_are_shown_until_it_is_paused() {
        let mut view = view();
        assert_eq!(screen(&mut view)[2..7], ["row 35", "row 36", "row 37", "row 38", "row 39"]);
        assert!(screen(&mut view)[0].contains("evil\\u{1b}[31m"));
        view.key(KeyCode::Char(' '));
        view.rows.push_back("row 40".to_owned());
        assert_eq!(screen(&mut view)[6], "row 39");
        view.key(KeyCode::PageUp);
        assert_eq!(screen(&mut view)[2], "row 31");
        view.key(KeyCode::Home);
        view.key(KeyCode::Up);
        assert_eq!(screen(&mut view)[2], "row 0");
        view.key(KeyCode::End);
        assert_eq!(screen(&mut view)[6], "row 40");
        assert!(view.key(KeyCode::Char('q')) == Wish::Quit);
    }

    #[test]
    fn finding_goes_back_from_find_to_find() {
        let mut view = view();
        for key in ['/', 'r', 'o', 'w', ' ', '1'] {
            view.key(KeyCode::Char(key));
        }
        view.key(KeyCode::Enter);
        assert_eq!(view.found.as_ref().unwrap().1, Some(19));
        assert!(screen(&mut view)[2..7].contains(&"row 19".to_owned()));
        view.key(KeyCode::Char('n'));
        assert_eq!(view.found.as_ref().unwrap().1, Some(18));
        for key in ['/', 'q', 'x'] {
            view.key(KeyCode::Char(key));
        }
        assert!(screen(&mut view)[7].contains("find: qx_"));
        view.key(KeyCode::Enter);
        assert!(screen(&mut view)[7].contains("`qx` is not in the rows before"));
    }
}
