//! Cells that hang together, from the spans of their rows.

/// A span of columns in a row: row, first column, column behind the last.
type Run = (u32, u32, u32);

/// Cells that hang together, corners counted.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Object {
    /// Its spans, row by row.
    pub runs: Vec<(u32, u32, u32)>,
}

impl Object {
    /// Number of its cells.
    pub fn cells(&self) -> u64 {
        self.runs.iter().map(|r| u64::from(r.2 - r.1)).sum()
    }

    /// Its cells that it covers too when it is moved.
    pub fn overlap(&self, cols: i64, rows: i64) -> u64 {
        let starts = |row: i64| self.runs.partition_point(|r| i64::from(r.0) < row);
        let mut shared = 0;
        for (row, from, to) in &self.runs {
            let (row, from, to) = (i64::from(*row) + rows, i64::from(*from) + cols, i64::from(*to) + cols);
            for other in self.runs[starts(row)..].iter().take_while(|r| i64::from(r.0) == row) {
                shared += (to.min(i64::from(other.2)) - from.max(i64::from(other.1))).max(0) as u64;
            }
        }
        shared
    }
}

/// The objects that spans form, in the order of their first cells. The spans of each row are sorted and apart.
pub fn objects(runs: &[Run]) -> Vec<Object> {
    let mut parents: Vec<usize> = (0..runs.len()).collect();
    fn root(parents: &mut [usize], mut i: usize) -> usize {
        while parents[i] != i {
            parents[i] = parents[parents[i]];
            i = parents[i];
        }
        i
    }
    let mut above = 0;
    for (i, run) in runs.iter().enumerate() {
        // runs of the row above that end before this one starts are behind us for the whole row
        while above < i && (runs[above].0 + 1 < run.0 || (runs[above].0 + 1 == run.0 && runs[above].2 < run.1)) {
            above += 1;
        }
        for j in (above..i).take_while(|j| runs[*j].0 < run.0 && runs[*j].1 <= run.2) {
            let (a, b) = (root(&mut parents, i), root(&mut parents, j));
            parents[a.max(b)] = a.min(b);
        }
    }
    let mut number = vec![usize::MAX; runs.len()];
    let mut found: Vec<Object> = vec![];
    for (i, run) in runs.iter().enumerate() {
        let r = root(&mut parents, i);
        if number[r] == usize::MAX {
            number[r] = found.len();
            found.push(Object::default());
        }
        found[number[r]].runs.push(*run);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The same by painting over neighbours until nothing changes.
    fn slowly(cells: &[bool], cols: usize) -> Vec<usize> {
        let mut label: Vec<usize> = (0..cells.len()).collect();
        loop {
            let before = label.clone();
            for i in (0..cells.len()).filter(|i| cells[*i]) {
                for j in (0..cells.len()).filter(|j| cells[*j]) {
                    let near = (i % cols).abs_diff(j % cols) <= 1 && (i / cols).abs_diff(j / cols) <= 1;
                    if near {
                        label[i] = label[i].min(label[j]);
                    }
                }
            }
            if label == before {
                return label;
            }
        }
    }

    proptest! {
        #[test]
        fn objects_are_what_hangs_together(cols in 1usize..9, cells in proptest::collection::vec(any::<bool>(), 9..64)) {
            let cells = &cells[..cells.len() / cols * cols];
            let mut runs: Vec<Run> = vec![];
            for i in (0..cells.len()).filter(|i| cells[*i]) {
                let (r, c) = ((i / cols) as u32, (i % cols) as u32);
                match runs.last_mut() {
                    Some(last) if last.0 == r && last.2 == c => last.2 += 1,
                    _ => runs.push((r, c, c + 1)),
                }
            }
            let label = slowly(cells, cols);
            let found = objects(&runs);
            let labels = |o: &Object| {
                let cells = o.runs.iter().flat_map(|(r, a, b)| (*a..*b).map(move |c| *r as usize * cols + c as usize));
                cells.map(|i| label[i]).collect::<std::collections::BTreeSet<_>>()
            };
            let all: Vec<_> = found.iter().flat_map(labels).collect();
            let distinct: std::collections::BTreeSet<_> = all.iter().collect();
            prop_assert_eq!(all.len(), distinct.len());
            prop_assert_eq!(found.iter().map(Object::cells).sum::<u64>(), cells.iter().filter(|c| **c).count() as u64);
            for o in &found {
                prop_assert_eq!(o.overlap(0, 0), o.cells());
                let moved = |c: i64, r: i64| o.runs.iter().any(|(row, a, b)| i64::from(*row) == r && (i64::from(*a)..i64::from(*b)).contains(&c));
                let want = (0..cells.len() as i64).filter(|i| {
                    let (c, r) = (i % cols as i64, i / cols as i64);
                    moved(c, r) && moved(c - 2, r - 1)
                });
                prop_assert_eq!(o.overlap(2, 1), want.count() as u64);
            }
        }
    }
}
