//! Composites of clouded dates, against what the same composite would be without a cloud.

use telechroma_core::method::{BandChoice, By, Every, MaskOptions, Recipe, plan_season};
use telechroma_core::scene::BandRole;
use telechroma_core::units::Metres;
use telechroma_world::Cover;

use super::{Case, Errors, Outcome, SEEDS, SETTINGS, Table, text, values};

/// Bands compared, with their place among the seven.
const SHOWN: [(&str, usize); 3] = [("red", 3), ("nir", 4), ("swir16", 5)];

fn median(v: &mut [f64]) -> f64 {
    v.sort_by(f64::total_cmp);
    let n = v.len();
    if n % 2 == 1 { v[n / 2] } else { (v[n / 2 - 1] + v[n / 2]) / 2.0 }
}

/// Errors by rule and number of clear looks.
pub fn table() -> Outcome<String> {
    let rules = ["median", "mean", "p25", "medoid"];
    let mut t = Table::new(&["rule", "clear looks", "cells", "red", "nir", "swir16"]);
    for rule in rules {
        let mut sums = [[Errors::default(); 3]; 4];
        for seed in SEEDS {
            let cases = Case::all(seed, &SETTINGS[0]);
            let dir = tempfile::tempdir().map_err(text)?;
            let scenes = cases.iter().map(|c| c.open(dir.path())).collect::<Outcome<Vec<_>>>()?;
            let recipe = Recipe {
                mask: MaskOptions { grow: Some(Metres(60.0)), ..MaskOptions::default() },
                every: Every::All,
                by: By::new(rule, None).map_err(text)?,
                at_least: 1,
                bands: BandChoice::List(SHOWN.iter().filter_map(|b| BandRole::from_name(b.0)).collect()),
                ..Recipe::default()
            };
            let season = plan_season(scenes, &recipe).map_err(text)?;
            let period = &season.periods[0];
            let nodes: Vec<_> = period.bands.iter().map(|b| b.node).chain(period.looks).collect();
            let got = values(season.graph, &nodes)?;
            let truths: Vec<_> = cases.iter().map(|c| c.estate.truth(&c.acquisition)).collect();
            for i in (0..got[0].len()).filter(|i| truths[0].ground[*i][3] < 1.0) {
                // cells that no scene lacks, so that every rule has all dates to choose from
                if truths.iter().any(|t| t.cover[i] == Cover::Fill) {
                    continue;
                }
                let class = match got[3][i] as u32 {
                    0 => continue,
                    1 | 2 => 0,
                    3 | 4 => 1,
                    5 | 6 => 2,
                    _ => 3,
                };
                for (k, (_, b)) in SHOWN.iter().enumerate() {
                    let mut all: Vec<f64> = truths.iter().map(|t| f64::from(t.toa[i][*b])).collect();
                    let want = match rule {
                        "mean" => all.iter().sum::<f64>() / all.len() as f64,
                        "p25" => {
                            all.sort_by(f64::total_cmp);
                            let at = 0.25 * (all.len() - 1) as f64;
                            all[at as usize] + at.fract() * (all[at as usize + 1] - all[at as usize])
                        }
                        _ => median(&mut all),
                    };
                    sums[class][k].add(f64::from(got[k][i]) - want);
                }
            }
        }
        for (looks, row) in ["1–2", "3–4", "5–6", "7–10"].iter().zip(&sums) {
            let cells = row.iter().map(|e| format!("{:+.1} ± {:.1}", 1000.0 * e.bias(), 1000.0 * e.rmse()));
            let n = format!("{:.0}", row[0].cells());
            t.row(&[rule.to_string(), (*looks).into(), n].into_iter().chain(cells).collect::<Vec<_>>());
        }
    }
    Ok(format!(
        "A season's composite (`--every all --grow 60m`, flags as delivered) against the same statistic of all ten dates as they\nwould be without any cloud, in thousandths of reflectance (mean ± root mean square). The land changes through the season, so\na composite of few looks shows other dates than one of all: this is most of the error. The medoid is held against the\nmedian, though it is one of the looks and not meant to equal it.\n\n{}",
        t.text()
    ))
}
