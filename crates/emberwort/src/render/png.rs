//! PNG pictures of figures, with fonts that come with the program. Only there with the feature `pictures`.

use std::sync::Arc;

use anyhow::Context;
use emberwort_codegen::MARK;
use emberwort_model::algorithm::Algorithm;
use emberwort_wire::checksum::Checksum;
use resvg::{tiny_skia, usvg};

/// A PNG of an SVG, with fonts that come with the program.
pub fn png(svg: &str) -> anyhow::Result<Vec<u8>> {
    let mut options = usvg::Options::default();
    let mut fonts = usvg::fontdb::Database::new();
    fonts.load_font_data(epaint_default_fonts::UBUNTU_LIGHT.to_vec());
    fonts.load_font_data(epaint_default_fonts::HACK_REGULAR.to_vec());
    let family = fonts.faces().next().and_then(|face| face.families.first()).map(|(name, _)| name.clone());
    options.font_family = family.unwrap_or_default();
    fonts.set_sans_serif_family(options.font_family.clone());
    options.fontdb = Arc::new(fonts);
    let tree = usvg::Tree::from_str(svg, &options).context("the figure cannot be drawn")?;
    let size = tree.size().to_int_size();
    let mut pixels =
        tiny_skia::Pixmap::new(size.width(), size.height()).context("the figure is too large for a picture")?;
    resvg::render(&tree, tiny_skia::Transform::default(), &mut pixels.as_mut());
    Ok(marked(&pixels.encode_png().context("the picture cannot be written")?))
}

/// A PNG with a textual chunk behind its header (PNG specification, third edition, 11.3.3.2) that says who made it.
fn marked(png: &[u8]) -> Vec<u8> {
    /// The signature of 8 bytes, and the header's chunk of 13 bytes with 12 around them.
    const HEADER: usize = 8 + 25;
    let chunk = [&b"tEXtComment\0"[..], MARK.as_bytes()].concat();
    let Some(crc) = Algorithm::named("crc-32/iso-hdlc").map(|crc| Checksum::new(&crc).compute(&chunk)) else {
        return png.to_vec();
    };
    let length = (chunk.len() as u32 - 4).to_be_bytes();
    [&png[..HEADER], &length, &chunk, &(crc as u32).to_be_bytes(), &png[HEADER..]].concat()
}
