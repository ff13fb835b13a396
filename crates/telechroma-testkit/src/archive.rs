//! Files put into archives, as agencies deliver them.

use std::io::Write;
use std::path::Path;

use telechroma_world::deliveries::Files;

/// A `.zip`, its members packed or stored.
///
/// # Panics
/// Where it cannot be written.
pub fn zip(path: &Path, files: &Files, packed: bool) {
    let method = if packed { zip::CompressionMethod::Deflated } else { zip::CompressionMethod::Stored };
    let options = zip::write::SimpleFileOptions::default().compression_method(method);
    let write = || -> Result<(), Box<dyn std::error::Error>> {
        let mut out = zip::ZipWriter::new(std::fs::File::create(path)?);
        for (name, bytes) in files {
            out.start_file(name.as_str(), options)?;
            out.write_all(bytes)?;
        }
        out.finish()?;
        Ok(())
    };
    write().unwrap_or_else(|e| panic!("{}: {e}", path.display()));
}

/// A `.tar.gz`.
///
/// # Panics
/// Where it cannot be written.
pub fn tar_gz(path: &Path, files: &Files) {
    let write = || -> std::io::Result<()> {
        let gz = flate2::write::GzEncoder::new(std::fs::File::create(path)?, flate2::Compression::fast());
        let mut tar = tar::Builder::new(gz);
        for (name, bytes) in files {
            let mut header = tar::Header::new_gnu();
            header.set_size(bytes.len() as u64);
            header.set_mode(0o644);
            tar.append_data(&mut header, name, bytes.as_slice())?;
        }
        tar.into_inner()?.finish()?.flush()
    };
    write().unwrap_or_else(|e| panic!("{}: {e}", path.display()));
}
