//! Where a cloud's shadow falls, and which heights a cloud may have.

/// Heights of clouds that are looked at, metres (Zhu & Woodcock 2012).
pub const HEIGHTS: (f64, f64) = (200.0, 12_000.0);
/// Share of a cloud's shifted cells that must be dark, or cloud, for its shadow to be found.
pub const LEAST_MATCH: f64 = 0.3;
/// How much darker than its surroundings the near infrared of a shadow is, reflectance.
pub const DARKER: f64 = 0.02;

/// Where the shadow of a point `height` above the ground falls: metres east and north of the point below it. Azimuth
/// clockwise from (grid) north towards the sun, both angles in degrees.
pub fn offset(height: f64, azimuth: f64, elevation: f64) -> (f64, f64) {
    let reach = height / elevation.to_radians().tan();
    let (sin, cos) = azimuth.to_radians().sin_cos();
    (-reach * sin, -reach * cos)
}

/// The difference in height that moves a shadow by one cell of `cell` metres.
pub fn height_step(cell: f64, elevation: f64) -> f64 {
    cell * elevation.to_radians().tan()
}

/// Heights that a cloud's temperature allows, metres: between the dry and a moist lapse rate below the temperatures of
/// clear land (low and high percentile; all in one scale of degrees).
pub fn heights(land: (f64, f64), cloud: f64) -> (f64, f64) {
    let least = (land.0 - 4.0 - cloud) / 9.8 * 1000.0;
    let most = (land.1 + 4.0 - cloud) / 6.5 * 1000.0;
    let least = least.max(HEIGHTS.0);
    (least, most.min(HEIGHTS.1).max(least))
}

/// A sheet of levels with its dark holes filled to the level of their rims: every cell becomes the least level that can be
/// reached from beyond the sheet without going lower than it (grayscale reconstruction by erosion, Vincent 1993; four
/// neighbours). Beyond the sheet lies `background`.
pub fn fill_holes(sheet: &[u16], cols: usize, background: u16) -> Vec<u16> {
    let rows = sheet.len().checked_div(cols).unwrap_or(0);
    let mut filled = vec![u16::MAX; sheet.len()];
    let level = |filled: &[u16], inside: bool, i: usize| if inside { filled[i] } else { background };
    // once forwards and once backwards; what is not settled then flows on
    for r in 0..rows {
        let mut left = background;
        for i in r * cols..(r + 1) * cols {
            let last = i + 1 == (r + 1) * cols || r + 1 == rows;
            let above = level(&filled, r > 0, i.wrapping_sub(cols));
            let least = left.min(above).min(if last { background } else { u16::MAX });
            left = sheet[i].max(least);
            filled[i] = left;
        }
    }
    let mut open = std::collections::VecDeque::new();
    for r in (0..rows).rev() {
        let mut right = background;
        for i in (r * cols..(r + 1) * cols).rev() {
            let below = level(&filled, r + 1 < rows, i + cols);
            let here = sheet[i].max(filled[i].min(right).min(below));
            filled[i] = here;
            let sinks = |n: usize| filled[n] > here && filled[n] > sheet[n];
            if (i + 1 < (r + 1) * cols && sinks(i + 1)) || (r + 1 < rows && sinks(i + cols)) {
                open.push_back(i);
            }
            right = here;
        }
    }
    while let Some(i) = open.pop_front() {
        let here = filled[i];
        let mut flow = |n: usize| {
            if filled[n] > here && filled[n] != sheet[n] {
                filled[n] = here.max(sheet[n]);
                open.push_back(n);
            }
        };
        let c = i % cols;
        if c > 0 {
            flow(i - 1);
        }
        if c + 1 < cols {
            flow(i + 1);
        }
        if i >= cols {
            flow(i - cols);
        }
        if i + cols < sheet.len() {
            flow(i + cols);
        }
    }
    filled
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::worked;
    use proptest::prelude::*;

    /// The same by repeating the definition until nothing changes.
    fn slowly(sheet: &[u16], cols: usize, background: u16) -> Vec<u16> {
        let rows = sheet.len() / cols;
        let mut filled = vec![u16::MAX; sheet.len()];
        loop {
            let before = filled.clone();
            for i in 0..sheet.len() {
                let (c, r) = ((i % cols) as i64, (i / cols) as i64);
                let level = |(x, y): (i64, i64)| {
                    let inside = (0..cols as i64).contains(&x) && (0..rows as i64).contains(&y);
                    if inside { before[y as usize * cols + x as usize] } else { background }
                };
                let least = [(c - 1, r), (c + 1, r), (c, r - 1), (c, r + 1)].map(level).into_iter().min().unwrap();
                filled[i] = sheet[i].max(least);
            }
            if filled == before {
                return filled;
            }
        }
    }

    proptest! {
        #[test]
        fn holes_are_filled_as_the_definition_says(
            cols in 1usize..9, sheet in proptest::collection::vec(0u16..6, 9..72), background in 0u16..6,
        ) {
            let sheet = &sheet[..sheet.len() / cols * cols];
            prop_assert_eq!(fill_holes(sheet, cols, background), slowly(sheet, cols, background));
        }
    }

    #[test]
    fn worked_offsets() {
        let all = worked::starting_with("shadow_offset_");
        assert_eq!(all.len(), 3);
        for e in all {
            let (east, north) =
                offset(e.number("height_m"), e.number("sun_azimuth_deg"), e.number("sun_elevation_deg"));
            e.check_one(east, e.expected("east_m"));
            e.check_one(north, e.expected("north_m"));
            e.check_one(east / e.number("cell_m"), e.expected("d_col"));
            e.check_one(-north / e.number("cell_m"), e.expected("d_row"));
        }
    }

    #[test]
    fn worked_heights() {
        let e = worked::example("shadow_height_step");
        e.check(height_step(e.number("cell_m"), e.number("sun_elevation_deg")));
        let e = worked::example("cloud_height_range");
        let (least, most) = heights((e.number("t_low_c"), e.number("t_high_c")), e.number("t_cloud_c"));
        let want = e.expected_numbers();
        e.check_one(least / 1000.0, want[0]);
        e.check_one(most / 1000.0, want[1]);
    }
}
