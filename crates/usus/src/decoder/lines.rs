//! The lines of a decoder. One that speaks is taken out meanwhile, so that others can be given what it carries.

use alloc::boxed::Box;
use alloc::vec::Vec;

use super::line::Line;

/// Lines by their numbers.
#[derive(Clone, Debug, Default)]
pub(super) struct Lines(Vec<Option<Box<Line>>>);

impl Lines {
    pub(super) fn len(&self) -> usize {
        self.0.len()
    }

    pub(super) fn get(&self, index: usize) -> Option<&Line> {
        self.0.get(index)?.as_deref()
    }

    pub(super) fn get_mut(&mut self, index: usize) -> Option<&mut Line> {
        self.0.get_mut(index)?.as_deref_mut()
    }

    pub(super) fn push(&mut self, line: Line) {
        self.0.push(Some(Box::new(line)));
    }

    /// Takes one out. It has to be put back.
    pub(super) fn take(&mut self, index: usize) -> Option<Box<Line>> {
        self.0.get_mut(index)?.take()
    }

    pub(super) fn put(&mut self, index: usize, line: Box<Line>) {
        if let Some(place) = self.0.get_mut(index) {
            *place = Some(line);
        }
    }

    pub(super) fn all(&self) -> impl Iterator<Item = &Line> {
        self.0.iter().filter_map(Option::as_deref)
    }

    pub(super) fn all_mut(&mut self) -> impl Iterator<Item = &mut Line> {
        self.0.iter_mut().filter_map(Option::as_deref_mut)
    }

    /// Those that are fed, not made of what others carry.
    pub(super) fn fed(&self) -> impl Iterator<Item = &Line> {
        self.all().filter(|line| line.outer.is_none())
    }

    pub(super) fn fed_mut(&mut self) -> impl Iterator<Item = &mut Line> {
        self.all_mut().filter(|line| line.outer.is_none())
    }
}
