//! Going on after a kill: what an output held before a run began to add to it, and where that run kept its raw bytes.
//!
//! While rows are added to an output, a file beside it says how long its files were before, and in which capture what comes is kept. A run that ends
//! removes it. If it is there when the next run goes on with the output, the last one was killed: what that had added is taken away, and made
//! again from its capture. So nothing that the capture holds is missing, and nothing stands twice. A database needs no lengths: what is converted again
//! replaces its rows there.

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use rustix::fs::{FlockOperation, flock};
use serde_json::{Value, json};
use usus::Time;
use usus_io::Destination;

/// Such a file, locked as long as the run goes on.
pub(crate) struct Unfinished {
    path: PathBuf,
    _locked: File,
    /// The capture of what was added since, if that was kept.
    pub(crate) capture: Option<PathBuf>,
    /// What was received before has been added earlier.
    pub(crate) from: Option<Time>,
    /// The files of the output, and how long they were before: by their names from here, so that all may be moved together.
    lengths: BTreeMap<PathBuf, u64>,
}

/// Where it is kept; nothing of an output that cannot be gone on with.
pub(crate) fn place(destination: &Destination) -> Option<PathBuf> {
    let file = |path: &Path| {
        // A device or a pipe is never gone on with.
        let is_other = path.exists() && !path.is_file();
        let mut name = path.file_name()?.to_owned();
        name.push(".unfinished");
        (!is_other).then(|| path.with_file_name(name))
    };
    match destination {
        Destination::Directory(path) => Some(path.join("unfinished.json")),
        Destination::JsonLines(path) | Destination::Table(path) | Destination::Database(path) => file(path),
        _ => None,
    }
}

impl Unfinished {
    /// What a run that was killed has left, if one was.
    pub(crate) fn look(path: &Path) -> Result<Option<Unfinished>, String> {
        let cannot = |error: io::Error| format!("cannot read {}: {error}", path.display());
        let mut file = match File::open(path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(cannot(error)),
        };
        lock(&file, path)?;
        if !is_same(&file, path) {
            return Err(busy(path));
        }
        let mut text = String::new();
        file.read_to_string(&mut text).map_err(cannot)?;
        let value: Value = serde_json::from_str(&text)
            .map_err(|error| format!("{} is none that a run leaves: {error}", path.display()))?;
        let lengths = value["lengths"].as_object().into_iter().flatten();
        Ok(Some(Unfinished {
            path: path.to_owned(),
            capture: value["capture"].as_str().map(|capture| directory(path).join(capture)),
            from: value["from"].as_str().and_then(Time::parse),
            lengths: lengths.filter_map(|(path, length)| Some((PathBuf::from(path), length.as_u64()?))).collect(),
            _locked: file,
        }))
    }

    /// Says that rows are going to be added to these files, and where the raw bytes are kept, if they are; of a capture that is continued, from when on.
    pub(crate) fn begin(
        path: &Path,
        capture: Option<&Path>,
        from: Option<Time>,
        files: &[PathBuf],
    ) -> Result<Unfinished, String> {
        let cannot = |error: io::Error| format!("cannot write {}: {error}", path.display());
        let mut lengths = BTreeMap::new();
        for file in files {
            // What this says to be there has to be there after a power failure, too.
            let opened = OpenOptions::new().write(true).open(file).and_then(|opened| {
                opened.sync_all()?;
                opened.metadata()
            });
            let about = opened.map_err(|error| format!("cannot go on with {}: {error}", file.display()))?;
            lengths.insert(named(path, file), about.len());
        }
        let text = |path: &PathBuf| path.to_string_lossy().into_owned();
        let told: BTreeMap<String, u64> = lengths.iter().map(|(path, length)| (text(path), *length)).collect();
        let kept = capture.map(|capture| text(&named(path, capture)));
        let value = json!({"capture": kept, "from": from.map(|from| from.to_string()), "lengths": told});
        fs::create_dir_all(directory(path)).map_err(cannot)?;
        // Replaced whole, and locked before it has its name.
        let mut name = path.file_name().unwrap_or_default().to_owned();
        name.push(".new");
        let new = path.with_file_name(name);
        let mut file = OpenOptions::new().write(true).create(true).truncate(true).open(&new).map_err(cannot)?;
        lock(&file, path)?;
        let written = writeln!(file, "{value}").and_then(|()| file.sync_all()).and_then(|()| fs::rename(&new, path));
        written.map_err(cannot)?;
        Ok(Unfinished { path: path.to_owned(), _locked: file, capture: capture.map(Path::to_owned), from, lengths })
    }

    /// Takes away what was added to files since; `files` are those of the output that are there. Returns how many bytes that were.
    pub(crate) fn take_back(&self, files: &[PathBuf]) -> Result<u64, String> {
        let mut bytes = 0;
        let changes: Vec<(&PathBuf, u64, u64)> = files
            .iter()
            .filter_map(|file| {
                let (now, before) =
                    (fs::metadata(file).ok()?.len(), self.lengths.get(&named(&self.path, file)).copied());
                Some((file, now, before.unwrap_or(0))).filter(|(_, now, before)| now > before)
            })
            .collect();
        let gone = self.capture.as_ref().filter(|capture| !is_kept(capture));
        if let (Some(gone), false) = (gone, changes.is_empty()) {
            return Err(format!(
                "the last run was killed, and its capture {} is gone, from which what it wrote could be made anew; remove {} to keep its rows as they are",
                gone.display(),
                self.path.display()
            ));
        }
        for (file, now, before) in changes {
            let shortened = match self.lengths.contains_key(&named(&self.path, file)) {
                true => OpenOptions::new().write(true).open(file).and_then(|opened| opened.set_len(before)),
                false => fs::remove_file(file),
            };
            shortened.map_err(|error| format!("cannot go on with {}: {error}", file.display()))?;
            bytes += now - before;
        }
        Ok(bytes)
    }

    /// Everything is written.
    pub(crate) fn done(self) {
        let _ = fs::remove_file(&self.path);
    }
}

/// All tables in a directory, and in those of days in it.
pub(crate) fn tables_in(directory: &Path) -> Vec<PathBuf> {
    let entries = |directory: &Path| fs::read_dir(directory).into_iter().flatten().flatten().map(|entry| entry.path());
    let is_table = |path: &PathBuf| path.is_file() && path.extension().is_some_and(|ending| ending == "csv");
    let days = entries(directory).filter(|path| path.is_dir());
    let files = std::iter::once(directory.to_owned()).chain(days).flat_map(|directory| entries(&directory));
    files.filter(is_table).collect()
}

/// Whether a capture is there, or has been compressed.
pub(crate) fn is_kept(capture: &Path) -> bool {
    capture.exists() || capture.with_added_extension("gz").exists()
}

/// Two runs cannot add to one output at the same time.
fn lock(file: &File, path: &Path) -> Result<(), String> {
    flock(file, FlockOperation::NonBlockingLockExclusive).map_err(|_| busy(path))
}

fn busy(path: &Path) -> String {
    format!("another run is writing this output (it holds {})", path.display())
}

/// Whether a file has not been replaced since it was opened.
fn is_same(file: &File, path: &Path) -> bool {
    let identity = |about: io::Result<fs::Metadata>| about.ok().map(|about| (about.dev(), about.ino()));
    identity(file.metadata()) == identity(fs::metadata(path))
}

fn directory(path: &Path) -> PathBuf {
    absolute(path.parent().filter(|directory| !directory.as_os_str().is_empty()).unwrap_or(Path::new(".")))
}

/// How a file is called in what is kept at `path`: from its directory if it is in there.
fn named(path: &Path, file: &Path) -> PathBuf {
    let file = match file.file_name() {
        Some(name) => directory(file).join(name),
        None => file.to_owned(),
    };
    file.strip_prefix(directory(path)).map(Path::to_owned).unwrap_or(file)
}

fn absolute(path: &Path) -> PathBuf {
    fs::canonicalize(path).or_else(|_| std::path::absolute(path)).unwrap_or_else(|_| path.to_owned())
}
