//! Deliveries in archives of every kind: the same files, found by name with and without folders; damaged ones are named.

use std::io::Write;
use std::path::{Path, PathBuf};

use telechroma_io::delivery::Files;
use telechroma_testkit::archive;
use telechroma_world::deliveries::{Files as Made, write};

fn made() -> Made {
    let noise = |n: usize, key: u32| {
        (0..n).map(|i| ((i as u32).wrapping_mul(2_654_435_761).wrapping_add(key) >> 13) as u8).collect::<Vec<u8>>()
    };
    vec![
        ("X.SAFE/MTD_MSIL1C.xml".into(), b"<a/>".to_vec()),
        ("X.SAFE/GRANULE/L1C/IMG_DATA/T_B04.jp2".into(), noise(70_000, 4)),
        ("X.SAFE/GRANULE/L1C/IMG_DATA/T_B08.jp2".into(), noise(50_001, 8)),
        ("X.SAFE/GRANULE/L1C/MTD_TL.xml".into(), vec![b' '; 3000]),
    ]
}

fn tar(path: &Path, files: &Made) {
    let mut out = tar::Builder::new(std::fs::File::create(path).unwrap());
    for (name, bytes) in files {
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes.len() as u64);
        out.append_data(&mut header, name, bytes.as_slice()).unwrap();
    }
    out.finish().unwrap();
}

#[test]
fn every_container_holds_the_same() {
    let (dir, files) = (tempfile::tempdir().unwrap(), made());
    let at = |n: &str| dir.path().join(n);
    write(dir.path(), &files).unwrap();
    archive::zip(&at("packed.zip"), &files, true);
    archive::zip(&at("stored.ZIP"), &files, false);
    archive::tar_gz(&at("x.tar.gz"), &files);
    archive::tar_gz(&at("x.tgz"), &files);
    tar(&at("x.tar"), &files);
    let all: Vec<PathBuf> = ["X.SAFE", "packed.zip", "stored.ZIP", "x.tar.gz", "x.tgz", "x.tar"].map(at).to_vec();
    for path in &all {
        let found = Files::open(path).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
        assert_eq!(found.list().count(), files.len(), "{}", path.display());
        for (name, bytes) in &files {
            let short = name.rsplit('/').next().unwrap();
            let range = found.get(short).unwrap_or_else(|| panic!("{short} in {}", path.display()));
            assert_eq!(range.read_all(1 << 20).unwrap(), *bytes, "{short} in {}", path.display());
            assert_eq!(range.file_name(), short);
            // any part, not only from the start
            let mut part = [0u8; 3];
            range.read_at(1, &mut part[..bytes.len().min(3)]).unwrap();
            assert_eq!(part[..bytes.len().min(3)], bytes[1..1 + bytes.len().min(3)]);
            let e = range.read_at(bytes.len() as u64, &mut [0u8; 1]).unwrap_err().to_string();
            assert!(e.contains("cut off") && e.contains(short), "{e}");
        }
        assert!(found.named(|n| n.ends_with("_B08.jp2")).is_some() && found.ending("MTD_TL.xml").is_some());
        assert!(found.get("B04.jp2").is_none(), "a name is matched from its start");
    }
}

#[test]
fn archives_leave_nothing_behind() {
    let (dir, files) = (tempfile::tempdir().unwrap(), made());
    let path = dir.path().join("p.zip");
    archive::zip(&path, &files, true);
    let found = Files::open(&path).unwrap();
    found.get("T_B04.jp2").unwrap().read_all(1 << 20).unwrap();
    assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 1, "unpacked members have no name");
}

#[test]
fn damaged_archives_are_named() {
    let (dir, files) = (tempfile::tempdir().unwrap(), made());
    let said = |name: &str, bytes: &[u8]| {
        let path = dir.path().join(name);
        std::fs::File::create(&path).unwrap().write_all(bytes).unwrap();
        let read = Files::open(&path).and_then(|f| f.get("T_B04.jp2").map_or(Ok(vec![]), |b| b.read_all(1 << 20)));
        read.err().map_or("read".to_string(), |e| e.to_string())
    };
    archive::zip(&dir.path().join("a.zip"), &files, true);
    archive::tar_gz(&dir.path().join("a.tar.gz"), &files);
    let (zip, gz) =
        (std::fs::read(dir.path().join("a.zip")).unwrap(), std::fs::read(dir.path().join("a.tar.gz")).unwrap());
    assert!(said("b.zip", &zip[..zip.len() / 2]).contains("is no .zip archive, or a damaged one"));
    assert!(said("b.tar.gz", &gz[..gz.len() / 2]).contains("b.tar.gz"), "{}", said("b.tar.gz", &gz[..gz.len() / 2]));
    assert!(said("c.zip", b"").contains("c.zip") && said("c.tar.gz", b"").contains("c.tar.gz"));
    // a flipped byte inside a packed member is found by its checksum
    let mut flipped = zip;
    let at = flipped.windows(9).position(|w| w == b"T_B04.jp2").unwrap() + 200;
    flipped[at] ^= 0x55;
    assert!(said("d.zip", &flipped).contains("damaged"), "{}", said("d.zip", &flipped));
}
