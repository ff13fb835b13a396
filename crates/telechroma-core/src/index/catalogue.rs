//! The index catalogue, one row each. A formula may name bands, other indices and `wavelength(band)` in micrometres.

use crate::error::{Error, Result};
use crate::scene::BandRole;
use crate::units::Unit;

/// One index.
#[derive(Debug)]
pub struct IndexDef {
    /// The name it is asked for by.
    pub id: &'static str,
    /// In words.
    pub name: &'static str,
    /// In the formula language.
    pub formula: &'static str,
    /// Of the result.
    pub unit: Unit,
    /// The range pictures are drawn over and values are expected in.
    pub typical: (f64, f64),
    /// The colour ramp of its pictures, by name.
    pub ramp: &'static str,
    /// What its bands must hold.
    pub wants: Wants,
    /// Bands that must have a wavelength within these limits, micrometres: the coefficients hold for no other.
    pub valid: &'static [(&'static str, f64, f64)],
    /// Author and year.
    pub source: &'static str,
    /// Inputs and result of a worked value; `wavelength` stands for the wavelength of every band, micrometres.
    pub check: (&'static [(&'static str, f64)], f64),
}

/// What the bands of an index must hold for its number to mean anything.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wants {
    /// A common gain cancels, an offset does not.
    Ratio,
    /// True reflectance, 0 to 1: scaled counts give nonsense.
    Reflectance,
    /// Reflectance at the surface.
    Surface,
}

impl Wants {
    /// For people.
    pub fn text(self) -> &'static str {
        match self {
            Wants::Ratio => "reflectance; a common factor cancels, an offset does not",
            Wants::Reflectance => "true reflectance, 0 to 1",
            Wants::Surface => "surface reflectance, 0 to 1",
        }
    }
}

/// Numbers that formulas use and the user may set, with their defaults.
pub const SETTINGS: &[(&str, f64)] = &[("cavity", 0.0)];

/// Numbers that formulas use and the user must give: there is no sound default.
pub const ASKED: &[(&str, &str)] = &[
    ("water_vapour", "the water vapour of the air, g cm⁻²"),
    ("transmittance", "the transmittance of the air for the band, 0 to 1"),
    ("upwelling", "the radiance that the air sends up, W m⁻² sr⁻¹ µm⁻¹"),
    ("downwelling", "the radiance that the air sends down, W m⁻² sr⁻¹ µm⁻¹"),
];

/// Rows sorted by id.
pub const INDICES: &[IndexDef] = &[
    IndexDef {
        id: "albedo",
        name: "broadband shortwave albedo",
        formula: "0.356 * blue + 0.130 * red + 0.373 * nir + 0.085 * swir16 + 0.072 * swir22 - 0.0018",
        unit: Unit::One,
        typical: (0.0, 0.5),
        ramp: "grey",
        wants: Wants::Surface,
        valid: &[],
        source: "Liang 2001",
        check: (&[("blue", 0.035), ("red", 0.048), ("nir", 0.362), ("swir16", 0.205), ("swir22", 0.118)], 0.177847),
    },
    IndexDef {
        id: "arvi",
        name: "atmospherically resistant vegetation index",
        formula: "(nir - (2 * red - blue)) / (nir + (2 * red - blue))",
        unit: Unit::One,
        typical: (-0.2, 0.9),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Kaufman & Tanré 1992, with a gamma of 1",
        check: (&[("nir", 0.362), ("red", 0.048), ("blue", 0.035)], 0.71158392435),
    },
    IndexDef {
        id: "awei_nsh",
        name: "automated water extraction index, without shadow",
        formula: "4 * (green - swir16) - (0.25 * nir + 2.75 * swir22)",
        unit: Unit::One,
        typical: (-2.0, 1.0),
        ramp: "water",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Feyisa et al. 2014; water above 0",
        check: (&[("green", 0.072), ("swir16", 0.205), ("nir", 0.362), ("swir22", 0.118)], -0.947),
    },
    IndexDef {
        id: "awei_sh",
        name: "automated water extraction index, with shadow",
        formula: "blue + 2.5 * green - 1.5 * (nir + swir16) - 0.25 * swir22",
        unit: Unit::One,
        typical: (-1.0, 0.6),
        ramp: "water",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Feyisa et al. 2014; water above 0",
        check: (&[("blue", 0.035), ("green", 0.072), ("nir", 0.362), ("swir16", 0.205), ("swir22", 0.118)], -0.665),
    },
    IndexDef {
        id: "bai",
        name: "burned area index",
        formula: "1 / ((0.1 - red) ^ 2 + (0.06 - nir) ^ 2)",
        unit: Unit::One,
        typical: (0.0, 300.0),
        ramp: "heat",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Chuvieco et al. 2002",
        check: (&[("red", 0.048), ("nir", 0.362)], 10.6487200239),
    },
    IndexDef {
        id: "bndvi",
        name: "blue normalised difference vegetation index",
        formula: "(nir - blue) / (nir + blue)",
        unit: Unit::One,
        typical: (-0.2, 0.9),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Wang et al. 2007",
        check: (&[("nir", 0.362), ("blue", 0.035)], 0.823677581864),
    },
    IndexDef {
        id: "brightness_oli",
        name: "tasselled cap brightness",
        formula: "0.3029 * blue + 0.2786 * green + 0.4733 * red + 0.5599 * nir + 0.5080 * swir16 + 0.1872 * swir22",
        unit: Unit::One,
        typical: (0.0, 1.0),
        ramp: "grey",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Baig et al. 2014, for OLI top-of-atmosphere reflectance",
        check: (
            &[("blue", 0.035), ("green", 0.072), ("red", 0.048), ("nir", 0.362), ("swir16", 0.205), ("swir22", 0.118)],
            0.3822925,
        ),
    },
    IndexDef {
        id: "brightness_tm",
        name: "tasselled cap brightness",
        formula: "0.2043 * blue + 0.4158 * green + 0.5524 * red + 0.5741 * nir + 0.3124 * swir16 + 0.2303 * swir22",
        unit: Unit::One,
        typical: (0.0, 1.0),
        ramp: "grey",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Crist 1985, for TM reflectance",
        check: (
            &[("blue", 0.035), ("green", 0.072), ("red", 0.048), ("nir", 0.362), ("swir16", 0.205), ("swir22", 0.118)],
            0.3626449,
        ),
    },
    IndexDef {
        id: "bsi",
        name: "bare soil index",
        formula: "((swir16 + red) - (nir + blue)) / ((swir16 + red) + (nir + blue))",
        unit: Unit::One,
        typical: (-0.6, 0.4),
        ramp: "soil",
        wants: Wants::Ratio,
        valid: &[],
        source: "Rikimaru et al. 2002",
        check: (&[("swir16", 0.205), ("red", 0.048), ("nir", 0.362), ("blue", 0.035)], -0.221538461538),
    },
    IndexDef {
        id: "ci_green",
        name: "green chlorophyll index",
        formula: "nir / green - 1",
        unit: Unit::One,
        typical: (0.0, 10.0),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Gitelson et al. 2003",
        check: (&[("nir", 0.362), ("green", 0.072)], 4.02777777778),
    },
    IndexDef {
        id: "ci_rededge",
        name: "red-edge chlorophyll index",
        formula: "nir / rededge - 1",
        unit: Unit::One,
        typical: (0.0, 5.0),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Gitelson et al. 2003",
        check: (&[("nir", 0.362), ("rededge", 0.112)], 2.23214285714),
    },
    IndexDef {
        id: "clay",
        name: "clay mineral ratio",
        formula: "swir16 / swir22",
        unit: Unit::One,
        typical: (0.8, 2.0),
        ramp: "soil",
        wants: Wants::Ratio,
        valid: &[],
        source: "Segal 1982; Drury 1987",
        check: (&[("swir16", 0.205), ("swir22", 0.118)], 1.73728813559),
    },
    IndexDef {
        id: "dvi",
        name: "difference vegetation index",
        formula: "nir - red",
        unit: Unit::One,
        typical: (-0.1, 0.5),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Richardson & Wiegand 1977",
        check: (&[("nir", 0.362), ("red", 0.048)], 0.314),
    },
    IndexDef {
        id: "emissivity",
        name: "surface emissivity from NDVI, continuous",
        formula: "0.97 * (1 - pv) + 0.99 * pv",
        unit: Unit::One,
        typical: (0.97, 0.99),
        ramp: "slate",
        wants: Wants::Ratio,
        valid: &[],
        source: "after Sobrino et al. 2004, with the ends 0.97 and 0.99",
        check: (&[("nir", 0.27), ("red", 0.13)], 0.975),
    },
    IndexDef {
        id: "emissivity_tirs10",
        name: "surface emissivity of TIRS band 10 by NDVI thresholds",
        formula: "0.979 - 0.046 * red where ndvi < 0.2 else (0.99 where ndvi > 0.5 else 0.987 * pv + 0.971 * (1 - pv) + cavity * (1 - 0.971) * (1 - pv) * 0.987)",
        unit: Unit::One,
        typical: (0.96, 0.99),
        ramp: "slate",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Sobrino et al. 2008; Skoković et al. 2014; jumps at both thresholds",
        check: (&[("nir", 0.27), ("red", 0.13)], 0.975),
    },
    IndexDef {
        id: "emissivity_tirs11",
        name: "surface emissivity of TIRS band 11 by NDVI thresholds",
        formula: "0.982 - 0.027 * red where ndvi < 0.2 else (0.99 where ndvi > 0.5 else 0.989 * pv + 0.977 * (1 - pv) + cavity * (1 - 0.977) * (1 - pv) * 0.989)",
        unit: Unit::One,
        typical: (0.97, 0.99),
        ramp: "slate",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Sobrino et al. 2008; Skoković et al. 2014; jumps at both thresholds",
        check: (&[("nir", 0.27), ("red", 0.13)], 0.98),
    },
    IndexDef {
        id: "emissivity_tm",
        name: "surface emissivity of TM and ETM+ band 6 by NDVI thresholds",
        formula: "0.979 - 0.035 * red where ndvi < 0.2 else (0.99 where ndvi > 0.5 else 0.004 * pv + 0.986)",
        unit: Unit::One,
        typical: (0.96, 0.99),
        ramp: "slate",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Sobrino et al. 2004",
        check: (&[("nir", 0.27), ("red", 0.13)], 0.987),
    },
    IndexDef {
        id: "evi",
        name: "enhanced vegetation index",
        formula: "2.5 * (nir - red) / (nir + 6 * red - 7.5 * blue + 1)",
        unit: Unit::One,
        typical: (-0.1, 0.9),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Huete et al. 2002; far outside ±1 over cloud and snow",
        check: (&[("nir", 0.362), ("red", 0.048), ("blue", 0.035)], 0.565765765766),
    },
    IndexDef {
        id: "evi2",
        name: "enhanced vegetation index of two bands",
        formula: "2.5 * (nir - red) / (nir + 2.4 * red + 1)",
        unit: Unit::One,
        typical: (-0.1, 0.9),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Jiang et al. 2008",
        check: (&[("nir", 0.362), ("red", 0.048)], 0.531410777146),
    },
    IndexDef {
        id: "exg",
        name: "excess green",
        formula: "(2 * green - red - blue) / (red + green + blue)",
        unit: Unit::One,
        typical: (-0.2, 0.6),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Woebbecke et al. 1995",
        check: (&[("green", 0.072), ("red", 0.048), ("blue", 0.035)], 0.393548387097),
    },
    IndexDef {
        id: "ferrous",
        name: "ferrous mineral ratio",
        formula: "swir16 / nir",
        unit: Unit::One,
        typical: (0.2, 2.0),
        ramp: "soil",
        wants: Wants::Ratio,
        valid: &[],
        source: "Segal 1982; Drury 1987",
        check: (&[("swir16", 0.205), ("nir", 0.362)], 0.566298342541),
    },
    IndexDef {
        id: "gemi",
        name: "global environment monitoring index",
        formula: "((2 * (nir ^ 2 - red ^ 2) + 1.5 * nir + 0.5 * red) / (nir + red + 0.5)) * (1 - 0.25 * ((2 * (nir ^ 2 - red ^ 2) + 1.5 * nir + 0.5 * red) / (nir + red + 0.5))) - (red - 0.125) / (1 - red)",
        unit: Unit::One,
        typical: (0.0, 1.0),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Pinty & Verstraete 1992",
        check: (&[("nir", 0.362), ("red", 0.048)], 0.781685374798),
    },
    IndexDef {
        id: "gli",
        name: "green leaf index",
        formula: "(2 * green - red - blue) / (2 * green + red + blue)",
        unit: Unit::One,
        typical: (-0.2, 0.4),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Louhaichi et al. 2001",
        check: (&[("green", 0.072), ("red", 0.048), ("blue", 0.035)], 0.26872246696),
    },
    IndexDef {
        id: "gndvi",
        name: "green normalised difference vegetation index",
        formula: "(nir - green) / (nir + green)",
        unit: Unit::One,
        typical: (-0.2, 0.9),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Gitelson et al. 1996",
        check: (&[("nir", 0.362), ("green", 0.072)], 0.668202764977),
    },
    IndexDef {
        id: "greenness_oli",
        name: "tasselled cap greenness",
        formula: "-0.2941 * blue - 0.2430 * green - 0.5424 * red + 0.7276 * nir + 0.0713 * swir16 - 0.1608 * swir22",
        unit: Unit::One,
        typical: (-0.3, 0.4),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Baig et al. 2014, for OLI top-of-atmosphere reflectance",
        check: (
            &[("blue", 0.035), ("green", 0.072), ("red", 0.048), ("nir", 0.362), ("swir16", 0.205), ("swir22", 0.118)],
            0.2052086,
        ),
    },
    IndexDef {
        id: "greenness_tm",
        name: "tasselled cap greenness",
        formula: "-0.1603 * blue - 0.2819 * green - 0.4934 * red + 0.7940 * nir - 0.0002 * swir16 - 0.1446 * swir22",
        unit: Unit::One,
        typical: (-0.3, 0.4),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Crist 1985, for TM reflectance",
        check: (
            &[("blue", 0.035), ("green", 0.072), ("red", 0.048), ("nir", 0.362), ("swir16", 0.205), ("swir22", 0.118)],
            0.2207337,
        ),
    },
    IndexDef {
        id: "grvi",
        name: "green-red vegetation index",
        formula: "(green - red) / (green + red)",
        unit: Unit::One,
        typical: (-0.4, 0.4),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Tucker 1979; Motohka et al. 2010",
        check: (&[("green", 0.072), ("red", 0.048)], 0.2),
    },
    IndexDef {
        id: "ireci",
        name: "inverted red-edge chlorophyll index",
        formula: "(rededge078 - red) / (rededge071 / rededge075)",
        unit: Unit::One,
        typical: (0.0, 2.0),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Frampton et al. 2013",
        check: (&[("rededge078", 0.334), ("red", 0.048), ("rededge071", 0.112), ("rededge075", 0.268)], 0.684357142857),
    },
    IndexDef {
        id: "iron_oxide",
        name: "iron oxide ratio",
        formula: "red / blue",
        unit: Unit::One,
        typical: (0.0, 4.0),
        ramp: "soil",
        wants: Wants::Ratio,
        valid: &[],
        source: "Segal 1982; Drury 1987",
        check: (&[("red", 0.048), ("blue", 0.035)], 1.37142857143),
    },
    IndexDef {
        id: "kndvi",
        name: "kernel NDVI",
        formula: "tanh(ndvi ^ 2)",
        unit: Unit::One,
        typical: (0.0, 0.7),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Camps-Valls et al. 2021, with sigma = (nir + red) / 2",
        check: (&[("nir", 0.362), ("red", 0.048)], 0.52739667764),
    },
    IndexDef {
        id: "lst",
        name: "land surface temperature, one band, emissivity only",
        formula: "lwir11 / (1 + wavelength(lwir11) * 1e-6 * lwir11 / 0.0143877688 * ln(emissivity))",
        unit: Unit::Kelvin,
        typical: (280.0, 320.0),
        ramp: "heat",
        wants: Wants::Ratio,
        valid: &[],
        source: "Artis & Carnahan 1982; reads some kelvin low in moist air",
        check: (&[("lwir11", 303.15), ("nir", 0.27), ("red", 0.13), ("wavelength", 10.895)], 304.922174432),
    },
    IndexDef {
        id: "lst_radiative_transfer",
        name: "land surface temperature, radiative transfer with the air's own numbers",
        formula: "kelvin(lwir11, (radiance(lwir11) - upwelling - transmittance * (1 - emissivity) * downwelling) / (transmittance * emissivity))",
        unit: Unit::Kelvin,
        typical: (280.0, 320.0),
        ramp: "heat",
        wants: Wants::Ratio,
        valid: &[],
        source: "Planck's law; Barsi et al. 2003: as good as the profile of the air",
        check: (
            &[
                ("lwir11", 299.0),
                ("nir", 0.27),
                ("red", 0.13),
                ("k1", 774.8853),
                ("k2", 1321.0789),
                ("transmittance", 0.83),
                ("upwelling", 1.35),
                ("downwelling", 2.18),
            ],
            302.515213925,
        ),
    },
    IndexDef {
        id: "lst_single_channel",
        name: "land surface temperature, single channel with water vapour",
        formula: "lwir11 - lwir11 ^ 2 / 1324 + lwir11 ^ 2 / (1324 * radiance(lwir11)) * (((0.04019 * water_vapour ^ 2 + 0.02916 * water_vapour + 1.01523) * radiance(lwir11) + (-0.38333 * water_vapour ^ 2 - 1.50294 * water_vapour + 0.20324)) / emissivity + (0.00918 * water_vapour ^ 2 + 1.36072 * water_vapour - 0.27514))",
        unit: Unit::Kelvin,
        typical: (280.0, 320.0),
        ramp: "heat",
        wants: Wants::Ratio,
        valid: &[("lwir11", 10.85, 10.95)],
        source: "Jiménez-Muñoz & Sobrino 2003; Jiménez-Muñoz et al. 2014, for TIRS band 10; good below 3 g cm-2",
        check: (
            &[
                ("lwir11", 296.0),
                ("nir", 0.27),
                ("red", 0.13),
                ("k1", 774.8853),
                ("k2", 1321.0789),
                ("water_vapour", 2.4),
            ],
            299.32919521,
        ),
    },
    IndexDef {
        id: "lst_split_window",
        name: "land surface temperature, split window with water vapour",
        formula: "lwir11 + 1.378 * (lwir11 - lwir12) + 0.183 * (lwir11 - lwir12) ^ 2 - 0.268 + (54.3 - 2.238 * water_vapour) * (1 - (emissivity_tirs10 + emissivity_tirs11) / 2) + (-129.2 + 16.4 * water_vapour) * (emissivity_tirs10 - emissivity_tirs11)",
        unit: Unit::Kelvin,
        typical: (280.0, 320.0),
        ramp: "heat",
        wants: Wants::Reflectance,
        valid: &[("lwir11", 10.85, 10.95), ("lwir12", 11.95, 12.05)],
        source: "Jiménez-Muñoz et al. 2014, for TIRS bands 10 and 11",
        check: (
            &[
                ("lwir11", 297.8),
                ("lwir12", 296.1),
                ("nir", 0.27),
                ("red", 0.13),
                ("wavelength", 10.895),
                ("water_vapour", 2.2),
            ],
            301.980039,
        ),
    },
    IndexDef {
        id: "mcari",
        name: "modified chlorophyll absorption ratio index",
        formula: "((rededge - red) - 0.2 * (rededge - green)) * (rededge / red)",
        unit: Unit::One,
        typical: (0.0, 0.5),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Daughtry et al. 2000",
        check: (&[("rededge", 0.112), ("red", 0.048), ("green", 0.072)], 0.130666666667),
    },
    IndexDef {
        id: "mirbi",
        name: "mid-infrared burn index",
        formula: "10 * swir22 - 9.8 * swir16 + 2",
        unit: Unit::One,
        typical: (0.0, 3.0),
        ramp: "heat",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Trigg & Flasse 2001",
        check: (&[("swir22", 0.118), ("swir16", 0.205)], 1.171),
    },
    IndexDef {
        id: "mndwi",
        name: "modified normalised difference water index",
        formula: "(green - swir16) / (green + swir16)",
        unit: Unit::One,
        typical: (-0.7, 0.7),
        ramp: "water",
        wants: Wants::Ratio,
        valid: &[],
        source: "Xu 2006; the formula of ndsi",
        check: (&[("green", 0.072), ("swir16", 0.205)], -0.480144404332),
    },
    IndexDef {
        id: "msavi",
        name: "modified soil-adjusted vegetation index",
        formula: "(2 * nir + 1 - sqrt((2 * nir + 1) ^ 2 - 8 * (nir - red))) / 2",
        unit: Unit::One,
        typical: (-0.1, 0.9),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Qi et al. 1994",
        check: (&[("nir", 0.362), ("red", 0.048)], 0.522818632587),
    },
    IndexDef {
        id: "msi",
        name: "moisture stress index (high is dry)",
        formula: "swir16 / nir",
        unit: Unit::One,
        typical: (0.2, 2.0),
        ramp: "soil",
        wants: Wants::Ratio,
        valid: &[],
        source: "Hunt & Rock 1989",
        check: (&[("swir16", 0.205), ("nir", 0.362)], 0.566298342541),
    },
    IndexDef {
        id: "msr",
        name: "modified simple ratio",
        formula: "(nir / red - 1) / sqrt(nir / red + 1)",
        unit: Unit::One,
        typical: (-1.0, 4.0),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Chen 1996, as used by Haboudane et al. 2004",
        check: (&[("nir", 0.362), ("red", 0.048)], 2.23829384791),
    },
    IndexDef {
        id: "mtci",
        name: "red-edge chlorophyll index of three bands",
        formula: "(rededge075 - rededge071) / (rededge071 - red)",
        unit: Unit::One,
        typical: (-1.0, 6.0),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Dash & Curran 2004",
        check: (&[("rededge075", 0.268), ("rededge071", 0.112), ("red", 0.048)], 2.4375),
    },
    IndexDef {
        id: "nbr",
        name: "normalised burn ratio",
        formula: "(nir - swir22) / (nir + swir22)",
        unit: Unit::One,
        typical: (-0.5, 0.8),
        ramp: "burn",
        wants: Wants::Ratio,
        valid: &[],
        source: "López García & Caselles 1991; Key & Benson 2006",
        check: (&[("nir", 0.362), ("swir22", 0.118)], 0.508333333333),
    },
    IndexDef {
        id: "nbr2",
        name: "normalised burn ratio of the short waves",
        formula: "(swir16 - swir22) / (swir16 + swir22)",
        unit: Unit::One,
        typical: (-0.1, 0.5),
        ramp: "burn",
        wants: Wants::Ratio,
        valid: &[],
        source: "Key & Benson 2006; the formula of the tillage index of van Deventer 1997",
        check: (&[("swir16", 0.205), ("swir22", 0.118)], 0.269349845201),
    },
    IndexDef {
        id: "nd705",
        name: "normalised difference at 705 nm",
        formula: "(rededge075 - rededge071) / (rededge075 + rededge071)",
        unit: Unit::One,
        typical: (-0.1, 0.7),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Gitelson & Merzlyak 1994",
        check: (&[("rededge075", 0.268), ("rededge071", 0.112)], 0.410526315789),
    },
    IndexDef {
        id: "ndbi",
        name: "normalised difference built-up index",
        formula: "(swir16 - nir) / (swir16 + nir)",
        unit: Unit::One,
        typical: (-0.6, 0.4),
        ramp: "soil",
        wants: Wants::Ratio,
        valid: &[],
        source: "Zha et al. 2003; exactly -ndmi",
        check: (&[("swir16", 0.205), ("nir", 0.362)], -0.276895943563),
    },
    IndexDef {
        id: "ndmi",
        name: "normalised difference moisture index (moisture of plants)",
        formula: "(nir - swir16) / (nir + swir16)",
        unit: Unit::One,
        typical: (-0.4, 0.6),
        ramp: "water",
        wants: Wants::Ratio,
        valid: &[],
        source: "Hardisky et al. 1983; Gao 1996 called it NDWI (with 1.24 µm)",
        check: (&[("nir", 0.362), ("swir16", 0.205)], 0.276895943563),
    },
    IndexDef {
        id: "ndre",
        name: "normalised difference red edge",
        formula: "(nir - rededge) / (nir + rededge)",
        unit: Unit::One,
        typical: (-0.1, 0.7),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Barnes et al. 2000",
        check: (&[("nir", 0.362), ("rededge", 0.112)], 0.527426160338),
    },
    IndexDef {
        id: "ndsi",
        name: "normalised difference snow index",
        formula: "(green - swir16) / (green + swir16)",
        unit: Unit::One,
        typical: (-0.7, 0.9),
        ramp: "water",
        wants: Wants::Ratio,
        valid: &[],
        source: "Hall et al. 1995; snow above 0.4 where nir is above 0.11",
        check: (&[("green", 0.072), ("swir16", 0.205)], -0.480144404332),
    },
    IndexDef {
        id: "ndti_water",
        name: "normalised difference turbidity index of water",
        formula: "(red - green) / (red + green)",
        unit: Unit::One,
        typical: (-0.4, 0.4),
        ramp: "soil",
        wants: Wants::Ratio,
        valid: &[],
        source: "Lacaux et al. 2007; not the tillage index",
        check: (&[("red", 0.048), ("green", 0.072)], -0.2),
    },
    IndexDef {
        id: "ndvi",
        name: "normalised difference vegetation index",
        formula: "(nir - red) / (nir + red)",
        unit: Unit::One,
        typical: (-0.2, 0.9),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Rouse et al. 1974; Tucker 1979",
        check: (&[("nir", 0.362), ("red", 0.048)], 0.765853658537),
    },
    IndexDef {
        id: "ndwi",
        name: "normalised difference water index (open water above 0)",
        formula: "(green - nir) / (green + nir)",
        unit: Unit::One,
        typical: (-0.8, 0.6),
        ramp: "water",
        wants: Wants::Ratio,
        valid: &[],
        source: "McFeeters 1996; not the NDWI of Gao 1996, which is ndmi",
        check: (&[("green", 0.072), ("nir", 0.362)], -0.668202764977),
    },
    IndexDef {
        id: "nirv",
        name: "near-infrared reflectance of vegetation",
        formula: "nir * ndvi",
        unit: Unit::One,
        typical: (-0.05, 0.5),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Badgley et al. 2017",
        check: (&[("nir", 0.362), ("red", 0.048)], 0.27723902439),
    },
    IndexDef {
        id: "osavi",
        name: "optimised soil-adjusted vegetation index",
        formula: "1.16 * (nir - red) / (nir + red + 0.16)",
        unit: Unit::One,
        typical: (-0.1, 0.9),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Rondeaux et al. 1996; some papers leave out the 1.16",
        check: (&[("nir", 0.362), ("red", 0.048)], 0.63901754386),
    },
    IndexDef {
        id: "psri",
        name: "plant senescence reflectance index",
        formula: "(red - blue) / rededge075",
        unit: Unit::One,
        typical: (-0.1, 0.4),
        ramp: "soil",
        wants: Wants::Ratio,
        valid: &[],
        source: "Merzlyak et al. 1999",
        check: (&[("red", 0.048), ("blue", 0.035), ("rededge075", 0.268)], 0.0485074626866),
    },
    IndexDef {
        id: "pv",
        name: "share of green cover from NDVI",
        formula: "clip((ndvi - 0.2) / (0.5 - 0.2), 0, 1) ^ 2",
        unit: Unit::One,
        typical: (0.0, 1.0),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Carlson & Ripley 1997; end members depend on the scene",
        check: (&[("nir", 0.27), ("red", 0.13)], 0.25),
    },
    IndexDef {
        id: "rdvi",
        name: "renormalised difference vegetation index",
        formula: "(nir - red) / sqrt(nir + red)",
        unit: Unit::One,
        typical: (-0.2, 0.7),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Roujean & Bréon 1995",
        check: (&[("nir", 0.362), ("red", 0.048)], 0.49038561233),
    },
    IndexDef {
        id: "s2rep",
        name: "red-edge position, nm",
        formula: "705 + 35 * ((rededge078 + red) / 2 - rededge071) / (rededge075 - rededge071)",
        unit: Unit::Nanometres,
        typical: (700.0, 735.0),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Frampton et al. 2013",
        check: (&[("rededge078", 0.334), ("red", 0.048), ("rededge071", 0.112), ("rededge075", 0.268)], 722.724358974),
    },
    IndexDef {
        id: "savi",
        name: "soil-adjusted vegetation index, L = 0.5",
        formula: "1.5 * (nir - red) / (nir + red + 0.5)",
        unit: Unit::One,
        typical: (-0.1, 0.8),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Huete 1988",
        check: (&[("nir", 0.362), ("red", 0.048)], 0.517582417582),
    },
    IndexDef {
        id: "sipi",
        name: "structure-insensitive pigment index",
        formula: "(nir - blue) / (nir - red)",
        unit: Unit::One,
        typical: (0.0, 2.0),
        ramp: "soil",
        wants: Wants::Ratio,
        valid: &[],
        source: "Peñuelas et al. 1995",
        check: (&[("nir", 0.362), ("blue", 0.035), ("red", 0.048)], 1.04140127389),
    },
    IndexDef {
        id: "sqrt_sr",
        name: "root of the simple ratio",
        formula: "sqrt(nir / red)",
        unit: Unit::One,
        typical: (0.0, 4.0),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Jordan 1969; its root",
        check: (&[("nir", 0.362), ("red", 0.048)], 2.74620950888),
    },
    IndexDef {
        id: "sr",
        name: "simple ratio",
        formula: "nir / red",
        unit: Unit::One,
        typical: (0.0, 15.0),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Jordan 1969",
        check: (&[("nir", 0.362), ("red", 0.048)], 7.54166666667),
    },
    IndexDef {
        id: "tcari",
        name: "transformed chlorophyll absorption ratio index; falls as chlorophyll rises",
        formula: "3 * ((rededge - red) - 0.2 * (rededge - green) * (rededge / red))",
        unit: Unit::One,
        typical: (0.0, 0.6),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Haboudane et al. 2002",
        check: (&[("rededge", 0.112), ("red", 0.048), ("green", 0.072)], 0.136),
    },
    IndexDef {
        id: "tcari_osavi",
        name: "TCARI over OSAVI; falls as chlorophyll rises",
        formula: "tcari / osavi",
        unit: Unit::One,
        typical: (0.0, 0.8),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Haboudane et al. 2002",
        check: (&[("rededge", 0.112), ("red", 0.048), ("green", 0.072), ("nir", 0.362)], 0.212826707665),
    },
    IndexDef {
        id: "tgi",
        name: "triangular greenness index",
        formula: "-0.5 * (190 * (red - green) - 120 * (red - blue))",
        unit: Unit::One,
        typical: (-5.0, 10.0),
        ramp: "plants",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Hunt et al. 2011, for 670, 550 and 480 nm",
        check: (&[("red", 0.048), ("green", 0.072), ("blue", 0.035)], 3.06),
    },
    IndexDef {
        id: "tvi",
        name: "transformed vegetation index",
        formula: "sqrt(ndvi + 0.5)",
        unit: Unit::One,
        typical: (0.4, 1.2),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Deering et al. 1975; below an NDVI of -0.5 missing",
        check: (&[("nir", 0.362), ("red", 0.048)], 1.12510162143),
    },
    IndexDef {
        id: "ui",
        name: "urban index",
        formula: "(swir22 - nir) / (swir22 + nir)",
        unit: Unit::One,
        typical: (-0.8, 0.4),
        ramp: "soil",
        wants: Wants::Ratio,
        valid: &[],
        source: "Kawamura et al. 1996; exactly -nbr",
        check: (&[("swir22", 0.118), ("nir", 0.362)], -0.508333333333),
    },
    IndexDef {
        id: "vari",
        name: "visible atmospherically resistant index",
        formula: "(green - red) / (green + red - blue)",
        unit: Unit::One,
        typical: (-0.5, 0.5),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Gitelson et al. 2002; unstable where the denominator is small",
        check: (&[("green", 0.072), ("red", 0.048), ("blue", 0.035)], 0.282352941176),
    },
    IndexDef {
        id: "wdrvi",
        name: "wide dynamic range vegetation index",
        formula: "(0.1 * nir - red) / (0.1 * nir + red)",
        unit: Unit::One,
        typical: (-0.9, 0.4),
        ramp: "plants",
        wants: Wants::Ratio,
        valid: &[],
        source: "Gitelson 2004, with an alpha of 0.1",
        check: (&[("nir", 0.362), ("red", 0.048)], -0.140142517815),
    },
    IndexDef {
        id: "wetness_oli",
        name: "tasselled cap wetness",
        formula: "0.1511 * blue + 0.1973 * green + 0.3283 * red + 0.3407 * nir - 0.7117 * swir16 - 0.4559 * swir22",
        unit: Unit::One,
        typical: (-0.4, 0.1),
        ramp: "water",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Baig et al. 2014, for OLI top-of-atmosphere reflectance",
        check: (
            &[("blue", 0.035), ("green", 0.072), ("red", 0.048), ("nir", 0.362), ("swir16", 0.205), ("swir22", 0.118)],
            -0.0411088,
        ),
    },
    IndexDef {
        id: "wetness_tm",
        name: "tasselled cap wetness",
        formula: "0.0315 * blue + 0.2021 * green + 0.3102 * red + 0.1594 * nir - 0.6806 * swir16 - 0.6109 * swir22",
        unit: Unit::One,
        typical: (-0.4, 0.1),
        ramp: "water",
        wants: Wants::Reflectance,
        valid: &[],
        source: "Crist 1985, for TM reflectance",
        check: (
            &[("blue", 0.035), ("green", 0.072), ("red", 0.048), ("nir", 0.362), ("swir16", 0.205), ("swir22", 0.118)],
            -0.1233631,
        ),
    },
];

/// The row of an index.
///
/// # Errors
/// [`Error::UnknownName`] with the nearest name.
pub fn find(id: &str) -> Result<&'static IndexDef> {
    INDICES.iter().find(|d| d.id == id).ok_or_else(|| Error::unknown("index", id, INDICES.iter().map(|d| d.id)))
}

impl IndexDef {
    /// The bands it needs, through other indices too, in catalogue order of roles.
    pub fn bands(&self) -> Vec<BandRole> {
        let mut found = vec![];
        collect(self.formula, &mut found);
        let mut roles: Vec<BandRole> = found.iter().filter_map(|n| BandRole::from_name(n)).collect();
        roles.sort();
        roles.dedup();
        roles
    }
}

/// Names in an index's formula that are no bands: numbers that the user sets.
pub fn settings_of(d: &IndexDef) -> Vec<String> {
    let mut found = vec![];
    collect(d.formula, &mut found);
    found.retain(|n| BandRole::from_name(n).is_none());
    found.sort();
    found.dedup();
    found
}

fn collect(formula: &str, found: &mut Vec<String>) {
    for name in super::parse(formula).map(|e| e.names()).unwrap_or_default() {
        match INDICES.iter().find(|d| d.id == name) {
            Some(other) => collect(other.formula, found),
            None => found.push(name),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::index::{Names, Program};
    use crate::worked;

    struct Worked<'a>(&'a [(String, f64)]);

    impl Worked<'_> {
        fn number(&self, name: &str) -> Option<f64> {
            // examples name red edges by their wavelength alone
            let short = name.strip_prefix("rededge0").map(|nm| format!("re{nm}"));
            let short = if name == "rededge" { Some("re71".to_string()) } else { short };
            self.0.iter().find(|(n, _)| n == name || Some(n) == short.as_ref()).map(|(_, v)| *v)
        }
    }

    impl Names for Worked<'_> {
        fn band(&self, name: &str) -> Option<Unit> {
            self.number(name).map(|_| Unit::Reflectance)
        }
        fn wavelength_um(&self, _: &str) -> Option<f64> {
            self.number("wavelength")
        }
        fn thermal(&self, _: &str) -> Option<(f64, f64)> {
            self.number("k1").zip(self.number("k2"))
        }
        fn all(&self) -> Vec<String> {
            self.0.iter().map(|(n, _)| n.clone()).collect()
        }
    }

    fn value(formula: &str, inputs: &[(String, f64)]) -> f64 {
        let program = Program::compile(formula, &Worked(inputs)).unwrap();
        let get = |n: &String| Worked(inputs).number(n).unwrap();
        program.at(&program.inputs().iter().map(get).collect::<Vec<_>>())
    }

    #[test]
    fn every_row_parses_is_sorted_and_meets_its_worked_value() {
        assert!(INDICES.is_sorted_by_key(|d| d.id));
        for d in INDICES {
            let inputs: Vec<(String, f64)> = d.check.0.iter().map(|(k, v)| (k.to_string(), *v)).collect();
            let got = value(d.formula, &inputs);
            assert!((got - d.check.1).abs() < 1e-9 * (1.0 + d.check.1.abs()), "{}: {got}", d.id);
            assert!(!d.source.is_empty() && !d.bands().is_empty() && d.typical.0 < d.typical.1, "{}", d.id);
            // what is delivered under an index's name stands for it
            assert!(BandRole::from_name(d.id).is_none_or(BandRole::is_product), "{} is also a band", d.id);
        }
    }

    #[test]
    fn worked_examples_of_the_catalogue() {
        let mut checked = 0;
        for d in INDICES {
            for e in worked::starting_with(&format!("index_{}_", d.id)) {
                if e.name()[6 + d.id.len() + 1..].contains('_') {
                    continue; // another index's longer name
                }
                e.check(value(d.formula, &e.all_numbers()));
                checked += 1;
            }
        }
        assert!(checked >= 100, "only {checked} worked values met the catalogue");
    }

    fn inputs(of: &[(&str, f64)]) -> Vec<(String, f64)> {
        of.iter().map(|(k, v)| (k.to_string(), *v)).collect()
    }

    /// Red and near infrared of an NDVI.
    fn bands(ndvi: f64, red: f64) -> Vec<(String, f64)> {
        inputs(&[("nir", red * (1.0 + ndvi) / (1.0 - ndvi)), ("red", red)])
    }

    #[test]
    fn worked_cover_and_emissivity() {
        for (index, name) in [("pv", "vegetation_cover"), ("emissivity", "emissivity_continuous_default")] {
            let e = worked::example(name);
            for (ndvi, expected) in e.numbers("ndvi").iter().zip(e.expected_numbers()) {
                e.check_one(value(find(index).unwrap().formula, &bands(*ndvi, 0.1)), expected);
            }
        }
        let e = worked::example("emissivity_tirs10_thresholds");
        let pairs = e.value("/inputs/ndvi_red").as_array().unwrap();
        for (pair, expected) in pairs.iter().zip(e.expected_numbers()) {
            let [ndvi, red] = [0, 1].map(|i| pair[i].as_f64().unwrap());
            e.check_one(value("emissivity_tirs10", &bands(ndvi, red)), expected);
        }
        let e = worked::example("emissivity_tirs10_cavity");
        let mut with_cavity = bands(e.number("ndvi"), 0.12);
        with_cavity.extend(inputs(&[("cavity", e.number("cavity"))]));
        e.check(value("emissivity_tirs10", &with_cavity));
        let e = worked::example("emissivity_tm_mixed");
        e.check(value("emissivity_tm", &bands(e.number("ndvi"), 0.12)));
    }

    #[test]
    fn worked_temperatures() {
        let number = |e: &worked::Example, names: &[(&'static str, &str)]| {
            names.iter().map(|(k, from)| (k.to_string(), e.number(from))).collect::<Vec<_>>()
        };
        for name in ["lst_emissivity_tirs10", "lst_emissivity_tm", "lst_emissivity_one"] {
            let e = worked::example(name);
            let mut at = number(&e, &[("lwir11", "bt_k"), ("emissivity", "emissivity")]);
            at.extend(inputs(&[("wavelength", e.number("wavelength_m") * 1e6)]));
            e.check(value("lst", &at));
        }
        // the examples give the radiance beside the temperature: constants that make the one of the other
        let planck = |radiance: f64, kelvin: f64, k2: f64| [("k1", radiance * ((k2 / kelvin).exp() - 1.0)), ("k2", k2)];
        for name in ["lst_single_channel_moist", "lst_single_channel_dry"] {
            let e = worked::example(name);
            let vapour = ("water_vapour", "water_vapour_g_cm2");
            let mut at = number(&e, &[("lwir11", "bt_k"), ("emissivity", "emissivity"), vapour]);
            at.extend(inputs(&planck(e.number("radiance"), e.number("bt_k"), 1321.0789)));
            e.check(value("lst_single_channel", &at));
        }
        // its three functions of the water vapour, as they stand in the formula
        let formula = find("lst_single_channel").unwrap().formula;
        let (_, from) = formula.split_once("(((").unwrap();
        let (first, from) = from.split_once(") * radiance(lwir11) + (").unwrap();
        let (second, from) = from.split_once(")) / emissivity + (").unwrap();
        let third = from.strip_suffix("))").unwrap();
        let e = worked::example("psi_functions_tirs10");
        let vapour = inputs(&[("water_vapour", e.number("water_vapour_g_cm2"))]);
        for (part, expected) in [first, second, third].iter().zip(e.expected_numbers()) {
            e.check_one(value(part, &vapour), expected);
        }
        for name in ["lst_split_window_crop", "lst_split_window_dry_soil"] {
            let e = worked::example(name);
            e.check(value(
                "lst_split_window",
                &number(
                    &e,
                    &[
                        ("lwir11", "t10_k"),
                        ("lwir12", "t11_k"),
                        ("emissivity_tirs10", "e10"),
                        ("emissivity_tirs11", "e11"),
                        ("water_vapour", "water_vapour_g_cm2"),
                    ],
                ),
            ));
        }
        let e = worked::example("lst_radiative_transfer");
        let names = ["transmittance", "upwelling", "downwelling", "emissivity", "k1", "k2"].map(|n| (n, n));
        let mut at = number(&e, &names);
        let kelvin = e.number("k2") / (e.number("k1") / e.number("radiance") + 1.0).ln();
        at.extend(inputs(&[("lwir11", kelvin)]));
        e.check(value("lst_radiative_transfer", &at));
    }

    #[test]
    fn worked_linear_transforms() {
        for sensor in ["oli", "tm"] {
            let e = worked::example(&format!("linear_transform_{sensor}"));
            let names = ["blue", "green", "red", "nir", "swir16", "swir22"];
            let at: Vec<(&str, f64)> = names.into_iter().zip(e.numbers("bands")).collect();
            for axis in ["brightness", "greenness", "wetness"] {
                e.check_one(value(&format!("{axis}_{sensor}"), &inputs(&at)), e.expected(axis));
            }
        }
    }

    #[test]
    fn worked_trouble() {
        let e = worked::example("index_zero_denominator");
        for ((nir, red), expected) in e.numbers("nir").iter().zip(e.numbers("red")).zip(e.expected_numbers()) {
            e.check_one(value("ndvi", &inputs(&[("nir", *nir), ("red", red)])), expected);
        }
        let e = worked::example("index_outside_unit_range");
        e.check(value("ndvi", &e.all_numbers()));
        let e = worked::example("offset_breaks_ratio");
        let of = |key: &str, offset: f64| (e.number(key) + offset) / e.number("quantification");
        let at = |offset: f64| inputs(&[("nir", of("nir_dn", offset)), ("red", of("red_dn", offset))]);
        e.check_one(value("ndvi", &at(e.number("offset"))), e.expected("right"));
        e.check_one(value("ndvi", &at(0.0)), e.expected("without_offset"));
    }

    #[test]
    fn bands_are_found_through_other_indices() {
        let names: Vec<&str> = find("lst").unwrap().bands().iter().map(|r| r.name()).collect();
        assert_eq!(names, ["red", "nir", "lwir11"]);
    }
}
