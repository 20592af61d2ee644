//! SVG made into PDF, its text kept as text. Two fonts come with the program, so that it works on a machine
//! without any; characters that they lack are taken from the fonts of the system.

use std::sync::{Arc, OnceLock};

use svg2pdf::usvg;

/// Why a PDF could not be made.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("The drawing could not be made into a PDF: {0}.")]
pub struct PdfError(String);

fn fonts() -> Arc<usvg::fontdb::Database> {
    static FONTS: OnceLock<Arc<usvg::fontdb::Database>> = OnceLock::new();
    Arc::clone(FONTS.get_or_init(|| {
        let mut fonts = usvg::fontdb::Database::new();
        fonts.load_system_fonts();
        fonts.load_font_data(epaint_default_fonts::HACK_REGULAR.to_vec());
        fonts.load_font_data(epaint_default_fonts::NOTO_EMOJI_REGULAR.to_vec());
        fonts.set_monospace_family("Hack");
        fonts.set_sans_serif_family("Hack");
        fonts.set_serif_family("Hack");
        Arc::new(fonts)
    }))
}

/// The PDF of an SVG document: one page of its size.
///
/// # Errors
/// If the document is no SVG, or a font cannot be embedded.
pub fn of_svg(svg: &str) -> Result<Vec<u8>, PdfError> {
    let options = usvg::Options {
        fontdb: fonts(),
        font_family: "Hack".into(),
        ..usvg::Options::default()
    };
    let failed = |words: String| PdfError(words);
    let tree = usvg::Tree::from_str(svg, &options).map_err(|error| failed(error.to_string()))?;
    svg2pdf::to_pdf(
        &tree,
        svg2pdf::ConversionOptions::default(),
        svg2pdf::PageOptions::default(),
    )
    .map_err(|error| failed(error.to_string()))
}
