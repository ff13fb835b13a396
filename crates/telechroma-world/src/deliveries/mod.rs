//! A part of the estate in the public layouts of other sensors: names and bytes of a delivery's files.

pub mod landsat;
pub mod products;
pub mod sentinel2;

/// Names with folders, and bytes.
pub type Files = Vec<(String, Vec<u8>)>;

/// Writes files below a folder.
///
/// # Errors
/// Where one cannot be written.
pub fn write(folder: &std::path::Path, files: &Files) -> std::io::Result<()> {
    for (name, bytes) in files {
        let path = folder.join(name);
        if let Some(parent) = path.parent() {
            std::fs::create_dir_all(parent)?;
        }
        std::fs::write(path, bytes)?;
    }
    Ok(())
}
