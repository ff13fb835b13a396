//! A mask against the truth.

/// Cells by what was found and what is true.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Agreement {
    /// Found, and there.
    pub hits: u64,
    /// Found, but not there.
    pub false_alarms: u64,
    /// Not found, but there.
    pub misses: u64,
    /// Neither.
    pub rejections: u64,
}

fn share(part: u64, of: u64) -> f64 {
    if of == 0 { f64::NAN } else { part as f64 / of as f64 }
}

impl Agreement {
    /// One more cell.
    pub fn add(&mut self, found: bool, there: bool) {
        *match (found, there) {
            (true, true) => &mut self.hits,
            (true, false) => &mut self.false_alarms,
            (false, true) => &mut self.misses,
            (false, false) => &mut self.rejections,
        } += 1;
    }

    /// Share of all cells that agree.
    pub fn overall(&self) -> f64 {
        share(self.hits + self.rejections, self.hits + self.false_alarms + self.misses + self.rejections)
    }

    /// Share of what is there that was found (producer's accuracy).
    pub fn recall(&self) -> f64 {
        share(self.hits, self.hits + self.misses)
    }

    /// Share of what was found that is there (user's accuracy).
    pub fn precision(&self) -> f64 {
        share(self.hits, self.hits + self.false_alarms)
    }

    /// Share of what is there that was missed.
    pub fn omission(&self) -> f64 {
        share(self.misses, self.hits + self.misses)
    }

    /// Share of what was found that is not there.
    pub fn commission(&self) -> f64 {
        share(self.false_alarms, self.hits + self.false_alarms)
    }

    /// Harmonic mean of recall and precision.
    pub fn f1(&self) -> f64 {
        share(2 * self.hits, 2 * self.hits + self.false_alarms + self.misses)
    }

    /// Both by either.
    pub fn iou(&self) -> f64 {
        share(self.hits, self.hits + self.false_alarms + self.misses)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    #[test]
    fn worked_agreement() {
        let e = worked::example("mask_validation");
        let n = |k: &str| e.number(k) as u64;
        let a = Agreement { hits: n("tp"), false_alarms: n("fp"), misses: n("fn"), rejections: n("tn") };
        let all = [
            ("overall", a.overall()),
            ("recall", a.recall()),
            ("precision", a.precision()),
            ("f1", a.f1()),
            ("iou", a.iou()),
        ];
        for (key, got) in all {
            e.check_one(got, e.expected(key));
        }
        assert_eq!((a.omission(), a.commission()), (120.0 / 950.0, 95.0 / 925.0));
        let mut one = Agreement::default();
        one.add(true, false);
        assert_eq!(one, Agreement { false_alarms: 1, ..Agreement::default() });
        assert!(one.recall().is_nan());
    }
}
