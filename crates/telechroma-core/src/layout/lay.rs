//! A grid of trial plots: rows and columns with alleys, turned, numbered, and moved in part.
//!
//! A plot's first corner is `origin + R(θ)·(col·(width + alley) + …, row·(height + alley) + …)`, θ counter-clockwise
//! from the map's east; columns run along the turned x axis, rows along the turned y axis.

use std::str::FromStr;

use crate::error::{Error, Result};

/// A grid of plots, lengths in units of the map's coordinates.
#[derive(Debug, Clone, PartialEq)]
pub struct Layout {
    /// The corner at column 0, row 0.
    pub origin: (f64, f64),
    /// Degrees counter-clockwise from east.
    pub angle: f64,
    /// Size of a plot along columns and along rows.
    pub size: (f64, f64),
    /// Alleys between plots.
    pub alley: (f64, f64),
    /// Columns and rows.
    pub count: (u32, u32),
    /// Columns and rows of a block, and the wider alleys between blocks.
    pub block: Option<((u32, u32), (f64, f64))>,
    /// Parts that lie elsewhere than the grid says.
    pub shifts: Vec<Shift>,
}

/// A part of the grid that is moved, along the map's axes.
#[derive(Debug, Clone, PartialEq)]
pub struct Shift {
    /// East and north.
    pub by: (f64, f64),
    /// What is moved.
    pub part: Part,
}

/// A part of a grid; rows, columns and blocks count from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// Everything.
    All,
    /// A row.
    Row(u32),
    /// A column.
    Column(u32),
    /// A block.
    Block(u32),
}

impl FromStr for Part {
    type Err = Error;

    /// `row 3`, `column 2`, `block 4`.
    fn from_str(text: &str) -> Result<Part> {
        let wrong = || Error::Usage(format!("'{text}' is no part of a grid: write row 3, column 2 or block 4"));
        let (what, number) = text.trim().split_once([' ', '=']).ok_or_else(wrong)?;
        let n: u32 = number.trim().parse().ok().filter(|n| *n > 0).ok_or_else(wrong)?;
        match what {
            "row" => Ok(Part::Row(n)),
            "column" | "col" => Ok(Part::Column(n)),
            "block" => Ok(Part::Block(n)),
            _ => Err(wrong()),
        }
    }
}

/// Where a plot is in its grid, all counted from 1, and its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place {
    /// Its row, from the origin.
    pub row: u32,
    /// Its column, from the origin.
    pub column: u32,
    /// Its block, row-wise from the origin; 1 where there are none.
    pub block: u32,
    /// Its number in the numbering.
    pub number: u32,
}

/// The corner at which numbers begin, seen along the grid's own axes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Corner {
    /// The origin.
    #[default]
    BottomLeft,
    /// The end of the first row.
    BottomRight,
    /// The beginning of the last row.
    TopLeft,
    /// The end of the last row.
    TopRight,
}

/// How numbers run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Order {
    /// Along each row in the same direction.
    #[default]
    Rows,
    /// Along each column in the same direction.
    Columns,
    /// Along the rows, there and back.
    SerpentineRows,
    /// Along the columns, there and back.
    SerpentineColumns,
}

/// Where numbers begin and how they run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Numbering {
    /// The first plot.
    pub from: Corner,
    /// The direction.
    pub order: Order,
}

impl FromStr for Corner {
    type Err = Error;

    fn from_str(text: &str) -> Result<Corner> {
        const ALL: [(&str, Corner); 4] = [
            ("bottom-left", Corner::BottomLeft),
            ("bottom-right", Corner::BottomRight),
            ("top-left", Corner::TopLeft),
            ("top-right", Corner::TopRight),
        ];
        ALL.iter().find(|c| c.0 == text).map(|c| c.1).ok_or_else(|| Error::unknown("corner", text, ALL.map(|c| c.0)))
    }
}

impl FromStr for Order {
    type Err = Error;

    fn from_str(text: &str) -> Result<Order> {
        const ALL: [(&str, Order); 4] = [
            ("rows", Order::Rows),
            ("columns", Order::Columns),
            ("serpentine", Order::SerpentineRows),
            ("serpentine-columns", Order::SerpentineColumns),
        ];
        ALL.iter().find(|c| c.0 == text).map(|c| c.1).ok_or_else(|| Error::unknown("order", text, ALL.map(|c| c.0)))
    }
}

impl Numbering {
    /// The number of a plot, from 1, given by column and row from 0.
    fn number(self, (col, row): (u32, u32), (cols, rows): (u32, u32)) -> u32 {
        let right = matches!(self.from, Corner::BottomRight | Corner::TopRight);
        let top = matches!(self.from, Corner::TopLeft | Corner::TopRight);
        let col = if right { cols - 1 - col } else { col };
        let row = if top { rows - 1 - row } else { row };
        let back = |n: u32, line: u32, most: u32| if line % 2 == 1 { most - 1 - n } else { n };
        1 + match self.order {
            Order::Rows => row * cols + col,
            Order::SerpentineRows => row * cols + back(col, row, cols),
            Order::Columns => col * rows + row,
            Order::SerpentineColumns => col * rows + back(row, col, rows),
        }
    }
}

/// A plot's place and its corners.
pub type Laid = (Place, [(f64, f64); 4]);

/// Most plots of a grid.
const MOST: u64 = 1_000_000;

/// The four corners of the plot at a column and row, counter-clockwise from the one nearest the origin.
pub fn corners(layout: &Layout, column: u32, row: u32) -> [(f64, f64); 4] {
    let (s, c) = layout.angle.to_radians().sin_cos();
    let ((w, h), (ax, ay)) = (layout.size, layout.alley);
    let (bx, by) = match layout.block {
        // between blocks the alley is the wider one
        Some(((cols, rows), (gx, gy))) => (f64::from(column / cols) * (gx - ax), f64::from(row / rows) * (gy - ay)),
        None => (0.0, 0.0),
    };
    let (x, y) = (f64::from(column) * (w + ax) + bx, f64::from(row) * (h + ay) + by);
    let block = block_of(layout, column, row);
    let moved = layout.shifts.iter().filter(|m| match m.part {
        Part::All => true,
        Part::Row(n) => n == row + 1,
        Part::Column(n) => n == column + 1,
        Part::Block(n) => n == block,
    });
    let (dx, dy) = moved.fold((0.0, 0.0), |sum, m| (sum.0 + m.by.0, sum.1 + m.by.1));
    [(x, y), (x + w, y), (x + w, y + h), (x, y + h)]
        .map(|(x, y)| (layout.origin.0 + dx + c * x - s * y, layout.origin.1 + dy + s * x + c * y))
}

fn block_of(layout: &Layout, column: u32, row: u32) -> u32 {
    match layout.block {
        Some(((cols, rows), _)) => row / rows * layout.count.0.div_ceil(cols) + column / cols + 1,
        None => 1,
    }
}

/// All plots, row by row from the origin: their place and their corners.
///
/// # Errors
/// Where a size is not above zero, an alley below zero, or there are no plots or more than a million; where a part to be
/// moved does not exist.
pub fn lay(layout: &Layout, numbering: Numbering) -> Result<Vec<Laid>> {
    let wrong = |what: String| Err(Error::Usage(what));
    let ((w, h), (ax, ay), (cols, rows)) = (layout.size, layout.alley, layout.count);
    if !(w > 0.0 && h > 0.0) {
        return wrong(format!("plots of {w} x {h}: both sides must be above zero"));
    }
    if ax < 0.0 || ay < 0.0 {
        return wrong(format!("alleys of {ax} and {ay}: plots would overlap"));
    }
    let all = u64::from(cols) * u64::from(rows);
    if !(1..=MOST).contains(&all) {
        return wrong(format!("{rows} rows of {cols} plots: a grid has 1 to {MOST} plots"));
    }
    if let Some(((c, r), (gx, gy))) = layout.block
        && (c == 0 || r == 0 || gx < ax || gy < ay)
    {
        return wrong("a block has at least one row and column, and alleys between blocks are the wider ones".into());
    }
    let blocks = block_of(layout, cols - 1, rows - 1);
    for shift in &layout.shifts {
        let (n, most, what) = match shift.part {
            Part::All => continue,
            Part::Row(n) => (n, rows, "row"),
            Part::Column(n) => (n, cols, "column"),
            Part::Block(n) => (n, blocks, "block"),
        };
        if n > most {
            return wrong(format!("{what} {n} is to be moved, but there are {most}"));
        }
    }
    let place = |row: u32, column: u32| Place {
        row: row + 1,
        column: column + 1,
        block: block_of(layout, column, row),
        number: numbering.number((column, row), layout.count),
    };
    let cells = (0..rows).flat_map(|r| (0..cols).map(move |c| (r, c)));
    Ok(cells.map(|(r, c)| (place(r, c), corners(layout, c, r))).collect())
}

/// An id from a pattern with `{n}`, `{row}`, `{column}`, `{block}`; `{n:03}` has at least three digits.
///
/// # Errors
/// Where a brace holds something else.
pub fn id_of(pattern: &str, place: Place) -> Result<String> {
    let (mut out, mut rest) = (String::new(), pattern);
    while let Some(open) = rest.find('{') {
        out += &rest[..open];
        let Some(len) = rest[open..].find('}') else {
            return Err(Error::Usage(format!("the pattern '{pattern}' has a brace without an end")));
        };
        let inside = &rest[open + 1..open + len];
        let (name, width) = inside.split_once(':').unwrap_or((inside, ""));
        let number = match name {
            "n" => place.number,
            "row" => place.row,
            "column" => place.column,
            "block" => place.block,
            _ => return Err(Error::unknown("part of an id", name, ["n", "row", "column", "block"])),
        };
        let digits: usize = match width.strip_prefix('0').unwrap_or(width) {
            "" => 1,
            w => w.parse().map_err(|_| Error::Usage(format!("'{{{inside}}}': write for example {{n:03}}")))?,
        };
        out += &format!("{number:0width$}", width = digits.min(12));
        rest = &rest[open + len + 1..];
    }
    Ok(out + rest)
}

/// The treatment of each plot of a pattern such as `A B C; B C A`: rows from the origin, repeated where the grid is
/// larger.
///
/// # Errors
/// Where a row is empty, or rows differ in length.
pub fn treatments(pattern: &str, place: Place) -> Result<String> {
    let rows: Vec<Vec<&str>> = pattern.split(';').map(|r| r.split_whitespace().collect()).collect();
    let wide = rows.first().map_or(0, Vec::len);
    if wide == 0 || rows.iter().any(|r| r.len() != wide) {
        return Err(Error::Usage(format!(
            "'{pattern}' is no pattern of treatments: rows of the same length with ';' between, such as 'A B C; B C A'"
        )));
    }
    let row = &rows[(place.row - 1) as usize % rows.len()];
    Ok(row[(place.column - 1) as usize % wide].to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;

    fn grid(count: (u32, u32)) -> Layout {
        Layout {
            origin: (0.0, 0.0),
            angle: 0.0,
            size: (6.0, 1.5),
            alley: (0.5, 0.5),
            count,
            block: None,
            shifts: vec![],
        }
    }

    #[test]
    fn worked_rotated_grid() {
        let e = worked::example("plot_grid_rotated");
        let origin = e.numbers("origin");
        let layout = Layout {
            origin: (origin[0], origin[1]),
            angle: e.number("rotation_deg_ccw"),
            size: (e.number("width"), e.number("height")),
            alley: (e.number("gap_x"), e.number("gap_y")),
            ..grid((e.number("cols") as u32, e.number("rows") as u32))
        };
        let want: Vec<Vec<[f64; 2]>> = serde_json::from_value(e.value("/expected").clone()).unwrap();
        let got = lay(&layout, Numbering::default()).unwrap();
        assert_eq!(got.len(), want.len());
        for ((_, corners), want) in got.iter().zip(want) {
            for (a, b) in corners.iter().zip(want) {
                assert!((a.0 - b[0]).abs() < 1e-6 && (a.1 - b[1]).abs() < 1e-6, "{a:?} {b:?}");
            }
        }
    }

    #[test]
    fn numbers_run_as_people_walk() {
        let numbers = |from, order| {
            let all = lay(&grid((3, 2)), Numbering { from, order }).unwrap();
            all.iter().map(|p| p.0.number).collect::<Vec<_>>()
        };
        // the origin's row first
        assert_eq!(numbers(Corner::BottomLeft, Order::Rows), [1, 2, 3, 4, 5, 6]);
        assert_eq!(numbers(Corner::BottomLeft, Order::SerpentineRows), [1, 2, 3, 6, 5, 4]);
        assert_eq!(numbers(Corner::TopLeft, Order::Rows), [4, 5, 6, 1, 2, 3]);
        assert_eq!(numbers(Corner::TopRight, Order::SerpentineRows), [4, 5, 6, 3, 2, 1]);
        assert_eq!(numbers(Corner::BottomLeft, Order::Columns), [1, 3, 5, 2, 4, 6]);
        assert_eq!(numbers(Corner::BottomRight, Order::SerpentineColumns), [5, 4, 1, 6, 3, 2]);
    }

    #[test]
    fn blocks_have_wider_alleys_and_parts_are_moved() {
        let mut layout = grid((4, 2));
        layout.block = Some(((2, 1), (3.0, 2.0)));
        layout.shifts = vec![
            Shift { by: (0.1, 0.0), part: Part::All },
            Shift { by: (0.0, -0.2), part: "row 2".parse().unwrap() },
            Shift { by: (1.0, 0.0), part: "block 4".parse().unwrap() },
        ];
        let all = lay(&layout, Numbering::default()).unwrap();
        assert_eq!(all.iter().map(|p| p.0.block).collect::<Vec<_>>(), [1, 1, 2, 2, 3, 3, 4, 4]);
        let first = |i: usize| (all[i].1[0].0 * 10.0).round() / 10.0;
        assert_eq!([first(0), first(1), first(2), first(3)], [0.1, 6.6, 15.6, 22.1]);
        assert_eq!(all[6].1[0], (0.1 + 1.0 + 15.5, 1.5 + 2.0 - 0.2));
        layout.shifts[1].part = Part::Row(3);
        assert!(lay(&layout, Numbering::default()).unwrap_err().to_string().contains("row 3"));
        assert!("row x".parse::<Part>().is_err() && "plot 3".parse::<Part>().is_err());
    }

    #[test]
    fn ids_and_treatments_follow_their_patterns() {
        let place = Place { row: 2, column: 3, block: 1, number: 7 };
        assert_eq!(id_of("T{n:03}-{row}.{column:2}", place).unwrap(), "T007-2.03");
        assert!(id_of("{plot}", place).unwrap_err().to_string().contains("known: n, row"));
        assert!(id_of("{n", place).is_err());
        assert_eq!(treatments("A B; B C", place).unwrap(), "B");
        assert_eq!(treatments("N0 N60 N120", place).unwrap(), "N120");
        assert!(treatments("A B; C", place).is_err() && treatments(" ", place).is_err());
    }
}
