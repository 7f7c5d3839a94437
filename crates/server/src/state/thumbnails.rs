//! Small pictures, kept and drawn by a helper.

use crate::http::problem::Refusal;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;
use tokio::io::AsyncReadExt;
use tokio::sync::Semaphore;
use yellow_attic_core::thumbnail::is_picture;
use yellow_attic_store::fs::disk::hex;
use yellow_attic_store::{Engine, Row};

/// The word by which this program is its own helper.
pub const HELPER: &str = "--draw-thumbnail";

/// Larger files are not looked at.
pub const LARGEST: i64 = 256 << 20;

/// One picture may take so long.
pub const PATIENCE: Duration = Duration::from_secs(20);

/// Makes and keeps thumbnails.
pub struct Thumbnails {
    /// Two pictures are drawn at a time; each helper runs at the lowest priority.
    pub drawing: Semaphore,
    pub folder: PathBuf,
    /// This program, which is its own helper.
    pub program: PathBuf,
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

    pub fn place(&self, hash: &[u8; 32]) -> PathBuf {
        let hash = hex(hash);
        self.folder.join(&hash[..2]).join(hash)
    }

    /// The thumbnail of a content: made if it is not there; none if it cannot be.
    pub async fn get(&self, engine: &Engine, row: &Row) -> Result<Option<Vec<u8>>, Refusal> {
        let Some(content) = row.content else { return Ok(None) };
        if !is_picture(row.name().as_bytes()) || content.size > LARGEST || content.size == 0 {
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
        let (file, got) = engine.files().open_bytes(row).await?;
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

    pub async fn draw(&self, file: File) -> Result<Vec<u8>, String> {
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

pub async fn keep(place: &Path, bytes: &[u8]) {
    // The cache may be deleted under our feet: a thumbnail that cannot be kept is made again.
    let part = place.with_extension("part");
    if let Some(folder) = place.parent() {
        let _ = tokio::fs::create_dir_all(folder).await;
    }
    if tokio::fs::write(&part, bytes).await.is_ok() {
        let _ = tokio::fs::rename(&part, place).await;
    }
}
