//! Files beside a format: a CSV of its fields or codes, from the format's own folder and nowhere else.

use std::fs;
use std::io::Read;
use std::path::{Component, Path, PathBuf};

/// What loads the files that a format file names, for [`Format::parse_with`](usus::Format::parse_with): from the folder of the format file, and folders
/// in it, wherever links lead.
///
/// ```no_run
/// let path = std::path::Path::new("formats/drive.toml");
/// let format = usus::Format::parse_with(&std::fs::read_to_string(path)?, usus_io::files_beside(path))?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn files_beside(format: &Path) -> impl FnMut(&str) -> Result<String, String> + use<> {
    let folder = match format.parent() {
        Some(folder) if folder != Path::new("") => folder.to_owned(),
        _ => PathBuf::from("."),
    };
    move |name| load(&folder, name)
}

fn load(folder: &Path, name: &str) -> Result<String, String> {
    let within = Path::new(name).components().all(|part| matches!(part, Component::Normal(_) | Component::CurDir));
    let elsewhere = || "it is not in the folder of the format".to_owned();
    if name.is_empty() || !within {
        return Err(elsewhere());
    }
    let told = |error: std::io::Error| error.to_string();
    // Links may lead anywhere.
    let path = folder.join(name).canonicalize().map_err(told)?;
    if !path.starts_with(folder.canonicalize().map_err(told)?) {
        return Err(elsewhere());
    }
    if !fs::metadata(&path).map_err(told)?.is_file() {
        return Err("it is no file".to_owned());
    }
    // One byte more than a file may have is enough to say so.
    let most = usus::limits::FORMAT_BYTES as u64 + 1;
    let mut bytes = Vec::new();
    fs::File::open(&path).and_then(|file| file.take(most).read_to_end(&mut bytes)).map_err(told)?;
    if bytes.len() as u64 == most {
        return Err(format!("it has more than {} bytes", most - 1));
    }
    String::from_utf8(bytes).map_err(|error| format!("it is not UTF-8 at byte {}", error.utf8_error().valid_up_to()))
}
