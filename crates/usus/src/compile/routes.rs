//! Which frames are cut from which line, and what is taken out of it before.

use alloc::vec::Vec;

use super::inside::is_cut_from;
use crate::format::{self, Format};
use crate::plan::{Cleaning, Frame, Inside, Reading, Role, Route};
use crate::problem::{ProblemKind, Problems, nearest};

/// Why the lines of one text frame cannot be told from those of another before it.
fn no_lines_beside(before: &format::Frame, behind: &format::Frame) -> Option<(core::ops::Range<usize>, &'static str)> {
    let (format::Cut::Text { start, end, idle }, format::Cut::Text { end: other_end, idle: other_idle, .. }) =
        (&before.cut, &behind.cut)
    else {
        let why = "another frame takes all that is left of this line: silences or breaks end it, or it is a `text`";
        return Some((behind.span.clone(), why));
    };
    if start.is_none() && before.coding.is_empty() {
        return Some((
            behind.span.clone(),
            "a `text` frame without `start` before it takes all that is left of the line",
        ));
    }
    let differ = (end, idle) != (other_end, other_idle);
    differ.then(|| (behind.span.clone(), "`text` frames of one line need the same `end` and `idle`"))
}

/// What is taken out of the lines of a role.
fn cleaning_of(format: &Format, role: Option<&str>) -> Cleaning {
    let line = format.lines.iter().find(|line| role == Some(&*line.role.value));
    let clean = line.and_then(|line| line.clean.as_ref()).unwrap_or(&format.clean);
    Cleaning {
        parity: clean.contains(&format::Clean::Parity),
        nul: clean.contains(&format::Clean::Nul),
        flow: clean.contains(&format::Clean::Flow),
        escapes: clean.contains(&format::Clean::Escapes),
    }
}

/// Which cuts run on which line.
pub(super) fn compile_routes(
    format: &Format,
    roles: &[Role],
    insides: &[Inside],
    frames: &[Frame],
    problems: &mut Problems,
) -> Vec<Route> {
    for declared in &format.frames {
        if let Some(on) = &declared.on
            && !roles.iter().any(|role| role.name == on.value)
        {
            let nearest = nearest(&on.value, roles.iter().map(|role| role.name.as_str()));
            let kind = ProblemKind::UnknownName { what: "line", name: on.value.clone(), nearest };
            problems.add(on.span.clone(), kind);
        }
    }
    let route = |cleaning: Cleaning, is_cut: &dyn Fn(&format::Frame) -> bool| {
        let mut route =
            Route { cleaning, searching: Vec::new(), text: None, lines: Vec::new(), is_coded: false, largest: 1 };
        let mut wrong = None;
        for (index, (declared, frame)) in format.frames.iter().zip(frames).enumerate() {
            if !is_cut(declared) {
                continue;
            }
            if frame.reading == Reading::Bytes && !route.cleaning.is_nothing() {
                let why = "`clean` would take bytes out of these frames, which are read as bytes";
                wrong = wrong.or(Some((declared.span.clone(), why)));
            }
            if frame.framing.searches() {
                route.searching.push(index as u16);
            } else {
                let others = route.lines.iter().map(|other| &format.frames[usize::from(*other)]);
                wrong = wrong.or(others.filter_map(|other| no_lines_beside(other, declared)).next());
                route.text = route.text.or(Some(index as u16));
                route.lines.push(index as u16);
                route.is_coded |= !frame.coding.is_empty();
            }
            route.largest = route.largest.max(frame.framing.longest());
        }
        (route, wrong)
    };
    let names: Vec<Option<&str>> = match roles {
        [] => [None].to_vec(),
        roles => roles.iter().map(|role| Some(role.name.as_str())).collect(),
    };
    let of_role = |role: &Option<&str>| {
        let is_cut = |frame: &format::Frame| {
            let elsewhere = frame.on.as_ref().is_some_and(|on| role.is_some_and(|role| role != on.value));
            frame.inside.is_none() && !elsewhere
        };
        route(cleaning_of(format, *role), &is_cut)
    };
    let of_inside = |inside| route(Cleaning::default(), &|frame| is_cut_from(frame, inside));
    let mut routes = Vec::new();
    for (found, wrong) in names.iter().map(of_role).chain(insides.iter().map(of_inside)) {
        if let Some((span, why)) = wrong {
            problems.add(span, ProblemKind::Senseless(why));
        }
        routes.push(found);
    }
    routes
}
