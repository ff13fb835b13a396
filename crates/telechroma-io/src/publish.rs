//! Results appear under their name only when complete.
//!
//! Everything is written into a scratch folder beside the results and renamed at the end. The folder holds a locked
//! file: one that a killed run left behind is not locked any more, and the next run removes it.

use std::fs::{self, File};
use std::path::{Path, PathBuf};

use crate::error::{Error, Place, Result};

const PREFIX: &str = ".unfinished-";
const LOCK: &str = ".lock";

/// The outputs of one run.
#[derive(Debug)]
pub struct Publisher {
    root: PathBuf,
    made_root: Option<PathBuf>,
    scratch: PathBuf,
    _lock: File,
    overwrite: bool,
    staged: Vec<(PathBuf, PathBuf)>,
}

impl Publisher {
    /// For results below the folder `root`, which is made if it is missing.
    ///
    /// # Errors
    /// Where the folder cannot be made or written to.
    pub fn new(root: &Path, overwrite: bool) -> Result<Publisher> {
        let made_root = first_missing(root);
        fs::create_dir_all(root).map_err(|e| Error::io(root, e))?;
        remove_leftovers(root);
        let scratch = root.join(format!("{PREFIX}{}", std::process::id()));
        let make = || {
            fs::create_dir_all(&scratch)?;
            let lock = File::create(scratch.join(LOCK))?;
            lock.try_lock().map_err(std::io::Error::other)?;
            Ok(lock)
        };
        let undo = |e: std::io::Error| {
            let _ = fs::remove_dir_all(&scratch); // the error below matters more
            made_root.iter().for_each(|r| drop(fs::remove_dir_all(r)));
            Error::io(root, e)
        };
        let lock = make().map_err(undo)?;
        Ok(Publisher { root: root.into(), made_root, scratch: scratch.clone(), _lock: lock, overwrite, staged: vec![] })
    }

    /// The folder of the results.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// A scratch path for a result, which will get the name `root/relative` when all is done.
    ///
    /// # Errors
    /// Where a result of that name exists and may not be replaced, or was staged before.
    pub fn stage(&mut self, relative: &str) -> Result<PathBuf> {
        let path = self.root.join(relative);
        if self.staged.iter().any(|(_, to)| *to == path) {
            return Err(Error::usage(Place::file(&path), "two results would get this name"));
        }
        if path.is_dir() {
            return Err(Error::usage(Place::file(&path), "is a folder; a result would get this name"));
        }
        if !self.overwrite && path.exists() {
            return Err(Error::usage(Place::file(&path), "exists already and is not replaced"));
        }
        // its own name: formats of several files, or with names inside, go by it
        let at = self.scratch.join(relative);
        if let Some(folder) = at.parent() {
            fs::create_dir_all(folder).map_err(|e| Error::io(folder, e))?;
        }
        self.staged.push((at.clone(), path));
        Ok(at)
    }

    /// Gives every staged result its name, in the order of staging.
    ///
    /// # Errors
    /// Where a folder cannot be made or a name not be given.
    pub fn publish(mut self) -> Result<Vec<PathBuf>> {
        let staged = std::mem::take(&mut self.staged);
        if !staged.is_empty() {
            self.made_root = None; // it stays; a folder made for nothing goes
        }
        for (_, to) in &staged {
            if let Some(folder) = to.parent() {
                fs::create_dir_all(folder).map_err(|e| Error::io(folder, e))?;
            }
        }
        for (from, to) in &staged {
            fs::rename(from, to).map_err(|e| Error::io(to, e))?;
        }
        Ok(staged.into_iter().map(|s| s.1).collect())
    }
}

impl Drop for Publisher {
    fn drop(&mut self) {
        // nothing of an unfinished run stays; what cannot be removed now is removed by the next run
        let _ = fs::remove_dir_all(&self.scratch);
        if let Some(made) = &self.made_root {
            let _ = fs::remove_dir_all(made);
        }
    }
}

/// The topmost folder of `root` that does not exist yet.
fn first_missing(root: &Path) -> Option<PathBuf> {
    root.ancestors().take_while(|p| !p.as_os_str().is_empty() && !p.exists()).last().map(Path::to_path_buf)
}

fn remove_leftovers(root: &Path) {
    let Ok(entries) = fs::read_dir(root) else { return };
    for path in entries.flatten().map(|e| e.path()) {
        let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        if !name.starts_with(PREFIX) || !path.is_dir() {
            continue;
        }
        let free = File::open(path.join(LOCK)).is_ok_and(|f| f.try_lock().is_ok());
        if free {
            let _ = fs::remove_dir_all(&path);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_appears_before_it_is_complete_and_nothing_stays_of_what_was_not() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path().join("a/b");
        let mut p = Publisher::new(&root, false).unwrap();
        fs::write(p.stage("x/one.txt").unwrap(), "1").unwrap();
        assert!(!root.join("x").exists());
        drop(p);
        assert!(!dir.path().join("a").exists(), "folders made for nothing are gone");
        let mut p = Publisher::new(&root, false).unwrap();
        fs::write(p.stage("x/one.txt").unwrap(), "1").unwrap();
        p.publish().unwrap();
        assert_eq!(fs::read_to_string(root.join("x/one.txt")).unwrap(), "1");
        let mut p = Publisher::new(&root, false).unwrap();
        assert!(p.stage("x/one.txt").unwrap_err().to_string().contains("exists already"));
        drop(p);
        assert_eq!(fs::read_dir(&root).unwrap().count(), 1);
    }

    #[test]
    fn a_killed_runs_leftovers_go_but_a_living_runs_folder_stays() {
        let dir = tempfile::tempdir().unwrap();
        let dead = dir.path().join(".unfinished-1");
        fs::create_dir(&dead).unwrap();
        fs::write(dead.join(LOCK), "").unwrap();
        let living = dir.path().join(".unfinished-2");
        fs::create_dir(&living).unwrap();
        let held = File::create(living.join(LOCK)).unwrap();
        held.try_lock().unwrap();
        let p = Publisher::new(dir.path(), false).unwrap();
        assert!(!dead.exists() && living.exists());
        drop(p);
    }
}
