//! Shifts between datums, as far as they are known without grid files, and what to say where they are not.

use super::definition::Definition;

/// Datum names as well-known texts spell them (without blanks and underlines, lower case), with the EPSG code of the
/// geographic system whose shift applies.
const NAMES: &[(&str, u16)] = &[
    ("northamerican1927", 4267),
    ("nad27", 4267),
    ("osgb1936", 4277),
    ("ordnancesurveyofgreatbritain1936", 4277),
    ("deutscheshauptdreiecksnetz", 4314),
    ("dhdn", 4314),
    ("european1950", 4230),
    ("europeandatum1950", 4230),
    ("ed50", 4230),
    ("pulkovo1942", 4284),
    ("tokyo", 4301),
    ("amersfoort", 4289),
    ("belge1972", 4313),
    ("reseaunationalbelge1972", 4313),
    ("ch1903+", 4150),
    ("ch1903", 4149),
    ("mgi", 4312),
    ("militargeographischeinstitut", 4312),
    ("sjtsk", 4156),
    ("lisbon", 4207),
    ("newzealand1949", 4272),
    ("newzealandgeodeticdatum1949", 4272),
    ("australian1966", 4202),
    ("australian1984", 4203),
    ("southamerican1969", 4618),
    ("corregoalegre", 4225),
    ("ggrs1987", 4121),
    ("greekgeodeticreferencesystem1987", 4121),
    ("arc1960", 4210),
    ("hongkong1980", 4611),
    ("tm65", 4299),
    ("nouvelletriangulationfrancaise", 4275),
    ("ntf", 4275),
    ("montemario", 4265),
    ("rt90", 4124),
];

/// Ellipsoids that differ from that of WGS 84 by less than a millimetre: systems on them need no shift at the scale of
/// scenes.
const MODERN: &[&str] = &["WGS84", "GRS80"];

/// The EPSG code of the geographic system on a datum of this name.
pub(super) fn by_name(datum: &str) -> Option<u16> {
    let plain: String = datum.trim_start_matches("D_").chars().filter(|c| !" _-".contains(*c)).collect();
    let plain = plain.to_lowercase();
    NAMES.iter().find(|(name, _)| *name == plain).map(|(_, code)| *code)
}

/// The shift of the 1927 North American datum by region, with its accuracy in metres: means of NIMA TR 8350.2,
/// Department of Defense World Geodetic System 1984, appendix B.
fn north_american_1927(d: &Definition) -> (&'static str, &'static str, u32) {
    match d.number("lon_0") {
        Some(lon) if lon <= -141.0 => ("-5,135,172", "Alaska", 12),
        _ if d.number("lat_0").is_some_and(|lat| lat >= 49.0) => ("-10,158,187", "Canada", 20),
        _ => ("-8,160,176", "the conterminous United States", 10),
    }
}

/// Replaces a shift by grid files, which are not at hand, by the best known shift without. Says what that leaves out.
pub(super) fn without_grids(d: &Definition) -> (Definition, Option<String>) {
    let mut plain = d.clone();
    if d.get("datum") == Some("NAD27") {
        let (shift, region, within) = north_american_1927(d);
        plain.remove("datum");
        plain.set("ellps", "clrk66");
        plain.set("towgs84", shift);
        let text = format!(
            "the 1927 North American datum is shifted by {} m, the mean of {region}: right within about {within} m",
            shift.replace(',', ", ")
        );
        return (plain, Some(text));
    }
    if let Some(grids) = d.get("nadgrids").filter(|g| !g.contains("@null")) {
        let grids = grids.to_string();
        plain.remove("nadgrids");
        let shifted = plain.shift().is_some();
        let left = if shifted { "its shift without grids is used: right within some metres" } else { NO_SHIFT };
        return (plain, Some(format!("its datum needs the grid file {grids}, which is not at hand; {left}")));
    }
    let modern = |d: &Definition| {
        d.get("R").is_some()
            || d.get("datum").is_some()
            || d.get("ellps").is_some_and(|e| MODERN.contains(&e))
            || is_sphere(d)
            || axes_are_modern(d)
    };
    let text = (plain.shift().is_none() && plain.get("nadgrids").is_none() && !modern(&plain)).then(|| {
        format!(
            "no shift from its datum ({}) to WGS 84 is known; {NO_SHIFT}",
            plain.get("ellps").unwrap_or("own ellipsoid")
        )
    });
    (plain, text)
}

const NO_SHIFT: &str = "places are taken as they are and may be off by some hundred metres";

fn is_sphere(d: &Definition) -> bool {
    d.number("a").zip(d.number("b")).is_some_and(|(a, b)| a == b)
}

fn axes_are_modern(d: &Definition) -> bool {
    d.number("a").is_some_and(|a| (a - 6_378_137.0).abs() < 0.5)
        && d.number("rf").is_none_or(|rf| (rf - 298.257).abs() < 0.01)
        && d.number("b").is_none_or(|b| (b - 6_356_752.31).abs() < 0.5)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_left_out_is_said_with_its_size() {
        let note = |t: &str| without_grids(&Definition::parse(t)).1;
        assert!(note("+proj=aea +lat_0=50 +lon_0=-154 +datum=NAD27").unwrap().contains("within about 12 m"));
        assert!(note("+proj=utm +zone=15 +datum=NAD27").unwrap().contains("United States: right within about 10 m"));
        assert!(note("+proj=utm +zone=15 +ellps=clrk80").unwrap().contains("some hundred metres"));
        for modern in [
            "+proj=utm +zone=15 +ellps=GRS80",
            "+proj=sinu +R=6371007.181",
            "+proj=longlat +a=6378137 +rf=298.257223563",
        ] {
            assert_eq!(note(modern), None, "{modern}");
        }
        assert_eq!(by_name("D_North_American_1927"), Some(4267));
        assert_eq!(by_name("WGS_1984"), None);
    }
}
