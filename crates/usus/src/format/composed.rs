//! Records that are made of several frames, as they are declared: blocks of parts, questions with their answers, records that are merged, frames that
//! number themselves, and fields that are copied from the latest of another record.

use alloc::boxed::Box;
use alloc::string::String;
use alloc::vec::Vec;
use core::ops::Range;

use super::{Record, Spanned, When};
use crate::time::Span;

/// What makes a block of a record: `[[record.KIND.part]]`, and the keys that go with parts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Block {
    /// Its parts, in the order of the file.
    pub parts: Vec<Part>,
    /// `order = "any"`: they come in any order.
    pub any_order: bool,
    /// `within`: how long it takes at most; 10 s if nothing is said.
    pub within: Option<Span>,
    /// `require`: what has to hold at its end.
    pub require: Option<When>,
}

/// `[[record.KIND.part]]`: lines, or other frames, of a block.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Part {
    /// `name`: that of the group that its frames become, if there may be several.
    pub name: Option<Spanned<String>>,
    /// `repeat`: how often it comes.
    pub repeat: Repeat,
    /// `until`: the lines, as they are printed, of which one ends it; the empty text is an empty line.
    pub until: Vec<Spanned<String>>,
    /// What reads its frames: a record of the block's kind, without parts of its own.
    pub layout: Record,
}

impl Part {
    /// A part that comes once, of a block of that kind.
    pub fn new(kind: impl Into<String>) -> Part {
        Part { name: None, repeat: Repeat::Once, until: Vec::new(), layout: Record::new(kind) }
    }
}

/// How often a part of a block comes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Repeat {
    /// Once.
    #[default]
    Once,
    /// Once, or not at all.
    Optional,
    /// Any number of times; they become a group.
    Any,
}

impl Repeat {
    pub(crate) const WORDS: [(&'static str, Repeat); 3] =
        [("once", Repeat::Once), ("optional", Repeat::Optional), ("any", Repeat::Any)];
}

/// `[exchange.NAME]`: questions with their answers.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Exchange {
    /// The kind of the record that a question gives.
    pub name: Spanned<String>,
    /// `title`, for people.
    pub title: Option<String>,
    /// `ask`: the questions.
    pub asks: Vec<Side>,
    /// `answers`.
    pub answers: Vec<Side>,
    /// `errors`: answers that say that there is none.
    pub errors: Vec<Side>,
    /// `key`: fields that an answer has in common with its question.
    pub key: Vec<Spanned<String>>,
    /// `within`: how long an answer is waited for; 10 s if nothing is said.
    pub within: Option<Span>,
    /// `unique`: no two questions have the same key, at least for as long as answers are waited for.
    pub unique: bool,
    /// `open`: how many questions can wait at the same time; one if nothing is said.
    pub open: Option<usize>,
    /// `echo`: a question that comes again as it was is its own echo.
    pub echo: bool,
    /// `latest`: fields copied from other records.
    pub latest: Vec<Latest>,
}

impl Exchange {
    /// An exchange without questions and answers.
    pub fn new(name: impl Into<String>) -> Exchange {
        Exchange {
            name: name.into().into(),
            title: None,
            asks: Vec::new(),
            answers: Vec::new(),
            errors: Vec::new(),
            key: Vec::new(),
            within: None,
            unique: false,
            open: None,
            echo: false,
            latest: Vec::new(),
        }
    }

    /// Its questions, answers and errors that are declared in it, each with what it is called there.
    pub(crate) fn own(&self) -> impl Iterator<Item = (&'static str, &Record)> {
        let sides = [("question", &self.asks), ("answer", &self.answers), ("error", &self.errors)];
        sides.into_iter().flat_map(|(word, sides)| sides.iter().filter_map(Side::own).map(move |record| (word, record)))
    }
}

impl Side {
    /// The record, if it is declared in place.
    pub(crate) fn own(&self) -> Option<&Record> {
        match self {
            Side::Own(record) => Some(record),
            Side::Kind(_) => None,
        }
    }
}

/// A question or an answer.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Side {
    /// A kind of record.
    Kind(Spanned<String>),
    /// A record that is declared where it is used.
    Own(Box<Record>),
}

/// `[merge.NAME]`: one record of several kinds with the same key.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Merge {
    /// The kind of the record that comes of them.
    pub name: Spanned<String>,
    /// `title`, for people.
    pub title: Option<String>,
    /// `of`: the kinds.
    pub of: Vec<Spanned<String>>,
    /// `key`: fields that all of them have, and in which they agree.
    pub key: Vec<Spanned<String>>,
    /// `complete`: which of them have to be there, as a condition; all of them if nothing is said.
    pub complete: Option<When>,
    /// `within`: how long the last comes after the first; 10 s if nothing is said.
    pub within: Option<Span>,
    /// `open`: how many keys can wait at the same time; one if nothing is said.
    pub open: Option<usize>,
    /// `latest`: fields copied from other records.
    pub latest: Vec<Latest>,
}

impl Merge {
    /// A merge of nothing.
    pub fn new(name: impl Into<String>) -> Merge {
        Merge {
            name: name.into().into(),
            title: None,
            of: Vec::new(),
            key: Vec::new(),
            complete: None,
            within: None,
            open: None,
            latest: Vec::new(),
        }
    }
}

/// `[multipart.NAME]`: one record of several of a kind that number themselves.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Multipart {
    /// The kind of the record that comes of them.
    pub name: Spanned<String>,
    /// `title`, for people.
    pub title: Option<String>,
    /// `of`: the kind.
    pub of: Spanned<String>,
    /// `part`: the field that numbers them, from 1.
    pub part: Spanned<String>,
    /// `parts`: the field that says how many there are.
    pub parts: Spanned<String>,
    /// `key`: fields in which they agree.
    pub key: Vec<Spanned<String>>,
    /// `unique`: no two records have the same key, at least for as long as their parts may come.
    pub unique: bool,
    /// `join`: fields whose texts are put together.
    pub join: Vec<Spanned<String>>,
    /// `within`: how long the last comes after the first; 10 s if nothing is said.
    pub within: Option<Span>,
    /// `latest`: fields copied from other records.
    pub latest: Vec<Latest>,
}

impl Multipart {
    /// A record of several of `of`, numbered by its field `part` and counted by its field `parts`.
    pub fn new(name: impl Into<String>, of: &str, part: &str, parts: &str) -> Multipart {
        Multipart {
            name: name.into().into(),
            title: None,
            of: of.into(),
            part: part.into(),
            parts: parts.into(),
            key: Vec::new(),
            unique: false,
            join: Vec::new(),
            within: None,
            latest: Vec::new(),
        }
    }
}

/// An entry of `latest`: a field that is copied from the latest record of another kind.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Latest {
    /// Where it stands.
    pub span: Range<usize>,
    /// `name`.
    pub name: Spanned<String>,
    /// `title`, for people; that of the field copied if nothing is said.
    pub title: Option<String>,
    /// `tag`: what the plant calls it.
    pub tag: Option<String>,
    /// `of`: the field, as `record.field`.
    pub of: Spanned<String>,
    /// `within`: how old it can be; 10 s if nothing is said.
    pub within: Option<Span>,
}

impl Latest {
    /// A field of that name, copied from `of`, which is written as `record.field`.
    pub fn new(name: &str, of: &str) -> Latest {
        Latest { span: 0..0, name: name.into(), title: None, tag: None, of: of.into(), within: None }
    }
}
