//! The medoid of some cells' looks: the look with the least sum of distances to all others.
//!
//! Of few looks each meets each. Of many, most are ruled out by a bound. Let `m` be any point, `dⱼ` its distance from look
//! `j` and `uⱼ` the direction from there, `S = Σdⱼ`, `g = Σuⱼ`, `M = Σuⱼuⱼᵀ`. The distance of a point `m + h` from look `j`
//! is the length of a vector with `dⱼ + uⱼ·h` along `uⱼ` and `|h|·sin φⱼ` across. Lengths of a sum are at most the sum of
//! lengths, and a sine is at least its square, so the sum of distances from `m + h` is at least the root of
//! `(S + g·h)² + (n|h| − hᵀMh/|h|)²`. With `m` near the geometric median few looks have a bound below the least sum found,
//! two on average where looks scatter to all sides. Sums are then formed of these alone, in the same order: the look is the
//! same to the bit, whichever way it was found. Where looks lie along a line the bound rules out little, and each meets
//! each.

/// Cells whose distances are taken at once: those of one vector, so that the values of all looks stay in the first-level
/// cache while each meets each.
pub(super) const PART: usize = 16;

/// Values of as many cells.
#[derive(Clone, Copy)]
#[repr(align(64))]
struct Part<T>([T; PART]);

/// From so many looks on bounds are quicker than all pairs.
const MANY: usize = 32;

/// Where bounds ruled out too little they are not tried again for so many parts.
const REST: usize = 16;

/// Steps towards the geometric median (Weiszfeld 1937).
const STEPS: usize = 1;

/// The looks of the cells of one part.
pub(super) struct Looks {
    bands: usize,
    /// By look and band; zero where a look may not be used.
    values: Vec<Part<f32>>,
    /// All bits set where a look may be used.
    usable: Vec<Part<u32>>,
    /// Sums of distances to the others, or the squares of their bounds.
    sums: Vec<Part<f32>>,
    /// By band: a look of each cell.
    own: Vec<Part<f32>>,
    /// Parts for which bounds are not tried.
    rest: usize,
}

impl Looks {
    pub(super) fn new(looks: usize, bands: usize) -> Looks {
        let zeros = |n: usize| vec![Part([0.0; PART]); n];
        Looks {
            bands,
            values: zeros(looks * bands),
            usable: vec![Part([0; PART]); looks],
            sums: zeros(looks),
            own: zeros(bands),
            rest: 0,
        }
    }

    /// Takes the values of a look in a band as the `at`th.
    #[inline(always)]
    pub(super) fn take(&mut self, at: usize, values: &[f32; PART]) {
        self.values[at].0 = *values;
    }

    /// Where the `k`th look, whose values were taken, may be used.
    #[inline(always)]
    pub(super) fn mark(&mut self, k: usize, usable: &[u16; PART]) {
        // as wide as the distances they hide
        let usable = usable.map(|u| i32::from(u as i16) as u32);
        self.usable[k].0 = usable;
        if usable.contains(&0) {
            for value in &mut self.values[k * self.bands..(k + 1) * self.bands] {
                for (value, usable) in value.0.iter_mut().zip(usable) {
                    *value = where_usable(*value, usable);
                }
            }
        }
    }

    /// Which of the looks with these numbers has the least sum of distances to the others; 0 where none may be used.
    #[inline(always)]
    pub(super) fn medoid(&mut self, numbers: &[u16]) -> [u16; PART] {
        // the same loops, made for each number of bands that deliveries have: those whose length is known take a third less
        // time
        match self.bands {
            1 => self.medoid_of::<1>(numbers),
            2 => self.medoid_of::<2>(numbers),
            3 => self.medoid_of::<3>(numbers),
            4 => self.medoid_of::<4>(numbers),
            5 => self.medoid_of::<5>(numbers),
            6 => self.medoid_of::<6>(numbers),
            7 => self.medoid_of::<7>(numbers),
            10 => self.medoid_of::<10>(numbers),
            bands => self.by_pairs(numbers, bands),
        }
    }

    #[inline(always)]
    fn medoid_of<const B: usize>(&mut self, numbers: &[u16]) -> [u16; PART] {
        // looks of one band lie along a line
        if B > 1 && numbers.len() >= MANY {
            if self.rest == 0 {
                if let Some(chosen) = self.by_bounds::<B>(numbers) {
                    return chosen;
                }
                self.rest = REST;
            }
            self.rest -= 1;
        }
        self.by_pairs(numbers, B)
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

    /// None where too few looks are ruled out for it to pay.
    #[inline(always)]
    fn by_bounds<const B: usize>(&mut self, numbers: &[u16]) -> Option<[u16; PART]> {
        let k = numbers.len();
        let Looks { values, usable, sums: bounds, own, .. } = self;
        let looks = &values[..k * B].as_chunks::<B>().0[..k];
        let (usable, bounds) = (&usable[..k], &mut bounds[..k]);
        let Ok(own) = <&mut [Part<f32>; B]>::try_from(own.as_mut_slice()) else { return None };
        let all = bound(&near_median(looks, usable), looks, usable, bounds);
        // what rounding may do to a sum of so many distances or to its bound, several times over; of a look with the least
        // sum n|h| is at most that sum and S
        let rounding = (8 * k + 64) as f32 * f32::EPSILON;
        let (mut least, mut chosen) = ([f32::INFINITY; PART], [u32::MAX; PART]);
        for _ in 0..k / 4 {
            let (lowest, at) = lowest(bounds);
            let wanted: [bool; PART] = std::array::from_fn(|l| {
                let highest = least[l] + rounding * (least[l] + all[l]);
                // squares of very small numbers have few digits: they rule nothing out
                lowest[l] < f32::INFINITY && lowest[l] <= (highest * highest).max(1e-30)
            });
            if wanted == [false; PART] {
                return Some(chosen.map(|i| numbers.get(i as usize).copied().unwrap_or(0)));
            }
            for (l, i) in at.iter().enumerate() {
                bounds[*i as usize].0[l] = f32::INFINITY;
                for (own, value) in own.iter_mut().zip(&looks[*i as usize]) {
                    own.0[l] = value.0[l];
                }
            }
            let sums = sums(own, looks, usable);
            for l in 0..PART {
                let better = sums[l] < least[l] || sums[l] == least[l] && at[l] < chosen[l];
                least[l] = if wanted[l] && better { sums[l] } else { least[l] };
                chosen[l] = if wanted[l] && better { at[l] } else { chosen[l] };
            }
        }
        None
    }
}

/// The lowest bound of each cell and the look that has it, of equal ones the earliest.
#[inline(always)]
fn lowest(bounds: &[Part<f32>]) -> ([f32; PART], [u32; PART]) {
    let (mut lowest, mut at) = ([f32::INFINITY; PART], [0u32; PART]);
    for (i, bound) in (0u32..).zip(bounds) {
        for l in 0..PART {
            at[l] = if bound.0[l] < lowest[l] { i } else { at[l] };
            lowest[l] = if bound.0[l] < lowest[l] { bound.0[l] } else { lowest[l] };
        }
    }
    (lowest, at)
}

/// Sums of distances of a look of each cell, in the order of the looks.
#[inline(always)]
fn sums<const B: usize>(own: &[Part<f32>; B], looks: &[[Part<f32>; B]], usable: &[Part<u32>]) -> [f32; PART] {
    let mut sums = [0f32; PART];
    for (look, usable) in looks.iter().zip(usable) {
        for (l, sum) in sums.iter_mut().enumerate() {
            *sum += where_usable(square(own, look, l).sqrt(), usable.0[l]);
        }
    }
    sums
}

/// Goes from the looks' mean some steps towards their geometric median.
#[inline(always)]
fn near_median<const B: usize>(looks: &[[Part<f32>; B]], usable: &[Part<u32>]) -> [Part<f32>; B] {
    let mut near = [Part([0f32; PART]); B];
    for step in 0..=STEPS {
        let (mut next, mut weights) = ([[0f32; PART]; B], [0f32; PART]);
        for (look, usable) in looks.iter().zip(usable) {
            for l in 0..PART {
                // any weights give a point that serves
                let by_distance = about_inverse_root(square(&near, look, l));
                let weight = where_usable(if step == 0 { 1.0 } else { by_distance }, usable.0[l]);
                weights[l] += weight;
                for b in 0..B {
                    next[b][l] += weight * look[b].0[l];
                }
            }
        }
        for l in 0..PART {
            for b in 0..B {
                near[b].0[l] = next[b][l] / weights[l];
            }
        }
    }
    near
}

/// Writes the squares of the looks' bounds, infinite where one may not be used, and gives the sum of distances from the
/// point near the geometric median.
#[inline(always)]
fn bound<const B: usize>(
    near: &[Part<f32>; B],
    looks: &[[Part<f32>; B]],
    usable: &[Part<u32>],
    bounds: &mut [Part<f32>],
) -> [f32; PART] {
    let (mut n, mut all, mut slope) = ([0f32; PART], [0f32; PART], [[0f32; PART]; B]);
    // of the pairs of bands those whose second is not above the first
    let mut products = [[[0f32; PART]; B]; B];
    for (look, usable) in looks.iter().zip(usable) {
        for l in 0..PART {
            let square = square(near, look, l);
            let inverse = where_usable(inverse_root(square), usable.0[l]);
            all[l] += where_usable(square.sqrt(), usable.0[l]);
            n[l] += where_usable(1.0, usable.0[l]);
            let mut u = [0f32; B];
            for b in 0..B {
                u[b] = (near[b].0[l] - look[b].0[l]) * inverse;
                slope[b][l] += u[b];
                for c in 0..b + 1 {
                    products[b][c][l] += u[b] * u[c];
                }
            }
        }
    }
    for ((look, usable), bound) in looks.iter().zip(usable).zip(bounds) {
        for l in 0..PART {
            let (mut along, mut square, mut product, mut h) = (all[l], 0f32, 0f32, [0f32; B]);
            for b in 0..B {
                h[b] = look[b].0[l] - near[b].0[l];
                along += slope[b][l] * h[b];
                square += h[b] * h[b];
                let mut row = products[b][b][l] * h[b];
                for c in 0..b {
                    row += 2.0 * products[b][c][l] * h[c];
                }
                product += h[b] * row;
            }
            let across = n[l] * square - product;
            let found = along * along + across * (across / square.max(f32::MIN_POSITIVE));
            // what is no number rules nothing out
            let found = if found >= 0.0 { found.min(f32::MAX) } else { 0.0 };
            bound.0[l] = if usable.0[l] != 0 { found } else { f32::INFINITY };
        }
    }
    all
}

/// The square of a distance in one lane. Loops over lanes are the outer ones: they become vectors.
#[inline(always)]
fn square<const B: usize>(a: &[Part<f32>; B], b: &[Part<f32>; B], lane: usize) -> f32 {
    let mut square = 0f32;
    for band in 0..B {
        let difference = a[band].0[lane] - b[band].0[lane];
        square += difference * difference;
    }
    square
}

/// One by the root of a number that is not negative, to 4 %: half its exponent, turned round. Anything for NaN.
#[inline(always)]
fn about_inverse_root(square: f32) -> f32 {
    f32::from_bits(0x5F37_59DFu32.wrapping_sub(square.to_bits() >> 1))
}

/// One by the root to 5·10⁻⁶ and never above it but for rounding (Newton's steps come from below), so that directions are
/// not longer than one; quicker than a division. Finite for 0.
#[inline(always)]
fn inverse_root(square: f32) -> f32 {
    let half = 0.5 * square;
    let first = about_inverse_root(square);
    let second = first * (1.5 - half * first * first);
    second * (1.5 - half * second * second)
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
