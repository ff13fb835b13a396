//! The medoid of some cells' looks: the look with the least sum of distances to all others.
//!
//! Of few looks each meets each, with estimated roots where the machine has such; where a second look comes as near as the
//! estimates may be wrong, the sums of those two are taken exactly.
//!
//! Of many looks most are ruled out by a bound. Let `m` be any point, `dⱼ` its distance from look `j` and `uⱼ` the
//! direction from there, `S = Σdⱼ`, `g = Σuⱼ`, `M = Σuⱼuⱼᵀ`. The distance of a point `m + h` from look `j` is the length of a
//! vector with `dⱼ + uⱼ·h` along `uⱼ` and `|h|·sin φⱼ` across. Lengths of a sum are at most the sum of lengths, and a sine
//! is at least its square, so the sum of distances from `m + h` is at least the root of
//! `(S + g·h)² + (n|h| − hᵀMh/|h|)²`. With `m` near the geometric median few looks have a bound below the least sum found,
//! two on average where looks scatter to all sides. Sums are then formed of these alone. Where looks lie along a line the
//! bound rules out little, and each meets each.
//!
//! Looks of counts of one calibration are held against each other as they are: the squares of their distances are whole
//! numbers, which vectors form of pairs of bands.
//!
//! Sums are always formed in the same order: the look is the same to the bit, whichever way it was found.

use crate::wide::{Floats, Instructions, Words};

/// Cells whose distances are taken at once: those of one vector, so that the values of all looks stay in the first-level
/// cache while each meets each.
pub(super) const PART: usize = 16;

/// All lanes in turn.
const LANES: [u32; PART] = [0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15];

/// Values of as many cells.
#[derive(Clone, Copy)]
#[repr(align(64))]
struct Part<T>([T; PART]);

/// From so many looks on bounds are quicker than all pairs.
const MANY: usize = 32;

/// The same of counts, whose estimates are quicker still.
const MANY_COUNTS: usize = 40;

/// How looks were taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Taken {
    Values,
    Counts,
    /// Counts of which no two are more than [`near_counts`] apart.
    NearCounts,
}

/// How far counts of so many bands may be from each other for the squares of their distances to be 32 bits wide.
pub(super) fn near_counts(bands: usize) -> u16 {
    let root = (u32::MAX as usize / bands.max(1)).isqrt();
    root.min(i16::MAX as usize) as u16
}

/// What failed for a part is not tried again for so many.
const REST: u32 = 16;

/// Steps towards the geometric median (Weiszfeld 1937).
const STEPS: usize = 1;

/// Squares that are estimated by are at least so large, that their inverse roots are numbers.
const LEAST_SQUARE: f32 = 1e-36;

/// Sums so small may be any: their squares have few digits, and the least square's root adds up.
const SMALL: f32 = 1e-15;

/// Whether it is time to try something that does not always succeed.
#[derive(Default)]
struct Tries {
    rest: u32,
}

impl Tries {
    #[inline(always)]
    fn due(&mut self) -> bool {
        let due = self.rest == 0;
        self.rest = self.rest.saturating_sub(1);
        due
    }

    /// What a try gave.
    #[inline(always)]
    fn noted<T>(&mut self, found: Option<T>) -> Option<T> {
        self.rest = if found.is_none() { REST } else { 0 };
        found
    }
}

/// The looks of the cells of one part.
pub(super) struct Looks {
    bands: usize,
    /// By look and band; zero where a look may not be used.
    values: Vec<Part<f32>>,
    /// Instead of values: counts by look and pair of bands, the second's in the high half.
    counts: Vec<Part<u32>>,
    /// All bits set where a look may be used.
    usable: Vec<Part<u32>>,
    /// Sums of distances to the others, or the squares of their bounds.
    sums: Vec<Part<f32>>,
    /// Looks and lanes whose sums are formed.
    near: Vec<(u32, u32)>,
    bounds: Tries,
    estimates: Tries,
}

impl Looks {
    pub(super) fn new(looks: usize, bands: usize) -> Looks {
        let zeros = |n: usize| vec![Part([0.0; PART]); n];
        Looks {
            bands,
            values: zeros(looks * bands),
            counts: vec![Part([0; PART]); looks * bands.div_ceil(2)],
            usable: vec![Part([0; PART]); looks],
            sums: zeros(looks),
            near: vec![],
            bounds: Tries::default(),
            estimates: Tries::default(),
        }
    }

    /// Where the `k`th look may be used.
    #[inline(always)]
    pub(super) fn mark(&mut self, k: usize, usable: &[u16; PART]) {
        // as wide as the distances they hide
        self.usable[k].0 = usable.map(|u| i32::from(u as i16) as u32);
    }

    /// Takes the values of the `k`th look in a band.
    #[inline(always)]
    pub(super) fn take(&mut self, with: impl Instructions, k: usize, band: usize, values: &[f32; PART]) {
        let usable = with.bits(&self.usable[k].0);
        self.values[k * self.bands + band].0 = with.floats(values).and(usable).numbers();
    }

    /// Takes the counts of the `k`th look in a pair of bands.
    #[inline(always)]
    pub(super) fn take_counts(&mut self, k: usize, pair: usize, first: &[u16; PART], second: &[u16; PART]) {
        let mut counts = [0; PART];
        for l in 0..PART {
            counts[l] = u32::from(first[l]) | u32::from(second[l]) << 16;
        }
        self.counts[k * self.bands.div_ceil(2) + pair].0 = counts;
    }

    /// Which of the looks with these numbers has the least sum of distances to the others; 0 where none may be used.
    #[inline(always)]
    pub(super) fn medoid(&mut self, with: impl Instructions, numbers: &[u16], taken: Taken) -> [u16; PART] {
        // the same loops, made for each number of bands that deliveries have: those whose length is known take a third less
        // time
        match self.bands {
            1 => self.medoid_of::<1, 1>(with, numbers, taken),
            2 => self.medoid_of::<2, 1>(with, numbers, taken),
            3 => self.medoid_of::<3, 2>(with, numbers, taken),
            4 => self.medoid_of::<4, 2>(with, numbers, taken),
            5 => self.medoid_of::<5, 3>(with, numbers, taken),
            6 => self.medoid_of::<6, 3>(with, numbers, taken),
            7 => self.medoid_of::<7, 4>(with, numbers, taken),
            10 => self.medoid_of::<10, 5>(with, numbers, taken),
            bands => {
                self.values_of(with, numbers.len(), taken);
                self.by_pairs(numbers, bands)
            }
        }
    }

    /// Of `B` bands in `H` pairs.
    #[inline(always)]
    fn medoid_of<const B: usize, const H: usize>(
        &mut self,
        with: impl Instructions,
        numbers: &[u16],
        taken: Taken,
    ) -> [u16; PART] {
        let quick = taken == Taken::NearCounts && with.is_rich();
        let many = if quick { MANY_COUNTS } else { MANY };
        // looks of one band lie along a line
        if B > 1 && numbers.len() >= many && self.bounds.due() {
            self.values_of(with, numbers.len(), taken);
            let found = self.by_bounds::<B>(with, numbers);
            if let Some(chosen) = self.bounds.noted(found) {
                return chosen;
            }
        }
        if quick && self.estimates.due() {
            let found = self.by_counts::<B, H>(with, numbers);
            if let Some(chosen) = self.estimates.noted(found) {
                return chosen;
            }
        }
        self.values_of(with, numbers.len(), taken);
        if !quick && with.is_rich() && self.estimates.due() {
            let found = self.by_estimates::<B>(with, numbers);
            if let Some(chosen) = self.estimates.noted(found) {
                return chosen;
            }
        }
        self.by_pairs(numbers, B)
    }

    /// Makes values of counts: the counts themselves.
    #[inline(always)]
    fn values_of(&mut self, with: impl Instructions, looks: usize, taken: Taken) {
        if taken == Taken::Values {
            return;
        }
        let Looks { bands, values, counts, usable, .. } = self;
        let counts = counts.chunks_exact(bands.div_ceil(2));
        for ((values, counts), usable) in values.chunks_exact_mut(*bands).zip(counts).zip(&usable[..looks]) {
            for (values, pair) in values.chunks_mut(2).zip(counts) {
                let halves = with.words(&pair.0).halves();
                for (value, half) in values.iter_mut().zip(halves) {
                    value.0 = with.of_words(half).and(with.bits(&usable.0)).numbers();
                }
            }
        }
    }

    #[inline(always)]
    fn by_pairs(&mut self, numbers: &[u16], bands: usize) -> [u16; PART] {
        let Looks { values, usable, sums, .. } = self;
        let k = numbers.len();
        sums[..k].fill(Part([0.0; PART]));
        // sums are not negative: their bits, as whole numbers, are in the same order, and are compared by vectors
        let (mut least, mut chosen) = ([u32::MAX; PART], [0u32; PART]);
        for i in 0..k {
            let (mine, theirs) = values[i * bands..k * bands].split_at(bands);
            let (own_usable, others_usable) = (usable[i].0, &usable[i + 1..k]);
            let (before, after) = sums[..k].split_at_mut(i + 1);
            let mut own = before[i].0;
            for ((theirs, other_usable), other) in theirs.chunks_exact(bands).zip(others_usable).zip(after) {
                let squares = squares(mine, theirs);
                let mut sum = other.0;
                for l in 0..PART {
                    let d = where_usable(squares[l].sqrt(), own_usable[l] & other_usable.0[l]);
                    own[l] += d;
                    sum[l] += d;
                }
                other.0 = sum;
            }
            let number = u32::from(numbers[i]);
            for l in 0..PART {
                let sum = own[l].to_bits() | !own_usable[l];
                chosen[l] = if sum < least[l] { number } else { chosen[l] };
                least[l] = sum.min(least[l]);
            }
        }
        chosen.map(|number| number as u16)
    }

    /// None where too many looks come near to the least sum for it to pay.
    #[inline(always)]
    fn by_estimates<const B: usize>(&mut self, with: impl Instructions, numbers: &[u16]) -> Option<[u16; PART]> {
        let Looks { values, usable, sums, .. } = self;
        match estimate(with, numbers, values.as_chunks::<B>().0, usable, sums) {
            Ok(chosen) => Some(chosen),
            Err(error) => self.settle::<B>(with, numbers, &[0.0; PART], error),
        }
    }

    /// The same of counts.
    #[inline(always)]
    fn by_counts<const B: usize, const H: usize>(
        &mut self,
        with: impl Instructions,
        numbers: &[u16],
    ) -> Option<[u16; PART]> {
        let Looks { counts, usable, sums, .. } = self;
        match estimate(with, numbers, counts.as_chunks::<H>().0, usable, sums) {
            Ok(chosen) => Some(chosen),
            Err(error) => {
                self.values_of(with, numbers.len(), Taken::Counts);
                self.settle::<B>(with, numbers, &[0.0; PART], error)
            }
        }
    }

    /// None where too few looks are ruled out for it to pay.
    #[inline(always)]
    fn by_bounds<const B: usize>(&mut self, with: impl Instructions, numbers: &[u16]) -> Option<[u16; PART]> {
        let k = numbers.len();
        let Looks { values, usable, sums: bounds, .. } = self;
        let (looks, usable, bounds) = (&values.as_chunks::<B>().0[..k], &usable[..k], &mut bounds[..k]);
        let near = near_median(with, looks, usable);
        let all = bound(with, &near, looks, usable, bounds);
        // of a look with the least sum n|h| is at most that sum and S
        self.settle::<B>(with, numbers, &all, rounding(k))
    }

    /// Forms sums of the look with the lowest bound, then of those whose bounds come near enough to that. Given are the
    /// bounds' squares; what a bound may be too large by is a share of the least sum and of `all`.
    #[inline(always)]
    fn settle<const B: usize>(
        &mut self,
        with: impl Instructions,
        numbers: &[u16],
        all: &[f32; PART],
        share: f32,
    ) -> Option<[u16; PART]> {
        let k = numbers.len();
        let Looks { values, usable, sums: bounds, near, .. } = self;
        let (looks, usable, bounds) = (&values.as_chunks::<B>().0[..k], &usable[..k], &mut bounds[..k]);
        let at = lowest(bounds);
        let (mut least, mut chosen) = (sums(with, &at, &LANES, looks, usable), at);
        let mut highest = [0f32; PART];
        for l in 0..PART {
            bounds[at[l] as usize].0[l] = f32::INFINITY;
            let sum = least[l] + share * (least[l] + all[l]) + SMALL;
            // what is no number rules nothing out; bounds are finite
            let square = (sum * sum).to_bits().min(f32::MAX.to_bits());
            highest[l] = f32::from_bits(square);
        }
        near.clear();
        for (i, bound) in (0u32..).zip(&*bounds) {
            let mut lanes = with.floats(&bound.0).at_most(with.floats(&highest));
            while lanes != 0 {
                near.push((i, lanes.trailing_zeros()));
                lanes &= lanes - 1;
            }
        }
        if near.len() > k * PART / 4 {
            return None;
        }
        while !near.is_empty() {
            let (at, lanes) = next(with, near, &chosen);
            let sums = sums(with, &at, &lanes, looks, usable);
            for (sum, (i, lane)) in sums.into_iter().zip(at.into_iter().zip(lanes)) {
                let (least, chosen) = (&mut least[lane as usize], &mut chosen[lane as usize]);
                if sum < *least || sum == *least && i < *chosen {
                    (*least, *chosen) = (sum, i);
                }
            }
        }
        let mut found = [0; PART];
        for (l, found) in found.iter_mut().enumerate() {
            let i = chosen[l] as usize;
            *found = if usable[i].0[l] != 0 { numbers[i] } else { 0 };
        }
        Some(found)
    }
}

/// A look that distances are estimated from and to.
trait Spectrum<I: Instructions> {
    type Own: Copy;

    fn own(&self, with: I) -> Self::Own;

    /// Zero where one of both may not be used.
    fn distance(&self, with: I, from: &Self::Own, usable: (&[u32; PART], &[u32; PART])) -> I::Floats;
}

impl<I: Instructions, const B: usize> Spectrum<I> for [Part<f32>; B] {
    type Own = [I::Floats; B];

    #[inline(always)]
    fn own(&self, with: I) -> [I::Floats; B] {
        self.each_ref().map(|v| with.floats(&v.0))
    }

    #[inline(always)]
    fn distance(&self, with: I, from: &[I::Floats; B], usable: (&[u32; PART], &[u32; PART])) -> I::Floats {
        let square = about_square(with, from, self);
        (square * square.inverse_root()).and(with.bits(usable.0)).and(with.bits(usable.1))
    }
}

impl<I: Instructions, const H: usize> Spectrum<I> for [Part<u32>; H] {
    type Own = [I::Words; H];

    #[inline(always)]
    fn own(&self, with: I) -> [I::Words; H] {
        self.each_ref().map(|v| with.words(&v.0))
    }

    #[inline(always)]
    fn distance(&self, with: I, from: &[I::Words; H], usable: (&[u32; PART], &[u32; PART])) -> I::Floats {
        let mut square = with.words(&[0; PART]);
        for (from, to) in from.iter().zip(self) {
            square = square + from.squares(with.words(&to.0));
        }
        let square = with.of_words(square);
        // the inverse root of a whole number is at most 1, and that of 0 becomes a number without the bit of those above
        let own = usable.0.map(|u| u & (2f32.to_bits() - 1));
        square * square.inverse_root().and(with.bits(&own)).and(with.bits(usable.1))
    }
}

/// The looks with the least sums of estimated distances; or else, where a second one comes as near as the estimates may be
/// wrong, the bounds' squares in `sums` and what share of the least sum they may be too large by.
#[inline(always)]
fn estimate<I: Instructions, S: Spectrum<I>>(
    with: I,
    numbers: &[u16],
    looks: &[S],
    usable: &[Part<u32>],
    sums: &mut [Part<f32>],
) -> Result<[u16; PART], f32> {
    let k = numbers.len();
    let (looks, usable, sums) = (&looks[..k], &usable[..k], &mut sums[..k]);
    sums.fill(Part([0.0; PART]));
    // two looks against all that follow: what those need is fetched once for both
    for i in (0..k).step_by(2) {
        let [a, b, theirs @ ..] = &looks[i..] else { break };
        let (a_usable, b_usable) = (usable[i].0, usable[i + 1].0);
        let (before, after) = sums.split_at_mut(i + 2);
        let d = b.distance(with, &a.own(with), (&a_usable, &b_usable));
        let (mut a_sum, mut b_sum) = (with.floats(&before[i].0) + d, with.floats(&before[i + 1].0) + d);
        let (a, b) = (a.own(with), b.own(with));
        for ((theirs, usable), sum) in theirs.iter().zip(&usable[i + 2..]).zip(after) {
            let from_a = theirs.distance(with, &a, (&a_usable, &usable.0));
            let from_b = theirs.distance(with, &b, (&b_usable, &usable.0));
            (a_sum, b_sum) = (a_sum + from_a, b_sum + from_b);
            sum.0 = (with.floats(&sum.0) + from_a + from_b).numbers();
        }
        (before[i].0, before[i + 1].0) = (a_sum.numbers(), b_sum.numbers());
    }
    let (mut least, mut second, mut chosen) = ([u32::MAX; PART], [u32::MAX; PART], [0u32; PART]);
    let mut seen = [0u32; PART];
    for ((sum, usable), number) in sums.iter_mut().zip(usable).zip(numbers) {
        // what is no number may be anything
        sum.0 = sum.0.map(|sum| if sum >= 0.0 { sum } else { 0.0 });
        // sums are not negative: their bits, as whole numbers, are in the same order, and are compared by vectors
        let (sum, usable, number) = (sum.0, usable.0, u32::from(*number));
        for l in 0..PART {
            let sum = sum[l].to_bits() | !usable[l];
            chosen[l] = if sum < least[l] { number } else { chosen[l] };
            seen[l] += usable[l] & 1;
            second[l] = second[l].min(sum.max(least[l]));
            least[l] = sum.min(least[l]);
        }
    }
    let error = rounding(k) + with.root_error();
    let mut doubt = false;
    for l in 0..PART {
        // two looks are as far from each other: the first is taken
        let several = seen[l] > 2;
        let (least, second) = (f32::from_bits(least[l]), f32::from_bits(second[l]));
        doubt |= several & (second <= least + 3.0 * error * least + SMALL);
    }
    if !doubt {
        return Ok(chosen.map(|number| number as u16));
    }
    for (sum, usable) in sums.iter_mut().zip(usable) {
        let bound = with.floats(&sum.0);
        sum.0 = bounds_of((bound * bound).numbers(), &usable.0);
    }
    Err(2.0 * error)
}

/// What rounding may do to a sum of so many distances or to its bound, as a share of it, several times over.
#[inline(always)]
fn rounding(looks: usize) -> f32 {
    (8 * looks + 64) as f32 * f32::EPSILON
}

/// The look of each cell that has the lowest bound, of equal ones the earliest.
#[inline(always)]
fn lowest(bounds: &[Part<f32>]) -> [u32; PART] {
    let (mut lowest, mut at) = ([f32::INFINITY; PART], [0u32; PART]);
    for (i, bound) in (0u32..).zip(bounds) {
        for l in 0..PART {
            at[l] = if bound.0[l] < lowest[l] { i } else { at[l] };
            lowest[l] = if bound.0[l] < lowest[l] { bound.0[l] } else { lowest[l] };
        }
    }
    at
}

/// Takes looks and lanes whose sums are formed next: any, or of each lane one where lanes cannot quickly be exchanged. Places
/// that none is left for do another one again.
#[inline(always)]
fn next(with: impl Instructions, near: &mut Vec<(u32, u32)>, chosen: &[u32; PART]) -> ([u32; PART], [u32; PART]) {
    if !with.is_rich() {
        let (mut at, mut taken) = (*chosen, [false; PART]);
        near.retain(|(i, lane)| {
            let lane = *lane as usize;
            let again = taken[lane];
            at[lane] = if again { at[lane] } else { *i };
            taken[lane] = true;
            again
        });
        return (at, LANES);
    }
    let first = near.len().saturating_sub(PART);
    let last = &near[first..];
    let of = |t: usize| last[t.min(last.len() - 1)];
    let next = (std::array::from_fn(|t| of(t).0), std::array::from_fn(|t| of(t).1));
    near.truncate(first);
    next
}

/// Sums of distances of looks in some lanes, in the order of the looks.
#[inline(always)]
fn sums<I: Instructions, const B: usize>(
    with: I,
    at: &[u32; PART],
    lanes: &[u32; PART],
    looks: &[[Part<f32>; B]],
    usable: &[Part<u32>],
) -> [f32; PART] {
    let mut own = [Part([0f32; PART]); B];
    for (t, (i, lane)) in at.iter().zip(lanes).enumerate() {
        for (own, value) in own.iter_mut().zip(&looks[*i as usize]) {
            own.0[t] = value.0[*lane as usize];
        }
    }
    let own = own.map(|own| with.floats(&own.0));
    let mut sums = with.all(0.0);
    for (look, usable) in looks.iter().zip(usable) {
        let (mut theirs, mut usable) = (look.each_ref().map(|v| with.floats(&v.0)), with.bits(&usable.0));
        if with.is_rich() {
            (theirs, usable) = (theirs.map(|v| v.taken(lanes)), usable.taken(lanes));
        }
        let mut square = with.all(0.0);
        for b in 0..B {
            let difference = own[b] - theirs[b];
            square = square + difference * difference;
        }
        sums = sums + square.root().and(usable);
    }
    sums.numbers()
}

/// Goes from the looks' mean some steps towards their geometric median.
#[inline(always)]
fn near_median<I: Instructions, const B: usize>(
    with: I,
    looks: &[[Part<f32>; B]],
    usable: &[Part<u32>],
) -> [I::Floats; B] {
    let mut near = [with.all(0.0); B];
    for step in 0..=STEPS {
        let (mut next, mut weights) = ([with.all(0.0); B], with.all(0.0));
        for (look, usable) in looks.iter().zip(usable) {
            // any weights give a point that serves
            let weight = match step {
                0 => with.all(1.0),
                _ => about_square(with, &near, look).inverse_root(),
            };
            let weight = weight.and(with.bits(&usable.0));
            weights = weights + weight;
            for b in 0..B {
                next[b] = weight.multiply_add(with.floats(&look[b].0), next[b]);
            }
        }
        let each = with.floats(&weights.numbers().map(|weights| 1.0 / weights));
        near = next.map(|next| next * each);
    }
    near
}

/// Writes the squares of the looks' bounds, infinite where one may not be used, and gives the sum of distances from the
/// point near the geometric median.
#[inline(always)]
fn bound<I: Instructions, const B: usize>(
    with: I,
    near: &[I::Floats; B],
    looks: &[[Part<f32>; B]],
    usable: &[Part<u32>],
    bounds: &mut [Part<f32>],
) -> [f32; PART] {
    let zero = with.all(0.0);
    let (mut n, mut all, mut slope) = (zero, zero, [zero; B]);
    // of the pairs of bands those whose second is not above the first
    let mut products = [[zero; B]; B];
    for ((look, usable), bound) in looks.iter().zip(usable).zip(&mut *bounds) {
        let square = about_square(with, near, look);
        let about = square.inverse_root();
        // a step of Newton's squares what it is wrong by
        let inverse = about * (square * with.all(-0.5)).multiply_add(about * about, with.all(1.5));
        bound.0 = inverse.numbers();
        let inverse = inverse.and(with.bits(&usable.0));
        all = square.multiply_add(inverse, all);
        n = n + with.all(1.0).and(with.bits(&usable.0));
        let mut u = [zero; B];
        for b in 0..B {
            u[b] = (near[b] - with.floats(&look[b].0)) * inverse;
            slope[b] = slope[b] + u[b];
            for c in 0..b + 1 {
                products[b][c] = u[b].multiply_add(u[c], products[b][c]);
            }
        }
    }
    for ((look, usable), bound) in looks.iter().zip(usable).zip(bounds) {
        let (mut along, mut square, mut product, mut h) = (all, zero, zero, [zero; B]);
        for b in 0..B {
            h[b] = with.floats(&look[b].0) - near[b];
            along = slope[b].multiply_add(h[b], along);
            square = h[b].multiply_add(h[b], square);
            let mut others = zero;
            for c in 0..b {
                others = products[b][c].multiply_add(h[c], others);
            }
            let row = products[b][b].multiply_add(h[b], others + others);
            product = h[b].multiply_add(row, product);
        }
        let across = (n * square - product) * with.floats(&bound.0);
        bound.0 = bounds_of(along.multiply_add(along, across * across).numbers(), &usable.0);
    }
    all.numbers()
}

/// Squares of bounds, as [`Looks::settle`] takes them: infinite where a look may not be used, else finite. What is no number
/// rules nothing out.
#[inline(always)]
fn bounds_of(squares: [f32; PART], usable: &[u32; PART]) -> [f32; PART] {
    let (finite, infinite) = (f32::MAX.to_bits(), f32::INFINITY.to_bits());
    let mut bounds = [0f32; PART];
    for l in 0..PART {
        // by bits, in the order of the numbers: the compiler makes vectors of it
        let square = squares[l].to_bits();
        let bound = if square > infinite { 0 } else { square.min(finite) };
        bounds[l] = f32::from_bits(bound & usable[l] | infinite & !usable[l]);
    }
    bounds
}

/// The square of a distance to estimate by: not below the least, that its inverse root is a number.
#[inline(always)]
fn about_square<I: Instructions, const B: usize>(with: I, from: &[I::Floats; B], to: &[Part<f32>; B]) -> I::Floats {
    let mut square = with.all(LEAST_SQUARE);
    for b in 0..B {
        let difference = from[b] - with.floats(&to[b].0);
        square = difference.multiply_add(difference, square);
    }
    square
}

/// Squares of distances.
#[inline(always)]
fn squares(a: &[Part<f32>], b: &[Part<f32>]) -> [f32; PART] {
    let mut squares = [0f32; PART];
    for (a, b) in a.iter().zip(b) {
        for ((sum, a), b) in squares.iter_mut().zip(a.0).zip(b.0) {
            *sum += (a - b) * (a - b);
        }
    }
    squares
}

/// Zero where it is not usable.
#[inline(always)]
fn where_usable(value: f32, usable: u32) -> f32 {
    f32::from_bits(value.to_bits() & usable)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::wide::{Baseline, Loop, run};
    use proptest::prelude::*;

    struct Of<'a> {
        looks: &'a mut Looks,
        numbers: &'a [u16],
        taken: Taken,
        chosen: &'a mut [u16; PART],
    }

    impl Loop for Of<'_> {
        #[inline(always)]
        fn run(self, with: impl Instructions) {
            *self.chosen = self.looks.medoid(with, self.numbers, self.taken);
        }
    }

    proptest! {
        /// Estimates and bounds choose what pairs do, of values and of counts, with any instructions; the same values often,
        /// that many sums are equal.
        #[test]
        fn the_same_by_any_instructions(
            bands in 1usize..9, k in prop_oneof![1usize..40, 32usize..70], seed in any::<u64>(),
            steps in prop_oneof![2 => Just(u64::MAX), 1 => Just(12), 1 => Just(2)], clouds in 0u64..5, of_counts in any::<bool>(),
        ) {
            let mut state = seed | 1;
            let mut next = || { state ^= state << 13; state ^= state >> 7; state ^= state << 17; state >> 20 };
            let near = u64::from(near_counts(bands)) + 1;
            let mut looks = Looks::new(k, bands);
            for i in 0..k {
                looks.mark(i, &std::array::from_fn(|_| if next() % 5 >= clouds { u16::MAX } else { 0 }));
                let mut count = || std::array::from_fn(|_| (next() % steps % near * (near / steps).max(1)) as u16);
                for band in (0..bands).filter(|_| !of_counts) {
                    looks.take(Baseline, i, band, &count().map(|count: u16| f32::from(count) * 2e-5 - 0.1));
                }
                for band in (0..bands).step_by(2).filter(|_| of_counts) {
                    looks.take_counts(i, band / 2, &count(), &if band + 1 < bands { count() } else { [0; PART] });
                }
            }
            let numbers: Vec<u16> = (1..=k as u16).collect();
            let taken = if of_counts { Taken::NearCounts } else { Taken::Values };
            looks.values_of(Baseline, k, taken);
            let want = looks.by_pairs(&numbers, bands);
            let (mut plain, mut widest) = ([0; PART], [0; PART]);
            Of { looks: &mut looks, numbers: &numbers, taken, chosen: &mut plain }.run(Baseline);
            run(Of { looks: &mut looks, numbers: &numbers, taken, chosen: &mut widest });
            prop_assert_eq!(plain, want);
            prop_assert_eq!(widest, want);
        }
    }
}
