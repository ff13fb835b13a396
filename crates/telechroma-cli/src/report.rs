//! Failures as people read them: a message, and what to do.

use telechroma_core::Error as Core;
use telechroma_io::Error as Io;

use crate::exit::Exit;
use crate::hint;

/// A failure on its way to the user.
#[derive(Debug)]
pub struct Report {
    /// What went wrong, with its place.
    pub message: String,
    /// What to do.
    pub hint: Option<String>,
    /// How the program ends.
    pub exit: Exit,
}

impl Report {
    /// A wrong request.
    pub fn usage(message: impl Into<String>) -> Report {
        Report { message: message.into(), hint: None, exit: Exit::Usage }
    }

    /// Something that could not be done.
    pub fn failed(message: impl Into<String>) -> Report {
        Report { message: message.into(), hint: None, exit: Exit::Failed }
    }

    /// Done, but `--strict` found something.
    pub fn strict(message: impl Into<String>) -> Report {
        Report { message: message.into(), hint: None, exit: Exit::Strict }
    }

    /// With what to do.
    #[must_use]
    pub fn hint(mut self, hint: impl Into<String>) -> Report {
        self.hint = Some(hint.into());
        self
    }

    /// As one JSON object.
    pub fn to_json(&self) -> serde_json::Value {
        serde_json::json!({"error": self.message, "hint": self.hint})
    }
}

impl From<Core> for Report {
    fn from(e: Core) -> Report {
        if let Core::Outside(cause) = &e
            && let Some(io) = cause.downcast_ref::<Io>()
        {
            return of_io(io);
        }
        let exit = match e {
            Core::Cancelled => Exit::Interrupted,
            Core::UnknownName { .. }
            | Core::Formula { .. }
            | Core::Usage(_)
            | Core::Unmasked { .. }
            | Core::NotGiven { .. }
            | Core::OverBudget { .. } => Exit::Usage,
            _ => Exit::Failed,
        };
        Report { message: e.to_string(), hint: hint::of_core(&e), exit }
    }
}

impl From<Io> for Report {
    fn from(e: Io) -> Report {
        match e {
            Io::Core(e) => Report::from(e),
            other => of_io(&other),
        }
    }
}

fn of_io(e: &Io) -> Report {
    let exit = if matches!(e, Io::Usage { .. }) { Exit::Usage } else { Exit::Failed };
    Report { message: e.to_string(), hint: hint::of_io(e), exit }
}
