//! Exit codes.

use std::process::ExitCode;

/// How the program ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    /// Done.
    Done,
    /// Failed.
    Failed,
    /// Asked for something that cannot be.
    Usage,
    /// Done, but `--strict` found notes.
    Strict,
    /// Interrupted.
    Interrupted,
}

impl From<Exit> for ExitCode {
    fn from(e: Exit) -> ExitCode {
        ExitCode::from(match e {
            Exit::Done => 0,
            Exit::Failed => 1,
            Exit::Usage => 2,
            Exit::Strict => 3,
            Exit::Interrupted => 130,
        })
    }
}
