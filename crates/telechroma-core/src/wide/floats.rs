//! Numbers side by side, for loops that the compiler does not make vectors of by itself.

use std::ops::{Add, Mul, Sub};

/// A set of instructions. A value stands for having found them.
pub trait Instructions: Copy {
    /// Its numbers.
    type Floats: Floats;

    /// Its whole numbers.
    type Words: Words;

    /// The same number in all places.
    fn all(self, number: f32) -> Self::Floats;

    /// These numbers.
    fn floats(self, numbers: &[f32; 16]) -> Self::Floats;

    /// The numbers with these bits.
    fn bits(self, bits: &[u32; 16]) -> Self::Floats;

    /// These whole numbers.
    fn words(self, words: &[u32; 16]) -> Self::Words;

    /// Whole numbers, rounded.
    fn of_words(self, words: Self::Words) -> Self::Floats;

    /// By how much of itself [`Floats::inverse_root`] may be wrong.
    fn root_error(self) -> f32;

    /// True where [`Floats::inverse_root`] and [`Floats::taken`] are instructions of their own: quicker than a root, and than
    /// to fetch numbers one by one.
    fn is_rich(self) -> bool;
}

/// Sixteen numbers side by side.
pub trait Floats: Copy + Add<Output = Self> + Sub<Output = Self> + Mul<Output = Self> {
    /// The numbers.
    fn numbers(self) -> [f32; 16];

    /// `self · by + and`, rounded once or twice.
    fn multiply_add(self, by: Self, and: Self) -> Self;

    /// The roots.
    fn root(self) -> Self;

    /// An estimate of one by the root of finite numbers above 1e-37.
    fn inverse_root(self) -> Self;

    /// Only the bits that are set in the other, too.
    fn and(self, other: Self) -> Self;

    /// Which places, by bits, hold no more than the other.
    fn at_most(self, other: Self) -> u16;

    /// In each place what is at one of these places, which are below 16.
    fn taken(self, places: &[u32; 16]) -> Self;
}

/// Sixteen whole numbers of 32 bits side by side.
pub trait Words: Copy + Add<Output = Self> {
    /// The low and the high halves.
    fn halves(self) -> [Self; 2];

    /// Of each pair of words the squares of the differences between their low and between their high halves, added. Halves
    /// are less than 2¹⁵ apart.
    fn squares(self, other: Self) -> Self;
}

/// What every processor has.
#[derive(Clone, Copy)]
pub struct Baseline;

/// Numbers of the baseline.
#[derive(Clone, Copy)]
pub struct Plain([f32; 16]);

/// Whole numbers of the baseline.
#[derive(Clone, Copy)]
pub struct PlainWords([u32; 16]);

impl Instructions for Baseline {
    type Floats = Plain;
    type Words = PlainWords;

    #[inline(always)]
    fn all(self, number: f32) -> Plain {
        Plain([number; 16])
    }

    #[inline(always)]
    fn floats(self, numbers: &[f32; 16]) -> Plain {
        Plain(*numbers)
    }

    #[inline(always)]
    fn bits(self, bits: &[u32; 16]) -> Plain {
        Plain(bits.map(f32::from_bits))
    }

    #[inline(always)]
    fn words(self, words: &[u32; 16]) -> PlainWords {
        PlainWords(*words)
    }

    #[inline(always)]
    fn of_words(self, words: PlainWords) -> Plain {
        Plain(words.0.map(|word| word as f32))
    }

    #[inline(always)]
    fn root_error(self) -> f32 {
        6e-6
    }

    #[inline(always)]
    fn is_rich(self) -> bool {
        false
    }
}

impl Floats for Plain {
    #[inline(always)]
    fn numbers(self) -> [f32; 16] {
        self.0
    }

    #[inline(always)]
    fn multiply_add(self, by: Plain, and: Plain) -> Plain {
        self * by + and
    }

    #[inline(always)]
    fn root(self) -> Plain {
        Plain(self.0.map(f32::sqrt))
    }

    #[inline(always)]
    fn inverse_root(self) -> Plain {
        Plain(self.0.map(|square| {
            // half the exponent, turned round, is right to 4 %; Newton's steps square that
            let first = f32::from_bits(0x5F37_59DFu32.wrapping_sub(square.to_bits() >> 1));
            let half = 0.5 * square;
            let second = first * (1.5 - half * first * first);
            second * (1.5 - half * second * second)
        }))
    }

    #[inline(always)]
    fn and(self, other: Plain) -> Plain {
        Plain(std::array::from_fn(|l| f32::from_bits(self.0[l].to_bits() & other.0[l].to_bits())))
    }

    #[inline(always)]
    fn at_most(self, other: Plain) -> u16 {
        (0..16).fold(0, |places, l| places | u16::from(self.0[l] <= other.0[l]) << l)
    }

    #[inline(always)]
    fn taken(self, places: &[u32; 16]) -> Plain {
        Plain(places.map(|place| self.0[place as usize & 15]))
    }
}

impl Add for PlainWords {
    type Output = PlainWords;

    #[inline(always)]
    fn add(self, other: PlainWords) -> PlainWords {
        PlainWords(std::array::from_fn(|l| self.0[l].wrapping_add(other.0[l])))
    }
}

impl Words for PlainWords {
    #[inline(always)]
    fn halves(self) -> [PlainWords; 2] {
        [PlainWords(self.0.map(|word| word & 0xFFFF)), PlainWords(self.0.map(|word| word >> 16))]
    }

    #[inline(always)]
    fn squares(self, other: PlainWords) -> PlainWords {
        let square = |a: u32, b: u32| {
            let apart = u32::from((a as u16).wrapping_sub(b as u16).cast_signed().unsigned_abs());
            apart * apart
        };
        PlainWords(std::array::from_fn(|l| {
            let (a, b) = (self.0[l], other.0[l]);
            square(a, b) + square(a >> 16, b >> 16)
        }))
    }
}

macro_rules! plainly {
    ($($trait:ident $method:ident $op:tt),*) => {$(
        impl $trait for Plain {
            type Output = Plain;

            #[inline(always)]
            fn $method(self, other: Plain) -> Plain {
                Plain(std::array::from_fn(|l| self.0[l] $op other.0[l]))
            }
        }
    )*};
}
plainly!(Add add +, Sub sub -, Mul mul *);

#[cfg(test)]
mod tests {
    use super::*;
    use crate::wide::{Loop, run};
    use proptest::prelude::*;

    /// What a set of instructions makes of these numbers.
    struct Ask<'a> {
        numbers: [f32; 16],
        others: [f32; 16],
        places: [u32; 16],
        words: [[u32; 16]; 2],
        told: &'a mut Told,
    }

    #[derive(Debug, Default, PartialEq)]
    struct Told {
        exact: Vec<[u32; 16]>,
        at_most: u16,
        multiplied: [f32; 16],
        inverse: [f32; 16],
        error: f32,
    }

    impl Loop for Ask<'_> {
        #[inline(always)]
        fn run(self, with: impl Instructions) {
            let Ask { numbers, others, places, words, told } = self;
            let (a, b) = (with.floats(&numbers), with.floats(&others));
            let mask = with.bits(&others.map(|o| if o < 1.0 { u32::MAX } else { 0 }));
            let [c, d] = words.map(|words| with.words(&words));
            let ([low, high], both) = (c.halves(), c.squares(d) + d);
            let of_words = [low, high, c.squares(d), both].map(|words| with.of_words(words));
            let [low, high, squares, both] = of_words;
            let exact = [
                a + b,
                a - b,
                a * b,
                a.root(),
                a.and(mask),
                a.taken(&places),
                with.all(numbers[3]),
                low,
                high,
                squares,
                both,
            ];
            told.exact = exact.iter().map(|e| e.numbers().map(f32::to_bits)).collect();
            told.at_most = a.at_most(b);
            told.multiplied = a.multiply_add(b, a).numbers();
            told.inverse = a.inverse_root().numbers();
            told.error = with.root_error();
        }
    }

    proptest! {
        #[test]
        fn all_instructions_do_the_same(
            exponents in proptest::array::uniform16(-36f32..38.0),
            others in proptest::array::uniform16(0f32..2.0),
            places in proptest::array::uniform16(0u32..16),
            words in proptest::array::uniform2(proptest::array::uniform16(any::<u32>())),
        ) {
            // halves less than 2¹⁵ apart
            let words = words.map(|words| words.map(|word| word & 0x7FFF_7FFF | 0x8000));
            let numbers = exponents.map(|e| 10f32.powf(e));
            let (mut plain, mut widest) = (Told::default(), Told::default());
            Ask { numbers, others, places, words, told: &mut plain }.run(Baseline);
            run(Ask { numbers, others, places, words, told: &mut widest });
            prop_assert_eq!(&plain.exact, &widest.exact);
            prop_assert_eq!(plain.at_most, widest.at_most);
            prop_assert_eq!(plain.exact[5], places.map(|p| numbers[p as usize].to_bits()));
            for l in 0..16 {
                let [(low, high), (other_low, other_high)] = words.map(|w| (w[l] & 0xFFFF, w[l] >> 16));
                let squares = low.abs_diff(other_low).pow(2) + high.abs_diff(other_high).pow(2);
                prop_assert_eq!([7, 8, 9].map(|n| f32::from_bits(plain.exact[n][l])), [low, high, squares].map(|w| w as f32));
                prop_assert_eq!(plain.at_most >> l & 1 == 1, numbers[l] <= others[l]);
                for told in [&plain, &widest] {
                    let wrong = f64::from(told.inverse[l]) * f64::from(numbers[l]).sqrt() - 1.0;
                    prop_assert!(wrong.abs() <= f64::from(told.error), "{}: {wrong} of {}", numbers[l], told.error);
                    let exact = f64::from(numbers[l]) * f64::from(others[l]) + f64::from(numbers[l]);
                    let wrong = f64::from(told.multiplied[l]) / exact - 1.0;
                    prop_assert!(wrong.abs() <= 2.0 * f64::from(f32::EPSILON) || exact > 3e38, "{wrong}");
                }
            }
        }
    }
}
