//! Compressing captures that are finished, while recording goes on.

use std::fs::{self, File};
use std::io::{self, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Sender, channel};
use std::thread::JoinHandle;

use flate2::Compression;
use flate2::read::MultiGzDecoder;
use flate2::write::GzEncoder;

use crate::source::Remark;

/// Compresses one file after the other on a thread of its own.
pub(super) struct Compressor {
    paths: Option<Sender<PathBuf>>,
    thread: Option<JoinHandle<Vec<Remark>>>,
}

impl Compressor {
    pub(super) fn new() -> Compressor {
        let (paths, received) = channel::<PathBuf>();
        let thread = std::thread::spawn(move || {
            let failed = |path: PathBuf, error: io::Error| Remark::Capture {
                path,
                what: format!("could not be compressed, and stays as it is: {error}"),
            };
            received.iter().filter_map(|path| compress(&path).err().map(|error| failed(path, error))).collect()
        });
        Compressor { paths: Some(paths), thread: Some(thread) }
    }

    pub(super) fn compress(&self, path: PathBuf) {
        if let Some(paths) = &self.paths {
            let _ = paths.send(path);
        }
    }

    /// Waits until all is compressed. Returns what could not be.
    pub(super) fn finish(&mut self) -> Vec<Remark> {
        self.paths = None;
        self.thread.take().and_then(|thread| thread.join().ok()).unwrap_or_default()
    }
}

/// The name of a file once it is compressed.
pub(crate) fn compressed(path: &Path) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(".gz");
    PathBuf::from(name)
}

/// Compresses a file with gzip. It is removed only when its compressed form is on the disk and was read back and compared.
fn compress(path: &Path) -> io::Result<()> {
    let target = compressed(path);
    let mut unfinished = target.clone().into_os_string();
    unfinished.push(".unfinished");
    let unfinished = PathBuf::from(unfinished);
    let result = write_compressed(path, &unfinished).and_then(|()| {
        // A link, unlike a new name, takes the place of nothing.
        fs::hard_link(&unfinished, &target).or_else(|error| match error.kind() {
            io::ErrorKind::AlreadyExists => Err(error),
            _ if target.exists() => Err(io::ErrorKind::AlreadyExists.into()),
            _ => fs::rename(&unfinished, &target),
        })?;
        fs::remove_file(path)
    });
    let _ = fs::remove_file(&unfinished);
    result
}

fn write_compressed(path: &Path, unfinished: &Path) -> io::Result<()> {
    let mut encoder = GzEncoder::new(File::create(unfinished)?, Compression::default());
    io::copy(&mut File::open(path)?, &mut encoder)?;
    let mut file = encoder.finish()?;
    file.flush()?;
    file.sync_all()?;
    let mut back = BufReader::with_capacity(1 << 16, MultiGzDecoder::new(BufReader::new(File::open(unfinished)?)));
    let mut original = BufReader::with_capacity(1 << 16, File::open(path)?);
    match same(&mut back, &mut original)? {
        true => Ok(()),
        false => Err(io::Error::new(io::ErrorKind::InvalidData, "what was read back is not what was written")),
    }
}

fn same(one: &mut impl Read, other: &mut impl Read) -> io::Result<bool> {
    let (mut left, mut right) = (vec![0; 1 << 16], vec![0; 1 << 16]);
    loop {
        let got = one.read(&mut left)?;
        if got == 0 {
            return Ok(other.read(&mut right[..1])? == 0);
        }
        match other.read_exact(&mut right[..got]) {
            Ok(()) if left[..got] == right[..got] => {}
            Ok(()) => return Ok(false),
            Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(false),
            Err(error) => return Err(error),
        }
    }
}
