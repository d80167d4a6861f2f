//! Lines as they are printed: from `printed` and `pattern` to the automaton that finds their fields.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use regex_automata::meta::{Config, Regex};
use regex_automata::util::syntax;

use super::field::{field_type, layout_of, notation};
use super::sheet::{Sheet, refuse_condition};
use super::steps::Steps;
use crate::format::{Field as Declared, FieldType, Literal, Place, Spanned};
use crate::limits;
use crate::plan::{At, Count, Form, Reading, Shape, ShapeUnit, Walk};
use crate::problem::{ProblemKind, Problems, nearest};
use crate::value::{Charset, sent_as};

/// What a record or an ignore says of the lines that it takes.
pub(super) struct Declaration<'f> {
    pub(super) printed: &'f [Spanned<String>],
    pub(super) pattern: Option<&'f Spanned<String>>,
    pub(super) fields: &'f [Declared],
    /// Whether braces may stand for text that is no field.
    pub(super) any_name: bool,
    /// Of the text around its fields.
    pub(super) charsets: &'f [Charset],
}

impl Declaration<'_> {
    /// Where it stands, if it says anything.
    pub(super) fn span(&self) -> Option<core::ops::Range<usize>> {
        self.printed.first().or(self.pattern).map(|text| text.span.clone())
    }

    /// Whether it says anything.
    pub(super) fn is_there(&self) -> bool {
        !self.printed.is_empty() || self.pattern.is_some()
    }

    /// The automaton, and the names of the fields that it finds in the order of its slots.
    pub(super) fn compile(&self, numbers: &mut Numbers, problems: &mut Problems) -> (Option<Box<Form>>, Vec<String>) {
        let mut names = Vec::new();
        let mut patterns = Vec::new();
        let mut walks = Vec::new();
        for printed in self.printed {
            let Some((pattern, walk)) = self.expression(printed, &mut names, problems) else { continue };
            patterns.push(pattern);
            walks.extend(walk);
        }
        let are_simple = walks.len() == self.printed.len() && self.pattern.is_none();
        // Nothing is said about fields that may stand in what could not be read.
        let all_names = || self.fields.iter().filter_map(|field| Some(field.name.as_ref()?.value.clone())).collect();
        if patterns.len() < self.printed.len() {
            return (None, all_names());
        }
        if let Some(pattern) = self.pattern {
            patterns.push(self.with_classes(&pattern.value));
        }
        // Nothing more is built once there is too much.
        if numbers.bytes > limits::ALL_PATTERNS {
            return (None, all_names());
        }
        let regex = match regex(&patterns) {
            Ok(regex) => regex,
            Err(why) => {
                problems.add(self.span().unwrap_or_default(), ProblemKind::Pattern { why });
                return (None, all_names());
            }
        };
        numbers.bytes += regex.memory_usage();
        if numbers.bytes > limits::ALL_PATTERNS {
            let what = "bytes of the automata of all `printed` and `pattern` together";
            let kind = ProblemKind::TooMany { what, found: numbers.bytes, limit: limits::ALL_PATTERNS };
            problems.add(self.span().unwrap_or_default(), kind);
            return (None, all_names());
        }
        if let Some(pattern) = self.pattern {
            let group_info = regex.group_info();
            for name in (0..patterns.len()).flat_map(|form| group_info.pattern_names(form_id(form))).flatten() {
                if !self.any_name && self.field(name).is_none() {
                    problems.add(pattern.span.clone(), self.unknown(name));
                }
                if !names.iter().any(|known| known == name) {
                    names.push(name.to_string());
                }
            }
        }
        let groups = (0..patterns.len())
            .map(|form| names.iter().map(|name| regex.group_info().to_index(form_id(form), name)).collect())
            .collect();
        let walks = are_simple.then(|| walks.into());
        let slots = names.len();
        (Some(Box::new(Form { regex, groups, walks, slots, number: numbers.next() })), names)
    }

    fn field(&self, name: &str) -> Option<&Declared> {
        self.fields.iter().find(|field| field.name.as_ref().is_some_and(|known| known.value == name))
    }

    fn unknown(&self, name: &str) -> ProblemKind {
        let known = self.fields.iter().filter_map(|field| Some(field.name.as_ref()?.value.as_str()));
        ProblemKind::UnknownName { what: "field", name: name.to_string(), nearest: nearest(name, known) }
    }

    /// A regular expression with what fits its fields in its empty groups.
    fn with_classes(&self, pattern: &str) -> String {
        let mut out = String::new();
        let mut rest = pattern;
        while let Some(place) = rest.find("(?") {
            let (before, group) = rest.split_at(place);
            out += before;
            let body = group.strip_prefix("(?P<").or_else(|| group.strip_prefix("(?<"));
            // Behind a backslash stands a bracket that is text; behind two, a backslash.
            let is_text = before.bytes().rev().take_while(|byte| *byte == b'\\').count() % 2 == 1;
            let empty = body
                .filter(|_| !is_text)
                .and_then(|body| body.split_once(">)"))
                .filter(|(name, _)| crate::format::is_name(name));
            match empty {
                Some((name, behind)) => {
                    out += &group_of(name, &self.class(name));
                    rest = behind;
                }
                None => {
                    out += "(?";
                    rest = &group[2..];
                }
            }
        }
        out + rest
    }

    /// What fits a field, as short as can be.
    fn class(&self, name: &str) -> String {
        self.field(name).map_or(".+?".to_string(), class)
    }
}

fn form_id(form: usize) -> regex_automata::PatternID {
    regex_automata::PatternID::new_unchecked(form)
}

fn group_of(name: &str, class: &str) -> String {
    format!("(?P<{name}>{class})")
}

/// One automaton for several forms of a line.
fn regex(patterns: &[String]) -> Result<Regex, String> {
    let whole: Vec<String> = patterns.iter().map(|pattern| format!(r"^(?:{pattern})$")).collect();
    let bytes = syntax::Config::new().unicode(false).utf8(false).dot_matches_new_line(true);
    let sizes = Config::new()
        .utf8_empty(false)
        .hybrid(false)
        .dfa(false)
        .nfa_size_limit(Some(limits::PATTERN))
        .onepass_size_limit(Some(limits::PATTERN));
    Regex::builder().syntax(bytes.nest_limit(limits::PATTERN_DEPTH)).configure(sizes).build_many(&whole).map_err(
        |error| match error.size_limit() {
            Some(_) => "it is too large".to_string(),
            None => {
                let source = error.syntax_error().map_or(error.to_string(), ToString::to_string);
                source.lines().last().unwrap_or_default().trim_start_matches("error: ").to_string()
            }
        },
    )
}

/// A piece of a line as it is printed.
enum Piece<'t> {
    Field(&'t str),
    /// What may be missing begins, or ends.
    Open,
    Close,
    Blanks,
    Character(char),
    /// A brace that nothing closes.
    OpenBrace,
}

fn pieces(mut text: &str) -> Vec<Piece<'_>> {
    let mut pieces = Vec::new();
    let mut depth = 0;
    while let Some(character) = text.chars().next() {
        let behind = &text[character.len_utf8()..];
        let (piece, rest) = match character {
            '{' | '[' if behind.starts_with(character) => (Piece::Character(character), &behind[1..]),
            '{' => match behind.split_once('}') {
                Some((name, rest)) => (Piece::Field(name), rest),
                None => (Piece::OpenBrace, ""),
            },
            '[' => (Piece::Open, behind),
            ']' if depth > 0 => (Piece::Close, behind),
            ' ' | '\t' => (Piece::Blanks, behind.trim_start_matches([' ', '\t'])),
            other => (Piece::Character(other), behind),
        };
        match piece {
            Piece::Open => depth += 1,
            Piece::Close => depth -= 1,
            _ => {}
        }
        pieces.push(piece);
        text = rest;
    }
    pieces
}

impl Declaration<'_> {
    /// A line as it is printed, as a regular expression; nothing if it is none. Its fields are added to `names`.
    fn expression(
        &self,
        printed: &Spanned<String>,
        names: &mut Vec<String>,
        problems: &mut Problems,
    ) -> Option<(String, Option<Walk>)> {
        let mut problem = |kind| {
            problems.add(printed.span.clone(), kind);
            None
        };
        let mut out = r"[ \t]*".to_string();
        let mut steps = Steps::default();
        let mut said: Vec<&str> = Vec::new();
        // Whether a field stands before the place, and before each bracket around it.
        let (mut behind_field, mut brackets) = (false, Vec::new());
        for piece in pieces(printed.value.trim_matches([' ', '\t'])) {
            match piece {
                Piece::Field(_) if behind_field => {
                    return problem(ProblemKind::Senseless(
                        "two fields touch: nothing between them says where the first one ends",
                    ));
                }
                Piece::Field(name) if said.contains(&name) => {
                    return problem(ProblemKind::Twice { what: "field", name: name.to_string() });
                }
                Piece::Field(name)
                    if self.field(name).is_none() && !(self.any_name && crate::format::is_name(name)) =>
                {
                    return problem(self.unknown(name));
                }
                Piece::Field(name) => {
                    out += &group_of(name, &self.class(name));
                    steps.field(name, self.field(name));
                    said.push(name);
                }
                Piece::Open => {
                    brackets.push(behind_field);
                    steps.open();
                    out += "(?:";
                    continue;
                }
                Piece::Close => {
                    // What stands in the bracket may be missing.
                    behind_field |= brackets.pop().unwrap_or_default();
                    steps.close();
                    out += ")?";
                    continue;
                }
                Piece::OpenBrace => return problem(ProblemKind::Senseless("a brace is not closed")),
                Piece::Blanks => {
                    steps.blanks();
                    out += r"[ \t]+";
                }
                Piece::Character(character) => {
                    steps.character(character, self.charsets);
                    out += &literal(character, self.charsets);
                }
            }
            behind_field = matches!(piece, Piece::Field(_));
        }
        if !brackets.is_empty() {
            return problem(ProblemKind::Senseless("a bracket is not closed"));
        }
        for name in said {
            if !names.iter().any(|known| known == name) {
                names.push(name.to_string());
            }
        }
        Some((out + r"[ \t]*", steps.walk(names)))
    }
}

/// A character that stands for itself.
fn literal(character: char, charsets: &[Charset]) -> String {
    let mut room = [0; 4];
    let hex = |sent: Box<[u8]>| sent.iter().map(|byte| format!(r"\x{byte:02X}")).collect::<String>();
    let all: Vec<String> = sent_as(character.encode_utf8(&mut room), charsets).into_iter().map(hex).collect();
    if let [one] = &*all { one.clone() } else { format!("(?:{})", all.join("|")) }
}

fn literals(text: &str, charsets: &[Charset]) -> String {
    text.chars().map(|character| literal(character, charsets)).collect()
}

/// What fits a field: the shortest text of its type, one of its codes if no other value is valid, or a mark that stands for "no data".
fn class(declared: &Declared) -> String {
    let kind = declared.kind.as_ref().map_or(FieldType::Text, |kind| kind.value);
    let text_of = |value: &Literal| match value {
        Literal::Text(text) => literals(text, &declared.charsets),
        Literal::Number(number) => literals(&number.to_string(), &[]),
        Literal::Bits(bits) => literals(&bits.to_string(), &[]),
        Literal::Bool(flag) => literals(&flag.to_string(), &[]),
    };
    let mut choices: Vec<String> = Vec::new();
    match &declared.equals {
        Some(only) => choices.push(text_of(&only.value)),
        None if declared.closed || kind == FieldType::Bool => {
            choices.extend(declared.codes.iter().map(|(value, _)| text_of(&value.value)))
        }
        None => choices.push(match kind {
            FieldType::Number => {
                notation(declared, &mut Problems::default()).map_or(".+?".to_string(), |notation| notation.expression())
            }
            FieldType::Hex => "[0-9A-Fa-f]+?".to_string(),
            FieldType::HexInteger(integer) => format!("[0-9A-Fa-f]{{{}}}", 2 * integer.bytes),
            FieldType::Date | FieldType::Clock | FieldType::DateTime => {
                layout_of(declared, kind, &mut Problems::default())
                    .map_or(".+?".to_string(), |layout| layout.expression())
            }
            _ => ".+?".to_string(),
        }),
    }
    choices.extend(declared.no_data.iter().map(|mark| text_of(&mark.value)));
    choices.join("|")
}

/// The shape of lines that an automaton has taken apart into so many fields.
pub(super) fn shape(slots: usize) -> Shape {
    Shape { unit: ShapeUnit::Printed, front: slots, front_required: 0, count: Count::ToEnd, ..Shape::fixed_bytes(0, 0) }
}

/// Adds the fields of a record whose lines are taken apart into the fields of these names. `at` says whether columns of a header stand before them.
pub(super) fn add_fields(
    sheet: &mut Sheet,
    names: &[String],
    at: fn(usize) -> At,
    fields: &[Declared],
    problems: &mut Problems,
) {
    for declared in fields {
        refuse_condition(declared, "a printed line: what may be missing stands in brackets", problems);
        if declared.group.is_some() {
            problems.add(declared.span.clone(), ProblemKind::Senseless("there are no groups in a printed line"));
            continue;
        }
        if sheet.add_part(declared, problems) {
            continue;
        }
        let Some(kind) = field_type(declared, Reading::Text, problems) else { continue };
        let conflict =
            |key| ProblemKind::Conflict { key, with: "`printed` or `pattern`, which say where it is".to_string() };
        match &declared.place {
            Place::Characters(place) => {
                let (first, last) = place.value;
                sheet.add(declared, kind, At::Front(0), format!("chars {first}-{last}"), problems);
                continue;
            }
            Place::Byte(place) => problems.add(place.span.clone(), conflict("byte")),
            Place::Columns(place) => problems.add(place.span.clone(), conflict("column")),
            Place::Next => {}
        }
        if matches!(kind, FieldType::Latitude | FieldType::Longitude) {
            let with = "a printed line: its hemisphere is a column of its own".to_string();
            problems.add(declared.span.clone(), ProblemKind::Conflict { key: "type", with });
            continue;
        }
        let name = declared.name.as_ref().map(|name| name.value.as_str()).unwrap_or_default();
        match names.iter().position(|known| known == name) {
            Some(slot) => sheet.add(declared, kind, at(2 * slot), "as printed".to_string(), problems),
            None => {
                problems.add(declared.span.clone(), ProblemKind::Senseless("the printed line does not have this field"))
            }
        }
    }
}

/// Numbers for the automata of a format, and how large those are that have one.
#[derive(Default)]
pub(super) struct Numbers {
    next: usize,
    bytes: usize,
}

impl Numbers {
    fn next(&mut self) -> usize {
        self.next += 1;
        self.next - 1
    }
}
