//! Whether a line looks as a record's lines are printed, and where its fields are then.

use alloc::boxed::Box;
use alloc::vec::Vec;

use regex_automata::meta::Cache;
use regex_automata::util::captures::Captures;
use regex_automata::{Anchored, Input};

use super::walk::{self, Told};
use crate::plan::Form;

/// What the automata of a line work in, and what the last one that fitted has found.
#[derive(Clone, Debug, Default)]
pub(crate) struct Forms {
    rooms: Vec<Option<Box<(Cache, Captures)>>>,
    /// Where each field is: its first byte, and the one behind it; nothing if the form does not have it.
    pub(crate) found: Vec<Option<[u16; 2]>>,
}

impl Forms {
    /// Whether what stands behind the first `lead` bytes of a line has one of the forms. Then `found` tells where its fields are.
    pub(crate) fn fit(&mut self, form: &Form, line: &[u8], lead: usize) -> bool {
        let Some(text) = line.get(lead..) else { return false };
        match self.walk(form, text, lead) {
            Told::Unknown => self.search(form, text, lead),
            told => {
                // Whoever tests this tests that both say the same.
                #[cfg(debug_assertions)]
                {
                    let mut other = Forms::default();
                    assert_eq!(other.search(form, text, lead), told == Told::Fits, "{}", text.escape_ascii());
                    assert!(told != Told::Fits || other.found == self.found, "{}", text.escape_ascii());
                }
                told == Told::Fits
            }
        }
    }

    /// The same, by walking along the forms.
    fn walk(&mut self, form: &Form, text: &[u8], lead: usize) -> Told {
        let Some(walks) = &form.walks else { return Told::Unknown };
        for walk in walks {
            self.found.clear();
            self.found.resize(form.slots, None);
            match walk::walk(walk, text, lead, &mut self.found) {
                Told::DoesNotFit => {}
                told => return told,
            }
        }
        Told::DoesNotFit
    }

    /// The same, by the automaton.
    fn search(&mut self, form: &Form, text: &[u8], lead: usize) -> bool {
        if self.rooms.len() <= form.number {
            self.rooms.resize_with(form.number + 1, || None);
        }
        let Some(room) = self.rooms.get_mut(form.number) else { return false };
        let (cache, captures) =
            &mut **room.get_or_insert_with(|| Box::new((form.regex.create_cache(), form.regex.create_captures())));
        form.regex.search_captures_with(cache, &Input::new(text).anchored(Anchored::Yes), captures);
        let Some(groups) = captures.pattern().and_then(|pattern| form.groups.get(pattern.as_usize())) else {
            return false;
        };
        self.found.clear();
        let place = |group: &Option<usize>| {
            let span = captures.get_group((*group)?)?;
            Some([(lead + span.start) as u16, (lead + span.end) as u16])
        };
        self.found.extend(groups.iter().map(place));
        true
    }
}
