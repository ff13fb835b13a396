//! The masked median of a stack of cells, by a selection network over vectors of cells; and sorting networks.
//!
//! Masked samples are replaced by +∞ and −∞ in turn, so the wanted ranks are the same two for every cell (k/2 − 1 and
//! k/2 of k samples) whatever its number of valid samples: the network needs no branches, and only those of its
//! comparators that reach the two ranks (Batcher's merge exchange; Knuth, TAOCP 3, 5.2.2 M). A cell without a valid
//! sample comes out as NaN by itself, (−∞ + ∞) / 2. The scalar twin in the tests gives the same bits.

/// Cells handled at once: the rows of some dozens of samples stay in the first-level cache.
pub(crate) const LANES: usize = 64;

/// One row of samples.
pub(crate) type Row = [f32; LANES];

/// All bits set where a lane's sample may be used, none elsewhere.
pub(crate) type Usable = [u32; LANES];

/// Which outputs of a comparator are still wanted.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Keep {
    Both,
    Lower,
    Upper,
}

/// A comparator: the first wire gets the lower value.
type Comparator = (u16, u16, Keep);

/// Selection networks for every number of samples up to the most that was asked for.
pub(crate) struct Median {
    networks: Vec<Vec<Comparator>>,
}

/// The comparators that bring the wanted ranks of `k` samples to their wires.
fn network(k: usize, mut wanted: Vec<bool>) -> Vec<Comparator> {
    if k < 2 {
        return vec![];
    }
    let mut pairs = vec![];
    let top = 1usize << ((k - 1).ilog2());
    let mut p = top;
    while p > 0 {
        let (mut q, mut r, mut d) = (top, 0, p);
        loop {
            pairs.extend((0..k - d).filter(|i| i & p == r).map(|i| (i, i + d)));
            if q == p {
                break;
            }
            d = q - p;
            q >>= 1;
            r = p;
        }
        p >>= 1;
    }
    let mut comparators = vec![];
    for &(i, j) in pairs.iter().rev() {
        let keep = match (wanted[i], wanted[j]) {
            (true, true) => Keep::Both,
            (true, false) => Keep::Lower,
            (false, true) => Keep::Upper,
            (false, false) => continue,
        };
        comparators.push((i as u16, j as u16, keep));
        (wanted[i], wanted[j]) = (true, true);
    }
    comparators.reverse();
    comparators
}

impl Median {
    /// For stacks of up to `most` samples.
    pub(crate) fn new(most: usize) -> Median {
        let middle = |k: usize| (0..k).map(|i| i == k / 2 || i + 1 == k / 2).collect();
        Median { networks: (0..=most).map(|k| network(k, middle(k))).collect() }
    }

    /// The median of each lane of `rows`, whose masked samples are ±∞ as [`Pads`] made them. The rows are rearranged.
    #[inline(always)]
    pub(crate) fn of(&self, rows: &mut [Row], pads: &Pads, out: &mut Row) {
        compare(rows, &self.networks[rows.len()]);
        middle(rows, pads, out);
    }
}

/// Sorting networks for every number of samples up to the most that was asked for.
pub(crate) struct Sort {
    networks: Vec<Vec<Comparator>>,
}

impl Sort {
    /// For stacks of up to `most` samples.
    pub(crate) fn new(most: usize) -> Sort {
        Sort { networks: (0..=most).map(|k| network(k, vec![true; k])).collect() }
    }

    /// Sorts each lane of `rows`, lowest first.
    #[inline(always)]
    pub(crate) fn of(&self, rows: &mut [Row]) {
        compare(rows, &self.networks[rows.len()]);
    }
}

#[inline(always)]
fn lower(a: f32, b: f32) -> f32 {
    if a < b { a } else { b }
}

#[inline(always)]
fn upper(a: f32, b: f32) -> f32 {
    if a > b { a } else { b }
}

/// Lanes of one comparator at a time: as many as the widest vectors have.
const STEP: usize = 16;

#[inline(always)]
fn compare(rows: &mut [Row], net: &[Comparator]) {
    for &(i, j, keep) in net {
        // the first wire is always the lower one: two rows apart, and what is kept is asked once for all lanes
        let (before, from) = rows.split_at_mut(usize::from(j));
        let (a, b) = (&mut before[usize::from(i)], &mut from[0]);
        match keep {
            Keep::Both => {
                for at in (0..LANES).step_by(STEP) {
                    let (x, y) = (vector(a, at), vector(b, at));
                    a[at..at + STEP].copy_from_slice(&each(&x, &y, lower));
                    b[at..at + STEP].copy_from_slice(&each(&x, &y, upper));
                }
            }
            Keep::Lower => {
                for at in (0..LANES).step_by(STEP) {
                    let low = each(&vector(a, at), &vector(b, at), lower);
                    a[at..at + STEP].copy_from_slice(&low);
                }
            }
            Keep::Upper => {
                for at in (0..LANES).step_by(STEP) {
                    let high = each(&vector(a, at), &vector(b, at), upper);
                    b[at..at + STEP].copy_from_slice(&high);
                }
            }
        }
    }
}

/// Lanes of a row as one vector: whole vectors in and out, since the compiler must not store under a mask what the next
/// comparator loads.
#[inline(always)]
fn vector(row: &Row, at: usize) -> [f32; STEP] {
    let mut v = [0f32; STEP];
    v.copy_from_slice(&row[at..at + STEP]);
    v
}

#[inline(always)]
fn each(a: &[f32; STEP], b: &[f32; STEP], one: impl Fn(f32, f32) -> f32) -> [f32; STEP] {
    std::array::from_fn(|l| one(a[l], b[l]))
}

/// The median from the two middle rows.
#[inline(always)]
fn middle(rows: &[Row], pads: &Pads, out: &mut Row) {
    let k = rows.len();
    if k < 2 {
        for l in 0..LANES {
            let v = rows.first().map_or(f32::NAN, |r| r[l]);
            out[l] = if v.is_finite() { v } else { f32::NAN };
        }
        return;
    }
    let (low, high) = (&rows[k / 2 - 1], &rows[k / 2]);
    for l in 0..LANES {
        let mean = 0.5 * (low[l] + high[l]);
        let odd_masked = pads.next[l] < 0.0;
        let one = if k.is_multiple_of(2) { low[l] } else { high[l] };
        let v = if odd_masked == k.is_multiple_of(2) { one } else { mean };
        out[l] = if v.is_finite() { v } else { f32::NAN }; // one bit pattern for what is missing
    }
}

/// What stands in for the next masked sample of each lane, +∞ and −∞ in turn.
pub(crate) struct Pads {
    next: Row,
}

impl Pads {
    pub(crate) fn new() -> Pads {
        Pads { next: [f32::INFINITY; LANES] }
    }

    /// Replaces the samples that may not be used: `usable` has all bits set or none.
    #[inline(always)]
    pub(crate) fn apply(&mut self, usable: &Usable, row: &mut Row) {
        const SIGN: u32 = 1 << 31;
        for l in 0..LANES {
            let (p, m) = (self.next[l].to_bits(), usable[l]);
            row[l] = f32::from_bits(row[l].to_bits() & m | p & !m);
            self.next[l] = f32::from_bits(p ^ SIGN & !m);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    struct Wide<'a> {
        median: &'a Median,
        rows: &'a mut [Row],
        pads: &'a Pads,
        out: &'a mut Row,
    }

    impl crate::wide::Loop for Wide<'_> {
        #[inline(always)]
        fn run(self) {
            self.median.of(self.rows, self.pads, self.out);
        }
    }

    /// The twin: sort, take the middle or the mean of the two middles.
    fn plain_median(mut v: Vec<f32>) -> f32 {
        v.sort_by(f32::total_cmp);
        match v.len() {
            0 => f32::NAN,
            n if n % 2 == 1 => v[n / 2],
            n => 0.5 * (v[n / 2 - 1] + v[n / 2]),
        }
    }

    proptest! {
        #[test]
        fn same_bits_as_sorting(k in 0usize..40, seed in any::<u64>(), share in 0u64..5) {
            let mut state = seed | 1;
            let mut next = || { state ^= state << 13; state ^= state >> 7; state ^= state << 17; state };
            let (mut rows, mut pads) = (vec![[0f32; LANES]; k], Pads::new());
            let mut columns = vec![vec![]; LANES];
            for row in &mut rows {
                let mut usable: Usable = [0; LANES];
                for l in 0..LANES {
                    row[l] = (next() % 1000) as f32 / 997.0 - 0.1;
                    usable[l] = if next() % 5 >= share { !0 } else { 0 };
                    if usable[l] != 0 { columns[l].push(row[l]); }
                }
                pads.apply(&usable, row);
            }
            let median = Median::new(k);
            let (mut plain, mut wide) = ([0f32; LANES], [0f32; LANES]);
            median.of(&mut rows.clone(), &pads, &mut plain);
            crate::wide::run(Wide { median: &median, rows: &mut rows, pads: &pads, out: &mut wide });
            let want: Vec<u32> = columns.into_iter().map(|c| plain_median(c).to_bits()).collect();
            prop_assert_eq!(&plain.map(f32::to_bits)[..], &want);
            prop_assert_eq!(&wide.map(f32::to_bits)[..], &want);
        }
    }
}
