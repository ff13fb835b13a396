//! The built program, run in a folder.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// The program in a folder.
#[derive(Debug, Clone)]
pub struct Program {
    exe: PathBuf,
    dir: PathBuf,
}

/// What a run of it gave.
#[derive(Debug, Clone)]
pub struct Ran {
    /// The exit code; none where a signal ended it.
    pub code: Option<i32>,
    /// Standard output.
    pub out: String,
    /// Standard error.
    pub err: String,
}

impl Program {
    /// The program at `exe`, run in `dir`.
    pub fn new(exe: &str, dir: &Path) -> Program {
        Program { exe: exe.into(), dir: dir.into() }
    }

    /// The folder.
    pub fn dir(&self) -> &Path {
        &self.dir
    }

    /// A command to be changed before it is run.
    pub fn command(&self, args: &[&str]) -> Command {
        let mut c = Command::new(&self.exe);
        c.args(args).current_dir(&self.dir).stdin(Stdio::null());
        c.env_remove("RAYON_NUM_THREADS").env_remove("NO_COLOR").env_remove("SOURCE_DATE_EPOCH");
        c
    }

    /// Runs it to its end.
    ///
    /// # Panics
    /// Where it cannot be started.
    pub fn run(&self, args: &[&str]) -> Ran {
        let out = self.command(args).output().unwrap_or_else(|e| panic!("{}: {e}", self.exe.display()));
        let text = |b: Vec<u8>| String::from_utf8(b).unwrap_or_else(|e| panic!("output is not UTF-8: {e}"));
        Ran { code: out.status.code(), out: text(out.stdout), err: text(out.stderr) }
    }

    /// Runs it and expects success.
    ///
    /// # Panics
    /// Where it fails.
    pub fn ok(&self, args: &[&str]) -> Ran {
        let ran = self.run(args);
        assert_eq!(ran.code, Some(0), "{args:?}: {}\n{}", ran.out, ran.err);
        ran
    }

    /// Runs it and expects a failure with this exit code, one message that holds all of `needles`, and no panic.
    ///
    /// # Panics
    /// Where it ends otherwise.
    pub fn fails(&self, args: &[&str], code: i32, needles: &[&str]) -> Ran {
        let ran = self.run(args);
        assert_eq!(ran.code, Some(code), "{args:?}: {}\n{}", ran.out, ran.err);
        for n in needles {
            assert!(ran.err.contains(n), "{args:?}: '{n}' is not in\n{}", ran.err);
        }
        assert_eq!(ran.err.matches("error:").count(), 1, "one message is wanted:\n{}", ran.err);
        assert!(!ran.err.contains("panicked") && !ran.err.contains("internal error"), "{}", ran.err);
        ran
    }
}

/// Every file below a folder, by relative path, with its bytes; hidden ones too.
///
/// # Panics
/// Where the folder cannot be read.
pub fn files_below(dir: &Path) -> std::collections::BTreeMap<String, Vec<u8>> {
    let mut all = std::collections::BTreeMap::new();
    let mut folders = vec![dir.to_path_buf()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(&folder).unwrap_or_else(|e| panic!("{}: {e}", folder.display())).flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
            } else {
                let name = path.strip_prefix(dir).unwrap_or(&path).to_string_lossy().into_owned();
                all.insert(name, std::fs::read(&path).unwrap_or_else(|e| panic!("{}: {e}", path.display())));
            }
        }
    }
    all
}
