//! Telling how a run goes on: a bar on a terminal, a plain line now and then elsewhere, nothing with `--quiet`.

use std::io::{IsTerminal, Write};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressStyle};
use telechroma_core::run::{Note, Observer};

/// Set by the interrupt handler.
pub static INTERRUPTED: AtomicBool = AtomicBool::new(false);

/// Seconds between plain lines.
const EVERY: Duration = Duration::from_secs(5);

/// Listens to runs and keeps their notes.
pub struct Progress {
    quiet: bool,
    bar: Mutex<Option<ProgressBar>>,
    last: Mutex<Instant>,
    notes: Mutex<Vec<Note>>,
}

fn lock<T>(m: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    m.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

impl Progress {
    /// Silent with `quiet`.
    pub fn new(quiet: bool) -> Progress {
        Progress { quiet, bar: Mutex::new(None), last: Mutex::new(Instant::now()), notes: Mutex::default() }
    }

    /// True where nothing is said.
    pub fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Says one line on stderr, unless quiet.
    pub fn say(&self, line: &str) {
        if self.quiet {
            return;
        }
        let print = || {
            // a closed stderr is nobody's trouble
            let _ = writeln!(std::io::stderr(), "{line}");
        };
        match &*lock(&self.bar) {
            Some(bar) => bar.suspend(print),
            None => print(),
        }
    }

    /// The notes so far, each once.
    pub fn notes(&self) -> Vec<Note> {
        lock(&self.notes).clone()
    }

    /// Takes the bar away.
    pub fn clear(&self) {
        if let Some(bar) = lock(&self.bar).take() {
            bar.finish_and_clear();
        }
    }
}

impl Observer for Progress {
    fn stage(&self, name: &str, tiles: usize) {
        self.clear();
        if self.quiet || !std::io::stderr().is_terminal() {
            return;
        }
        let bar = ProgressBar::new(tiles as u64);
        let style = ProgressStyle::with_template("{msg} {bar:32} {pos}/{len} tiles, {eta} left");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
        bar.set_message(name.to_string());
        *lock(&self.bar) = Some(bar);
    }

    fn tile_done(&self, done: usize, total: usize) {
        if let Some(bar) = &*lock(&self.bar) {
            bar.set_position(done as u64);
            return;
        }
        let due = {
            let mut last = lock(&self.last);
            let due = last.elapsed() >= EVERY;
            if due {
                *last = Instant::now();
            }
            due
        };
        if due {
            self.say(&format!("{done} of {total} tiles done"));
        }
    }

    fn note(&self, note: Note) {
        let mut notes = lock(&self.notes);
        if notes.contains(&note) {
            return;
        }
        notes.push(note.clone());
        drop(notes);
        self.say(&format!("note: {note}"));
    }

    fn cancelled(&self) -> bool {
        INTERRUPTED.load(Ordering::SeqCst)
    }
}
