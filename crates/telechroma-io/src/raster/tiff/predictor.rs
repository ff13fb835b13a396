//! Predictors: differences along rows that make blocks pack better, and their undoing.
//!
//! Source: TIFF 6.0 section 14 (horizontal differencing), TIFF technical note 3 (floating point).

/// Undoes horizontal differencing of bytes, `stride` samples to a cell.
pub fn undo_bytes(row: &mut [u8], stride: usize) {
    for i in stride..row.len() {
        row[i] = row[i].wrapping_add(row[i - stride]);
    }
}

/// Undoes horizontal differencing of 16-bit samples, `stride` samples to a cell.
pub fn undo_words(row: &mut [u16], stride: usize) {
    if stride != 1 {
        for i in stride..row.len() {
            row[i] = row[i].wrapping_add(row[i - stride]);
        }
        return;
    }
    // a running sum, eight samples at a time: three doubling steps, then the carry
    let mut carry = 0u16;
    let mut eights = row.chunks_exact_mut(8);
    for c in &mut eights {
        let mut v = [0u16; 8];
        v.copy_from_slice(c);
        for step in [1, 2, 4] {
            let before = v;
            for i in step..8 {
                v[i] = v[i].wrapping_add(before[i - step]);
            }
        }
        for x in &mut v {
            *x = x.wrapping_add(carry);
        }
        carry = v[7];
        c.copy_from_slice(&v);
    }
    for v in eights.into_remainder() {
        carry = carry.wrapping_add(*v);
        *v = carry;
    }
}

/// Undoes the floating-point predictor of one row of `out.len()` samples whose bytes are `row`, `stride` samples to a
/// cell.
pub fn undo_floats(row: &mut [u8], stride: usize, out: &mut [f32]) {
    undo_bytes(row, stride);
    let n = out.len();
    let (a, rest) = row.split_at(n);
    let (b, rest) = rest.split_at(n);
    let (c, d) = rest.split_at(n);
    for (i, o) in out.iter_mut().enumerate() {
        *o = f32::from_be_bytes([a[i], b[i], c[i], d[i]]);
    }
}

/// Differences of 16-bit samples, little-endian bytes.
pub fn differ_words(row: &[u16], out: &mut [u8]) {
    let ([first, rest @ ..], Some((start, out))) = (row, out.split_first_chunk_mut()) else { return };
    *start = first.to_le_bytes();
    for ((o, v), before) in out.as_chunks_mut::<2>().0.iter_mut().zip(rest).zip(row) {
        *o = v.wrapping_sub(*before).to_le_bytes();
    }
}

/// The floating-point predictor: the samples' bytes by significance, then byte differences. `planes` is scratch.
pub fn differ_floats(row: &[f32], planes: &mut Vec<u8>, out: &mut [u8]) {
    let n = row.len();
    planes.resize(4 * n + 1, 0);
    planes[0] = 0;
    let (a, rest) = planes[1..].split_at_mut(n);
    let (b, rest) = rest.split_at_mut(n);
    let (c, d) = rest.split_at_mut(n);
    for (i, v) in row.iter().enumerate() {
        let bits = v.to_bits();
        (a[i], b[i], c[i], d[i]) = ((bits >> 24) as u8, (bits >> 16) as u8, (bits >> 8) as u8, bits as u8);
    }
    for (o, w) in out.iter_mut().zip(planes.windows(2)) {
        *o = w[1].wrapping_sub(w[0]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn words_there_and_back(row in proptest::collection::vec(any::<u16>(), 0..70)) {
            let mut bytes = vec![0; 2 * row.len()];
            differ_words(&row, &mut bytes);
            let mut back: Vec<u16> = bytes.chunks_exact(2).map(|c| u16::from_le_bytes([c[0], c[1]])).collect();
            undo_words(&mut back, 1);
            prop_assert_eq!(back, row);
        }

        #[test]
        fn floats_there_and_back(row in proptest::collection::vec(any::<u32>(), 1..70)) {
            let row: Vec<f32> = row.into_iter().map(f32::from_bits).collect();
            let (mut bytes, mut out) = (vec![0; 4 * row.len()], vec![0f32; row.len()]);
            differ_floats(&row, &mut vec![], &mut bytes);
            undo_floats(&mut bytes, 1, &mut out);
            prop_assert!(row.iter().zip(&out).all(|(a, b)| a.to_bits() == b.to_bits()));
        }
    }
}
