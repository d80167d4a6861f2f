//! What is asked of a whole format: to be read, to be compiled, and what is doubtful about it.

use alloc::borrow::Cow;
use alloc::string::{String, ToString};
use alloc::sync::Arc;
use alloc::vec::Vec;

use super::compile;
use crate::format::{self, Format};
use crate::plan::Plan;
use crate::problem::{Problem, Problems};

impl Format {
    /// Reads a format file and reports every problem in it that can be seen without compiling it.
    ///
    /// # Errors
    ///
    /// All problems found, each with its place in `text`.
    ///
    /// ```
    /// let format = usus::Format::parse(r#"
    ///     format = "scale"
    ///     [[frame]]
    ///     cut = "text"
    ///     [record.weight]
    ///     fields = [{ name = "weight", type = "number", unit = "kg" }]
    /// "#)?;
    /// assert_eq!(format.records[0].kind.value, "weight");
    ///
    /// let problems = usus::Format::parse("fromat = 'scale'").unwrap_err();
    /// assert_eq!(problems.iter().next().unwrap().help().unwrap(), "did you mean `format`?");
    /// # Ok::<(), usus::Problems>(())
    /// ```
    pub fn parse(text: &str) -> Result<Format, Problems> {
        Format::parse_with(text, |_| Err("there is nothing that loads files".to_string()))
    }

    /// Reads a format file that may name files beside it, such as a CSV of its fields: `load` gives their texts, by the names that stand in the file, or
    /// says why it cannot.
    ///
    /// # Errors
    ///
    /// Those of [`Format::parse`]; problems in such a file are told where it is named, with its line.
    ///
    /// ```
    /// let text = r#"
    ///     format = "scale"
    ///     [[frame]]
    ///     cut = "text"
    ///     [record.weight]
    ///     fields = { file = "columns.csv", keys = { "Signal" = "name" } }
    /// "#;
    /// let load = |name: &str| match name {
    ///     "columns.csv" => Ok("Signal,type,unit\nweight,number,kg\n".to_string()),
    ///     _ => Err("there is no such file".to_string()),
    /// };
    /// let format = usus::Format::parse_with(text, load)?;
    /// assert_eq!(format.records[0].fields[0].unit.as_ref().unwrap().value, "kg");
    /// # Ok::<(), usus::Problems>(())
    /// ```
    pub fn parse_with(text: &str, mut load: impl FnMut(&str) -> Result<String, String>) -> Result<Format, Problems> {
        let (format, source, mut problems) = format::read(text, &mut load);
        if let (Some(format), false) = (&format, problems.is_empty()) {
            // Whoever mends a file wants to know all that is wrong with it.
            if let Err(later) = plan(format) {
                problems.add_independent(later);
            }
        }
        problems.none_or(&source, format)
    }

    /// Reads a text that names no files, without compiling it; nothing if something is wrong with it.
    pub(super) fn read_alone(text: &str) -> Option<Format> {
        let (format, _, problems) = format::read(text, &mut |_| Err(String::new()));
        format.filter(|_| problems.is_empty())
    }

    /// Compiles the format: resolves every place, length, name and condition.
    ///
    /// # Errors
    ///
    /// All problems found: fields that overrun their frame, bytes that nothing names, conditions on unknown names, and so on,
    /// each with its place in the format file. Of a format made or altered in code they are those of [`Format::to_toml`], and so
    /// are their places.
    pub fn compile(&self) -> Result<Plan, Problems> {
        plan(&*self.as_read()?)
    }

    /// What is legal in the format and can hardly be meant: fields that overlap, records to which earlier ones leave nothing, values that a type
    /// cannot hold, packets without a checksum, a format without an example. It stops nothing; each is told at its place.
    ///
    /// ```
    /// let format = usus::Format::parse(r#"
    ///     format = "scale"
    ///     [[frame]]
    ///     cut = "text"
    ///     [record.weight]
    ///     fields = [{ name = "weight", type = "number", unit = "kg" }]
    /// "#)?;
    /// let doubts = format.doubts();
    /// assert!(doubts[0].kind.to_string().starts_with("there is no example"));
    /// # Ok::<(), usus::Problems>(())
    /// ```
    pub fn doubts(&self) -> Vec<Problem> {
        let Ok(format) = self.as_read() else { return Vec::new() };
        let mut problems = Problems::with_doubts();
        compile(&format, &mut problems);
        problems.into_doubts(&format.source)
    }

    /// The format as a file gives it: itself as it was read, or, if it was made or altered in code, what its file says.
    pub(crate) fn as_read(&self) -> Result<Cow<'_, Format>, Problems> {
        let load = &mut |name: &str| self.source.file(name).map(ToString::to_string).ok_or_else(String::new);
        match format::read(&self.source.text, load) {
            (Some(read), _, problems) if problems.is_empty() && read == *self => Ok(Cow::Borrowed(self)),
            _ => Format::parse(&self.to_toml()).map(Cow::Owned),
        }
    }
}

/// The plan of a format as it was read, or the problems of it.
pub(crate) fn plan(format: &Format) -> Result<Plan, Problems> {
    let mut problems = Problems::default();
    let inner = compile(format, &mut problems);
    problems.none_or(&format.source, inner.map(|inner| Plan(Arc::new(inner))))
}
