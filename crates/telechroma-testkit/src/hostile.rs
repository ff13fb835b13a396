//! Damaged files.

use std::path::Path;

/// Lengths to cut a file of `len` bytes to: every one of the first 600, then about a hundred more.
pub fn cuts(len: usize) -> Vec<usize> {
    let step = (len / 97).max(1);
    let mut all: Vec<usize> =
        (0..len.min(600)).chain((0..len).step_by(step)).chain(len.saturating_sub(9)..len).collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// Where the value of a tag of a little-endian classic TIFF stands: the offset of the four bytes in its directory.
///
/// # Panics
/// Where there is no such tag.
pub fn tag_value_at(tiff: &[u8], tag: u16) -> usize {
    let u32_at = |at: usize| u32::from_le_bytes([tiff[at], tiff[at + 1], tiff[at + 2], tiff[at + 3]]) as usize;
    let u16_at = |at: usize| u16::from_le_bytes([tiff[at], tiff[at + 1]]);
    let directory = u32_at(4);
    let entry = (0..usize::from(u16_at(directory))).map(|i| directory + 2 + 12 * i).find(|e| u16_at(*e) == tag);
    entry.unwrap_or_else(|| panic!("no tag {tag}")) + 8
}

/// Replaces the value of a tag held in the directory itself.
///
/// # Panics
/// Where the file cannot be read or written, or has no such tag.
pub fn set_tag(path: &Path, tag: u16, value: u32) {
    let mut bytes = std::fs::read(path).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
    let at = tag_value_at(&bytes, tag);
    bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
    std::fs::write(path, bytes).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
}
