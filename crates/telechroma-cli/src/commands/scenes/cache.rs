//! Summaries kept from one call to the next: what has not changed is not opened again.
//!
//! The file lies in the user's folder for such things, never among the data, and may be deleted at any time.

use std::collections::BTreeMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::UNIX_EPOCH;

use serde::{Deserialize, Serialize};
use telechroma_io::delivery::{Opener, Summary, below, stac};

use crate::context::Context;
use crate::report::Report;

/// Changes when summaries mean something else.
const VERSION: u32 = 2;

#[derive(Serialize, Deserialize)]
struct Kept {
    version: u32,
    entries: BTreeMap<PathBuf, (Stamp, Summary)>,
}

/// Tells whether something changed: bytes, and the newest of its files.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Stamp(u64, u64, u64);

fn stamp(path: &Path) -> Stamp {
    let mut s = Stamp(0, 0, 0);
    add(path, &mut s, 6);
    s
}

fn add(path: &Path, s: &mut Stamp, deeper: u32) {
    let Ok(meta) = std::fs::metadata(path) else { return };
    let nanos = meta.modified().ok().and_then(|t| t.duration_since(UNIX_EPOCH).ok()).map_or(0, |d| d.as_nanos() as u64);
    (s.1, s.2) = (s.1.max(nanos), s.2 + 1);
    if !meta.is_dir() {
        s.0 += meta.len();
    } else if deeper > 0 {
        std::fs::read_dir(path).into_iter().flatten().flatten().for_each(|e| add(&e.path(), s, deeper - 1));
    }
}

fn file_of(folder: &Path, opener: &Opener) -> Option<PathBuf> {
    let base = std::env::var_os("XDG_CACHE_HOME").map(PathBuf::from).filter(|p| p.is_absolute());
    let base = base.or_else(|| std::env::var_os("HOME").map(|h| PathBuf::from(h).join(".cache")))?;
    let mut hash = DefaultHasher::new();
    (std::fs::canonicalize(folder).ok()?, format!("{:?}", opener.sensor)).hash(&mut hash);
    Some(base.join("telechroma").join(format!("scenes-{:016x}.json", hash.finish())))
}

/// Summaries of everything in a folder, or of the items of a STAC file: scenes first, by date, then by path.
pub fn summaries(from: &Path, opener: &Opener, fresh: bool, ctx: &Context) -> Result<Vec<Summary>, Report> {
    if from.is_file() && from.extension().is_some_and(|e| e.eq_ignore_ascii_case("json")) {
        return Ok(sorted(stac::summaries(from)?));
    }
    if !from.is_dir() {
        return Err(Report::usage(format!("{}: is neither a folder nor a STAC catalogue (.json)", from.display())));
    }
    let paths = below(from, opener)?;
    let store = file_of(from, opener);
    let kept = store.as_ref().filter(|_| !fresh).and_then(|f| std::fs::read(f).ok());
    let kept: BTreeMap<PathBuf, (Stamp, Summary)> = kept
        .and_then(|b| serde_json::from_slice::<Kept>(&b).ok())
        .filter(|k| k.version == VERSION)
        .map_or_else(BTreeMap::new, |k| k.entries);
    let found: Mutex<BTreeMap<PathBuf, (Stamp, Summary)>> = Mutex::default();
    let (next, changed) = (AtomicUsize::new(0), AtomicUsize::new(0));
    std::thread::scope(|s| {
        for _ in 0..ctx.budget.threads {
            s.spawn(|| {
                while let Some(path) = paths.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let now = stamp(path);
                    let entry = match kept.get(path).filter(|(then, _)| *then == now) {
                        Some(known) => known.clone(),
                        None => {
                            changed.fetch_add(1, Ordering::Relaxed);
                            (now, Summary::of(path, opener))
                        }
                    };
                    found.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(path.clone(), entry);
                }
            });
        }
    });
    let entries = found.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    let all = entries.values().map(|(_, s)| s.clone()).collect();
    if let Some(file) = store.filter(|_| changed.into_inner() > 0 || entries.len() != kept.len()) {
        keep(&file, &Kept { version: VERSION, entries });
    }
    Ok(sorted(all))
}

/// What cannot be kept is looked up again the next time.
fn keep(file: &Path, kept: &Kept) {
    let Some(folder) = file.parent() else { return };
    let part = file.with_extension(format!("{}", std::process::id()));
    let done = std::fs::create_dir_all(folder)
        .and_then(|()| std::fs::write(&part, serde_json::to_vec(kept).unwrap_or_default()))
        .and_then(|()| std::fs::rename(&part, file));
    if done.is_err() {
        let _ = std::fs::remove_file(part);
    }
}

fn sorted(mut all: Vec<Summary>) -> Vec<Summary> {
    let key = |s: &Summary| (s.kind != "scene", s.date.is_none(), s.date.clone(), s.time.clone(), s.path.clone());
    all.sort_by_cached_key(key);
    all
}
