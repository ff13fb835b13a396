//! JPEG 2000 images for made-up deliveries, lossless, by an encoder that shares nothing with the decoder under test.
#![allow(unsafe_code)] // the encoder's interface is that of a C library; see the note at the one block

use std::ffi::CString;
use std::path::Path;

use openjp2::image::{opj_image_cmptparm_t, opj_image_create, opj_image_destroy};
use openjp2::openjpeg::*;

/// An image of one component, in code tiles of `tile` columns and rows.
///
/// # Panics
/// Where the encoder refuses, or no scratch file can be written.
pub fn encode(cols: usize, rows: usize, bits: u32, samples: &[u16], tile: usize) -> Vec<u8> {
    assert_eq!(samples.len(), cols * rows, "samples of every cell");
    let dir = tempfile::tempdir().unwrap_or_else(|e| panic!("scratch folder: {e}"));
    let path = dir.path().join("image.jp2");
    write(&path, cols as u32, rows as u32, bits, samples, tile as i32);
    std::fs::read(&path).unwrap_or_else(|e| panic!("{}: {e}", path.display()))
}

fn write(path: &Path, cols: u32, rows: u32, bits: u32, samples: &[u16], tile: i32) {
    let name = CString::new(path.to_string_lossy().as_bytes()).unwrap_or_else(|e| panic!("{e}"));
    let mut component =
        opj_image_cmptparm_t { dx: 1, dy: 1, w: cols, h: rows, x0: 0, y0: 0, prec: bits, bpp: bits, sgnd: 0 };
    let image = opj_image_create(1, &mut component, OPJ_CLRSPC_GRAY);
    assert!(!image.is_null(), "the encoder makes an image");
    // SAFETY: `image` was just made with one component of cols x rows samples, and `samples` has as many; every pointer
    // passed on comes from the library itself, is checked, and is given back once.
    unsafe {
        ((*image).x1, (*image).y1) = (cols, rows);
        let data = std::slice::from_raw_parts_mut((*(*image).comps).data, samples.len());
        data.iter_mut().zip(samples).for_each(|(o, s)| *o = i32::from(*s));
        let mut settings: opj_cparameters_t = std::mem::zeroed();
        opj_set_default_encoder_parameters(&mut settings);
        settings.tcp_numlayers = 1;
        settings.tcp_rates[0] = 0.0; // lossless
        settings.cp_disto_alloc = 1;
        settings.numresolution = 4;
        settings.tile_size_on = 1;
        (settings.cp_tdx, settings.cp_tdy) = (tile, tile);
        let codec = opj_create_compress(OPJ_CODEC_JP2);
        assert!(!codec.is_null(), "the encoder starts");
        assert_eq!(opj_setup_encoder(codec, &mut settings, image), 1, "the encoder takes the settings");
        let stream = opj_stream_create_default_file_stream(name.as_ptr(), 0);
        assert!(!stream.is_null(), "the encoder opens {}", path.display());
        let done = opj_start_compress(codec, image, stream) == 1
            && opj_encode(codec, stream) == 1
            && opj_end_compress(codec, stream) == 1;
        opj_stream_destroy(stream);
        opj_destroy_codec(codec);
        opj_image_destroy(image);
        assert!(done, "the encoder writes the image");
    }
}
