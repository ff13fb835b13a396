//! The masked median of a stack of cells, by a selection network over vectors of cells; and sorting networks.
//!
//! Masked samples are replaced by the greatest and the least key in turn, so the wanted ranks are the same two for every
//! cell (k/2 − 1 and k/2 of k samples) whatever its number of valid samples: the network needs no branches, and only
//! those of its comparators that reach the two ranks (Batcher's merge exchange; Knuth, TAOCP 3, 5.2.2 M). The scalar twin
//! in the tests gives the same bits.
//!
//! Keys are whole numbers in the order of the samples: the compiler makes plain vectors of their least and greatest,
//! where it stores a choice of floating-point numbers under a mask, which the next comparator would have to wait for.

use std::fmt;
use std::ops::{BitAnd, BitOr, BitXor, Not};

use super::lanes::{LANES, Lanes, Row, Usable};

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

impl fmt::Debug for Median {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "to {}", self.networks.len() - 1)
    }
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

    /// Brings the two middle ones of each lane to their places and tells where these are, the lower first; one place
    /// where there is one row. The rows are rearranged.
    #[inline(always)]
    pub(crate) fn of<K: Key>(&self, rows: &mut [Lanes<K>]) -> (usize, usize) {
        compare(rows, &self.networks[rows.len()]);
        ((rows.len() / 2).saturating_sub(1), rows.len() / 2)
    }
}

/// Sorting networks for every number of samples up to the most that was asked for.
pub(crate) struct Sort {
    networks: Vec<Vec<Comparator>>,
}

impl fmt::Debug for Sort {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "to {}", self.networks.len() - 1)
    }
}

impl Sort {
    /// For stacks of up to `most` samples.
    pub(crate) fn new(most: usize) -> Sort {
        Sort { networks: (0..=most).map(|k| network(k, vec![true; k])).collect() }
    }

    /// Sorts each lane of `rows`, lowest first.
    #[inline(always)]
    pub(crate) fn of<K: Key>(&self, rows: &mut [Lanes<K>]) {
        compare(rows, &self.networks[rows.len()]);
    }
}

/// What networks sort.
pub(crate) trait Key:
    Copy + Ord + Not<Output = Self> + BitAnd<Output = Self> + BitOr<Output = Self> + BitXor<Output = Self>
{
    /// The greatest; its complement is the least.
    const GREATEST: Self;

    /// All bits set, or none, as in the mask of a sample.
    fn mask(usable: u16) -> Self;
}

/// Counts are in the order of their values where one line that rises calibrates them all.
impl Key for u16 {
    const GREATEST: u16 = u16::MAX;

    #[inline(always)]
    fn mask(usable: u16) -> u16 {
        usable
    }
}

/// Values, as [`key`] orders them.
impl Key for i32 {
    const GREATEST: i32 = i32::MAX;

    #[inline(always)]
    fn mask(usable: u16) -> i32 {
        i32::from(usable as i16)
    }
}

/// A whole number in the order of the value (IEEE 754 totalOrder).
#[inline(always)]
pub(crate) fn key(value: f32) -> i32 {
    let bits = value.to_bits() as i32;
    bits ^ (bits >> 31 & i32::MAX)
}

/// The value of a key.
#[inline(always)]
pub(crate) fn value(key: i32) -> f32 {
    f32::from_bits((key ^ (key >> 31 & i32::MAX)) as u32)
}

/// Lanes of one comparator at a time: as many as the widest vectors have.
const STEP: usize = 32;

#[inline(always)]
fn compare<K: Key>(rows: &mut [Lanes<K>], net: &[Comparator]) {
    for &(i, j, keep) in net {
        // what is kept is asked once for all lanes
        let (i, j) = (usize::from(i), usize::from(j));
        assert!(i < rows.len() && j < rows.len(), "a network of as many wires as rows");
        match keep {
            Keep::Both => {
                for at in (0..LANES).step_by(STEP) {
                    let (x, y) = (vector(&rows[i], at), vector(&rows[j], at));
                    rows[i][at..at + STEP].copy_from_slice(&each(&x, &y, K::min));
                    rows[j][at..at + STEP].copy_from_slice(&each(&x, &y, K::max));
                }
            }
            Keep::Lower => {
                for at in (0..LANES).step_by(STEP) {
                    let low = each(&vector(&rows[i], at), &vector(&rows[j], at), K::min);
                    rows[i][at..at + STEP].copy_from_slice(&low);
                }
            }
            Keep::Upper => {
                for at in (0..LANES).step_by(STEP) {
                    let high = each(&vector(&rows[i], at), &vector(&rows[j], at), K::max);
                    rows[j][at..at + STEP].copy_from_slice(&high);
                }
            }
        }
    }
}

/// Lanes of a row as one vector.
#[inline(always)]
fn vector<K: Key>(row: &Lanes<K>, at: usize) -> [K; STEP] {
    let mut v = [K::GREATEST; STEP];
    v.copy_from_slice(&row[at..at + STEP]);
    v
}

#[inline(always)]
fn each<K: Key>(a: &[K; STEP], b: &[K; STEP], one: impl Fn(K, K) -> K) -> [K; STEP] {
    std::array::from_fn(|l| one(a[l], b[l]))
}

/// The median of each lane from the two middle ones, brought there by [`Median::of`] from `k` rows that `pads` filled.
/// Missing where nothing was seen.
#[inline(always)]
pub(crate) fn middle<K: Key>(k: usize, (low, high): (&Row, &Row), pads: &Pads<K>, seen: &Lanes<u16>, out: &mut Row) {
    for l in 0..LANES {
        let mean = 0.5 * (low[l] + high[l]);
        let odd_masked = pads.next[l] != K::GREATEST;
        let one = if k.is_multiple_of(2) { low[l] } else { high[l] };
        let v = if odd_masked == k.is_multiple_of(2) { one } else { mean };
        out[l] = if v.is_finite() && seen[l] > 0 { v } else { f32::NAN }; // one bit pattern for what is missing
    }
}

/// What stands in for the next masked sample of each lane.
pub(crate) struct Pads<K> {
    next: Lanes<K>,
    /// Bits that change from one to the next.
    turns: K,
}

impl<K: Key> Pads<K> {
    /// The greatest and the least in turn, which leaves the middle where it is.
    pub(crate) fn around() -> Pads<K> {
        Pads { next: Lanes::all(K::GREATEST), turns: K::mask(u16::MAX) }
    }

    /// The greatest always, which leaves the lower ranks where they are.
    pub(crate) fn above() -> Pads<K> {
        Pads { next: Lanes::all(K::GREATEST), turns: K::mask(0) }
    }

    /// Replaces the samples that may not be used.
    #[inline(always)]
    pub(crate) fn apply(&mut self, usable: &Usable, row: &mut Lanes<K>) {
        for l in 0..LANES {
            let (usable, next) = (K::mask(usable[l]), self.next[l]);
            row[l] = row[l] & usable | next & !usable;
            self.next[l] = next ^ !usable & self.turns;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    struct Of<'a> {
        median: &'a Median,
        rows: &'a mut [Lanes<i32>],
        pads: &'a Pads<i32>,
        seen: &'a Lanes<u16>,
        out: &'a mut Row,
    }

    impl crate::wide::Loop for Of<'_> {
        #[inline(always)]
        fn run(self, _: impl crate::wide::Instructions) {
            let at = self.median.of(self.rows);
            let row = |i: usize| {
                let mut row = Row::all(f32::NAN);
                if let Some(keys) = self.rows.get(i) {
                    row.iter_mut().zip(keys.iter()).for_each(|(v, k)| *v = value(*k));
                }
                row
            };
            middle(self.rows.len(), (&row(at.0), &row(at.1)), self.pads, self.seen, self.out);
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
            let (mut rows, mut pads, mut seen) = (vec![Lanes::all(0); k], Pads::around(), Lanes::all(0));
            let mut columns = vec![vec![]; LANES];
            for row in &mut rows {
                let mut usable = Usable::all(0);
                for l in 0..LANES {
                    let v = (next() % 1000) as f32 / 997.0 - 0.4;
                    row[l] = key(v);
                    usable[l] = if next() % 5 >= share { !0 } else { 0 };
                    if usable[l] != 0 { columns[l].push(v); }
                }
                pads.apply(&usable, row);
                usable.count(&mut seen);
            }
            let median = Median::new(k);
            let (mut plain, mut wide) = (Row::all(0.0), Row::all(0.0));
            let of = |rows, out| Of { median: &median, rows, pads: &pads, seen: &seen, out };
            let mut copy = rows.clone();
            crate::wide::Loop::run(of(&mut copy, &mut plain), crate::wide::Baseline);
            crate::wide::run(of(&mut rows, &mut wide));
            let want: Vec<u32> = columns.into_iter().map(|c| plain_median(c).to_bits()).collect();
            prop_assert_eq!(&plain.map(f32::to_bits)[..], &want);
            prop_assert_eq!(&wide.map(f32::to_bits)[..], &want);
        }

        #[test]
        fn keys_are_in_the_order_of_values(a in any::<f32>(), b in any::<f32>()) {
            prop_assert_eq!(key(a).cmp(&key(b)), a.total_cmp(&b));
            prop_assert_eq!(value(key(a)).to_bits(), a.to_bits());
        }
    }
}
