//! Running a loop with the widest vectors the machine has.
//!
//! The compiler's baseline knows only the instructions that every processor has. A loop run here is compiled again for
//! wider ones and the best is chosen at run time. No fused multiply-add is enabled: results are the same bits
//! whichever is chosen.

// The only unsafe code of this crate: calls into functions compiled for instructions that were found at run time. The
// functions' bodies are safe.
#![allow(unsafe_code)]

/// A loop over cells. `run` must be `#[inline(always)]`, and so must what it calls: what is not inlined here is compiled
/// for the baseline (a closure would not be).
pub trait Loop {
    /// Does it.
    fn run(self);
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
        {
            // SAFETY: these instruction sets were just found on this machine.
            return unsafe { avx512(f) };
        }
        if is_x86_feature_detected!("avx2") {
            // SAFETY: as above.
            return unsafe { avx2(f) };
        }
    }
    f.run();
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx512f,avx512bw,avx512vl,avx512dq,avx2")]
fn avx512(f: impl Loop) {
    f.run();
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn avx2(f: impl Loop) {
    f.run();
}
