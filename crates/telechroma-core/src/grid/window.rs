//! A rectangle of cells in absolute positions; it may reach beyond its grid.

/// Columns `col .. col + cols` and rows `row .. row + rows`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Window {
    /// First column.
    pub col: i64,
    /// First row.
    pub row: i64,
    /// Number of columns.
    pub cols: u32,
    /// Number of rows.
    pub rows: u32,
}

impl Window {
    /// A window by its first cell and size.
    pub fn new(col: i64, row: i64, cols: u32, rows: u32) -> Window {
        Window { col, row, cols, rows }
    }

    /// Column after the last.
    pub fn end_col(&self) -> i64 {
        self.col + i64::from(self.cols)
    }

    /// Row after the last.
    pub fn end_row(&self) -> i64 {
        self.row + i64::from(self.rows)
    }

    /// Number of cells.
    pub fn len(&self) -> usize {
        self.cols as usize * self.rows as usize
    }

    /// True where there is no cell.
    pub fn is_empty(&self) -> bool {
        self.cols == 0 || self.rows == 0
    }

    /// The cells of both, if there are any.
    pub fn intersect(&self, other: &Window) -> Option<Window> {
        let (col, row) = (self.col.max(other.col), self.row.max(other.row));
        let (cols, rows) = (self.end_col().min(other.end_col()) - col, self.end_row().min(other.end_row()) - row);
        (cols > 0 && rows > 0).then(|| Window::new(col, row, cols as u32, rows as u32))
    }

    /// The smallest window that holds both.
    pub fn union(&self, other: &Window) -> Window {
        let (col, row) = (self.col.min(other.col), self.row.min(other.row));
        let (cols, rows) = (self.end_col().max(other.end_col()) - col, self.end_row().max(other.end_row()) - row);
        Window::new(col, row, cols as u32, rows as u32)
    }

    /// True where `other` lies inside.
    pub fn contains(&self, other: &Window) -> bool {
        self.intersect(other) == Some(*other)
    }

    /// Larger by `cols` and `rows` cells on each side.
    pub fn grown(&self, cols: u32, rows: u32) -> Window {
        Window::new(self.col - i64::from(cols), self.row - i64::from(rows), self.cols + 2 * cols, self.rows + 2 * rows)
    }

    /// Moved by whole cells.
    pub fn moved(&self, cols: i64, rows: i64) -> Window {
        Window { col: self.col + cols, row: self.row + rows, ..*self }
    }

    /// Index of a cell in row-major order; the cell must lie inside.
    pub fn index(&self, col: i64, row: i64) -> usize {
        debug_assert!(col >= self.col && col < self.end_col() && row >= self.row && row < self.end_row());
        (row - self.row) as usize * self.cols as usize + (col - self.col) as usize
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_window() -> impl Strategy<Value = Window> {
        (-50i64..50, -50i64..50, 1u32..40, 1u32..40).prop_map(|(c, r, w, h)| Window::new(c, r, w, h))
    }

    proptest! {
        #[test]
        fn union_and_intersection_hold(a in any_window(), b in any_window()) {
            let u = a.union(&b);
            prop_assert!(u.contains(&a) && u.contains(&b));
            if let Some(i) = a.intersect(&b) {
                prop_assert!(a.contains(&i) && b.contains(&i));
                prop_assert_eq!(i.union(&a), a);
            }
        }

        #[test]
        fn moved_back_is_the_same(a in any_window(), x in -9i64..9, y in -9i64..9) {
            prop_assert_eq!(a.moved(x, y).moved(-x, -y), a);
            prop_assert!(a.grown(3, 2).contains(&a));
        }
    }
}
