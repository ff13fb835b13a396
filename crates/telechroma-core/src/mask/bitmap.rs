//! A bit a cell, counted fast over parts of rows.

/// Cells that are set.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bitmap {
    cols: u32,
    words: usize,
    bits: Vec<u64>,
}

impl Bitmap {
    /// None set.
    pub fn new(cols: u32, rows: u32) -> Bitmap {
        let words = cols.div_ceil(64) as usize;
        Bitmap { cols, words, bits: vec![0; words * rows as usize] }
    }

    /// Sets one cell.
    pub fn set(&mut self, col: u32, row: u32) {
        self.bits[row as usize * self.words + (col / 64) as usize] |= 1 << (col % 64);
    }

    /// Sets the cells of a row from one column up to another.
    pub fn set_span(&mut self, row: u32, from: u32, to: u32) {
        let row = row as usize * self.words;
        for (word, mask) in masks(from, to.min(self.cols)) {
            self.bits[row + word] |= mask;
        }
    }

    /// True where a cell is set; false beyond the edges.
    #[inline]
    pub fn has(&self, col: i64, row: i64) -> bool {
        let inside = (0..i64::from(self.cols)).contains(&col) && row >= 0;
        let word = inside.then(|| self.bits.get(row as usize * self.words + (col / 64) as usize)).flatten();
        word.is_some_and(|w| w >> (col % 64) & 1 == 1)
    }

    /// The runs of set cells in a row: first column, and the column behind the last.
    pub fn runs(&self, row: u32) -> impl Iterator<Item = (u32, u32)> {
        let words = &self.bits[row as usize * self.words..(row as usize + 1) * self.words];
        // the first cell from `at` on that is set, or that is not
        let next = move |at: u32, set: bool| {
            let mut at = at;
            while at < self.cols {
                let word = words[(at / 64) as usize];
                let rest = (if set { word } else { !word }) >> (at % 64);
                if rest != 0 {
                    return (at + rest.trailing_zeros()).min(self.cols);
                }
                at = (at / 64 + 1) * 64;
            }
            self.cols
        };
        let mut at = 0;
        std::iter::from_fn(move || {
            let from = next(at, true);
            at = next(from, false);
            (from < self.cols).then_some((from, at))
        })
    }

    /// Cells set in a row from one column up to another; none beyond the edges.
    pub fn count(&self, row: i64, from: i64, to: i64) -> u32 {
        let (from, to) = (from.max(0), to.min(i64::from(self.cols)));
        let rows = self.bits.len() / self.words.max(1);
        if row < 0 || row >= rows as i64 || from >= to {
            return 0;
        }
        let row = row as usize * self.words;
        masks(from as u32, to as u32).map(|(word, mask)| (self.bits[row + word] & mask).count_ones()).sum()
    }
}

/// Words of a span with the bits that belong to it.
fn masks(from: u32, to: u32) -> impl Iterator<Item = (usize, u64)> {
    (from / 64..to.div_ceil(64)).map(move |word| {
        let low = u64::MAX << (from.max(word * 64) - word * 64);
        let high = u64::MAX >> (64 - (to - word * 64).min(64));
        (word as usize, low & high)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn spans_are_counted_as_cells(from in 0u32..200, len in 0u32..150, a in -20i64..220, more in 0i64..220) {
            let mut map = Bitmap::new(200, 3);
            map.set_span(1, from, from + len);
            map.set(7, 1);
            let set = |c: i64| (c == 7) || (i64::from(from)..i64::from(from + len)).contains(&c);
            let want = (a..a + more).filter(|c| (0..200).contains(c) && set(*c)).count() as u32;
            prop_assert_eq!(map.count(1, a, a + more), want);
            prop_assert_eq!((a..a + more).filter(|c| map.has(*c, 1)).count() as u32, want);
            let all: Vec<u32> = map.runs(1).flat_map(|(a, b)| a..b).collect();
            prop_assert_eq!(all, (0..200).filter(|c| map.has(i64::from(*c), 1)).collect::<Vec<u32>>());
            prop_assert!(map.runs(1).zip(map.runs(1).skip(1)).all(|(a, b)| a.1 < b.0));
            prop_assert_eq!(map.count(0, a, a + more) + map.count(3, a, a + more) + map.count(-1, a, a + more), 0);
        }
    }
}
