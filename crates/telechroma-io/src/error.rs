//! The one public error of this crate: by whose fault, and always where.

use std::fmt;
use std::path::Path;

/// Where trouble is: a file, and what in it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// The file, or the archive with its member.
    pub file: String,
    /// "line 12", "tag 324", "block 7 of band 2" …; empty for the file as a whole.
    pub part: String,
}

impl Place {
    /// A file as a whole.
    pub fn file(path: &Path) -> Place {
        Place { file: path.display().to_string(), part: String::new() }
    }

    /// A part of a file.
    pub fn part(file: impl Into<String>, part: impl Into<String>) -> Place {
        Place { file: file.into(), part: part.into() }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.part.is_empty() {
            true => f.write_str(&self.file),
            false => write!(f, "{}, {}", self.file, self.part),
        }
    }
}

/// What went wrong with files.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// The file is not what it claims to be.
    #[error("{place}: {what}")]
    Malformed {
        /// Where.
        place: Place,
        /// What is wrong: found and expected.
        what: String,
    },
    /// The file is sound, but of a kind that cannot be read.
    #[error("{place}: {what} is not supported{known}")]
    Unsupported {
        /// Where.
        place: Place,
        /// What.
        what: String,
        /// "; supported: …" or empty.
        known: String,
    },
    /// The request does not fit the file.
    #[error("{place}: {what}")]
    Usage {
        /// Where.
        place: Place,
        /// What.
        what: String,
    },
    /// The operating system refuses.
    #[error("{place}: {cause}")]
    Io {
        /// Where.
        place: Place,
        /// Its words.
        cause: std::io::Error,
    },
    /// The core refuses.
    #[error(transparent)]
    Core(#[from] telechroma_core::Error),
}

/// This crate's result.
pub type Result<T> = std::result::Result<T, Error>;

impl Error {
    /// The operating system's error about a path.
    pub fn io(path: &Path, cause: std::io::Error) -> Error {
        Error::Io { place: Place::file(path), cause }
    }

    /// A malformed file.
    pub fn malformed(place: Place, what: impl Into<String>) -> Error {
        Error::Malformed { place, what: what.into() }
    }

    /// Something not supported, with what is.
    pub fn unsupported(place: Place, what: impl Into<String>, known: &[&str]) -> Error {
        let known = if known.is_empty() { String::new() } else { format!("; supported: {}", known.join(", ")) };
        Error::Unsupported { place, what: what.into(), known }
    }

    /// A request that does not fit.
    pub fn usage(place: Place, what: impl Into<String>) -> Error {
        Error::Usage { place, what: what.into() }
    }
}

impl From<Error> for telechroma_core::Error {
    fn from(e: Error) -> telechroma_core::Error {
        match e {
            Error::Core(e) => e,
            other => telechroma_core::Error::outside(other),
        }
    }
}
