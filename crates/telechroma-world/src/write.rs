//! The estate on the disk: deliveries, fields, the campaign file, the truth.

use std::fs;
use std::io;
use std::path::Path;

use crate::mtl::{as_json, as_text, id};
use crate::scene::{Acquisition, Cover};
use crate::sky::Sky;
use crate::tiff::{Options, Packing, Samples, encode};
use crate::{COLS, Estate, ROWS, plots, trial};

/// A season at Tarn Hollow.
const CAMPAIGN: &str = include_str!("campaign.toml");

/// The files of one delivery: names and bytes.
fn delivery(estate: &Estate, a: &Acquisition, sky: &Sky) -> Vec<(String, Vec<u8>)> {
    let counts = estate.counts_under(a, sky);
    let name = id(a);
    let seen = counts.quality.iter().filter(|q| **q & 1 == 0).count().max(1);
    let cloudy = counts.quality.iter().filter(|q| **q & 0b1000 != 0).count();
    let percent = 100.0 * cloudy as f64 / seen as f64;
    // agencies changed their layouts over the years: tiles and strips, packed in several ways
    let layout = match a.number % 4 {
        0 => Options { tile: Some((256, 256)), predictor: 2, ..Options::default() },
        1 => Options { tile: None, strip: 32, predictor: 2, ..Options::default() },
        2 => Options { tile: Some((512, 512)), predictor: 2, ..Options::default() },
        _ => Options { tile: None, strip: 16, packing: Packing::Lzw, predictor: 2, ..Options::default() },
    };
    let image =
        |samples: Vec<u16>| encode(&Samples::U16(samples), &Options { cols: COLS, rows: ROWS, ..layout.clone() });
    let mut files = vec![];
    if let Some((_, red)) = counts.bands.iter().find(|b| b.0 == 4) {
        // the panchromatic band has cells half as large
        let fine = (0..4 * COLS * ROWS).map(|i| red[i / (2 * COLS) / 2 * COLS + i % (2 * COLS) / 2]).collect();
        let o = Options { cols: 2 * COLS, rows: 2 * ROWS, cell: crate::CELL / 2.0, ..layout.clone() };
        files.push((format!("{name}_B8.TIF"), encode(&Samples::U16(fine), &o)));
    }
    files.extend(counts.bands.into_iter().map(|(b, samples)| (format!("{name}_B{b}.TIF"), image(samples))));
    files.push((format!("{name}_QA_PIXEL.TIF"), image(counts.quality)));
    files.push((format!("{name}_QA_RADSAT.TIF"), image(counts.saturation)));
    files.push((format!("{name}_MTL.txt"), as_text(a, percent).into_bytes()));
    files.push((format!("{name}_MTL.json"), as_json(a, percent).into_bytes()));
    files.sort();
    files
}

/// The files of one delivery, whatever its air.
pub fn delivery_of(estate: &Estate, a: &Acquisition) -> Vec<(String, Vec<u8>)> {
    delivery(estate, a, &Sky::new(estate, a))
}

fn write_delivery(estate: &Estate, a: &Acquisition, scenes: &Path, truth: &Path) -> io::Result<()> {
    let sky = Sky::new(estate, a);
    let (name, files) = (id(a), delivery(estate, a, &sky));
    if a.number % 3 == 2 {
        let mut tar = tar::Builder::new(fs::File::create(scenes.join(format!("{name}.tar")))?);
        for (file, bytes) in files {
            let mut header = tar::Header::new_gnu();
            header.set_size(bytes.len() as u64);
            header.set_mode(0o644);
            tar.append_data(&mut header, file, bytes.as_slice())?;
        }
        tar.finish()?;
    } else {
        let folder = scenes.join(&name);
        fs::create_dir_all(&folder)?;
        for (file, bytes) in files {
            fs::write(folder.join(file), bytes)?;
        }
    }
    let t = estate.truth_under(a, &sky);
    let o = Options { cols: COLS, rows: ROWS, predictor: 2, point: false, ..Options::default() };
    let cover = t.cover.iter().map(|c: &Cover| *c as u8).collect();
    fs::write(truth.join(format!("{name}_cover.tif")), encode(&Samples::U8(cover), &o))?;
    let scaled = |v: f32, by: f32| (v * by).round() as i16;
    let mut planes: Vec<i16> =
        (0..7).flat_map(|b| t.toa.iter().map(move |p| scaled(p[b], 10_000.0)).collect::<Vec<_>>()).collect();
    planes.extend(t.kelvin.iter().map(|k| scaled(*k, 100.0)));
    let o = Options { bands: 8, planar: true, ..o };
    fs::write(truth.join(format!("{name}_clear_sky.tif")), encode(&Samples::I16(planes), &o))
}

/// Writes everything below a folder: `scenes/`, `fields.geojson`, `campaign.toml`, `trial/`, `truth/`.
///
/// # Errors
/// Where a file cannot be written.
pub fn write_estate(dir: &Path, seed: u64, threads: usize) -> io::Result<()> {
    let estate = Estate::new(seed);
    let (scenes, truth) = (dir.join("scenes"), dir.join("truth"));
    fs::create_dir_all(&scenes)?;
    fs::create_dir_all(&truth)?;
    fs::write(dir.join("fields.geojson"), plots::geojson(&estate))?;
    fs::write(dir.join("campaign.toml"), CAMPAIGN)?;
    fs::write(truth.join("README.txt"), include_str!("truth.txt"))?;
    let field = dir.join("trial");
    fs::create_dir_all(&field)?;
    fs::write(field.join("mosaic_20310706.tif"), trial::mosaic(seed))?;
    fs::write(field.join("mosaic_20310706.tif.toml"), trial::SIDECAR)?;
    fs::write(field.join("design.csv"), trial::design(seed))?;
    fs::write(field.join("harvest.csv"), trial::harvest(seed))?;
    let next = std::sync::atomic::AtomicUsize::new(0);
    let all = estate.acquisitions();
    std::thread::scope(|s| {
        let work = || {
            while let Some(a) = all.get(next.fetch_add(1, std::sync::atomic::Ordering::Relaxed)) {
                write_delivery(&estate, a, &scenes, &truth)?;
            }
            Ok(())
        };
        let workers: Vec<_> = (0..threads.max(1)).map(|_| s.spawn(work)).collect();
        workers
            .into_iter()
            .map(|w| w.join().unwrap_or_else(|_| Err(io::Error::other("a worker panicked"))))
            .collect::<io::Result<Vec<()>>>()
    })?;
    Ok(())
}
