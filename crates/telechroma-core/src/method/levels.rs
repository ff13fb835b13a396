//! What a scene's clear land and water are like: the percentiles that clouds are told by.

use crate::error::Result;
use crate::graph::{Graph, Inputs, NodeId, values_row};
use crate::grid::Window;
use crate::mask::SceneLevels;
use crate::op::look_rows;
use crate::run::{Absorb, Budget, Observer, Part, Plan, Prepare, Sink, run};

/// Percentiles of the temperature and probability of clear cells (Zhu & Woodcock 2012).
const LOW: f64 = 0.175;
const HIGH: f64 = 0.825;
/// Added to the percentile of the probability of clear land.
const ABOVE: f64 = 0.2;
/// Share of clear cells below which a scene is cloud throughout.
const LEAST_CLEAR: f64 = 0.001;

/// Temperatures are told apart by a tenth of a kelvin, and by a quarter where they are paired with a probability.
const COLDEST: f64 = 150.0;
const FINE: usize = 2500;
const COARSE: usize = 1000;
/// Steps of the variability, 0 to 1.
const STEPS: usize = 256;

fn fine(kelvin: f64) -> usize {
    (((kelvin - COLDEST) * 10.0).max(0.0) as usize).min(FINE - 1)
}

fn coarse(kelvin: f64) -> usize {
    (((kelvin - COLDEST) * 4.0).max(0.0) as usize).min(COARSE - 1)
}

/// Cells of a scene by what they are like.
struct Tally {
    thermal: bool,
    seen: u64,
    land: Vec<u32>,
    water: Vec<u32>,
    /// Clear land by temperature and variability.
    pairs: Vec<u32>,
}

impl Tally {
    fn new(thermal: bool) -> Tally {
        let coarse = if thermal { COARSE } else { 1 };
        Tally { thermal, seen: 0, land: vec![0; FINE], water: vec![0; FINE], pairs: vec![0; coarse * STEPS] }
    }
}

struct LevelTaker {
    thermal: bool,
    saturated: [f32; 3],
}

impl Prepare for LevelTaker {
    fn prepare(&self, _: usize, window: Window, planes: &Inputs) -> Result<Part> {
        let mut tally = Tally::new(self.thermal);
        if (0..planes.len()).any(|i| planes.get(i).is_none()) {
            return Ok(Box::new(tally));
        }
        for row in window.row..window.end_row() {
            let rows: Vec<&[f32]> = (0..planes.len()).map(|i| values_row(planes.tile(i), &window, row)).collect();
            let looks = look_rows(&rows, self.thermal, self.saturated);
            for look in (0..window.cols as usize).filter_map(|i| looks.at(i)) {
                tally.seen += 1;
                let m = look.measures();
                if look.is_potential(&m) {
                    continue;
                }
                let kelvin = look.kelvin.unwrap_or(COLDEST);
                if !look.is_water(&m) {
                    tally.land[fine(kelvin)] += 1;
                    let step = ((m.variability().max(0.0) * STEPS as f64) as usize).min(STEPS - 1);
                    let row = if self.thermal { coarse(kelvin) } else { 0 };
                    tally.pairs[row * STEPS + step] += 1;
                } else if look.swir22 < 0.03 {
                    tally.water[fine(kelvin)] += 1;
                }
            }
        }
        Ok(Box::new(tally))
    }

    fn holds(&self, _: Window, in_flight: usize) -> u64 {
        let pairs = if self.thermal { COARSE * STEPS } else { STEPS };
        (1 + in_flight as u64) * 4 * (2 * FINE + pairs) as u64
    }
}

impl Absorb for Tally {
    fn absorb(&mut self, _: usize, part: Part) -> Result<()> {
        let Ok(part) = part.downcast::<Tally>() else { unreachable!("parts come back to the sink that made them") };
        self.seen += part.seen;
        let all = [(&mut self.land, &part.land), (&mut self.water, &part.water), (&mut self.pairs, &part.pairs)];
        for (sum, more) in all {
            sum.iter_mut().zip(more).for_each(|(a, b)| *a = a.saturating_add(*b));
        }
        Ok(())
    }
}

/// The middle of the bin below which a share of the cells lies.
fn percentile(bins: &[u32], share: f64) -> Option<f64> {
    let all: u64 = bins.iter().map(|n| u64::from(*n)).sum();
    let rank = (share * all.checked_sub(1)? as f64).round() as u64;
    let mut seen = 0;
    let bin = bins.iter().position(|n| {
        seen += u64::from(*n);
        seen > rank
    })?;
    Some(COLDEST + (bin as f64 + 0.5) / 10.0)
}

/// What was found.
pub(super) struct Levels {
    /// For the test.
    pub found: SceneLevels,
    thermal: bool,
    clear_share: f64,
}

impl Tally {
    fn levels(&self) -> Levels {
        let sum = |bins: &[u32]| bins.iter().map(|n| u64::from(*n)).sum::<u64>();
        let clear = sum(&self.land) + sum(&self.water);
        let clear_share = if self.seen == 0 { 0.0 } else { clear as f64 / self.seen as f64 };
        let bounds = percentile(&self.land, LOW).zip(percentile(&self.land, HIGH)).filter(|_| self.thermal);
        let water = percentile(&self.water, HIGH).filter(|_| self.thermal);
        let mut found = SceneLevels { land: bounds, water, threshold: f64::NEG_INFINITY };
        if clear_share >= LEAST_CLEAR {
            found.threshold = self.probability(&found) + ABOVE;
        }
        Levels { found, thermal: self.thermal, clear_share }
    }

    /// The upper percentile of the probability of clear land; 0 without land.
    fn probability(&self, levels: &SceneLevels) -> f64 {
        let mut all: Vec<(f64, u32)> = vec![];
        for (i, n) in self.pairs.iter().enumerate().filter(|p| *p.1 > 0) {
            let variability = ((i % STEPS) as f64 + 0.5) / STEPS as f64;
            let kelvin = COLDEST + ((i / STEPS) as f64 + 0.5) / 4.0;
            all.push((levels.land_probability_at(kelvin, variability), *n));
        }
        all.sort_unstable_by(|a, b| a.0.total_cmp(&b.0));
        let cells: u64 = all.iter().map(|p| u64::from(p.1)).sum();
        let rank = (HIGH * cells.saturating_sub(1) as f64).round() as u64;
        let mut seen = 0;
        let reaches = |p: &&(f64, u32)| {
            seen += u64::from(p.1);
            seen > rank
        };
        all.iter().find(reaches).map_or(0.0, |p| p.0)
    }
}

impl Levels {
    /// What was found, for people.
    pub fn text(&self) -> String {
        let celsius = |k: f64| format!("{:.1}", k - 273.15);
        let land = match self.found.land {
            Some((low, high)) => format!("clear land {} to {} °C", celsius(low), celsius(high)),
            None => "no temperature".into(),
        };
        let water = self.found.water.map_or(String::new(), |w| format!(", clear water {} °C", celsius(w)));
        format!("cloud test: {land}{water}, cloud from a probability of {:.2} on", self.found.threshold.max(0.0))
    }

    /// What is odd.
    pub fn trouble(&self) -> Option<String> {
        if self.clear_share < LEAST_CLEAR {
            return Some("hardly a cell looks clear: every cell that may be cloud is taken for cloud".into());
        }
        (!self.thermal).then(|| {
            "it has no thermal band, so the cloud test goes by colour alone: bright roofs, sand and thin haze may be taken for cloud".into()
        })
    }
}

/// Looks at a scene's clear cells: one pass. The planes are those of the cloud test, without the cirrus band.
///
/// # Errors
/// Where reading fails.
pub(super) fn look_at_levels(
    g: Graph,
    planes: Vec<NodeId>,
    saturated: [f32; 3],
    budget: Budget,
    observer: &dyn Observer,
) -> Result<Levels> {
    let thermal = planes.len() > 6;
    let taker = LevelTaker { thermal, saturated };
    let mut tally = Tally::new(thermal);
    let sinks = vec![Sink { groups: vec![planes], prepare: &taker, absorb: &mut tally }];
    let plan = Plan::new(g, &sinks, budget)?;
    run(&plan, sinks, observer)?;
    Ok(tally.levels())
}
