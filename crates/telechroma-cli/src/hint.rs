//! What to do about a failure: the only place that names options in messages.

use std::io::ErrorKind;

use telechroma_core::Error as Core;
use telechroma_io::Error as Io;

/// A hint for a failure of the core.
pub fn of_core(e: &Core) -> Option<String> {
    Some(match e {
        Core::OverBudget { .. } => "give more with --memory, or fewer --threads".into(),
        Core::NightScene { .. } => {
            "leave the scene out, or use its thermal bands alone: --to radiance works at night".into()
        }
        Core::NotGiven { name, .. } if name == "water_vapour" => "give --water-vapour 2.0, say, from a forecast or a sonde".into(),
        Core::NotGiven { .. } => "give --air TRANSMITTANCE,UP,DOWN".into(),
        Core::GridMismatch { .. } => {
            "name the grid of the results with --grid, such as --grid 30m: all are then brought to it".into()
        }
        Core::MissingCalibration { .. } => "get the delivery again: its metadata file is incomplete".into(),
        Core::Coordinates(text) if text.contains("no coordinate system") => {
            "declare one: a file RASTER.toml beside the raster may hold crs = \"EPSG:…\" ('telechroma declare' for rasters without header)".into()
        }
        Core::UnknownName { kind: "index", .. } => {
            "'telechroma indices list' shows all; an own formula goes to --formula 'name = …'".into()
        }
        Core::Unmasked { .. } => {
            "look for clouds in the cells with --find clouds,shadows; or add mask rasters to the inputs, or use every cell with --unmasked".into()
        }
        _ => return None,
    })
}

/// A hint for a failure with files.
pub fn of_io(e: &Io) -> Option<String> {
    Some(match e {
        Io::Usage { what, .. } if what.contains("exists already") => {
            "give --overwrite to replace it, or another --out".into()
        }
        Io::Usage { what, .. }
            if what.contains("coordinate system is not known") || what.contains("not in which system") =>
        {
            "name it with --plots-crs EPSG:…".into()
        }
        Io::Usage { what, .. } if what.contains("points' coordinates is not clear") => {
            "name the two columns with --plots-xy X,Y".into()
        }
        Io::Usage { what, .. } if what.contains("id is not clear") || what.contains("have no attribute") => {
            "name the attribute with --id".into()
        }
        Io::Malformed { what, .. } if what.contains("ids must be unique") => {
            "choose another attribute with --id, or mend the file".into()
        }
        Io::Malformed { what, .. } if what.contains("cut off") || what.contains("damaged") => {
            "copy or download the file again".into()
        }
        Io::Io { cause, .. } => match cause.kind() {
            ErrorKind::StorageFull => "free some space, or choose another --out".into(),
            ErrorKind::PermissionDenied => "choose an --out that you may write to".into(),
            ErrorKind::QuotaExceeded => "your disk quota is used up: choose another --out".into(),
            _ => return None,
        },
        _ => return None,
    })
}
