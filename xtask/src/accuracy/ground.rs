//! Reflectance, layers and temperature of clear cells, against the true ones.

use telechroma_core::graph::Graph;
use telechroma_core::method::{
    BandChoice, LayerRequest, Recipe, Target, calibrated_band, dark_objects, plan_calibrated, plan_season,
    terrain_constants,
};
use telechroma_core::op::{Calibrate, Sample};
use telechroma_core::physics::{DarkMethod, TerrainMethod};
use telechroma_core::run::{Budget, Silent};
use telechroma_core::scene::{BandRole, Relief, Scene};
use telechroma_core::tile::Cells;
use telechroma_testkit::memory::MemoryPlane;
use telechroma_world::part::{BANDS, Part};
use telechroma_world::{Acquisition, Air, Cover, deliveries};

use super::{Case, Errors, Outcome, SEEDS, SETTINGS, Setting, Table, open, text, threads, values};

fn budget() -> Budget {
    Budget { threads: threads(), bytes: 1 << 31 }
}

fn roles() -> Vec<BandRole> {
    BANDS.iter().filter_map(|b| BandRole::from_name(b)).collect()
}

/// Calibrated bands of a scene.
fn bands(scene: &Scene, target: Target) -> Outcome<Vec<Vec<f32>>> {
    let (g, planes, _) = plan_calibrated(scene, &roles(), target, &Default::default()).map_err(text)?;
    let nodes: Vec<_> = planes.iter().map(|p| p.1).collect();
    values(g, &nodes)
}

/// Dates that stand for the season.
const SOME: [usize; 4] = [0, 4, 6, 9];

/// Bias and error of a band, in thousandths.
fn thousandths(e: &Errors) -> String {
    format!("{:+.1} ± {:.1}", 1000.0 * e.bias(), 1000.0 * e.rmse())
}

/// Reflectance by band, level and haze.
pub fn reflectance() -> Outcome<String> {
    let columns: Vec<&str> = ["haze", "target"].into_iter().chain(BANDS).collect();
    let mut t = Table::new(&columns);
    for haze in [1.0, 2.0, 3.0] {
        let mut sums = [[Errors::default(); 7]; 4];
        for seed in SEEDS {
            for mut case in Case::all(seed, &SETTINGS[0]).into_iter().filter(|c| SOME.contains(&c.acquisition.number)) {
                case.acquisition.air = Air { haze, ..case.acquisition.air };
                let dir = tempfile::tempdir().map_err(text)?;
                let mut scene = case.open(dir.path())?;
                scene.dark = dark_objects(&scene, &roles(), budget(), &Silent).map_err(text)?;
                let truth = case.estate.truth(&case.acquisition);
                let runs = [
                    bands(&scene, Target::Toa)?,
                    bands(&scene, Target::Surface(DarkMethod::Dos1))?,
                    bands(&scene, Target::Surface(DarkMethod::Cost))?,
                ];
                for i in (0..truth.cover.len()).filter(|i| truth.cover[*i] == Cover::Clear && truth.ground[*i][3] < 1.0)
                {
                    for b in 0..7 {
                        let (toa, ground) = (f64::from(truth.toa[i][b]), f64::from(truth.ground[i][b]));
                        sums[0][b].add(f64::from(runs[0][b][i]) - toa);
                        sums[1][b].add(f64::from(runs[0][b][i]) - ground);
                        sums[2][b].add(f64::from(runs[1][b][i]) - ground);
                        sums[3][b].add(f64::from(runs[2][b][i]) - ground);
                    }
                }
            }
        }
        let names = ["toa, against that above the air", "toa taken for surface", "surface, dos1", "surface, cost"];
        for (name, row) in names.iter().zip(&sums) {
            let cells = row.iter().map(thousandths);
            t.row(&[format!("{haze:.0} ×"), (*name).into()].into_iter().chain(cells).collect::<Vec<_>>());
        }
    }
    Ok(format!(
        "Error of clear cells (mean ± root mean square), in thousandths of reflectance, over four dates. The rows of surface\nreflectance are against the ground's own.\n\n{}",
        t.text()
    ))
}

/// Correction of slopes.
pub fn slopes() -> Outcome<String> {
    let columns = ["hills", "correction", "red", "nir", "swir16"];
    let shown = [3usize, 4, 5];
    let mut t = Table::new(&columns);
    for relief in [150.0, 300.0] {
        let mut sums = [[Errors::default(); 3]; 3];
        for seed in SEEDS {
            for mut case in Case::all(seed, &SETTINGS[0]).into_iter().filter(|c| [4, 9].contains(&c.acquisition.number))
            {
                case.acquisition.air = Air { relief, ..case.acquisition.air };
                let dir = tempfile::tempdir().map_err(text)?;
                let scene = case.open(dir.path())?;
                let heights = Cells::Values(case.estate.elevation(relief));
                let grid = (*scene.grid).clone();
                let plane = MemoryPlane::shared(
                    "heights",
                    grid,
                    telechroma_core::tile::Kind::Values,
                    telechroma_core::units::Unit::Unknown,
                    (256, 256),
                    heights,
                );
                let truth = case.estate.truth(&case.acquisition);
                for (row, method) in [None, Some(TerrainMethod::Cosine), Some(TerrainMethod::C)].into_iter().enumerate()
                {
                    let mut scene = scene.clone();
                    scene.relief = method.map(|method| Relief { method, elevation: plane.clone(), constants: vec![] });
                    let (constants, _) =
                        terrain_constants(&scene, &plane, &roles(), Target::Toa, budget(), &Silent).map_err(text)?;
                    scene.relief.iter_mut().for_each(|r| r.constants.clone_from(&constants));
                    let mut g = Graph::new((*scene.grid).clone());
                    let mut nodes = vec![];
                    for b in shown {
                        let role = BandRole::from_name(BANDS[b]).ok_or("a band without role")?;
                        let band = calibrated_band(&mut g, &scene, role, Target::Toa, None, None).map_err(text)?;
                        nodes.push(match band.sample {
                            Sample::Values => band.node,
                            Sample::Counts(by) => {
                                g.add(Calibrate { by, unit: band.unit }, &[band.node]).map_err(text)?
                            }
                        });
                    }
                    let planes = values(g, &nodes)?;
                    for i in
                        (0..truth.cover.len()).filter(|i| truth.cover[*i] == Cover::Clear && truth.ground[*i][3] < 1.0)
                    {
                        for (k, b) in shown.iter().enumerate() {
                            sums[row][k].add(f64::from(planes[k][i]) - f64::from(truth.toa[i][*b]));
                        }
                    }
                }
            }
        }
        for (name, row) in ["none", "cosine", "c"].iter().zip(&sums) {
            let cells = row.iter().map(thousandths);
            t.row(&[format!("{relief:.0} m"), (*name).into()].into_iter().chain(cells).collect::<Vec<_>>());
        }
    }
    Ok(format!(
        "Reflectance above the air of clear cells against that of the same ground laid flat, in thousandths (mean ± root mean\nsquare), on 25 June and 15 October.\n\n{}",
        t.text()
    ))
}

/// The estate as other sensors see it.
pub fn sensors() -> Outcome<String> {
    let mut t = Table::new(&["delivery", "blue", "green", "red", "nir", "swir16"]);
    let part = |a: &Acquisition, seed| telechroma_world::Estate::new(seed).part(a, (60, 60), (360, 360));
    type Make = fn(&Acquisition, &Part) -> (String, deliveries::Files, bool);
    let kinds: [(&str, Make); 4] = [
        ("Landsat 5 TM, Level 1 (8-bit)", |a, p| {
            use deliveries::landsat::{Kind, files, id};
            (id(Kind::Tm, a), files(Kind::Tm, a, p), true)
        }),
        ("Landsat 7 ETM+, Level 1 (8-bit)", |a, p| {
            use deliveries::landsat::{Kind, files, id};
            (id(Kind::Etm, a), files(Kind::Etm, a, p), true)
        }),
        ("Landsat 8, Level 2", |a, p| {
            use deliveries::landsat::{Kind, files, id};
            (id(Kind::OliLevel2, a), files(Kind::OliLevel2, a, p), true)
        }),
        ("Sentinel-2, Level 1C (10 and 20 m)", |a, p| {
            use deliveries::sentinel2::{Kind, files, name};
            let pack = |c: usize, r: usize, bits: u32, samples: &[u16]| {
                telechroma_testkit::jp2::encode(c, r, bits, samples, 128)
            };
            (name(Kind::L1c, a), files(Kind::L1c, a, p, &pack), false)
        }),
    ];
    let shown = [1usize, 2, 3, 4, 5];
    for (label, make) in kinds {
        let mut sums = [Errors::default(); 5];
        for seed in SEEDS {
            for case in Case::all(seed, &SETTINGS[0]).into_iter().filter(|c| c.acquisition.number == 4) {
                let p = part(&case.acquisition, seed);
                let (id, files, inside) = make(&case.acquisition, &p);
                let dir = tempfile::tempdir().map_err(text)?;
                let folder = if inside { dir.path().join(&id) } else { dir.path().to_path_buf() };
                deliveries::write(&folder, &files).map_err(text)?;
                let scene = open(&dir.path().join(&id))?;
                let roles: Vec<BandRole> = shown.iter().filter_map(|b| BandRole::from_name(BANDS[*b])).collect();
                let (g, planes, _) = plan_calibrated(&scene, &roles, Target::Toa, &Default::default()).map_err(text)?;
                let nodes: Vec<_> = planes.iter().map(|p| p.1).collect();
                let got = values(g, &nodes)?;
                for i in (0..p.cover.len()).filter(|i| p.cover[*i] == Cover::Clear && p.seen[*i][3] < 1.0) {
                    for (k, b) in shown.iter().enumerate() {
                        sums[k].add(f64::from(got[k][i]) - p.seen[i][*b]);
                    }
                }
            }
        }
        t.row(&std::iter::once(label.to_string()).chain(sums.iter().map(thousandths)).collect::<Vec<_>>());
    }
    Ok(format!(
        "Reflectance of clear cells on 25 June as delivered in other layouts, in thousandths (mean ± root mean square): what\ncounts of 8 bits, and bands of 20 m among those of 10 m, leave of it.\n\n{}",
        t.text()
    ))
}

/// NDVI and temperatures.
pub fn layers() -> Outcome<String> {
    let mut t = Table::new(&["setting", "ndvi", "ndwi", "ndmi", "lst, K"]);
    for setting in &SETTINGS[..2] {
        t.row(&of_setting(setting)?);
    }
    Ok(format!(
        "Layers of single scenes over clear cells, four dates: the indices against those of the true reflectance above the air,\n`lst` against the ground's temperature (mean ± root mean square).\n\n{}",
        t.text()
    ))
}

fn of_setting(setting: &Setting) -> Outcome<Vec<String>> {
    let mut sums = [Errors::default(); 4];
    for seed in SEEDS {
        for case in Case::all(seed, setting).into_iter().filter(|c| SOME.contains(&c.acquisition.number)) {
            let dir = tempfile::tempdir().map_err(text)?;
            let scene = case.open(dir.path())?;
            let layer = |n: &str| LayerRequest { name: n.into(), formula: None };
            let recipe = Recipe {
                layers: ["ndvi", "ndwi", "ndmi", "lst"].map(layer).to_vec(),
                bands: BandChoice::Needed,
                at_least: 1,
                ..Recipe::default()
            };
            let season = plan_season(vec![scene], &recipe).map_err(text)?;
            let nodes: Vec<_> = season.periods[0].layers.iter().map(|l| l.node).collect();
            let got = values(season.graph, &nodes)?;
            let truth = case.estate.truth(&case.acquisition);
            for i in (0..truth.cover.len()).filter(|i| truth.cover[*i] == Cover::Clear && truth.ground[*i][3] < 1.0) {
                let b = truth.toa[i].map(f64::from);
                let ratio = |x: f64, y: f64| (x - y) / (x + y);
                let want = [ratio(b[4], b[3]), ratio(b[2], b[4]), ratio(b[4], b[5]), f64::from(truth.kelvin[i])];
                for (k, want) in want.iter().enumerate() {
                    sums[k].add(f64::from(got[k][i]) - want);
                }
            }
        }
    }
    let index = |e: &Errors| format!("{:+.4} ± {:.4}", e.bias(), e.rmse());
    let kelvin = format!("{:+.2} ± {:.2}", sums[3].bias(), sums[3].rmse());
    Ok(vec![setting.name.into(), index(&sums[0]), index(&sums[1]), index(&sums[2]), kelvin])
}
