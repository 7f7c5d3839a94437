//! Addresses as QR codes.

use crate::http::problem::Refusal;

/// A QR code as SVG: dark on white in both themes, with the quiet zone that readers need.
pub fn qr(text: &str) -> Result<String, Refusal> {
    let code = qrcode::QrCode::new(text.as_bytes()).map_err(|_| {
        Refusal::bad("too_long_for_a_code", "The text is too long for a code.", "Copy it instead.")
    })?;
    Ok(code
        .render::<qrcode::render::svg::Color>()
        .min_dimensions(200, 200)
        .dark_color(qrcode::render::svg::Color("#201D18"))
        .light_color(qrcode::render::svg::Color("#FFFFFF"))
        .build())
}
