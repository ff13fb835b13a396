//! Running a loop with the widest vectors the machine has.
//!
//! The compiler's baseline knows only the instructions that every processor has. A loop run here is compiled again for
//! wider ones and the best is chosen at run time. Nothing is fused unasked: results are the same bits whichever is chosen,
//! but for estimates that a loop asks for by name.

// The only unsafe code of this crate: calls into functions and instructions that were found at run time, and a hint to
// the cache.
#![allow(unsafe_code)]

#[cfg(target_arch = "x86_64")]
mod avx512;
mod floats;

pub use floats::{Baseline, Floats, Instructions, Words};

/// A loop over cells. `run` must be `#[inline(always)]`, and so must what it calls: what is not inlined here is compiled
/// for the baseline (a closure would not be).
pub trait Loop {
    /// Does it, compiled for these instructions.
    fn run(self, with: impl Instructions);
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
