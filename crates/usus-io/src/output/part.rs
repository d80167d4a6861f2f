//! Files that are whole at the end only: written under another name, and given their own when they are.

use std::ffi::OsString;
use std::fs::{self, File, OpenOptions};
use std::path::{Path, PathBuf};

use super::{Existing, OutputError};

/// A file under way: `tower.xlsx.part` until it is `tower.xlsx`.
pub(super) struct Part {
    path: PathBuf,
    /// The name that it has meanwhile; nothing if it is written where it is, such as a device.
    meanwhile: Option<PathBuf>,
}

impl Part {
    /// Makes the file.
    ///
    /// # Errors
    ///
    /// A file of that name that is not to be replaced; what the system says.
    pub(super) fn create(path: &Path, existing: Existing) -> Result<(Part, File), OutputError> {
        check(path, existing)?;
        // Where a link leads, so that it stays one.
        let path = &fs::canonicalize(path).ok().filter(|path| path.is_file()).unwrap_or_else(|| path.to_owned());
        let meanwhile = (!path.exists() || path.is_file()).then(|| meanwhile(path));
        let written = meanwhile.as_deref().unwrap_or(path);
        let file = OpenOptions::new().write(true).create(true).truncate(true).open(written);
        let file = file.map_err(OutputError::write(path))?;
        Ok((Part { path: path.to_owned(), meanwhile }, file))
    }

    /// Its final name.
    #[cfg(feature = "parquet")]
    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    /// The name that it has now.
    pub(super) fn current(&self) -> &Path {
        self.meanwhile.as_deref().unwrap_or(&self.path)
    }

    /// Gives it its final name.
    pub(super) fn finish(&mut self) -> Result<(), OutputError> {
        match self.meanwhile.take() {
            Some(meanwhile) => fs::rename(&meanwhile, &self.path).map_err(OutputError::write(&self.path)),
            None => Ok(()),
        }
    }

    /// Takes it away.
    pub(super) fn give_up(&mut self) {
        if let Some(meanwhile) = self.meanwhile.take() {
            let _ = fs::remove_file(meanwhile);
        }
    }
}

/// The name that a file has until it is whole.
pub(super) fn meanwhile(path: &Path) -> PathBuf {
    let mut name = path.file_name().map(OsString::from).unwrap_or_default();
    name.push(".part");
    path.with_file_name(name)
}

/// Whether a file that is whole at the end only can be written there.
pub(super) fn check(path: &Path, existing: Existing) -> Result<(), OutputError> {
    match existing {
        Existing::Refuse if path.exists() => Err(OutputError::Exists { path: path.to_owned() }),
        Existing::Continue if path.is_file() => Err(OutputError::NotContinued { path: path.to_owned() }),
        _ => Ok(()),
    }
}
