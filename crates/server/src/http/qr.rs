//! Addresses as QR codes.

use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};

/// A QR code as SVG: dark on white in both themes, with the quiet zone that readers need.
pub fn qr(text: &str) -> Result<String, Refusal> {
    let code = qrcode::QrCode::new(text.as_bytes())
        .map_err(|_| refusals::TOO_LONG_FOR_A_CODE.of("The text is too long for a code."))?;
    Ok(code
        .render::<qrcode::render::svg::Color>()
        .min_dimensions(200, 200)
        .dark_color(qrcode::render::svg::Color("#201D18"))
        .light_color(qrcode::render::svg::Color("#FFFFFF"))
        .build())
}
