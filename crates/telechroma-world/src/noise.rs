//! Random numbers by place: the same everywhere, in any order, on any thread.

/// A number 0–1 for a place.
pub(crate) fn at(seed: u64, x: i64, y: i64) -> f64 {
    // the finalizer of SplitMix64 (Steele, Lea & Flood 2014) over the three numbers
    let mut z = seed ^ (x as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ (y as u64).wrapping_mul(0xC2B2_AE3D_27D4_EB4F);
    z = (z ^ z >> 30).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    z = (z ^ z >> 27).wrapping_mul(0x94D0_49BB_1331_11EB);
    z ^= z >> 31;
    (z >> 11) as f64 / (1u64 << 53) as f64
}

/// A number −1…1 that changes smoothly over about one unit.
pub(crate) fn smooth(seed: u64, x: f64, y: f64) -> f64 {
    let whole = |v: f64| v as i64 - i64::from(v < 0.0); // the floor, or one less on whole negatives: no matter here
    let (x0, y0) = (whole(x), whole(y));
    let ease = |t: f64| t * t * (3.0 - 2.0 * t);
    let (u, v) = (ease(x - x0 as f64), ease(y - y0 as f64));
    let corner = |dx: i64, dy: i64| 2.0 * at(seed, x0 + dx, y0 + dy) - 1.0;
    let top = corner(0, 0) + u * (corner(1, 0) - corner(0, 0));
    let low = corner(0, 1) + u * (corner(1, 1) - corner(0, 1));
    top + v * (low - top)
}

/// Several smooth numbers of falling size added up, about −1…1.
pub(crate) fn cloudy(seed: u64, x: f64, y: f64) -> f64 {
    let (mut sum, mut finer, mut height) = (0.0, 1.0, 1.0);
    for k in 0..5 {
        sum += height * smooth(seed.wrapping_add(k), x * finer, y * finer);
        (finer, height) = (finer * 2.0, height * 0.5);
    }
    sum / 1.2
}
