//! Small pictures for lists. Decoding happens in a process of its own that may use little: pictures
//! are what strangers made.

use crate::http::conditions::of_read;
use crate::http::problem::Refusal;
use crate::http::refusals::{self, Say};
use crate::state::State;
use crate::state::thumbnails::{LARGEST, PATIENCE};
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse};
use std::io::{Cursor, Read};
use yellow_attic_core::conditions::ReadAnswer;
use yellow_attic_store::Row;

/// The longer side of a thumbnail, in pixels.
const SIDE: u32 = 320;
/// The memory that the helper may use, and what it may allocate for one picture.
const MEMORY: u64 = 1 << 30;
const PICTURE: u64 = 512 << 20;
/// Pictures beyond this many pixels are refused from their header alone.
const PIXELS: u64 = 200_000_000;

/// Answers with a thumbnail.
pub async fn answer(request: &HttpRequest, state: &State, row: &Row) -> Result<HttpResponse, Refusal> {
    let none = || refusals::NO_THUMBNAIL.of("The file is no picture, or one that cannot be drawn.");
    let tag = row.etag().ok_or_else(none)?;
    if of_read(request).read(&row.standing()) == ReadAnswer::NotModified {
        return Ok(HttpResponse::NotModified().insert_header((header::ETAG, tag)).finish());
    }
    let bytes = state.thumbnails.get(&state.engine, row).await?.ok_or_else(none)?;
    let kind = if bytes.starts_with(b"\x89PNG") { "image/png" } else { "image/jpeg" };
    // An address that names the state never shows another one.
    let lasting = request.query_string().contains("of=");
    Ok(HttpResponse::Ok()
        .insert_header((header::ETAG, tag))
        .insert_header((header::CONTENT_TYPE, kind))
        .insert_header((header::CONTENT_SECURITY_POLICY, "sandbox; default-src 'none'"))
        .insert_header((
            header::CACHE_CONTROL,
            if lasting { "private, max-age=2592000, immutable" } else { "private, no-cache" },
        ))
        .body(bytes))
}

/// The helper: a picture from standard input, its thumbnail to standard output. It gives up
/// what it does not need before it reads the first byte.
pub fn draw() -> Result<(), Box<dyn std::error::Error>> {
    use rustix::process::{Resource, Rlimit, setrlimit};
    let limit = |what, most: u64| setrlimit(what, Rlimit { current: Some(most), maximum: Some(most) });
    limit(Resource::As, MEMORY)?;
    limit(Resource::Cpu, PATIENCE.as_secs())?;
    limit(Resource::Fsize, 0)?;
    limit(Resource::Nofile, 8)?;
    limit(Resource::Core, 0)?;
    rustix::thread::set_no_new_privs(true)?;
    let _ = rustix::process::nice(19);
    let mut bytes = Vec::new();
    std::io::stdin().take(LARGEST as u64 + 1).read_to_end(&mut bytes)?;
    let out = shrink(&bytes)?;
    std::io::Write::write_all(&mut std::io::stdout(), &out)?;
    Ok(())
}

fn shrink(bytes: &[u8]) -> Result<Vec<u8>, Box<dyn std::error::Error>> {
    use image::{DynamicImage, ImageDecoder, ImageFormat, ImageReader, Limits};
    // By what the bytes are, not by what the name says.
    let mut reader = ImageReader::new(Cursor::new(bytes)).with_guessed_format()?;
    let mut limits = Limits::default();
    limits.max_alloc = Some(PICTURE);
    reader.limits(limits);
    let mut decoder = reader.into_decoder()?;
    let (width, height) = decoder.dimensions();
    if u64::from(width) * u64::from(height) > PIXELS {
        return Err(format!("{width} x {height} pixels are too many").into());
    }
    let orientation = decoder.orientation()?;
    let mut picture = DynamicImage::from_decoder(decoder)?;
    if width > SIDE || height > SIDE {
        picture = picture.thumbnail(SIDE, SIDE);
    }
    picture.apply_orientation(orientation);
    let mut out = Cursor::new(Vec::new());
    if picture.color().has_alpha() {
        DynamicImage::from(picture.to_rgba8()).write_to(&mut out, ImageFormat::Png)?;
    } else {
        let encoder = image::codecs::jpeg::JpegEncoder::new_with_quality(&mut out, 82);
        picture.to_rgb8().write_with_encoder(encoder)?;
    }
    Ok(out.into_inner())
}
