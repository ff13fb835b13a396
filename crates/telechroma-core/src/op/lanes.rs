//! Cells side by side, as many as are handled at once.

use std::ops::{Deref, DerefMut};

/// Cells handled at once: the rows of some dozens of samples stay in the first-level cache.
pub(crate) const LANES: usize = 64;

/// A value a lane, on the border of a cache line: wide vectors that cross one cost twice.
#[derive(Debug, Clone, Copy)]
#[repr(align(64))]
pub(crate) struct Lanes<T>([T; LANES]);

impl<T: Copy> Lanes<T> {
    /// The same in all lanes.
    #[inline(always)]
    pub(crate) const fn all(value: T) -> Lanes<T> {
        Lanes([value; LANES])
    }
}

impl<T> Deref for Lanes<T> {
    type Target = [T; LANES];

    #[inline(always)]
    fn deref(&self) -> &[T; LANES] {
        &self.0
    }
}

impl<T> DerefMut for Lanes<T> {
    #[inline(always)]
    fn deref_mut(&mut self) -> &mut [T; LANES] {
        &mut self.0
    }
}

/// One row of samples.
pub(crate) type Row = Lanes<f32>;

/// All bits set where a lane's sample may be used, none elsewhere.
pub(crate) type Usable = Lanes<u16>;

/// How many lanes' samples may be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Lit {
    None,
    Some,
    All,
}

impl Usable {
    /// How many may be.
    #[inline(always)]
    pub(crate) fn lit(&self) -> Lit {
        match self.iter().fold((false, false), |(any, gaps), u| (any | (*u != 0), gaps | (*u == 0))) {
            (false, _) => Lit::None,
            (_, false) => Lit::All,
            _ => Lit::Some,
        }
    }

    /// Counts those that may be.
    #[inline(always)]
    pub(crate) fn count(&self, seen: &mut Lanes<u16>) {
        // all bits set are minus one
        seen.iter_mut().zip(self.iter()).for_each(|(s, u)| *s = s.wrapping_sub(*u));
    }
}
