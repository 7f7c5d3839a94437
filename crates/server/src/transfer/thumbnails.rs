//! Small pictures for lists. Decoding happens in a process of its own that may use little: pictures
//! are what strangers made.

use crate::http::conditions::of_read;
use crate::http::problem::Refusal;
use crate::state::State;
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, web};
use std::fs::File;
use std::io::{Cursor, Read};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;
use tokio::io::AsyncReadExt;
use tokio::sync::Semaphore;
use yellow_attic_core::Moment;
use yellow_attic_core::conditions::ReadAnswer;
use yellow_attic_store::Row;
use yellow_attic_store::fs::disk::hex;

/// The word by which this program is its own helper.
pub const HELPER: &str = "--draw-thumbnail";
/// The longer side of a thumbnail, in pixels.
const SIDE: u32 = 320;
/// Larger files are not looked at.
const LARGEST: i64 = 256 << 20;
/// What a picture's name ends in.
const ENDINGS: [&str; 8] = [".png", ".jpg", ".jpeg", ".gif", ".webp", ".bmp", ".tif", ".tiff"];
/// The memory that the helper may use, and what it may allocate for one picture.
const MEMORY: u64 = 1 << 30;
const PICTURE: u64 = 512 << 20;
/// Pictures beyond this many pixels are refused from their header alone.
const PIXELS: u64 = 200_000_000;
/// One picture may take so long.
const PATIENCE: Duration = Duration::from_secs(20);

/// Makes and keeps thumbnails.
pub struct Thumbnails {
    /// Two pictures are drawn at a time; each helper runs at the lowest priority.
    drawing: Semaphore,
    folder: PathBuf,
    /// This program, which is its own helper.
    program: PathBuf,
}

impl Thumbnails {
    /// Kept in `cache/`, which may be deleted at any time.
    pub fn new(data: &Path) -> Thumbnails {
        Thumbnails {
            drawing: Semaphore::new(2),
            folder: data.join("cache/thumbnails"),
            program: std::env::current_exe().unwrap_or_default(),
        }
    }

    fn place(&self, hash: &[u8; 32]) -> PathBuf {
        let hash = hex(hash);
        self.folder.join(&hash[..2]).join(hash)
    }

    /// The thumbnail of a content: made if it is not there; none if it cannot be.
    async fn get(&self, state: &State, row: &Row) -> Result<Option<Vec<u8>>, Refusal> {
        let Some(content) = row.content else { return Ok(None) };
        if !is_picture(row.name()) || content.size > LARGEST || content.size == 0 {
            return Ok(None);
        }
        let place = self.place(&content.hash);
        // An empty file: it was tried, and cannot be.
        if let Ok(known) = tokio::fs::read(&place).await {
            return Ok((!known.is_empty()).then_some(known));
        }
        let _turn = self.drawing.acquire().await;
        if let Ok(known) = tokio::fs::read(&place).await {
            return Ok((!known.is_empty()).then_some(known));
        }
        let (file, got) = state.engine.open_bytes(row).await?;
        let drawn = self.draw(file).await;
        if let Err(reason) = &drawn {
            tracing::info!(node = row.node.0, %reason, "no thumbnail");
        }
        let bytes = drawn.unwrap_or_default();
        if got.content.is_some_and(|c| c.hash == content.hash) {
            keep(&place, &bytes).await;
        }
        Ok((!bytes.is_empty()).then_some(bytes))
    }

    /// A small picture of a picture that was sent: JPEG or PNG. Drawn by the helper, like all others.
    pub async fn draw_bytes(&self, bytes: &[u8]) -> Result<Vec<u8>, String> {
        use std::io::{Seek, Write};
        let _turn = self.drawing.acquire().await;
        let memory = rustix::fs::memfd_create("picture", rustix::fs::MemfdFlags::CLOEXEC);
        let mut file = File::from(memory.map_err(|e| e.to_string())?);
        file.write_all(bytes).and_then(|()| file.rewind()).map_err(|e| e.to_string())?;
        self.draw(file).await
    }

    async fn draw(&self, file: File) -> Result<Vec<u8>, String> {
        let mut helper = tokio::process::Command::new(&self.program)
            .arg(HELPER)
            .env_clear()
            .stdin(Stdio::from(file))
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .kill_on_drop(true)
            .spawn()
            .map_err(|e| e.to_string())?;
        let (mut out, mut said) = (Vec::new(), String::new());
        let (stdout, stderr) = (helper.stdout.take(), helper.stderr.take());
        let reading = async {
            if let (Some(stdout), Some(mut stderr)) = (stdout, stderr) {
                let _ = stdout.take(4 << 20).read_to_end(&mut out).await;
                let _ = stderr.read_to_string(&mut said).await;
            }
            helper.wait().await
        };
        match tokio::time::timeout(PATIENCE, reading).await {
            Err(_) => Err("it took too long".into()),
            Ok(Ok(status)) if status.success() && !out.is_empty() => Ok(out),
            Ok(Ok(status)) => Err(format!("{} ({status})", said.lines().last().unwrap_or("refused"))),
            Ok(Err(e)) => Err(e.to_string()),
        }
    }
}

async fn keep(place: &Path, bytes: &[u8]) {
    // The cache may be deleted under our feet: a thumbnail that cannot be kept is made again.
    let part = place.with_extension("part");
    if let Some(folder) = place.parent() {
        let _ = tokio::fs::create_dir_all(folder).await;
    }
    if tokio::fs::write(&part, bytes).await.is_ok() {
        let _ = tokio::fs::rename(&part, place).await;
    }
}

/// Whether a name is one of a picture that can be drawn.
fn is_picture(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    ENDINGS.iter().any(|ending| name.ends_with(ending))
}

/// Answers with a thumbnail.
pub async fn answer(request: &HttpRequest, state: &State, row: &Row) -> Result<HttpResponse, Refusal> {
    let none = || {
        Refusal::new(
            404,
            "no_thumbnail",
            "No thumbnail",
            "The file is no picture, or one that cannot be drawn.",
            "Download it to look at it.",
        )
    };
    let tag = row.etag().ok_or_else(none)?;
    if of_read(request).read(&row.standing()) == ReadAnswer::NotModified {
        return Ok(HttpResponse::NotModified().insert_header((header::ETAG, tag)).finish());
    }
    let bytes = state.thumbnails.get(state, row).await?.ok_or_else(none)?;
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

/// Draws what was put lately, before anybody asks for it.
pub async fn follow(state: web::Data<State>) {
    let mut head = state.engine.head();
    let mut upto = Moment(*head.borrow_and_update());
    while head.changed().await.is_ok() {
        tokio::time::sleep(Duration::from_millis(500)).await;
        let next = Moment(*head.borrow_and_update());
        for shelf in state.engine.shelves() {
            if !state.engine.touched_since(&shelf, upto) {
                continue;
            }
            let mut since = Some(upto);
            while let Some(from) = since {
                let Ok((found, next)) = state.engine.files_since(&shelf, from, &ENDINGS).await else { break };
                for row in found {
                    // A refusal here is met again by whoever asks.
                    let _ = state.thumbnails.get(&state, &row).await;
                }
                since = next;
            }
        }
        upto = next;
    }
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
