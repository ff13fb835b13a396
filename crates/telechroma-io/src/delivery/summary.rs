//! What a delivery or raster is, by its metadata alone: small, without planes, fit for lists of thousands.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use telechroma_core::geo::Crs;
use telechroma_core::grid::Grid;
use telechroma_core::scene::{Content, Scene};

use super::{Opened, Opener};

/// One entry of a list of scenes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Summary {
    /// Where it lies.
    pub path: PathBuf,
    /// "scene", "raster", "mask" or "unreadable".
    pub kind: String,
    /// The delivery's id, or the file's name.
    pub id: String,
    /// Day of acquisition, or of the period.
    pub date: Option<String>,
    /// Instant of acquisition (UTC).
    pub time: Option<String>,
    /// Id of the sensor.
    pub sensor: String,
    /// Platform, for people.
    pub platform: String,
    /// Processing level.
    pub level: String,
    /// Path and row, or tile.
    pub place: Option<String>,
    /// Cloud by the metadata, %.
    pub cloud: Option<f64>,
    /// Degrees of the sun above the horizon, and its azimuth.
    pub sun: Option<(f64, f64)>,
    /// The grid, if it has one.
    pub grid: Option<GridSummary>,
    /// Bands: name, role or layer, wavelengths in nanometres, coding.
    pub bands: Vec<BandSummary>,
    /// Bytes on the disk.
    pub bytes: u64,
    /// What looks wrong.
    pub troubles: Vec<String>,
}

/// A grid, as far as lists need it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct GridSummary {
    /// The coordinate system: an EPSG code or parameters; none where it is not known.
    pub crs: Option<String>,
    /// Rows and columns.
    pub shape: (u32, u32),
    /// Cells to coordinates: a, b, c, d, e, f.
    pub transform: [f64; 6],
    /// Corners in longitude and latitude, in a ring.
    pub footprint: Vec<(f64, f64)>,
}

/// A band, as far as lists need it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct BandSummary {
    /// Its name in the delivery.
    pub name: String,
    /// What it sees, or the layer's name.
    pub role: String,
    /// Shortest and longest wavelength, nanometres.
    pub edges: Option<(f64, f64)>,
    /// The unit of its values, "counts" for raw ones.
    pub unit: String,
    /// Radiance of a count, W m⁻² sr⁻¹ µm⁻¹: multiplier and offset, where the metadata state them. Reflectance is no line of
    /// the counts alone: it needs the sun.
    pub line: Option<(f64, f64)>,
    /// Its cell size.
    pub cell: f64,
}

/// Names of a raster's bands that a list shows.
const SHOWN: usize = 4;

impl GridSummary {
    fn of(grid: &Grid) -> GridSummary {
        let t = grid.transform;
        let (w, h) = (f64::from(grid.cols), f64::from(grid.rows));
        let corners = [(0.0, 0.0), (w, 0.0), (w, h), (0.0, h)].map(|(c, r)| t.to_world(c, r));
        let projector = grid.crs.and_then(|c| telechroma_core::geo::Projector::new(c, Crs::LONGITUDE_LATITUDE).ok());
        let footprint = projector.map_or(vec![], |p| corners.iter().filter_map(|(x, y)| p.place(*x, *y)).collect());
        GridSummary {
            crs: grid.crs.map(|c| c.to_string()),
            shape: (grid.rows, grid.cols),
            transform: [t.a, t.b, t.c, t.d, t.e, t.f],
            footprint,
        }
    }

    /// The grid; none where its coordinate system cannot be used.
    pub fn grid(&self) -> Option<Grid> {
        let [a, b, c, d, e, f] = self.transform;
        let transform = telechroma_core::geo::Affine { a, b, c, d, e, f };
        let crs = Some(Crs::from_text(self.crs.as_deref()?).ok()?);
        (transform.determinant() != 0.0).then_some(Grid { crs, transform, cols: self.shape.1, rows: self.shape.0 })
    }
}

fn bytes_of(path: &Path) -> u64 {
    let meta = |p: &Path| std::fs::metadata(p).map_or(0, |m| m.len());
    if !path.is_dir() {
        return meta(path);
    }
    let entries = std::fs::read_dir(path).into_iter().flatten().flatten();
    entries.map(|e| bytes_of(&e.path())).sum()
}

fn of_scene(s: &Scene) -> Vec<BandSummary> {
    let band = |b: &telechroma_core::scene::Band| BandSummary {
        name: b.name.clone(),
        role: b.role.name().into(),
        edges: b.edges.map(|(a, z)| (a.0, z.0)),
        unit: match &b.content {
            Content::Counts(_) => "counts".into(),
            Content::Values(u) => u.label().into(),
        },
        line: match &b.content {
            Content::Counts(c) => c.radiance.as_ref().ok().map(|l| (l.gain, l.offset)),
            Content::Values(_) => None,
        },
        cell: b.source.spec().grid.transform.cell().0,
    };
    s.bands.iter().map(band).collect()
}

impl Summary {
    /// Of what lies at a path; what cannot be opened is an entry too, with the reason as its trouble.
    pub fn of(path: &Path, opener: &Opener) -> Summary {
        let mut notes = vec![];
        let opened = opener.open(path, &mut |n| notes.push(n.to_string()));
        let name = path.file_name().map_or(String::new(), |n| n.to_string_lossy().into_owned());
        let mut s = Summary {
            path: path.into(),
            kind: "unreadable".into(),
            id: name,
            date: None,
            time: None,
            sensor: String::new(),
            platform: String::new(),
            level: String::new(),
            place: None,
            cloud: None,
            sun: None,
            grid: None,
            bands: vec![],
            bytes: bytes_of(path),
            troubles: notes,
        };
        match opened {
            Err(e) => s.troubles.push(e.to_string()),
            Ok(Opened::Mask { scene, source, .. }) => {
                s.kind = "mask".into();
                s.level = format!("of {scene}");
                s.grid = Some(GridSummary::of(&source.spec().grid));
            }
            Ok(Opened::Layers(set)) => {
                s.kind = "raster".into();
                s.date = Some(set.period.clone()).filter(|p| p != "all");
                let names: Vec<&str> = set.layers.iter().map(|l| l.name.as_str()).collect();
                s.level = names[..names.len().min(SHOWN)].join(" ") + if names.len() > SHOWN { " …" } else { "" };
                s.grid = Some(GridSummary::of(&set.grid));
                let cell = set.grid.transform.cell().0;
                s.bands = set
                    .layers
                    .iter()
                    .map(|l| BandSummary {
                        name: l.name.clone(),
                        role: l.name.clone(),
                        edges: None,
                        unit: l.unit.label().into(),
                        line: None,
                        cell,
                    })
                    .collect();
            }
            Ok(Opened::Scene(scene)) => {
                s.kind = "scene".into();
                s.id = scene.id.clone();
                s.date = scene.date.map(|d| d.to_string());
                s.time = scene.acquired.map(|t| t.to_string());
                s.sensor = scene.sensor.clone();
                s.platform = scene.platform.clone();
                s.level = scene.level.clone();
                s.place = scene.place.clone();
                s.cloud = scene.cloud_cover;
                s.sun = scene.sun.map(|sun| (sun.elevation.0, sun.azimuth.0));
                s.grid = Some(GridSummary::of(&scene.grid));
                s.bands = of_scene(&scene);
                if scene.flags.is_empty() {
                    s.troubles.push("no mask band".into());
                }
            }
        }
        if s.grid.as_ref().is_some_and(|g| g.crs.is_none()) {
            s.troubles.push("no coordinate system".into());
        }
        s
    }
}
