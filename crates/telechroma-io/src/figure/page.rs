//! The pages: a composite in colours, and one layer with its legend.

use resvg::tiny_skia::{Color, Pixmap, PremultipliedColorU8};

use super::frame::{Anchor, INK, NO_DATA, PAPER, SOFT, Svg, hex};
use super::picture::Picture;
use super::ramp::{Colour, Ramp};
use super::scale::{number, step, ticks};

/// Room round the map, in dots: left, top, right, bottom.
const ROOM: (u32, u32, u32, u32) = (78, 92, 216, 62);
/// Small scenes are drawn with several dots a cell, up to about this size.
const FILL: (u32, u32) = (960, 640);
const LEAST: (u32, u32) = (820, 460);
/// A dot of a picture where there is nothing to show: the page stays as it is.
pub const NOTHING: f32 = f32::INFINITY;
/// Below this extent, in metres, coordinates are written in metres.
const IN_METRES: f64 = 2000.0;

/// What a page says of itself.
#[derive(Debug, Clone, Default)]
pub struct Shown {
    /// The largest line.
    pub title: String,
    /// The line below it.
    pub subtitle: String,
    /// Outlines over the map, in cells of its grid.
    pub outlines: Vec<Vec<(f64, f64)>>,
    /// Outlines below those, as something was before.
    pub before: Vec<Vec<(f64, f64)>>,
}

/// How values become colours.
#[derive(Debug, Clone)]
pub struct Legend {
    /// Above the bar: the layer, with its unit.
    pub label: String,
    /// The colours.
    pub ramp: &'static Ramp,
    /// Values of the two ends.
    pub range: (f64, f64),
}

/// One layer.
pub struct MapFigure<'a> {
    /// Its one plane is drawn.
    pub picture: &'a Picture,
    /// Title and outlines.
    pub shown: Shown,
    /// Colours.
    pub legend: Legend,
}

/// One class of a legend.
#[derive(Debug, Clone)]
pub struct Entry {
    /// Its name.
    pub name: String,
    /// How much of it there is, in words.
    pub amount: String,
    /// Its colour.
    pub colour: Colour,
}

/// Classes, numbered from 1 as their entries are.
pub struct ClassFigure<'a> {
    /// Its one plane is drawn.
    pub picture: &'a Picture,
    /// Title and outlines.
    pub shown: Shown,
    /// Above the legend.
    pub label: String,
    /// The classes, lowest first.
    pub entries: Vec<Entry>,
    /// How much is in no class or missing, in words.
    pub rest: String,
}

/// Three bands as red, green and blue.
pub struct SceneFigure<'a> {
    /// Its first three planes are drawn.
    pub picture: &'a Picture,
    /// Title and outlines.
    pub shown: Shown,
    /// Name and ends of the stretch of each channel.
    pub channels: [(String, (f64, f64)); 3],
}

/// Three bands as red, green and blue, and over them the reasons why cells are dropped.
pub struct MaskFigure<'a> {
    /// Its first three planes are drawn.
    pub picture: &'a Picture,
    /// Its one plane holds the numbers of the entries, from 1; 0 is clear, NaN is fill.
    pub reasons: &'a Picture,
    /// Title and outlines.
    pub shown: Shown,
    /// Ends of the stretch of each channel.
    pub stretch: [(f64, f64); 3],
    /// The reasons, in the order of their numbers.
    pub entries: Vec<Entry>,
    /// How much is fill, in words.
    pub fill: String,
    /// What is clear, in words.
    pub clear: String,
}

/// Where things are on a page.
struct Page {
    size: (u32, u32),
    /// Left, top, width and height of the map.
    map: (u32, u32, u32, u32),
    /// Dots of the page a dot of the picture.
    zoom: u32,
}

impl Page {
    fn of(p: &Picture) -> Page {
        let zoom = (FILL.0 / p.cols).min(FILL.1 / p.rows).max(1);
        let (w, h) = (p.cols * zoom, p.rows * zoom);
        let size = ((w + ROOM.0 + ROOM.2).max(LEAST.0), (h + ROOM.1 + ROOM.3).max(LEAST.1));
        Page { size, map: (ROOM.0, ROOM.1, w, h), zoom }
    }

    /// Right edge of the map.
    fn right(&self) -> f64 {
        f64::from(self.map.0 + self.map.2)
    }

    fn bottom(&self) -> f64 {
        f64::from(self.map.1 + self.map.3)
    }

    /// Dots of the page a cell of the grid.
    fn a_cell(&self, p: &Picture) -> f64 {
        f64::from(self.zoom) / f64::from(p.cells_a_dot)
    }
}

impl MapFigure<'_> {
    /// The page as PNG.
    ///
    /// # Errors
    /// In words, where drawing fails.
    pub fn png(self) -> Result<Vec<u8>, String> {
        let MapFigure { picture, shown, legend } = self;
        let (page, table) = (Page::of(picture), legend.ramp.table());
        let (low, high) = legend.range;
        let dots = picture.planes.first().map_or(&[][..], Vec::as_slice);
        let mut map = blank(page.size)?;
        blit(&mut map, &page, picture, |i| {
            let v = f64::from(dots[i]);
            if v.is_nan() {
                NO_DATA
            } else if v == f64::from(NOTHING) {
                PAPER
            } else {
                table[((v - low) / (high - low) * 255.0).round().clamp(0.0, 255.0) as usize]
            }
        });
        let mut svg = frame(&page, picture, &shown);
        bar(&mut svg, &page, &legend, dots);
        svg.draw(&mut map)?;
        encode(&map)
    }
}

impl ClassFigure<'_> {
    /// The page as PNG.
    ///
    /// # Errors
    /// In words, where drawing fails.
    pub fn png(self) -> Result<Vec<u8>, String> {
        let ClassFigure { picture, shown, label, entries, rest } = self;
        let page = Page::of(picture);
        let dots = picture.planes.first().map_or(&[][..], Vec::as_slice);
        let mut map = blank(page.size)?;
        blit(&mut map, &page, picture, |i| {
            if dots[i] == NOTHING {
                return PAPER;
            }
            let class = (dots[i] as usize).checked_sub(1); // NaN becomes 0
            class.and_then(|c| entries.get(c)).map_or(NO_DATA, |e| e.colour)
        });
        let mut svg = frame(&page, picture, &shown);
        let x = page.right() + 24.0;
        let mut y = f64::from(page.map.1) + 14.0;
        svg.text((x, y), 14.0, true, INK, Anchor::Start, &short(&label, 24));
        y += 14.0;
        // the highest class on top, as on a scale
        let rest = Entry { name: "no data, no class".into(), amount: rest, colour: NO_DATA };
        for e in entries.iter().rev().chain([&rest]) {
            y = swatch(&mut svg, (x, y), e);
        }
        svg.draw(&mut map)?;
        encode(&map)
    }
}

impl SceneFigure<'_> {
    /// The page as PNG.
    ///
    /// # Errors
    /// In words, where drawing fails.
    pub fn png(self) -> Result<Vec<u8>, String> {
        let SceneFigure { picture, shown, channels } = self;
        let [red, green, blue] = picture.planes.as_slice() else {
            return Err("a colour picture takes three bands".into());
        };
        let page = Page::of(picture);
        let mut map = blank(page.size)?;
        let stretch = channels.each_ref().map(|c| c.1);
        blit(&mut map, &page, picture, |i| mixed([red[i], green[i], blue[i]], stretch).unwrap_or(NO_DATA));
        let mut svg = frame(&page, picture, &shown);
        let x = page.right() + 28.0;
        let mut y = f64::from(page.map.1) + 6.0;
        for ((name, (low, high)), (what, ink)) in
            channels.iter().zip([("red", "#c23b32"), ("green", "#3a8a46"), ("blue", "#3565b5")])
        {
            svg.rect((x, y), (12.0, 12.0), ink, "none");
            svg.text((x + 20.0, y + 11.0), 14.0, true, INK, Anchor::Start, name);
            svg.text(
                (x + 20.0, y + 29.0),
                12.0,
                false,
                SOFT,
                Anchor::Start,
                &format!("as {what}, {} to {}", number(*low, 3), number(*high, 3)),
            );
            y += 50.0;
        }
        let missing =
            red.iter().zip(green).zip(blue).filter(|((r, g), b)| r.is_nan() || g.is_nan() || b.is_nan()).count();
        no_data(&mut svg, (x, y + 4.0), missing, red.len());
        svg.draw(&mut map)?;
        encode(&map)
    }
}

impl MaskFigure<'_> {
    /// The page as PNG.
    ///
    /// # Errors
    /// In words, where drawing fails.
    pub fn png(self) -> Result<Vec<u8>, String> {
        let MaskFigure { picture, reasons, shown, stretch, entries, fill, clear } = self;
        let ([red, green, blue], [numbers]) = (picture.planes.as_slice(), reasons.planes.as_slice()) else {
            return Err("a picture of a mask takes three bands and one plane of reasons".into());
        };
        let page = Page::of(picture);
        let mut map = blank(page.size)?;
        blit(&mut map, &page, picture, |i| {
            let seen = mixed([red[i], green[i], blue[i]], stretch).filter(|_| !numbers[i].is_nan());
            match (seen, (numbers[i] as usize).checked_sub(1).and_then(|n| entries.get(n))) {
                (None, _) => NO_DATA,
                (Some(seen), None) => seen,
                // the ground stays to be seen beneath
                (Some(seen), Some(e)) => {
                    std::array::from_fn(|c| ((2 * u16::from(seen[c]) + 3 * u16::from(e.colour[c])) / 5) as u8)
                }
            }
        });
        let mut svg = frame(&page, picture, &shown);
        let x = page.right() + 24.0;
        let mut y = f64::from(page.map.1) + 14.0;
        svg.text((x, y), 14.0, true, INK, Anchor::Start, "dropped");
        y += 14.0;
        let fill = Entry { name: "fill".into(), amount: fill, colour: NO_DATA };
        for e in entries.iter().filter(|e| !e.amount.is_empty()).chain([&fill]) {
            y = swatch(&mut svg, (x, y), e);
        }
        svg.text((x, y + 20.0), 14.0, true, INK, Anchor::Start, "clear");
        svg.text((x, y + 38.0), 11.0, false, SOFT, Anchor::Start, &clear);
        svg.draw(&mut map)?;
        encode(&map)
    }
}

/// Three values as a colour, each between the ends of its stretch; none where one is missing.
fn mixed(v: [f32; 3], stretch: [(f64, f64); 3]) -> Option<Colour> {
    let level = |c: usize| {
        let (low, high) = stretch[c];
        ((f64::from(v[c]) - low) / (high - low) * 255.0).round().clamp(0.0, 255.0) as u8
    };
    (!v.iter().any(|v| v.is_nan())).then(|| std::array::from_fn(level))
}

/// An entry of a legend; where the next one goes.
fn swatch(svg: &mut Svg, (x, y): (f64, f64), e: &Entry) -> f64 {
    svg.rect((x, y), (14.0, 14.0), &hex(e.colour), "#8b939a");
    svg.text((x + 22.0, y + 11.0), 12.0, false, INK, Anchor::Start, &short(&e.name, 26));
    svg.text((x + 22.0, y + 26.0), 11.0, false, SOFT, Anchor::Start, &e.amount);
    y + 37.0
}

pub(super) fn blank((w, h): (u32, u32)) -> Result<Pixmap, String> {
    let mut map = Pixmap::new(w, h).ok_or("the picture has no size")?;
    map.fill(Color::from_rgba8(PAPER[0], PAPER[1], PAPER[2], 255));
    Ok(map)
}

/// Lays the picture's dots on the page, each as a square of whole dots: nothing is blended.
fn blit(map: &mut Pixmap, page: &Page, p: &Picture, colour: impl Fn(usize) -> Colour) {
    let (left, top, w, h) = page.map;
    let width = map.width();
    let pixels = map.pixels_mut();
    for y in 0..h {
        for x in 0..w {
            let [r, g, b] = colour((y / page.zoom * p.cols + x / page.zoom) as usize);
            if let Some(c) = PremultipliedColorU8::from_rgba(r, g, b, 255) {
                pixels[((top + y) * width + left + x) as usize] = c;
            }
        }
    }
}

/// Title, border, coordinates, scale bar, outlines.
fn frame(page: &Page, p: &Picture, shown: &Shown) -> Svg {
    let (left, top, w, h) =
        (f64::from(page.map.0), f64::from(page.map.1), f64::from(page.map.2), f64::from(page.map.3));
    let mut svg = Svg::new(page.size.0, page.size.1);
    let room = (f64::from(page.size.0) - left) / 11.0;
    svg.text((left, 42.0), 22.0, true, INK, Anchor::Start, &short(&shown.title, room as usize));
    svg.text((left, 68.0), 13.5, false, SOFT, Anchor::Start, &short(&shown.subtitle, (room * 1.7) as usize));
    let a_cell = page.a_cell(p);
    svg.clip((left, top), (w, h));
    let on_page = |ring: &Vec<(f64, f64)>| -> Vec<(f64, f64)> {
        ring.iter().map(|(c, r)| (left + c * a_cell, top + r * a_cell)).collect()
    };
    for ring in &shown.before {
        svg.path(&on_page(ring), true, "none", "#ffffff", 2.0);
        svg.path(&on_page(ring), true, "none", "#c23b32", 1.0);
    }
    for ring in &shown.outlines {
        let points = on_page(ring);
        svg.path(&points, true, "none", "#ffffff", 2.4);
        svg.path(&points, true, "none", "#14181c", 1.0);
    }
    svg.unclip();
    svg.rect((left - 0.5, top - 0.5), (w + 1.0, h + 1.0), "none", "#8b939a");
    coordinates(&mut svg, page, p);
    scale_bar(&mut svg, page, p);
    svg
}

pub(super) fn short(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        text.into()
    } else {
        format!("{}…", text.chars().take(most.saturating_sub(1)).collect::<String>().trim_end())
    }
}

/// Ticks along the lower and left edge: kilometres, degrees, or cells.
fn coordinates(svg: &mut Svg, page: &Page, p: &Picture) {
    let t = p.grid.transform;
    if t.b != 0.0 || t.d != 0.0 {
        return; // the axes do not run along the edges
    }
    let (per, unit) = match p.grid.crs {
        Some(c) if c.is_geographic() => (1.0, "°"),
        Some(_) if f64::from(page.map.2.max(page.map.3)) / page.a_cell(p) * t.a.abs() < IN_METRES => (1.0, " m"),
        Some(_) => (1000.0, " km"),
        None => (1.0, ""),
    };
    let a_cell = page.a_cell(p);
    let (left, top, w, h) =
        (f64::from(page.map.0), f64::from(page.map.1), f64::from(page.map.2), f64::from(page.map.3));
    let (x0, y0) = (t.c / per, t.f / per);
    let (x1, y1) = (x0 + w / a_cell * t.a / per, y0 + h / a_cell * t.e / per);
    let parts = |size: f64, each: f64| (size / each).max(2.0);
    let (xs, digits) = ticks(x0.min(x1), x0.max(x1), parts(w, 140.0));
    for x in xs {
        let at = left + (x - x0) / (x1 - x0) * w;
        svg.line((at, top + h), (at, top + h + 5.0), "#8b939a", 1.0);
        svg.text((at, top + h + 19.0), 11.5, false, SOFT, Anchor::Middle, &format!("{}{unit}", number(x, digits)));
    }
    let (ys, digits) = ticks(y0.min(y1), y0.max(y1), parts(h, 110.0));
    for y in ys {
        let at = top + (y - y0) / (y1 - y0) * h;
        svg.line((left - 5.0, at), (left, at), "#8b939a", 1.0);
        svg.text((left - 9.0, at + 4.0), 11.5, false, SOFT, Anchor::End, &format!("{}{unit}", number(y, digits)));
    }
}

/// A bar of a round length, if lengths are metres.
fn scale_bar(svg: &mut Svg, page: &Page, p: &Picture) {
    if !p.grid.is_metric() {
        return;
    }
    let a_metre = page.a_cell(p) / p.grid.transform.cell().0;
    let metres = step(f64::from(page.map.2) / a_metre, 5.0);
    let (right, y) = (page.right(), page.bottom() + 42.0);
    let left = right - metres * a_metre;
    svg.line((left, y), (right, y), INK, 2.0);
    for x in [left, right] {
        svg.line((x, y - 4.0), (x, y + 4.0), INK, 2.0);
    }
    let text = if metres >= 1000.0 { format!("{} km", metres / 1000.0) } else { format!("{metres} m") };
    svg.text((left - 10.0, y + 4.0), 12.0, false, INK, Anchor::End, &text);
}

/// The colour bar with ticks, how often values occur beside it, and what was without data.
fn bar(svg: &mut Svg, page: &Page, legend: &Legend, dots: &[f32]) {
    let (x, top) = (page.right() + 92.0, f64::from(page.map.1) + 34.0);
    let height = (f64::from(page.map.3) - 90.0).clamp(220.0, 420.0);
    let (low, high) = legend.range;
    svg.text((page.right() + 28.0, top - 18.0), 14.0, true, INK, Anchor::Start, &legend.label);
    let n = height as u32;
    for i in 0..n {
        let share = 1.0 - (f64::from(i) + 0.5) / f64::from(n);
        svg.rect((x, top + f64::from(i)), (18.0, 1.2), &hex(legend.ramp.at(share)), "none");
    }
    let known = || dots.iter().filter(|v| v.is_finite()).map(|v| f64::from(*v));
    // pointed ends where values lie beyond
    if known().any(|v| v > high) {
        svg.path(&[(x, top), (x + 9.0, top - 10.0), (x + 18.0, top)], true, &hex(legend.ramp.at(1.0)), "none", 0.0);
    }
    if known().any(|v| v < low) {
        let y = top + f64::from(n);
        svg.path(&[(x, y), (x + 9.0, y + 10.0), (x + 18.0, y)], true, &hex(legend.ramp.at(0.0)), "none", 0.0);
    }
    let (marks, digits) = ticks(low, high, 6.0);
    for v in marks {
        let y = top + (1.0 - (v - low) / (high - low)) * f64::from(n);
        svg.line((x + 18.0, y), (x + 23.0, y), SOFT, 1.0);
        svg.text((x + 28.0, y + 4.0), 12.0, false, INK, Anchor::Start, &number(v, digits));
    }
    frequency(svg, (x - 6.0, top, f64::from(n)), (low, high), known());
    let missing = dots.iter().filter(|v| v.is_nan()).count();
    let all = dots.iter().filter(|v| **v != NOTHING).count();
    no_data(svg, (page.right() + 28.0, top + f64::from(n) + 30.0), missing, all);
}

/// A silhouette to the left of the bar: how many dots have each value.
fn frequency(
    svg: &mut Svg,
    (x, top, height): (f64, f64, f64),
    (low, high): (f64, f64),
    values: impl Iterator<Item = f64>,
) {
    const BINS: usize = 60;
    let mut counts = [0u32; BINS];
    for v in values.filter(|v| (low..=high).contains(v)) {
        counts[(((v - low) / (high - low) * BINS as f64) as usize).min(BINS - 1)] += 1;
    }
    let most = counts.iter().copied().max().unwrap_or(0).max(1);
    let mut points = vec![(x, top + height)];
    for (i, n) in counts.iter().enumerate() {
        let y = top + height * (1.0 - (i as f64 + 0.5) / BINS as f64);
        points.push((x - 56.0 * f64::from(*n) / f64::from(most), y));
    }
    points.push((x, top));
    svg.path(&points, true, "#c9ced3", "none", 0.0);
}

fn no_data(svg: &mut Svg, (x, y): (f64, f64), missing: usize, all: usize) {
    svg.rect((x, y), (12.0, 12.0), &hex(NO_DATA), "#8b939a");
    let share = 100.0 * missing as f64 / all.max(1) as f64;
    let share = match () {
        () if missing == 0 => "none".into(),
        () if share < 1.0 => "under 1 %".into(),
        () => format!("{share:.0} %"),
    };
    svg.text((x + 20.0, y + 11.0), 12.0, false, INK, Anchor::Start, &format!("no data: {share}"));
}

pub(super) fn encode(map: &Pixmap) -> Result<Vec<u8>, String> {
    let mut bytes = vec![];
    let mut encoder = png::Encoder::new(&mut bytes, map.width(), map.height());
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    encoder.set_compression(png::Compression::Fast); // a tenth of the time, and flat colours pack well anyway
    let rgb: Vec<u8> = map.pixels().iter().flat_map(|p| [p.red(), p.green(), p.blue()]).collect();
    let mut writer = encoder.write_header().map_err(|e| e.to_string())?;
    writer.write_image_data(&rgb).map_err(|e| e.to_string())?;
    writer.finish().map_err(|e| e.to_string())?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use telechroma_core::geo::{Affine, Crs};
    use telechroma_core::grid::Grid;

    use super::*;

    fn picture(planes: Vec<Vec<f32>>) -> Picture {
        let grid = Grid {
            crs: Crs::from_epsg(32625).ok(),
            transform: Affine::north_up(5e5, 4e6, 30.0, 30.0),
            cols: 4,
            rows: 2,
        };
        Picture { grid: Arc::new(grid), cells_a_dot: 1, cols: 4, rows: 2, planes }
    }

    fn dot(png: &[u8], x: usize, y: usize) -> [u8; 3] {
        let mut reader = png::Decoder::new(std::io::Cursor::new(png)).read_info().unwrap();
        let mut out = vec![0; reader.output_buffer_size().unwrap()];
        let info = reader.next_frame(&mut out).unwrap();
        let at = (y * info.width as usize + x) * 3;
        [out[at], out[at + 1], out[at + 2]]
    }

    /// The page's dot in the middle of a cell of the picture, which is drawn with 240 dots a cell.
    fn middle(png: &[u8], col: u32, row: u32) -> [u8; 3] {
        dot(png, (ROOM.0 + col * 240 + 120) as usize, (ROOM.1 + row * 240 + 120) as usize)
    }

    #[test]
    fn cells_have_the_colour_of_their_value_and_missing_ones_the_paper_of_the_missing() {
        let p = picture(vec![vec![0.0, 1.0, f32::NAN, 0.5, -3.0, 9.0, 0.25, 0.75]]);
        let ramp = Ramp::find("plants").unwrap();
        let legend = Legend { label: "ndvi".into(), ramp, range: (0.0, 1.0) };
        let png = MapFigure { picture: &p, shown: Shown::default(), legend }.png().unwrap();
        assert_eq!(middle(&png, 0, 0), ramp.at(0.0));
        assert_eq!(middle(&png, 1, 0), ramp.at(1.0));
        assert_eq!(middle(&png, 2, 0), NO_DATA);
        assert_eq!(middle(&png, 0, 1), ramp.at(0.0), "below the range: the low end");
        assert_eq!(middle(&png, 1, 1), ramp.at(1.0), "above the range: the high end");
    }

    #[test]
    fn three_bands_are_stretched_each_by_its_own_ends() {
        let p = picture(vec![vec![0.1; 8], vec![0.2; 8], vec![0.3, f32::NAN, 0.3, 0.3, 0.3, 0.3, 0.3, 0.3]]);
        let channels =
            [("red", (0.1, 0.2)), ("green", (0.1, 0.2)), ("blue", (0.2, 0.4))].map(|(n, e)| (n.to_string(), e));
        let png = SceneFigure { picture: &p, shown: Shown::default(), channels }.png().unwrap();
        assert_eq!(middle(&png, 0, 0), [0, 255, 128]);
        assert_eq!(middle(&png, 1, 0), NO_DATA, "a cell that lacks a band has no colour");
    }
}
