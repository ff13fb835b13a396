//! How accurate the methods are, measured on the made-up estate whose truth is known: `docs/accuracy.md`.
//!
//! The estate's atmosphere, clouds, shadows, slopes and noise are those of `telechroma-world`, which shares no code with
//! the methods under test.

mod composites;
mod ground;
mod sky;

use std::fmt::Write;
use std::path::Path;

use telechroma_core::graph::{Graph, NodeId};
use telechroma_core::scene::Scene;
use telechroma_core::tile::Cells;
use telechroma_io::delivery::{Opened, Opener};
use telechroma_testkit::memory::compute;
use telechroma_world::{Acquisition, Air, Estate, delivery_of};

/// Seeds of the estates.
pub const SEEDS: [u64; 3] = [2031, 7, 99];
/// Errors end the task with their text.
pub type Outcome<T> = Result<T, String>;

/// A setting: its name, what it is, and the air of an acquisition in it.
pub struct Setting {
    pub name: &'static str,
    pub what: &'static str,
    pub air: fn(Air) -> Air,
}

/// The default estate first, then harder ones. No method was adjusted to these.
pub const SETTINGS: [Setting; 4] = [
    Setting { name: "default", what: "clear air, flat land", air: |a| a },
    Setting {
        name: "hazy",
        what: "two and a half times the scattered light, twice the grain",
        air: |a| Air { haze: 2.5, grain: 2.0 * a.grain, ..a },
    },
    Setting {
        name: "soft and high",
        what: "clouds with edges three times as soft, twice as high",
        air: |a| Air { softness: 3.0 * a.softness, cloud_height: 2.0 * a.cloud_height, ..a },
    },
    Setting { name: "hilly", what: "hills of 300 m under the clouds", air: |a| Air { relief: 300.0, ..a } },
];

/// One acquisition of one estate.
pub struct Case {
    pub estate: Estate,
    pub acquisition: Acquisition,
}

impl Case {
    /// All acquisitions of a seed in a setting.
    pub fn all(seed: u64, setting: &Setting) -> Vec<Case> {
        let estate = Estate::new(seed);
        let changed = |a: Acquisition| Acquisition { air: (setting.air)(a.air), ..a };
        let list = estate.acquisitions();
        list.into_iter().map(|a| Case { estate: estate.clone(), acquisition: changed(a) }).collect()
    }

    /// Its delivery, written below a folder and opened.
    pub fn open(&self, dir: &Path) -> Outcome<Scene> {
        let folder = dir.join(format!("scene_{}", self.acquisition.number));
        telechroma_world::deliveries::write(&folder, &delivery_of(&self.estate, &self.acquisition)).map_err(text)?;
        open(&folder)
    }
}

/// Opens a delivery.
pub fn open(path: &Path) -> Outcome<Scene> {
    match Opener::default().open(path, &mut |_| {}).map_err(text)? {
        Opened::Scene(scene) => Ok(*scene),
        _ => Err(format!("{}: no scene", path.display())),
    }
}

/// Any failure as text.
pub fn text(e: impl std::fmt::Display) -> String {
    e.to_string()
}

/// Whole planes of values.
pub fn values(g: Graph, planes: &[NodeId]) -> Outcome<Vec<Vec<f32>>> {
    let (cells, _) = compute(g, planes, None, threads()).map_err(text)?;
    let one = |c: Cells| match c {
        Cells::Values(v) => v,
        Cells::Bits(b) => b.into_iter().map(f32::from).collect(),
    };
    Ok(cells.into_iter().map(one).collect())
}

/// Threads to use.
pub fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Mean and spread of errors.
#[derive(Debug, Clone, Copy, Default)]
pub struct Errors {
    n: f64,
    sum: f64,
    squares: f64,
}

impl Errors {
    /// One more.
    pub fn add(&mut self, error: f64) {
        if error.is_finite() {
            (self.n, self.sum, self.squares) = (self.n + 1.0, self.sum + error, self.squares + error * error);
        }
    }

    /// Their mean.
    pub fn bias(&self) -> f64 {
        self.sum / self.n
    }

    /// The root of their mean square.
    pub fn rmse(&self) -> f64 {
        (self.squares / self.n).sqrt()
    }

    /// How many.
    pub fn cells(&self) -> f64 {
        self.n
    }
}

/// A table in Markdown.
pub struct Table(String);

impl Table {
    /// With these columns.
    pub fn new(columns: &[&str]) -> Table {
        let line = columns.iter().map(|_| "---").collect::<Vec<_>>().join(" | ");
        Table(format!("| {} |\n| {line} |\n", columns.join(" | ")))
    }

    /// One more row.
    pub fn row(&mut self, cells: &[String]) {
        let _ = writeln!(self.0, "| {} |", cells.join(" | "));
    }

    /// The text.
    pub fn text(self) -> String {
        self.0
    }
}

/// Writes `docs/accuracy.md`.
///
/// # Errors
/// Where a method fails or a file cannot be written.
pub fn run(root: &Path) -> Outcome<String> {
    let settings = SETTINGS.iter().fold(String::new(), |t, s| t + &format!("- **{}**: {}.\n", s.name, s.what));
    // the parts are independent: most of the time goes into the made-up estates
    type Part = fn() -> Outcome<String>;
    let parts: [(&str, Part); 6] = [
        ("Clouds and shadows", sky::tables),
        ("Reflectance", ground::reflectance),
        ("Slopes", ground::slopes),
        ("Other sensors", ground::sensors),
        ("Composites", composites::table),
        ("Indices and temperature", ground::layers),
    ];
    let texts = std::thread::scope(|s| {
        let running: Vec<_> = parts.iter().map(|(_, part)| s.spawn(part)).collect();
        let ended = running.into_iter().map(|r| r.join().unwrap_or_else(|_| Err("a part panicked".into())));
        ended.collect::<Outcome<Vec<String>>>()
    })?;
    let body =
        parts.iter().zip(&texts).fold(String::new(), |t, ((name, _), text)| t + &format!("## {name}\n\n{text}\n"));
    let page = format!("{HEAD}\n{settings}\n{body}{TAIL}");
    let path = root.join("docs/accuracy.md");
    std::fs::write(&path, page).map_err(|e| format!("{}: {e}", path.display()))?;
    Ok(format!("{} written", path.display()))
}

const HEAD: &str = "\
# Accuracy

Measured, not promised: every number on this page comes from `cargo xtask accuracy`, which runs the methods on the made-up
estate *Tarn Hollow*, whose ground, air, clouds and shadows are known cell by cell. The estate's own code makes its air,
its slopes and its noise; nothing of it is shared with the methods. Each number is over three estates (seeds 2031, 7 and
99) of ten dates from April to October, 700 × 600 cells of 30 m, unless a table says otherwise. The settings:
";

const TAIL: &str = "\
## What the simulation leaves out

Real scenes are harder. The estate has one kind of air over the whole scene and no absorption by gases or water vapour
apart from a constant loss; light from bright neighbours does not spill over; the ground reflects alike in all directions;
detectors have even grain but no stripes, no drift and no misregistration between bands or dates; clouds of a scene hang at
one height with tops of one thickness, and their shadows fall on a plain even in the hilly setting; there is no snow, no
sand, no sun glint, and thin cirrus throws no shadow; thermal bands see the ground through dry air. Emissivity follows
green cover by the same straight line for every ground. Numbers for clouds and shadows in particular should be read as what
the method does when its assumptions hold.
";
