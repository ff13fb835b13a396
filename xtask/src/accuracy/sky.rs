//! Clouds and shadows found in the cells, against the true ones.

use telechroma_core::mask::{Agreement, Reasons};
use telechroma_core::method::{Confidence, Find, Frame, MaskOptions, find_outliers, find_sky, plan_mask};
use telechroma_core::run::{Budget, Silent};
use telechroma_core::scene::Scene;
use telechroma_core::units::Metres;
use telechroma_world::{COLS, Cover, ROWS};

use super::{Case, Outcome, SEEDS, SETTINGS, Setting, Table, text, threads, values};

/// Cells within so many of an edge of the truth are left out of the second column.
const BORDER: usize = 2;

/// What was found in a setting.
#[derive(Default)]
struct Found {
    cloud: Agreement,
    inner: Agreement,
    shadow: Agreement,
    dropped: Agreement,
}

fn budget() -> Budget {
    Budget { threads: threads(), bytes: 1 << 31 }
}

/// True for cells with a cell of another kind near by.
fn borders(cover: &[Cover]) -> Vec<bool> {
    let near = |i: usize| {
        let (c, r) = (i % COLS, i / COLS);
        let rows = r.saturating_sub(BORDER)..(r + BORDER + 1).min(ROWS);
        let cell = |y: usize, x: usize| (cover[y * COLS + x] == Cover::Cloud) != (cover[i] == Cover::Cloud);
        rows.flat_map(|y| (c.saturating_sub(BORDER)..(c + BORDER + 1).min(COLS)).map(move |x| (y, x)))
            .any(|(y, x)| cell(y, x))
    };
    (0..cover.len()).map(near).collect()
}

/// The mask of a scene as reasons.
fn mask(scene: &Scene, options: &MaskOptions) -> Outcome<Vec<u16>> {
    let (g, node, _) = plan_mask(scene, options, &Frame::default()).map_err(text)?;
    Ok(values(g, &[node])?.remove(0).into_iter().map(|v| v as u16).collect())
}

fn judge(case: &Case, bits: &[u16], found: &mut Found) {
    let truth = case.estate.truth(&case.acquisition);
    let border = borders(&truth.cover);
    for (i, bits) in bits.iter().enumerate() {
        let has = |r: Reasons| bits & r.bits() != 0;
        let cover = truth.cover[i];
        // thin cirrus is neither: it is told apart by its own band
        if matches!(cover, Cover::Fill | Cover::Cirrus) {
            continue;
        }
        let grown = has(Reasons::GROWN);
        found.cloud.add(has(Reasons::CLOUD), cover == Cover::Cloud);
        if !border[i] {
            found.inner.add(has(Reasons::CLOUD), cover == Cover::Cloud);
        }
        // what is cloud, or taken for cloud, is no question for the shadows
        if cover != Cover::Cloud && !has(Reasons::CLOUD) {
            found.shadow.add(has(Reasons::SHADOW), cover == Cover::Shadow);
        }
        found.dropped.add(has(Reasons::CLOUD) || has(Reasons::SHADOW) || grown, cover != Cover::Clear);
    }
}

fn spectral(setting: &Setting, thermal: bool) -> Outcome<Found> {
    let mut found = Found::default();
    let find = Find { clouds: true, shadows: true, outliers: false };
    let options = MaskOptions { find, ignore_flags: true, grow: Some(Metres(30.0)), ..MaskOptions::default() };
    for seed in SEEDS {
        for case in Case::all(seed, setting) {
            let dir = tempfile::tempdir().map_err(text)?;
            let mut scene = case.open(dir.path())?;
            if !thermal {
                scene.bands.retain(|b| !b.role.is_thermal());
            }
            let sky = find_sky(&scene, &options, budget(), &Silent).map_err(text)?;
            scene.flags.extend(sky.map(|s| s.flags));
            judge(&case, &mask(&scene, &options)?, &mut found);
        }
    }
    Ok(found)
}

/// Masks by flags that miss the edges of clouds, and what outliers in time find beyond them.
fn in_time(find: Find) -> Outcome<Agreement> {
    let mut left = Agreement::default();
    let options = MaskOptions { find, ..MaskOptions::default() };
    for seed in SEEDS {
        let cases = Case::all(seed, &SETTINGS[0]);
        let dir = tempfile::tempdir().map_err(text)?;
        let mut scenes = cases.iter().map(|c| c.open(dir.path())).collect::<Outcome<Vec<_>>>()?;
        if find.outliers {
            let (flags, _) = find_outliers(&scenes, &options, &Frame::default(), budget(), &Silent).map_err(text)?;
            scenes.iter_mut().zip(flags).for_each(|(s, f)| s.flags.push(f));
        }
        for (case, scene) in cases.iter().zip(&scenes) {
            let truth = case.estate.truth(&case.acquisition);
            for (bits, cover) in mask(scene, &options)?.iter().zip(&truth.cover) {
                if matches!(cover, Cover::Clear | Cover::Cloud) && bits & Reasons::FILL.bits() == 0 {
                    left.add(*bits != 0, *cover == Cover::Cloud);
                }
            }
        }
    }
    Ok(left)
}

fn percent(v: f64) -> String {
    format!("{:.1} %", 100.0 * v)
}

/// The tables.
pub fn tables() -> Outcome<String> {
    let mut t = Table::new(&[
        "setting",
        "cloud omission",
        "cloud commission",
        "omission, edges left out",
        "commission, edges left out",
        "shadow omission",
        "shadow commission",
    ]);
    let mut more = Table::new(&["setting", "clouded or shaded cells kept", "clear cells lost"]);
    let runs = SETTINGS.iter().map(|s| (s, true)).chain([(&SETTINGS[0], false)]);
    for (setting, thermal) in runs {
        let f = spectral(setting, thermal)?;
        let name = if thermal { setting.name.into() } else { format!("{}, no thermal band", setting.name) };
        let all = [
            f.cloud.omission(),
            f.cloud.commission(),
            f.inner.omission(),
            f.inner.commission(),
            f.shadow.omission(),
            f.shadow.commission(),
        ];
        t.row(&std::iter::once(name.clone()).chain(all.map(percent)).collect::<Vec<_>>());
        let lost = f.dropped.false_alarms as f64 / (f.dropped.false_alarms + f.dropped.rejections) as f64;
        more.row(&[name, percent(f.dropped.omission()), percent(lost)]);
    }
    let mut late = Table::new(&["mask", "clouded cells kept", "clear cells lost"]);
    let with = Find { outliers: true, ..Find::default() };
    for (name, find) in [("flags alone", Find::default()), ("flags and outliers in time", with)] {
        let a = in_time(find)?;
        let lost = a.false_alarms as f64 / (a.false_alarms + a.rejections) as f64;
        late.row(&[name.into(), percent(a.omission()), percent(lost)]);
    }
    let least = Confidence::High.name();
    Ok(format!(
        "By `--find clouds,shadows --ignore-flags`: the cells alone, no flags. A cell is truly clouded where more than a\nfiftieth of its light is the cloud's, shaded where more than a twentieth of the direct light is taken. Omission is the share\nof true cells that were missed, commission the share of found cells that are wrong. Thin cirrus is left out of both: it has\na band of its own. Edges are the cells within {BORDER} of the true outline.\n\n{}\nWith `--grow 30m`, as it goes into a composite:\n\n{}\nWhat slips through the flags of a delivery, whose clouds miss their thin edges (no confidence such as '{least}' is graded in\nthem), and what `--find outliers` makes of it:\n\n{}",
        t.text(),
        more.text(),
        late.text()
    ))
}
