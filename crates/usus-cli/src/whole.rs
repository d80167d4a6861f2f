//! Files that have their names once they are whole.

use std::path::Path;
use std::{fs, io};

/// Writes a text under a name of its own beside the file, and then in its place.
pub(crate) fn write(path: &Path, text: &str) -> io::Result<()> {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".part");
    let part = path.with_file_name(name);
    fs::write(&part, text).and_then(|()| fs::rename(&part, path))
}
