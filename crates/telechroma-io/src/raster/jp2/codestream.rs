//! The boxes of a JP2 file and the markers of its codestream: where each code tile's bytes lie.

use std::sync::Arc;

use crate::bytes::ByteRange;
use crate::error::{Error, Result};
use crate::raster::samples::SampleFormat;

const SOC: u16 = 0xFF4F;
const SIZ: u16 = 0xFF51;
const SOT: u16 = 0xFF90;
const EOC: u16 = 0xFFD9;
/// Lists of lengths that would be wrong in a stream of one tile: TLM, PLM.
const LENGTHS: [u16; 2] = [0xFF55, 0xFF57];
/// Main headers are some hundred bytes long.
const LARGEST_HEADER: u64 = 1 << 20;
/// More code tiles, or parts of them, than any image has.
const MOST_TILES: u64 = 1 << 20;

/// An opened image: everything but its cells.
#[derive(Debug)]
pub struct Jp2 {
    /// Where its bytes are.
    pub bytes: ByteRange,
    /// Columns.
    pub cols: u32,
    /// Rows.
    pub rows: u32,
    /// Columns of a code tile.
    pub tile_cols: u32,
    /// Rows of a code tile.
    pub tile_rows: u32,
    /// How its samples are stored, as far as whole numbers go.
    pub format: SampleFormat,
    /// The main header from SOC on, without lists of lengths.
    header: Vec<u8>,
    /// Offset and length of each tile's parts.
    parts: Vec<Vec<(u64, u64)>>,
}

fn word(b: &[u8]) -> u16 {
    u16::from_be_bytes([b[0], b[1]])
}

fn long(b: &[u8]) -> u32 {
    u32::from_be_bytes([b[0], b[1], b[2], b[3]])
}

impl Jp2 {
    /// Reads boxes and markers.
    ///
    /// # Errors
    /// Where the file is malformed, or of a kind that cannot be read: several components, an origin off the corner.
    pub fn open(bytes: ByteRange) -> Result<Arc<Jp2>> {
        let wrong = |what: &str| Error::malformed(bytes.place("JPEG 2000 header"), what);
        let (start, end) = codestream(&bytes)?;
        let mut reader = Reader { bytes: &bytes, end };
        let mut header = reader.take(start, 4)?;
        if word(&header) != SOC || word(&header[2..]) != SIZ {
            return Err(wrong("its codestream does not start like one"));
        }
        let mut at = start + 2;
        header.truncate(2);
        let mut siz: Option<Vec<u8>> = None;
        loop {
            let mark = reader.take(at, 4)?;
            let (marker, len) = (word(&mark), u64::from(word(&mark[2..])));
            if marker == SOT || marker == EOC {
                break;
            }
            if marker >> 8 != 0xFF || len < 2 || at + 2 + len - start > LARGEST_HEADER {
                return Err(wrong("its main header is damaged"));
            }
            let segment = reader.take(at, 2 + len)?;
            if marker == SIZ {
                siz = Some(segment.clone());
            }
            if !LENGTHS.contains(&marker) {
                header.extend(segment);
            }
            at += 2 + len;
        }
        let siz = siz.filter(|s| s.len() >= 41).ok_or_else(|| wrong("its header does not tell its size"))?;
        let n = |i: usize| long(&siz[6 + 4 * i..]);
        let [x1, y1, x0, y0, tw, th, tx, ty] = [0, 1, 2, 3, 4, 5, 6, 7].map(n);
        let unsupported = |what: String| Error::unsupported(bytes.place(""), what, &["one component of 8 or 16 bits"]);
        if [x0, y0, tx, ty] != [0; 4] {
            return Err(unsupported("an image whose origin is not its corner".into()));
        }
        if x1 == 0 || y1 == 0 || tw == 0 || th == 0 || x1 > 1 << 30 || y1 > 1 << 30 {
            return Err(wrong("its size makes no sense"));
        }
        let (components, depth, steps) = (word(&siz[38..]), siz[40], siz.get(41..43).unwrap_or(&[1, 1]));
        if components != 1 || steps != [1, 1] {
            return Err(unsupported(format!("an image of {components} components")));
        }
        let format = match (depth & 0x80 != 0, (depth & 0x7F) + 1) {
            (false, 1..=8) => SampleFormat::U8,
            (false, 9..=16) => SampleFormat::U16,
            (signed, bits) => {
                return Err(unsupported(format!(
                    "an image of {bits}-bit {}numbers",
                    if signed { "signed " } else { "" }
                )));
            }
        };
        let (tile_cols, tile_rows) = (tw.min(x1), th.min(y1));
        let tiles = u64::from(x1.div_ceil(tw)) * u64::from(y1.div_ceil(th));
        if tiles > MOST_TILES {
            return Err(wrong("its size makes no sense"));
        }
        let parts = tile_parts(&mut reader, at, tiles)?;
        Ok(Arc::new(Jp2 { cols: x1, rows: y1, tile_cols, tile_rows, format, header, parts, bytes }))
    }

    /// Code tiles across.
    pub(crate) fn across(&self) -> u32 {
        self.cols.div_ceil(self.tile_cols)
    }

    /// Columns and rows of a tile, cut at the image's edge.
    pub(crate) fn tile_size(&self, tile: u32) -> (u32, u32) {
        let (c, r) = (tile % self.across() * self.tile_cols, tile / self.across() * self.tile_rows);
        (self.tile_cols.min(self.cols - c), self.tile_rows.min(self.rows - r))
    }

    /// A tile as a codestream of its own; its coordinates stay those in the image, on which the wavelet's phase depends.
    pub(crate) fn alone(&self, tile: u32) -> Result<Vec<u8>> {
        let (c, r) = (tile % self.across() * self.tile_cols, tile / self.across() * self.tile_rows);
        let (w, h) = self.tile_size(tile);
        let mut out = self.header.clone();
        // image end and origin, tile size and origin: SIZ follows SOC
        let places = [c + w, r + h, c, r, self.tile_cols, self.tile_rows, c, r];
        for (i, v) in places.into_iter().enumerate() {
            out[8 + 4 * i..12 + 4 * i].copy_from_slice(&v.to_be_bytes());
        }
        let parts = &self.parts[tile as usize];
        if parts.is_empty() {
            return Err(Error::malformed(self.bytes.place(format!("code tile {tile}")), "is missing"));
        }
        for (at, len) in parts {
            let from = out.len();
            out.resize(from + *len as usize, 0);
            self.bytes.read_at(*at, &mut out[from..])?;
            out[from + 4..from + 6].copy_from_slice(&[0, 0]); // it is tile 0 now
            out[from + 6..from + 10].copy_from_slice(&(*len as u32).to_be_bytes());
        }
        out.extend(EOC.to_be_bytes());
        Ok(out)
    }
}

/// Reads within the codestream.
struct Reader<'a> {
    bytes: &'a ByteRange,
    end: u64,
}

impl Reader<'_> {
    fn take(&mut self, at: u64, n: u64) -> Result<Vec<u8>> {
        if at.checked_add(n).is_none_or(|e| e > self.end) {
            return Err(Error::malformed(self.bytes.place("JPEG 2000 header"), "ends too early: the file is cut off"));
        }
        let mut out = vec![0; n as usize];
        self.bytes.read_at(at, &mut out)?;
        Ok(out)
    }
}

/// Start and end of the codestream in the boxes of a JP2 file, or the whole of a bare one.
fn codestream(bytes: &ByteRange) -> Result<(u64, u64)> {
    let wrong = |what: &str| Error::malformed(bytes.place(""), what);
    let mut head = [0u8; 12];
    if bytes.len() < 12 {
        return Err(wrong("is no JPEG 2000 file: it is too short"));
    }
    bytes.read_at(0, &mut head)?;
    if word(&head) == SOC {
        return Ok((0, bytes.len()));
    }
    if head[..8] != *b"\x00\x00\x00\x0CjP  " {
        return Err(wrong("is no JPEG 2000 file: it does not start like one"));
    }
    let mut at = 0u64;
    for _ in 0..1024 {
        let mut b = [0u8; 16];
        let n = (bytes.len() - at).min(16) as usize;
        if n < 8 {
            break;
        }
        bytes.read_at(at, &mut b[..n])?;
        let (head, len) = match long(&b) {
            0 => (8, bytes.len() - at),
            1 if n == 16 => (16, u64::from(long(&b[8..])) << 32 | u64::from(long(&b[12..]))),
            len => (8, u64::from(len)),
        };
        let Some(end) = at.checked_add(len).filter(|e| len >= head && *e <= bytes.len()) else {
            return Err(wrong("has a box that reaches beyond the file: it is cut off"));
        };
        if &b[4..8] == b"jp2c" {
            return Ok((at + head, end));
        }
        at = end;
    }
    Err(wrong("holds no codestream"))
}

fn tile_parts(reader: &mut Reader, mut at: u64, tiles: u64) -> Result<Vec<Vec<(u64, u64)>>> {
    let place = |n: usize| reader.bytes.place(format!("tile part {n}"));
    let mut parts: Vec<Vec<(u64, u64)>> = vec![vec![]; tiles as usize];
    for n in 0..MOST_TILES as usize {
        // a stream may end without its end mark
        if at + 12 > reader.end {
            break;
        }
        let place = place(n);
        let mut head = [0u8; 12];
        reader.bytes.read_at(at, &mut head)?;
        match word(&head) {
            EOC => break,
            SOT => {}
            _ => return Err(Error::malformed(place, "does not start with its mark: the file is damaged")),
        }
        let (tile, len) = (usize::from(word(&head[4..])), u64::from(long(&head[6..])));
        let len = if len == 0 { reader.end - at } else { len };
        if len < 14 || at.checked_add(len).is_none_or(|e| e > reader.end) {
            return Err(Error::malformed(place, "reaches beyond the file: it is cut off"));
        }
        match parts.get_mut(tile) {
            Some(p) => p.push((at, len)),
            None => return Err(Error::malformed(place, format!("belongs to tile {tile} of {tiles}"))),
        }
        at += len;
    }
    Ok(parts)
}
