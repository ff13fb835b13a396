//! Running a loop with the widest vectors the machine has.
//!
//! The compiler's baseline knows only the instructions that every processor has. A loop run here is compiled again for
//! wider ones and the best is chosen at run time. Nothing is fused unasked: results are the same bits whichever is chosen,
//! but for estimates that a loop asks for by name.

// The only unsafe code of this crate: calls into functions and instructions that were found at run time, and a hint to
// the cache.
#![allow(unsafe_code)]

use std::ops::{Add, Mul, Sub};

/// A loop over cells. `run` must be `#[inline(always)]`, and so must what it calls: what is not inlined here is compiled
/// for the baseline (a closure would not be).
pub trait Loop {
    /// Does it, compiled for these instructions.
    fn run(self, with: impl Instructions);
}

/// A set of instructions. A value stands for having found them.
pub trait Instructions: Copy {
    /// Numbers side by side, for loops that the compiler does not make vectors of by itself.
    type Floats: Floats;

    /// The same number in all places.
    fn all(self, number: f32) -> Self::Floats;

    /// These numbers.
    fn floats(self, numbers: &[f32; 16]) -> Self::Floats;

    /// The numbers with these bits.
    fn bits(self, bits: &[u32; 16]) -> Self::Floats;

    /// By how much of itself [`Floats::inverse_root`] may be wrong.
    fn root_error(self) -> f32;

    /// True where that is quicker than a root.
    fn quick_roots(self) -> bool;

    /// True where [`Floats::taken`] is quicker than to fetch numbers one by one.
    fn quick_taking(self) -> bool;
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

/// What every processor has.
#[derive(Clone, Copy)]
pub struct Baseline;

/// Numbers of the baseline.
#[derive(Clone, Copy)]
pub struct Plain([f32; 16]);

impl Instructions for Baseline {
    type Floats = Plain;

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
    fn root_error(self) -> f32 {
        6e-6
    }

    #[inline(always)]
    fn quick_roots(self) -> bool {
        false
    }

    #[inline(always)]
    fn quick_taking(self) -> bool {
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

/// AVX-512: all sixteen in one vector, and estimates of inverse roots.
#[cfg(target_arch = "x86_64")]
mod avx512 {
    use std::arch::x86_64::{
        __m512, _CMP_LE_OQ, _mm512_add_ps, _mm512_and_ps, _mm512_cmp_ps_mask, _mm512_fmadd_ps, _mm512_loadu_epi32,
        _mm512_loadu_ps, _mm512_mul_ps, _mm512_permutexvar_ps, _mm512_rsqrt14_ps, _mm512_set1_ps, _mm512_sqrt_ps,
        _mm512_storeu_ps, _mm512_sub_ps,
    };
    use std::ops::{Add, Mul, Sub};

    use super::{Floats, Instructions};

    #[derive(Clone, Copy)]
    pub(super) struct Avx512(());

    impl Avx512 {
        /// # Safety
        /// The instructions must have been found on this machine: all that follows relies on it.
        pub(super) unsafe fn found() -> Avx512 {
            Avx512(())
        }
    }

    #[derive(Clone, Copy)]
    pub(super) struct Vector(__m512);

    impl Instructions for Avx512 {
        type Floats = Vector;

        #[inline(always)]
        fn all(self, number: f32) -> Vector {
            // SAFETY: here and below, a value of `Avx512` or of what it makes stands for having found the instructions.
            Vector(unsafe { _mm512_set1_ps(number) })
        }

        #[inline(always)]
        fn floats(self, numbers: &[f32; 16]) -> Vector {
            // SAFETY: as above; there are sixteen.
            Vector(unsafe { _mm512_loadu_ps(numbers.as_ptr()) })
        }

        #[inline(always)]
        fn bits(self, bits: &[u32; 16]) -> Vector {
            // SAFETY: as above.
            Vector(unsafe { _mm512_loadu_ps(bits.as_ptr().cast()) })
        }

        #[inline(always)]
        fn root_error(self) -> f32 {
            1.0 / 16384.0
        }

        #[inline(always)]
        fn quick_roots(self) -> bool {
            true
        }

        #[inline(always)]
        fn quick_taking(self) -> bool {
            true
        }
    }

    impl Floats for Vector {
        #[inline(always)]
        fn numbers(self) -> [f32; 16] {
            let mut numbers = [0f32; 16];
            // SAFETY: as above; there is room for sixteen.
            unsafe { _mm512_storeu_ps(numbers.as_mut_ptr(), self.0) };
            numbers
        }

        #[inline(always)]
        fn multiply_add(self, by: Vector, and: Vector) -> Vector {
            // SAFETY: as above.
            Vector(unsafe { _mm512_fmadd_ps(self.0, by.0, and.0) })
        }

        #[inline(always)]
        fn inverse_root(self) -> Vector {
            // SAFETY: as above.
            Vector(unsafe { _mm512_rsqrt14_ps(self.0) })
        }

        #[inline(always)]
        fn root(self) -> Vector {
            // SAFETY: as above.
            Vector(unsafe { _mm512_sqrt_ps(self.0) })
        }

        #[inline(always)]
        fn and(self, other: Vector) -> Vector {
            // SAFETY: as above.
            Vector(unsafe { _mm512_and_ps(self.0, other.0) })
        }

        #[inline(always)]
        fn at_most(self, other: Vector) -> u16 {
            // SAFETY: as above.
            unsafe { _mm512_cmp_ps_mask::<_CMP_LE_OQ>(self.0, other.0) }
        }

        #[inline(always)]
        fn taken(self, places: &[u32; 16]) -> Vector {
            // SAFETY: as above; there are sixteen.
            Vector(unsafe { _mm512_permutexvar_ps(_mm512_loadu_epi32(places.as_ptr().cast()), self.0) })
        }
    }

    impl Add for Vector {
        type Output = Vector;

        #[inline(always)]
        fn add(self, other: Vector) -> Vector {
            // SAFETY: as above.
            Vector(unsafe { _mm512_add_ps(self.0, other.0) })
        }
    }

    impl Sub for Vector {
        type Output = Vector;

        #[inline(always)]
        fn sub(self, other: Vector) -> Vector {
            // SAFETY: as above.
            Vector(unsafe { _mm512_sub_ps(self.0, other.0) })
        }
    }

    impl Mul for Vector {
        type Output = Vector;

        #[inline(always)]
        fn mul(self, other: Vector) -> Vector {
            // SAFETY: as above.
            Vector(unsafe { _mm512_mul_ps(self.0, other.0) })
        }
    }
}

/// Runs a loop with the widest vectors there are.
#[inline]
pub fn run(f: impl Loop) {
    #[cfg(target_arch = "x86_64")]
    {
        if is_x86_feature_detected!("avx512f")
            && is_x86_feature_detected!("avx512bw")
            && is_x86_feature_detected!("avx512vl")
            && is_x86_feature_detected!("avx512dq")
            && is_x86_feature_detected!("fma")
        {
            // SAFETY: these instruction sets were just found on this machine.
            return unsafe { with_avx512(f) };
        }
        if is_x86_feature_detected!("avx2") {
            // SAFETY: as above.
            return unsafe { with_avx2(f) };
        }
    }
    f.run(Baseline);
}

/// Asks for the cells some way behind `at`, before they are needed: loops over dozens of rows side by side are more than
/// the processor follows by itself. Changes nothing but time; past the end of the slice it asks for what lies behind it.
#[inline(always)]
pub fn ahead<T>(cells: &[T], at: usize) {
    #[cfg(target_arch = "x86_64")]
    {
        use std::arch::x86_64::{_MM_HINT_T0, _mm_prefetch};
        let place = cells.as_ptr().wrapping_add(at).cast::<i8>();
        // SAFETY: a hint reads nothing, wherever it points; the instruction is one that every processor has.
        unsafe { _mm_prefetch::<_MM_HINT_T0>(place) };
    }
    #[cfg(not(target_arch = "x86_64"))]
    let _ = (cells, at);
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx512f,avx512bw,avx512vl,avx512dq,avx2,fma")]
fn with_avx512(f: impl Loop) {
    // SAFETY: who calls this has found them.
    f.run(unsafe { avx512::Avx512::found() });
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn with_avx2(f: impl Loop) {
    f.run(Baseline);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// What a set of instructions makes of these numbers.
    struct Ask<'a> {
        numbers: [f32; 16],
        others: [f32; 16],
        places: [u32; 16],
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
            let Ask { numbers, others, places, told } = self;
            let (a, b) = (with.floats(&numbers), with.floats(&others));
            let mask = with.bits(&others.map(|o| if o < 1.0 { u32::MAX } else { 0 }));
            let exact = [a + b, a - b, a * b, a.root(), a.and(mask), a.taken(&places), with.all(numbers[3])];
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
        ) {
            let numbers = exponents.map(|e| 10f32.powf(e));
            let (mut plain, mut widest) = (Told::default(), Told::default());
            Ask { numbers, others, places, told: &mut plain }.run(Baseline);
            run(Ask { numbers, others, places, told: &mut widest });
            prop_assert_eq!(&plain.exact, &widest.exact);
            prop_assert_eq!(plain.at_most, widest.at_most);
            prop_assert_eq!(plain.exact[5], places.map(|p| numbers[p as usize].to_bits()));
            for l in 0..16 {
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
