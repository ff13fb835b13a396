//! SVG text: the few shapes a frame is made of, and their drawing onto dots of a picture.

use std::fmt::Write;
use std::sync::{Arc, OnceLock};

use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg::{self, fontdb};

/// Ink of titles.
pub(crate) const INK: &str = "#1d2329";
/// Ink of everything that is read second.
pub(crate) const SOFT: &str = "#5a646e";
/// The page.
pub(crate) const PAPER: [u8; 3] = [252, 251, 248];
/// Cells without data.
pub(crate) const NO_DATA: [u8; 3] = [222, 221, 217];

/// Where a text stands at its position.
#[derive(Clone, Copy)]
pub(crate) enum Anchor {
    Start,
    Middle,
    End,
}

/// An SVG being written.
pub(crate) struct Svg {
    text: String,
    size: (u32, u32),
}

impl Svg {
    pub(crate) fn new(width: u32, height: u32) -> Svg {
        let mut text = String::new();
        let _ = write!(
            text,
            "<svg xmlns='http://www.w3.org/2000/svg' width='{width}' height='{height}' font-family='Inter'>"
        );
        Svg { text, size: (width, height) }
    }

    /// A text; bold text is for titles.
    pub(crate) fn text(&mut self, (x, y): (f64, f64), size: f64, bold: bool, ink: &str, anchor: Anchor, text: &str) {
        let anchor = match anchor {
            Anchor::Start => "start",
            Anchor::Middle => "middle",
            Anchor::End => "end",
        };
        let weight = if bold { 600 } else { 400 };
        let _ = write!(
            self.text,
            "<text x='{x:.1}' y='{y:.1}' font-size='{size}' font-weight='{weight}' fill='{ink}' text-anchor='{anchor}'>{}</text>",
            escape(text)
        );
    }

    pub(crate) fn line(&mut self, (x1, y1): (f64, f64), (x2, y2): (f64, f64), ink: &str, width: f64) {
        let _ = write!(
            self.text,
            "<line x1='{x1:.1}' y1='{y1:.1}' x2='{x2:.1}' y2='{y2:.1}' stroke='{ink}' stroke-width='{width}'/>"
        );
    }

    pub(crate) fn rect(&mut self, (x, y): (f64, f64), (w, h): (f64, f64), fill: &str, stroke: &str) {
        let _ = write!(
            self.text,
            "<rect x='{x:.1}' y='{y:.1}' width='{w:.1}' height='{h:.1}' fill='{fill}' stroke='{stroke}'/>"
        );
    }

    /// A closed or open path through positions.
    pub(crate) fn path(&mut self, points: &[(f64, f64)], closed: bool, fill: &str, stroke: &str, width: f64) {
        let mut d = String::new();
        for (i, (x, y)) in points.iter().enumerate() {
            let _ = write!(d, "{}{x:.2} {y:.2}", if i == 0 { "M" } else { "L" });
        }
        let end = if closed { "Z" } else { "" };
        let _ = write!(
            self.text,
            "<path d='{d}{end}' fill='{fill}' stroke='{stroke}' stroke-width='{width}' stroke-linejoin='round'/>"
        );
    }

    pub(crate) fn circle(&mut self, (x, y): (f64, f64), radius: f64, fill: &str, stroke: &str) {
        let _ = write!(
            self.text,
            "<circle cx='{x:.2}' cy='{y:.2}' r='{radius}' fill='{fill}' stroke='{stroke}' stroke-width='1.2'/>"
        );
    }

    /// An area that lets what lies below be seen.
    pub(crate) fn shade(&mut self, points: &[(f64, f64)], fill: &str, opacity: f64) {
        let mut d = String::new();
        for (i, (x, y)) in points.iter().enumerate() {
            let _ = write!(d, "{}{x:.2} {y:.2}", if i == 0 { "M" } else { "L" });
        }
        let _ = write!(self.text, "<path d='{d}Z' fill='{fill}' fill-opacity='{opacity}'/>");
    }

    /// The whole as the text of a file; readers without the font take another of its kind.
    pub(crate) fn finish(self) -> String {
        self.text.replacen("font-family='Inter'", "font-family='Inter, sans-serif'", 1) + "</svg>\n"
    }

    /// Everything from here to [`Svg::unclip`] is cut at a rectangle.
    pub(crate) fn clip(&mut self, (x, y): (f64, f64), (w, h): (f64, f64)) {
        let _ = write!(
            self.text,
            "<clipPath id='c'><rect x='{x}' y='{y}' width='{w}' height='{h}'/></clipPath><g clip-path='url(#c)'>"
        );
    }

    pub(crate) fn unclip(&mut self) {
        self.text += "</g>";
    }

    /// Draws it over what is there.
    pub(crate) fn draw(self, onto: &mut Pixmap) -> Result<(), String> {
        debug_assert_eq!(self.size, (onto.width(), onto.height()));
        let options = usvg::Options { fontdb: fonts(), font_family: "Inter".into(), ..usvg::Options::default() };
        let tree = usvg::Tree::from_str(&(self.text + "</svg>"), &options).map_err(|e| e.to_string())?;
        resvg::render(&tree, Transform::identity(), &mut onto.as_mut());
        Ok(())
    }
}

/// Characters with a meaning in SVG, and control characters, which XML forbids.
fn escape(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '&' => out += "&amp;",
            '<' => out += "&lt;",
            '>' => out += "&gt;",
            c if c.is_control() => out.push(' '),
            c => out.push(c),
        }
    }
    out
}

/// The fonts, which are part of the program: pictures are the same on every machine.
fn fonts() -> Arc<fontdb::Database> {
    static FONTS: OnceLock<Arc<fontdb::Database>> = OnceLock::new();
    FONTS
        .get_or_init(|| {
            let mut db = fontdb::Database::new();
            db.load_font_data(include_bytes!("../../fonts/Inter-Regular.otf").to_vec());
            db.load_font_data(include_bytes!("../../fonts/Inter-SemiBold.otf").to_vec());
            Arc::new(db)
        })
        .clone()
}

pub(crate) fn hex([r, g, b]: [u8; 3]) -> String {
    format!("#{r:02x}{g:02x}{b:02x}")
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A missing font would make all text vanish without an error.
    #[test]
    fn both_weights_leave_ink() {
        let ink = |bold| {
            let mut map = Pixmap::new(200, 40).unwrap();
            let mut svg = Svg::new(200, 40);
            svg.text((5.0, 30.0), 20.0, bold, "#000000", Anchor::Start, "ndvi −0.2 µm °C <&>");
            svg.draw(&mut map).unwrap();
            map.pixels().iter().map(|p| u64::from(p.alpha())).sum::<u64>()
        };
        assert!(ink(false) > 50_000);
        assert!(ink(true) > ink(false) * 11 / 10, "the heavier weight is not found");
    }
}
