//! Colour ramps, one row each: from the low end to the high, blended in a perceptual space.

use telechroma_core::error::Error;

/// A colour of the screen, 8 bits a channel.
pub type Colour = [u8; 3];

/// A named ramp.
#[derive(Debug, PartialEq, Eq)]
pub struct Ramp {
    /// The name it is asked for by.
    pub id: &'static str,
    /// What it is made for.
    pub doc: &'static str,
    /// Colours at equal steps from the low end to the high, as 0xRRGGBB.
    anchors: &'static [u32],
}

/// Rows sorted by id.
pub const RAMPS: &[Ramp] = &[
    Ramp {
        id: "burn",
        doc: "charred to green, for burn ratios",
        anchors: &[0x2E1A26, 0x7E3331, 0xC77F51, 0xEBDBB0, 0xA3C08A, 0x4A8A66, 0x1C4A44],
    },
    Ramp {
        id: "change",
        doc: "loss, little, gain, for differences",
        anchors: &[0x7A2E4E, 0xC98A9B, 0xF1EFEA, 0x86B3A2, 0x1F5F4F],
    },
    Ramp { id: "grey", doc: "dark to light", anchors: &[0x14161A, 0xF4F4F2] },
    Ramp {
        id: "heat",
        doc: "cool to hot, for temperatures",
        anchors: &[0x20204C, 0x51408F, 0xA5477F, 0xDC6C4E, 0xF2AC4F, 0xFCF2B8],
    },
    Ramp {
        id: "plants",
        doc: "bare to green, for vegetation",
        anchors: &[0xF4EBD8, 0xDDCB94, 0xA3BC68, 0x559455, 0x1F5E49, 0x0C3136],
    },
    Ramp {
        id: "severity",
        doc: "regrowth to severe, for burns",
        anchors: &[0x2C6E49, 0xDAD7CD, 0xE9C46A, 0xB8433F, 0x3D1020],
    },
    Ramp {
        id: "slate",
        doc: "light to dark, for anything",
        anchors: &[0xF3F1EC, 0xC4CBD1, 0x8C9FB4, 0x557092, 0x2A406A, 0x131E3E],
    },
    Ramp { id: "soil", doc: "covered to bare, for soil", anchors: &[0xF2EFE4, 0xE3CB9F, 0xC59C65, 0x90663A, 0x553820] },
    Ramp {
        id: "warming",
        doc: "cooler, alike, warmer, for differences of temperature",
        anchors: &[0x2B4A8B, 0x8FA9D1, 0xF1EFEA, 0xDFA08A, 0x9C3B2E],
    },
    Ramp {
        id: "water",
        doc: "dry to wet, for water and moisture",
        anchors: &[0xF0E5D2, 0xC8D2C3, 0x8ABABF, 0x4A90AF, 0x265C8E, 0x15295D],
    },
];

/// Oklab (Ottosson 2020): lightness and two axes of colour.
type Lab = [f64; 3];

fn lab(hex: u32) -> Lab {
    let linear = |shift: u32| {
        let c = f64::from(hex >> shift & 0xFF) / 255.0;
        if c <= 0.040_45 { c / 12.92 } else { ((c + 0.055) / 1.055).powf(2.4) }
    };
    let (r, g, b) = (linear(16), linear(8), linear(0));
    let l = (0.412_221_470_8 * r + 0.536_332_536_3 * g + 0.051_445_992_9 * b).cbrt();
    let m = (0.211_903_498_2 * r + 0.680_699_545_1 * g + 0.107_396_956_6 * b).cbrt();
    let s = (0.088_302_461_9 * r + 0.281_718_837_6 * g + 0.629_978_700_5 * b).cbrt();
    [
        0.210_454_255_3 * l + 0.793_617_785_0 * m - 0.004_072_046_8 * s,
        1.977_998_495_1 * l - 2.428_592_205_0 * m + 0.450_593_709_9 * s,
        0.025_904_037_1 * l + 0.782_771_766_2 * m - 0.808_675_766_0 * s,
    ]
}

fn colour([l, a, b]: Lab) -> Colour {
    let cube = |x: f64| x * x * x;
    let (l, m, s) = (
        cube(l + 0.396_337_777_4 * a + 0.215_803_757_3 * b),
        cube(l - 0.105_561_345_8 * a - 0.063_854_172_8 * b),
        cube(l - 0.089_484_177_5 * a - 1.291_485_548_0 * b),
    );
    let channel = |c: f64| {
        let c = if c <= 0.003_130_8 { 12.92 * c } else { 1.055 * c.powf(1.0 / 2.4) - 0.055 };
        (c.clamp(0.0, 1.0) * 255.0).round() as u8
    };
    [
        channel(4.076_741_662_1 * l - 3.307_711_591_3 * m + 0.230_969_929_2 * s),
        channel(-1.268_438_004_6 * l + 2.609_757_401_1 * m - 0.341_319_396_5 * s),
        channel(-0.004_196_086_3 * l - 0.703_418_614_7 * m + 1.707_614_701_0 * s),
    ]
}

impl Ramp {
    /// The ramp of a name.
    ///
    /// # Errors
    /// [`Error::UnknownName`] with the nearest name.
    pub fn find(id: &str) -> Result<&'static Ramp, Error> {
        RAMPS.iter().find(|r| r.id == id).ok_or_else(|| Error::unknown("colour ramp", id, RAMPS.iter().map(|r| r.id)))
    }

    /// The colour at a share of the way, 0 to 1; beyond the ends, the ends' colours.
    pub fn at(&self, share: f64) -> Colour {
        let last = self.anchors.len() - 1;
        let at = share.clamp(0.0, 1.0) * last as f64;
        let first = (at as usize).min(last - 1);
        let (a, b, t) = (lab(self.anchors[first]), lab(self.anchors[first + 1]), at - first as f64);
        colour(std::array::from_fn(|i| a[i] + t * (b[i] - a[i])))
    }

    /// 256 colours from end to end.
    pub fn table(&self) -> Vec<Colour> {
        (0..256).map(|i| self.at(f64::from(i) / 255.0)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_sorted_and_anchors_come_back_as_they_are() {
        assert!(RAMPS.is_sorted_by_key(|r| r.id));
        for r in RAMPS {
            for (i, hex) in r.anchors.iter().enumerate() {
                let got = r.at(i as f64 / (r.anchors.len() - 1) as f64);
                let want = [(hex >> 16) as u8, (hex >> 8) as u8, *hex as u8];
                assert!(got.iter().zip(want).all(|(a, b)| a.abs_diff(b) <= 1), "{}: {got:?} {want:?}", r.id);
            }
        }
    }

    #[test]
    fn sequential_ramps_change_lightness_in_one_direction() {
        for id in ["grey", "heat", "plants", "slate", "soil", "water"] {
            let light: Vec<f64> = Ramp::find(id).unwrap().anchors.iter().map(|h| lab(*h)[0]).collect();
            assert!(light.is_sorted() || light.is_sorted_by(|a, b| a >= b), "{id}: {light:?}");
        }
    }

    #[test]
    fn every_index_names_a_ramp_that_exists() {
        for d in telechroma_core::index::INDICES.iter() {
            assert!(Ramp::find(d.ramp).is_ok(), "{}", d.id);
        }
    }
}
