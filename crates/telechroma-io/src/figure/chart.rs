//! Charts of values through time: lines with their looks, bands of groups, or a small panel for each of many plots.

use jiff::civil::Date;

use super::frame::{Anchor, INK, PAPER, SOFT, Svg, hex};
use super::scale::{number, ticks};

/// Inks of lines: told apart in print and by most colour-blind readers, by lightness as well as hue.
const INKS: [&str; 8] = ["#1f5fa8", "#d1731c", "#3f8f3a", "#a33a6f", "#6b4fb3", "#8a6d1f", "#2a9d9d", "#57606a"];
const GRID: &str = "#e3e1db";
/// More lines than this are drawn each in a panel of its own.
const MOST_LINES: usize = INKS.len();
const SIZE: (f64, f64) = (1280.0, 760.0);

/// One line.
#[derive(Debug, Clone, Default)]
pub struct ChartLine {
    /// What it shows.
    pub name: String,
    /// Looks: day, value, and whether the look was clear enough to be used.
    pub looks: Vec<(f64, f64, bool)>,
    /// The curve by day; NaN opens a gap.
    pub curve: Vec<(f64, f64)>,
    /// By day: the lower and the upper edge of its spread.
    pub band: Vec<(f64, f64, f64)>,
}

/// A chart; days are counted from `origin`.
#[derive(Debug, Clone)]
pub struct Chart {
    /// The largest line.
    pub title: String,
    /// The line below it.
    pub subtitle: String,
    /// What the values are, with the unit.
    pub label: String,
    /// Day 0.
    pub origin: Date,
    /// False where days are counted from the start of windows of different years: months are written without a year.
    pub years: bool,
    /// The lines.
    pub lines: Vec<ChartLine>,
}

/// Where a panel is, and what its axes span.
#[derive(Clone, Copy)]
struct Panel {
    at: (f64, f64),
    size: (f64, f64),
    x: (f64, f64),
    y: (f64, f64),
}

impl Panel {
    fn x(&self, day: f64) -> f64 {
        self.at.0 + (day - self.x.0) / (self.x.1 - self.x.0) * self.size.0
    }

    fn y(&self, v: f64) -> f64 {
        self.at.1 + (1.0 - (v - self.y.0) / (self.y.1 - self.y.0)) * self.size.1
    }
}

impl Chart {
    /// The chart as SVG.
    pub fn svg(&self) -> String {
        self.draw().finish()
    }

    /// The chart as PNG.
    ///
    /// # Errors
    /// In words, where drawing fails.
    pub fn png(&self) -> Result<Vec<u8>, String> {
        let svg = self.draw();
        let mut map = super::page::blank((SIZE.0 as u32, self.height() as u32))?;
        svg.draw(&mut map)?;
        super::page::encode(&map)
    }

    fn is_split(&self) -> bool {
        self.lines.len() > MOST_LINES
    }

    /// Columns and rows of panels.
    fn panels(&self) -> (usize, usize) {
        let n = self.lines.len().max(1);
        let cols = ((n as f64 * 1.5).sqrt().ceil() as usize).clamp(1, 10);
        (cols, n.div_ceil(cols))
    }

    fn height(&self) -> f64 {
        if self.is_split() { (self.panels().1 as f64 * 104.0 + 170.0).max(SIZE.1) } else { SIZE.1 }
    }

    /// Ends of both axes over all lines.
    fn spans(&self) -> ((f64, f64), (f64, f64)) {
        let none = (f64::INFINITY, f64::NEG_INFINITY);
        let fold = |s: (f64, f64), v: f64| if v.is_finite() { (s.0.min(v), s.1.max(v)) } else { s };
        let (mut x, mut y) = (none, none);
        for l in &self.lines {
            l.looks.iter().for_each(|p| (x, y) = (fold(x, p.0), fold(y, p.1)));
            l.curve.iter().for_each(|p| (x, y) = (fold(x, p.0), fold(y, p.1)));
            l.band.iter().for_each(|p| y = fold(fold(y, p.1), p.2));
        }
        let wide = |s: (f64, f64), room: f64, least: f64| match s.0 <= s.1 {
            true => {
                let half = ((s.1 - s.0) * (0.5 + room)).max(least);
                ((s.0 + s.1) / 2.0 - half, (s.0 + s.1) / 2.0 + half)
            }
            false => (0.0, 1.0),
        };
        (wide(x, 0.02, 5.0), wide(y, 0.05, 1e-6))
    }

    fn draw(&self) -> Svg {
        let mut svg = Svg::new(SIZE.0 as u32, self.height() as u32);
        svg.rect((0.0, 0.0), (SIZE.0, self.height()), &hex(PAPER), "none");
        svg.text((70.0, 42.0), 22.0, true, INK, Anchor::Start, &self.title);
        svg.text((70.0, 68.0), 13.5, false, SOFT, Anchor::Start, &self.subtitle);
        let (x, y) = self.spans();
        match self.is_split() {
            true => self.many(&mut svg, x, y),
            false => self.few(&mut svg, x, y),
        }
        svg
    }

    /// All lines in one panel, named at the right.
    fn few(&self, svg: &mut Svg, x: (f64, f64), y: (f64, f64)) {
        let panel = Panel { at: (78.0, 104.0), size: (SIZE.0 - 78.0 - 190.0, SIZE.1 - 104.0 - 74.0), x, y };
        svg.text((70.0, 94.0), 12.5, true, INK, Anchor::Start, &self.label);
        self.axes(svg, &panel, true, true, 120.0);
        for (line, ink) in self.lines.iter().zip(INKS) {
            band(svg, &panel, line, ink);
        }
        for (line, ink) in self.lines.iter().zip(INKS) {
            curve(svg, &panel, line, ink, 2.0);
            looks(svg, &panel, line, ink, 3.6);
        }
        // names beside the ends of their lines, pushed apart where they would lie on each other
        let end = |l: &ChartLine| {
            let of_curve = l.curve.iter().rev().find(|p| p.1.is_finite()).map(|p| p.1);
            of_curve.or_else(|| l.looks.iter().rev().find(|p| p.1.is_finite()).map(|p| p.1))
        };
        let mut names: Vec<(f64, &str, &str)> = self
            .lines
            .iter()
            .zip(INKS)
            .map(|(l, ink)| (end(l).map_or(panel.at.1 + panel.size.1, |v| panel.y(v)), l.name.as_str(), ink))
            .collect();
        names.sort_by(|a, b| a.0.total_cmp(&b.0));
        let mut last = f64::NEG_INFINITY;
        let right = panel.at.0 + panel.size.0 + 12.0;
        for n in &mut names {
            n.0 = n.0.max(last + 19.0);
            last = n.0;
        }
        // what was pushed below the axis moves all up
        let over = (last - (panel.at.1 + panel.size.1)).max(0.0);
        for (at, name, ink) in &names {
            svg.line((right, at - over), (right + 14.0, at - over), ink, 3.0);
            svg.text((right + 20.0, at - over + 4.5), 13.0, false, INK, Anchor::Start, &super::page::short(name, 22));
        }
        self.key(svg, SIZE.1 - 16.0);
    }

    /// A panel for each line, all on the same axes.
    fn many(&self, svg: &mut Svg, x: (f64, f64), y: (f64, f64)) {
        let (cols, rows) = self.panels();
        let (left, top, gap) = (70.0, 104.0, (10.0, 22.0));
        let (w, h) = (
            (SIZE.0 - left - 24.0 - gap.0 * (cols - 1) as f64) / cols as f64,
            (self.height() - top - 78.0 - gap.1 * (rows - 1) as f64) / rows as f64,
        );
        svg.text((left, 88.0), 12.5, true, INK, Anchor::Start, &self.label);
        for (i, line) in self.lines.iter().enumerate() {
            let (c, r) = (i % cols, i / cols);
            let at = (left + c as f64 * (w + gap.0), top + 14.0 + r as f64 * (h + gap.1));
            let panel = Panel { at, size: (w, h), x, y };
            let lowest = i + cols >= self.lines.len();
            self.axes(svg, &panel, c == 0, lowest, 44.0);
            svg.text(
                (at.0 + 2.0, at.1 - 4.0),
                11.0,
                true,
                INK,
                Anchor::Start,
                &super::page::short(&line.name, (w / 6.5) as usize),
            );
            band(svg, &panel, line, INKS[0]);
            curve(svg, &panel, line, INKS[0], 1.5);
            looks(svg, &panel, line, INKS[0], 1.8);
        }
        self.key(svg, self.height() - 16.0);
    }

    /// What marks mean, below the chart.
    fn key(&self, svg: &mut Svg, y: f64) {
        let mut x = 70.0;
        let ink = INKS[0];
        let any = |used: bool| self.lines.iter().any(|l| l.looks.iter().any(|p| p.1.is_finite() && p.2 == used));
        let mut word = |svg: &mut Svg, text: &str, mark: fn(&mut Svg, f64, f64, &str)| {
            mark(svg, x, y, ink);
            svg.text((x + 22.0, y), 11.5, false, SOFT, Anchor::Start, text);
            x += 40.0 + text.chars().count() as f64 * 6.2;
        };
        if any(true) {
            word(svg, "clear look", |s, x, y, ink| s.circle((x + 8.0, y - 4.0), 3.4, ink, ink));
        }
        if any(false) {
            word(svg, "look seen in part only, not used", |s, x, y, ink| {
                s.circle((x + 8.0, y - 4.0), 3.0, "none", ink)
            });
        }
        if self.lines.iter().any(|l| !l.band.is_empty()) {
            word(svg, "mean ± standard deviation between plots", |s, x, y, ink| {
                s.path(
                    &[(x, y - 9.0), (x + 16.0, y - 9.0), (x + 16.0, y + 1.0), (x, y + 1.0)],
                    true,
                    &faint(ink),
                    "none",
                    0.0,
                );
            });
        }
    }

    /// Lines of the axes with months and values; `apart` is the room a tick needs.
    fn axes(&self, svg: &mut Svg, p: &Panel, values: bool, months: bool, apart: f64) {
        let (left, top, w, h) = (p.at.0, p.at.1, p.size.0, p.size.1);
        let (marks, digits) = ticks(p.y.0, p.y.1, (h / 34.0).clamp(3.0, 14.0));
        for v in marks {
            svg.line((left, p.y(v)), (left + w, p.y(v)), GRID, 1.0);
            if values {
                svg.text((left - 8.0, p.y(v) + 4.0), 11.5, false, SOFT, Anchor::End, &number(v, digits));
            }
        }
        for (day, text, strong) in self.months(p, apart) {
            let at = p.x(day);
            svg.line((at, top), (at, top + h), if strong { "#cfccc4" } else { GRID }, 1.0);
            if months {
                svg.text((at, top + h + 17.0), 11.5, strong, SOFT, Anchor::Middle, &text);
            }
        }
        svg.line((left, top + h), (left + w, top + h), "#8b939a", 1.0);
    }

    /// First days of months that are named, each with its text; years stand out.
    fn months(&self, p: &Panel, apart: f64) -> Vec<(f64, String, bool)> {
        let per_month = p.size.0 / ((p.x.1 - p.x.0) / 30.44);
        let step =
            [1, 2, 3, 6, 12, 24, 60, 120].into_iter().find(|s| f64::from(*s) * per_month >= apart).unwrap_or(240);
        let day = |d: Date| f64::from((d - self.origin).get_days());
        let begin = self.origin.saturating_add(jiff::Span::new().days(p.x.0.floor() as i64)).first_of_month();
        let mut out = vec![];
        let mut at = begin;
        for _ in 0..5000 {
            let month = i32::from(at.year()) * 12 + i32::from(at.month()) - 1;
            if day(at) > p.x.1 {
                break;
            }
            if month % step == 0 && day(at) >= p.x.0 {
                let strong = at.month() == 1 && self.years;
                let name = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
                    [(at.month() - 1) as usize];
                let first = out.is_empty() && self.years && apart > 60.0;
                let text = match () {
                    () if strong => at.year().to_string(),
                    () if first => format!("{name} {}", at.year()),
                    () => name.to_string(),
                };
                out.push((day(at), text, strong));
            }
            at = at.saturating_add(jiff::Span::new().months(1));
        }
        out
    }
}

/// A lighter tone of an ink, for areas.
fn faint(ink: &str) -> String {
    let part = |i: usize| u8::from_str_radix(&ink[i..i + 2], 16).unwrap_or(0);
    let mix = |v: u8| (u16::from(v) / 4 + 186) as u8;
    hex([mix(part(1)), mix(part(3)), mix(part(5))])
}

/// A curve, broken at its gaps.
fn curve(svg: &mut Svg, p: &Panel, line: &ChartLine, ink: &str, width: f64) {
    for part in line.curve.split(|c| !c.1.is_finite()).filter(|s| !s.is_empty()) {
        let points: Vec<(f64, f64)> = part.iter().map(|(d, v)| (p.x(*d), p.y(*v))).collect();
        svg.path(&points, false, "none", ink, width);
    }
}

fn band(svg: &mut Svg, p: &Panel, line: &ChartLine, ink: &str) {
    for part in line.band.split(|b| !(b.1.is_finite() && b.2.is_finite())).filter(|s| s.len() > 1) {
        let upper = part.iter().map(|b| (p.x(b.0), p.y(b.2)));
        let lower = part.iter().rev().map(|b| (p.x(b.0), p.y(b.1)));
        let points: Vec<(f64, f64)> = upper.chain(lower).collect();
        svg.shade(&points, ink, 0.18);
    }
}

fn looks(svg: &mut Svg, p: &Panel, line: &ChartLine, ink: &str, size: f64) {
    for (d, v, used) in line.looks.iter().filter(|l| l.1.is_finite()) {
        let fill = if *used { ink } else { "none" };
        svg.circle((p.x(*d), p.y(*v)), size, fill, ink);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn chart(lines: usize) -> Chart {
        let line = |i: usize| ChartLine {
            name: format!("plot <{i}>"),
            looks: vec![(0.0, 0.2, true), (40.0, 0.6, true), (80.0, 0.1, false), (120.0, f64::NAN, false)],
            curve: (0..=120)
                .map(|d| (f64::from(d), if (50..70).contains(&d) { f64::NAN } else { 0.2 + 0.003 * f64::from(d) }))
                .collect(),
            band: vec![],
        };
        Chart {
            title: "t".into(),
            subtitle: String::new(),
            label: "ndvi".into(),
            origin: jiff::civil::date(2031, 4, 1),
            years: true,
            lines: (0..lines).map(line).collect(),
        }
    }

    #[test]
    fn gaps_stay_open_months_are_named_and_names_escaped() {
        let svg = chart(3).svg();
        assert_eq!(svg.matches("<path ").count(), 6, "three curves in two parts each");
        assert!(svg.contains("Apr 2031") && svg.contains(">Jul<") && svg.contains("plot &lt;2&gt;"));
        assert_eq!(svg.matches("<circle").count(), 3 * 3 + 2, "a missing value has no mark; two marks are the key");
        assert!(svg.contains("not used"));
    }

    #[test]
    fn many_lines_have_a_panel_each() {
        let svg = chart(60).svg();
        assert_eq!((0..60).filter(|i| svg.contains(&format!("plot &lt;{i}&gt;"))).count(), 60);
        assert!(!chart(1).png().unwrap().is_empty());
    }
}
