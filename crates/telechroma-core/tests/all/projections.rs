//! Projections against places computed by an independent projection library (PROJ 9, no grid files), 200 a system.
//!
//! The table's rows with a datum shift were computed with the shift that the EPSG rows of `crs-definitions` state, so the
//! maths are compared, not the choice of a shift.

use telechroma_core::geo::{Crs, Definition, Projector};

/// Metres by which a place may differ: a tenth of a millimetre of rounding in the table, and the maths. Where a shift in
/// seven parameters is involved, libraries turn angles by slightly different series.
fn tolerance(system: &str) -> f64 {
    match system {
        "EPSG:28992" | "EPSG:27700" => 0.01,
        _ => 1e-3,
    }
}

#[test]
fn two_hundred_places_a_system() {
    let table = include_str!("../projections.csv");
    let mut counts = std::collections::BTreeMap::new();
    for line in table.lines().skip(1) {
        let (system, rest) = line[1..].split_once("\",").unwrap();
        let [lon, lat, x, y] = rest.split(',').map(|v| v.parse::<f64>().unwrap()).collect::<Vec<_>>()[..] else {
            panic!()
        };
        let crs = Crs::from_text(system).unwrap();
        // a sphere's longitudes and latitudes are compared on the sphere
        let base = match crs.definition().unwrap().get("R") {
            Some(r) => Crs::from_definition(&Definition::parse(&format!("+proj=longlat +R={r}")), "sphere").unwrap(),
            None => Crs::LONGITUDE_LATITUDE,
        };
        let (px, py) = Projector::new(base, crs).unwrap().project(lon, lat).unwrap();
        let off = (px - x).hypot(py - y) * crs.metres().unwrap();
        assert!(off < tolerance(system), "{system} at {lon} {lat}: {px} {py} instead of {x} {y}, {off} m off");
        *counts.entry(system.to_string()).or_insert(0) += 1;
    }
    assert_eq!(counts.len(), 11);
    assert!(counts.values().all(|n| *n == 200), "{counts:?}");
}

#[test]
fn texts_of_one_system_give_one_system() {
    let utm = Crs::utm(25, true).unwrap();
    let prj = r#"PROJCS["WGS_1984_UTM_Zone_25N",GEOGCS["GCS_WGS_1984",DATUM["D_WGS_1984",SPHEROID["WGS_1984",6378137.0,298.257223563]],PRIMEM["Greenwich",0.0],UNIT["Degree",0.0174532925199433]],PROJECTION["Transverse_Mercator"],PARAMETER["False_Easting",500000.0],PARAMETER["False_Northing",0.0],PARAMETER["Central_Meridian",-33.0],PARAMETER["Scale_Factor",0.9996],PARAMETER["Latitude_Of_Origin",0.0],UNIT["Meter",1.0]]"#;
    assert_eq!(Crs::from_wkt(prj).unwrap(), utm);
    let compound = format!(r#"COMPD_CS["x",{prj},VERT_CS["h",VERT_DATUM["d",2005],UNIT["m",1.0]]]"#);
    assert_eq!(Crs::from_wkt(&compound).unwrap(), utm);
    assert_eq!(Crs::from_text("+proj=utm +zone=25 +datum=WGS84 +units=m +no_defs").unwrap(), utm);
    assert_eq!(Crs::from_text("epsg:32625").unwrap(), utm);
    let web = r#"PROJCS["WGS 84 / Pseudo-Mercator",GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563]],PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]],PROJECTION["Mercator_1SP"],PARAMETER["central_meridian",0],PARAMETER["scale_factor",1],PARAMETER["false_easting",0],PARAMETER["false_northing",0],UNIT["metre",1],EXTENSION["PROJ4","+proj=merc +a=6378137 +b=6378137"]]"#;
    assert_eq!(Crs::from_wkt(web).unwrap().epsg(), Some(3857));
    for bad in ["", "PROJCS[", "GEOGCS[\"x\"]", "LOCAL_CS[\"site\"]", "EPSG:abc", "north"] {
        assert!(Crs::from_text(bad).is_err(), "{bad}");
    }
}

/// A `.prj` without codes that names the 1927 datum must not pass for WGS 84: the difference is tens of metres.
#[test]
fn a_named_datum_is_shifted_and_said() {
    let prj = r#"PROJCS["Albers",GEOGCS["GCS_North_American_1927",DATUM["D_North_American_1927",SPHEROID["Clarke_1866",6378206.4,294.9786982]],PRIMEM["Greenwich",0.0],UNIT["Degree",0.0174532925199433]],PROJECTION["Albers"],PARAMETER["False_Easting",0.0],PARAMETER["False_Northing",0.0],PARAMETER["Central_Meridian",-96.0],PARAMETER["Standard_Parallel_1",29.5],PARAMETER["Standard_Parallel_2",45.5],PARAMETER["Latitude_Of_Origin",23.0],UNIT["Meter",1.0]]"#;
    let crs = Crs::from_wkt(prj).unwrap();
    assert!(crs.caveat().unwrap().contains("1927"), "{:?}", crs.caveat());
    let shifted = Projector::new(Crs::LONGITUDE_LATITUDE, crs).unwrap().project(-100.0, 40.0).unwrap();
    let plain = Crs::from_text("+proj=aea +lat_0=23 +lon_0=-96 +lat_1=29.5 +lat_2=45.5 +ellps=clrk66").unwrap();
    let plain = Projector::new(Crs::LONGITUDE_LATITUDE, plain).unwrap().project(-100.0, 40.0).unwrap();
    let off = (shifted.0 - plain.0).hypot(shifted.1 - plain.1);
    assert!((20.0..250.0).contains(&off), "{off}");
}

/// Projections answer for places far outside their use; such answers must not pass.
#[test]
fn places_outside_a_projection_have_none() {
    let utm = Projector::new(Crs::LONGITUDE_LATITUDE, Crs::utm(25, true).unwrap()).unwrap();
    assert_eq!(utm.place(140.0, 10.0), None);
    let sinusoidal = Crs::from_text("+proj=sinu +R=6371007.181").unwrap();
    let back = Projector::new(sinusoidal, Crs::LONGITUDE_LATITUDE).unwrap();
    assert_eq!(back.place(-2e7, 9.5e6), None); // a corner of the sheet, beyond the globe's outline
    assert!(back.place(-1e6, 5e6).is_some());
}
