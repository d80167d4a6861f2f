//! Running the built command in the repository's root, or elsewhere.

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// The repository's root: paths in the tests are as a reader of the README types them.
pub fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

pub fn command(arguments: &[&str]) -> Command {
    let mut command = Command::new(assert_cmd::cargo::cargo_bin!("usus"));
    command.current_dir(root()).args(arguments);
    command
}

/// Status, standard output and standard error of a run.
pub struct Ran {
    pub status: i32,
    pub out: String,
    pub said: String,
}

pub fn usus(arguments: &[&str]) -> Ran {
    ran(command(arguments).output().unwrap())
}

pub fn ran(output: Output) -> Ran {
    Ran {
        status: output.status.code().expect("an exit status"),
        out: String::from_utf8(output.stdout).unwrap(),
        said: String::from_utf8(output.stderr).unwrap(),
    }
}

impl Ran {
    /// All of it, for snapshots. What differs from run to run is replaced.
    pub fn shown(&self, folder: &Path) -> String {
        let text =
            format!("status {}\n--- standard output\n{}--- standard error\n{}", self.status, self.out, self.said);
        text.replace(&folder.display().to_string(), "FOLDER")
    }
}
