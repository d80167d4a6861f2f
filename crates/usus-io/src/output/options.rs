//! How outputs are opened: what stands in front of the fields, what rows look like, and what is done about files that are there already.

use std::fs;
use std::path::{Path, PathBuf};

use usus::Plan;

use super::OutputError;
use super::times::TimeStyle;

/// Which columns stand in front of the fields. They are the same for every row, whatever comes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TableOptions {
    /// `source`: there are several.
    pub source: bool,
    /// `line`: sources have named lines.
    pub line: bool,
    /// `offset`, `length` and `item`, and the two above.
    pub origin: bool,
    /// `received`: at least one source has times.
    pub received: bool,
}

impl TableOptions {
    /// The same, and lines are told where some lie inside of others: their offsets are those of what is carried.
    pub(super) fn for_plan(self, plan: &Plan) -> TableOptions {
        TableOptions { line: self.line || plan.insides().next().is_some(), ..self }
    }
}

/// What the rows of tables look like. The usual style is RFC 4180, and written fastest.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct TableStyle {
    /// What stands between the columns, an ASCII character.
    pub separator: u8,
    /// Numbers have a comma instead of a point.
    pub decimal_comma: bool,
    /// Units stand behind the names of columns, as in `tension [kN]`.
    pub units: bool,
    /// An apostrophe is put in front of texts that a spreadsheet would take for a formula. Numbers are spared.
    pub guard_formulas: bool,
}

impl Default for TableStyle {
    fn default() -> TableStyle {
        TableStyle { separator: b',', decimal_comma: false, units: false, guard_formulas: false }
    }
}

/// What is done about files that are there already.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Existing {
    /// They are in the way.
    #[default]
    Refuse,
    /// They are replaced.
    Replace,
    /// What comes is put behind what they hold, if their columns are the same. A torn last row is taken away first.
    Continue,
}

/// How outputs are opened.
#[derive(Clone, Debug, Default)]
pub struct OutputOptions {
    /// What stands in front of the fields.
    pub columns: TableOptions,
    /// What rows of tables look like.
    pub style: TableStyle,
    /// How times of arrival are shown where people read them: in tables, JSON Lines and workbooks. Databases, Parquet and rejects have instants in UTC.
    pub times: TimeStyle,
    /// The fields that say where a record is, for tracks: latitude, longitude, and height if it has one. If none are named, those that are called so.
    pub position: Vec<String>,
    /// Where rejects go, if anywhere.
    pub rejects: Option<PathBuf>,
    /// What is done about files that are there already.
    pub existing: Existing,
    /// Whether rows are written at once where they will be, so that others can follow them. If not, a file has another name (`tower.csv.part`) until it
    /// is whole. What is gone on with is always written where it is.
    pub in_place: bool,
    /// A set of files for each day of the zone on which something was received, with its date in their names.
    pub daily: bool,
    /// Files that are read, and so never written.
    pub protected: Protected,
}

impl OutputOptions {
    pub(super) fn for_plan(&self, plan: &Plan) -> OutputOptions {
        OutputOptions { columns: self.columns.for_plan(plan), ..self.clone() }
    }
}

impl From<TableOptions> for OutputOptions {
    fn from(columns: TableOptions) -> OutputOptions {
        OutputOptions { columns, ..OutputOptions::default() }
    }
}

/// Files that no output may be. They are told by device and inode, so that links make no difference.
#[derive(Clone, Debug, Default)]
pub struct Protected(Vec<(PathBuf, Identity)>);

type Identity = (u64, u64);

/// The identity of a regular file; nothing of what is not there, or is no file that could be emptied.
fn identity(path: &Path) -> Option<Identity> {
    let about = fs::metadata(path).ok()?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        about.is_file().then(|| (about.dev(), about.ino()))
    }
    #[cfg(not(unix))]
    {
        let _ = about;
        None
    }
}

impl Protected {
    /// Protects a file, if it is one.
    pub fn add(&mut self, path: &Path) {
        if let Some(identity) = identity(path) {
            self.0.push((path.to_owned(), identity));
        }
    }

    /// Whether nothing that is protected would be written, and no file twice.
    ///
    /// # Errors
    ///
    /// The first output that is an input, or another output.
    pub fn check(&self, outputs: &[PathBuf]) -> Result<(), OutputError> {
        for (index, path) in outputs.iter().enumerate() {
            let identity = identity(path);
            let input = self.0.iter().find(|(_, protected)| identity == Some(*protected));
            if let Some((other, _)) = input {
                return Err(OutputError::IsInput { path: path.clone(), other: other.clone() });
            }
            let same = |other: &&PathBuf| resolved(other) == resolved(path) && !is_device(path);
            if outputs[..index].iter().find(same).is_some() {
                return Err(OutputError::Twice { path: path.clone() });
            }
        }
        Ok(())
    }

    /// Whether what stands behind a path of this process, such as its standard output, is protected.
    pub fn holds(&self, path: &Path) -> Option<&Path> {
        let identity = identity(path)?;
        self.0.iter().find(|(_, protected)| *protected == identity).map(|(path, _)| path.as_path())
    }
}

/// The path without links on the way, whether the file is there or not.
fn resolved(path: &Path) -> PathBuf {
    let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    fs::canonicalize(path)
        .or_else(|_| fs::canonicalize(parent).map(|parent| parent.join(path.file_name().unwrap_or_default())))
        .unwrap_or_else(|_| path.to_owned())
}

/// Whether it is there and no regular file: two outputs may well go to one.
fn is_device(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|about| !about.is_file())
}
