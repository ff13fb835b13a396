//! Looks that stand out of their cell's own series.

use crate::error::{Error, Result};
use crate::graph::{Absence, Inputs, Op, bits_row, values_row};
use crate::mask::{LEAST_LOOKS, highest, is_blue_jump, robust};
use crate::op::Clear;
use crate::tile::{Kind, PlaneSpec, Tile};
use crate::units::Unit;

/// Of sixteen of the looks, from number `first` on, bit `i` is set where the clear look `first + i` is an outlier.
///
/// Inputs: the clear looks ([`Clear`], sixteen a plane), then the blue of every scene, then the red, in order of time.
/// A look is an outlier if its blue jumps above that of the last look that is none and the red does not follow; or, in
/// series of at least five looks, if its haze index (blue less half the red) lies far above the series' median.
#[derive(Debug)]
pub struct Outliers {
    /// The day of each scene, on any scale.
    pub days: Vec<f64>,
    /// The first of the looks told of.
    pub first: usize,
}

/// A haze index less than this above the median is no cloud, however steady the series.
const LEAST_RISE: f64 = 0.02;

struct Looked {
    scene: usize,
    blue: f64,
    red: f64,
}

impl Looked {
    fn haze(&self) -> f64 {
        self.blue - 0.5 * self.red
    }
}

impl Outliers {
    fn judge(&self, looks: &[Looked], scratch: &mut Vec<f64>) -> u16 {
        let mut most = f64::INFINITY;
        if looks.len() >= LEAST_LOOKS {
            scratch.clear();
            scratch.extend(looks.iter().map(Looked::haze));
            let (median, mad) = robust(scratch);
            most = highest(median, mad).max(median + LEAST_RISE);
        }
        let (mut bits, mut last): (u16, Option<&Looked>) = (0, None);
        for look in looks {
            let jumps = last.is_some_and(|l| {
                is_blue_jump(look.blue - l.blue, look.red - l.red, self.days[look.scene] - self.days[l.scene])
            });
            if jumps || look.haze() > most {
                if let Some(bit) = look.scene.checked_sub(self.first).filter(|b| *b < Clear::SCENES) {
                    bits |= 1 << bit;
                }
            } else {
                last = Some(look);
            }
        }
        bits
    }
}

impl Op for Outliers {
    fn output(&self, inputs: &[&PlaneSpec]) -> Result<(Kind, Unit)> {
        let (n, packed) = (self.days.len(), self.days.len().div_ceil(Clear::SCENES));
        let flags = inputs.iter().take(packed).all(|i| matches!(i.kind, Kind::Flags { .. }));
        match inputs.len() == packed + 2 * n && flags && inputs.iter().skip(packed).all(|i| i.kind == Kind::Values) {
            true => Ok((Kind::Flags { outside: 0 }, Unit::Flags)),
            false => Err(Error::Usage("outliers are looked for in the blue and red of every scene".into())),
        }
    }

    fn absence(&self) -> Absence {
        Absence::IfAll
    }

    fn compute(&self, inputs: &Inputs, out: &mut Tile) -> Result<()> {
        let (n, window) = (self.days.len(), out.window);
        let packed = n.div_ceil(Clear::SCENES);
        let (mut looks, mut scratch) = (vec![], vec![]);
        for row in window.row..window.end_row() {
            let clear: Vec<Option<&[u16]>> =
                (0..packed).map(|i| inputs.get(i).map(|t| bits_row(t, &window, row))).collect();
            let values: Vec<Option<&[f32]>> =
                (packed..packed + 2 * n).map(|i| inputs.get(i).map(|t| values_row(t, &window, row))).collect();
            let at = out.row_range(&window, row);
            for (c, o) in out.bits_mut()[at].iter_mut().enumerate() {
                looks.clear();
                for scene in 0..n {
                    let is_clear =
                        clear[scene / Clear::SCENES].is_some_and(|b| b[c] >> (scene % Clear::SCENES) & 1 == 1);
                    let (Some(blue), Some(red), true) = (values[scene], values[n + scene], is_clear) else { continue };
                    if !blue[c].is_nan() && !red[c].is_nan() {
                        looks.push(Looked { scene, blue: f64::from(blue[c]), red: f64::from(red[c]) });
                    }
                }
                *o = self.judge(&looks, &mut scratch);
            }
        }
        Ok(())
    }

    fn step(&self) -> &'static str {
        "outliers in time"
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn judge(series: &[(f64, f64, f64)]) -> u16 {
        let op = Outliers { days: series.iter().map(|s| s.0).collect(), first: 0 };
        let looks = |(scene, s): (usize, &(f64, f64, f64))| Looked { scene, blue: s.1, red: s.2 };
        op.judge(&series.iter().enumerate().map(looks).collect::<Vec<_>>(), &mut vec![])
    }

    #[test]
    fn a_jump_is_an_outlier_and_a_harvest_is_none() {
        let cloud = [(0.0, 0.06, 0.05), (16.0, 0.16, 0.15), (32.0, 0.065, 0.05)];
        assert_eq!(judge(&cloud), 0b010);
        let harvest = [(0.0, 0.06, 0.04), (16.0, 0.12, 0.20), (32.0, 0.12, 0.19)];
        assert_eq!(judge(&harvest), 0);
    }

    #[test]
    fn the_first_look_is_told_by_the_series() {
        let mut series: Vec<(f64, f64, f64)> = (0..7u32).map(|i| (16.0 * f64::from(i), 0.06, 0.05)).collect();
        series.iter_mut().enumerate().for_each(|(i, s)| s.1 += 0.002 * (i % 3) as f64);
        series[0] = (0.0, 0.22, 0.20);
        assert_eq!(judge(&series), 1);
        // steady but for a little noise
        series[0] = (0.0, 0.075, 0.05);
        assert_eq!(judge(&series), 0);
        assert_eq!(judge(&series[..2]), 0);
    }
}
