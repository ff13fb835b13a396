//! AVX-512: all sixteen numbers in one vector, and estimates of inverse roots.

use std::arch::x86_64::{
    __m512, __m512i, _CMP_LE_OQ, _mm512_add_epi32, _mm512_add_ps, _mm512_and_ps, _mm512_and_si512, _mm512_cmp_ps_mask,
    _mm512_cvtepu32_ps, _mm512_fmadd_ps, _mm512_loadu_epi32, _mm512_loadu_ps, _mm512_madd_epi16, _mm512_mul_ps,
    _mm512_permutexvar_ps, _mm512_rsqrt14_ps, _mm512_set1_epi32, _mm512_set1_ps, _mm512_sqrt_ps, _mm512_srli_epi32,
    _mm512_storeu_ps, _mm512_sub_epi16, _mm512_sub_ps,
};
use std::ops::{Add, Mul, Sub};

use super::floats::{Floats, Instructions, Words};

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

#[derive(Clone, Copy)]
pub(super) struct WordVector(__m512i);

impl Instructions for Avx512 {
    type Floats = Vector;
    type Words = WordVector;

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
    fn words(self, words: &[u32; 16]) -> WordVector {
        // SAFETY: as above; there are sixteen.
        WordVector(unsafe { _mm512_loadu_epi32(words.as_ptr().cast()) })
    }

    #[inline(always)]
    fn of_words(self, words: WordVector) -> Vector {
        // SAFETY: as above.
        Vector(unsafe { _mm512_cvtepu32_ps(words.0) })
    }

    #[inline(always)]
    fn root_error(self) -> f32 {
        1.0 / 16384.0
    }

    #[inline(always)]
    fn is_rich(self) -> bool {
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

impl Words for WordVector {
    #[inline(always)]
    fn halves(self) -> [WordVector; 2] {
        // SAFETY: as above.
        unsafe {
            let low = _mm512_and_si512(self.0, _mm512_set1_epi32(0xFFFF));
            [WordVector(low), WordVector(_mm512_srli_epi32::<16>(self.0))]
        }
    }

    #[inline(always)]
    fn squares(self, other: WordVector) -> WordVector {
        // SAFETY: as above.
        WordVector(unsafe {
            let apart = _mm512_sub_epi16(self.0, other.0);
            _mm512_madd_epi16(apart, apart)
        })
    }
}

macro_rules! by_instruction {
    ($($vector:ident $trait:ident $method:ident $instruction:ident),*) => {$(
        impl $trait for $vector {
            type Output = $vector;

            #[inline(always)]
            fn $method(self, other: $vector) -> $vector {
                // SAFETY: as above.
                $vector(unsafe { $instruction(self.0, other.0) })
            }
        }
    )*};
}
by_instruction!(
    Vector Add add _mm512_add_ps,
    Vector Sub sub _mm512_sub_ps,
    Vector Mul mul _mm512_mul_ps,
    WordVector Add add _mm512_add_epi32
);
