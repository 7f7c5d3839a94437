//! Small pictures for file managers, where the freedesktop thumbnail standard looks for them: drawn by the service, so that
//! nobody fetches a picture only to make it small.

use super::inner::Inner;
use super::names::Entry;
use super::nodes::{PAST, Seen};
use crate::pairs::stubs::stub_of;
use fuser::FileType;
use image::imageops::FilterType;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant, UNIX_EPOCH};
use yellow_attic_core::mounted::stub::Stub;
use yellow_attic_core::thumbnail::{file_name, is_picture, uri_of};

/// The standard's folders, and how many pixels a side at most.
const SIZES: [(&str, u32); 2] = [("normal", 128), ("large", 256)];
/// Of one folder, so many are asked for at most.
const OF_ONE: usize = 500;
/// A person looks into no more folders in a minute; whoever does looks for something else.
const FOLDERS: usize = 30;
/// A folder is looked at again after so long.
const FRESH: Duration = Duration::from_secs(60);
/// So many are asked for at once.
const AT_ONCE: usize = 3;

/// Which folders were looked into lately.
pub(super) struct Thumbs {
    /// Where they belong, if anybody on this computer looks for any.
    place: Option<PathBuf>,
    /// Where it is mounted.
    top: PathBuf,
    looked: Mutex<HashMap<u64, Instant>>,
    turn: tokio::sync::Semaphore,
}

/// A picture that has none yet.
struct Missing {
    stub: Stub,
    uri: String,
    modified: u64,
}

impl Thumbs {
    pub(super) fn new(place: Option<PathBuf>, top: PathBuf) -> Thumbs {
        // Where no file manager ever made one nobody looks for any.
        let place = place.filter(|place| place.is_dir());
        Thumbs { place, top, looked: Mutex::default(), turn: tokio::sync::Semaphore::new(AT_ONCE) }
    }

    /// Something in a folder has changed.
    pub(super) fn changed(&self, folder: u64) {
        self.looked.lock().remove(&folder);
    }

    /// Whether a folder that somebody looks into is to be seen to.
    fn begins(&self, folder: u64) -> bool {
        let mut looked = self.looked.lock();
        looked.retain(|_, at| at.elapsed() < FRESH);
        let new = looked.len() < FOLDERS && !looked.contains_key(&folder);
        if new {
            looked.insert(folder, Instant::now());
        }
        new
    }
}

impl Inner {
    /// Somebody looks into a folder: what pictures it holds of which no bytes are here are drawn small.
    pub(super) fn is_looked_into(self: &Arc<Inner>, folder: u64) {
        let Some(place) = self.thumbs.place.clone().filter(|_| folder < PAST) else { return };
        if self.thumbs.begins(folder) {
            let inner = self.clone();
            self.runtime.spawn_blocking(move || {
                if let Ok(entries) = inner.list(folder) {
                    inner.draws(place, folder, &entries);
                }
            });
        }
    }

    fn draws(self: &Arc<Inner>, place: PathBuf, folder: u64, entries: &[Entry]) {
        let pictures = entries.iter().filter_map(|entry| {
            let seen = entry.seen.as_ref().filter(|seen| seen.attr.kind == FileType::RegularFile)?;
            is_picture(&entry.name).then_some((entry.name.as_slice(), seen))
        });
        let pictures = pictures.take(OF_ONE);
        let Ok(way) = self.nodes.way(folder) else { return };
        let mut path = self.thumbs.top.clone();
        path.extend(way.iter().map(|(_, name)| Path::new(std::ffi::OsStr::from_bytes(name))));
        let Ok(dir) = self.nodes.folder(folder) else { return };
        let missing: Vec<Missing> = pictures
            .filter_map(|(name, seen)| {
                let missing = self.missing(&path, &dir, name, seen)?;
                (!is_drawn(&place, &missing)).then_some(missing)
            })
            .collect();
        if missing.is_empty() {
            return;
        }
        let inner = self.clone();
        self.runtime.spawn(async move {
            for one in missing {
                let Ok(_turn) = inner.thumbs.turn.acquire().await else { return };
                // Whoever may not have it, or for which there is none, has the file manager's own.
                let at = one.stub.moment.token();
                let drawn = inner.client.thumbnail(one.stub.node.0, Some(&at)).await;
                let Ok(bytes) = drawn else { continue };
                let place = place.clone();
                let _ = tokio::task::spawn_blocking(move || draw(&place, &one, &bytes)).await;
            }
        });
    }

    fn missing(&self, path: &Path, dir: &std::os::fd::OwnedFd, name: &[u8], seen: &Seen) -> Option<Missing> {
        use rustix::fs::{Mode, OFlags};
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = rustix::fs::openat(dir, name, flags, Mode::empty()).ok()?;
        let stub = stub_of(file)?;
        let uri = uri_of(path.join(std::ffi::OsStr::from_bytes(name)).as_os_str().as_bytes());
        let modified = seen.attr.mtime.duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
        Some(Missing { stub, uri, modified })
    }
}

/// Whether there is one for this very state.
fn is_drawn(place: &Path, one: &Missing) -> bool {
    SIZES.iter().all(|(size, _)| {
        let file = File::open(place.join(size).join(file_name(&one.uri)));
        let Ok(reader) = file.and_then(|file| {
            png::Decoder::new(io::BufReader::new(file)).read_info().map_err(io::Error::other)
        }) else {
            return false;
        };
        let texts = &reader.info().uncompressed_latin1_text;
        texts.iter().any(|text| text.keyword == "Thumb::MTime" && text.text == one.modified.to_string())
    })
}

/// Draws it in every size, each whole or not at all.
fn draw(place: &Path, one: &Missing, bytes: &[u8]) -> io::Result<()> {
    let picture = image::load_from_memory(bytes).map_err(io::Error::other)?;
    for (size, side) in SIZES {
        let folder = place.join(size);
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder)?;
        let small = match picture.width().max(picture.height()) > side {
            true => picture.resize(side, side, FilterType::Triangle),
            false => picture.clone(),
        };
        let small = small.to_rgba8();
        let name = file_name(&one.uri);
        let new = folder.join(format!(".yattic-{}-{name}", std::process::id()));
        let file = File::options().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
        let mut out = BufWriter::new(file);
        write_png(&mut out, &small, one).and_then(|()| out.flush())?;
        std::fs::rename(&new, folder.join(name))?;
    }
    Ok(())
}

fn write_png(out: &mut impl Write, small: &image::RgbaImage, one: &Missing) -> io::Result<()> {
    let mut encoder = png::Encoder::new(out, small.width(), small.height());
    encoder.set_color(png::ColorType::Rgba);
    encoder.set_depth(png::BitDepth::Eight);
    for (keyword, text) in [
        ("Thumb::URI", one.uri.clone()),
        ("Thumb::MTime", one.modified.to_string()),
        ("Thumb::Size", one.stub.size.to_string()),
        ("Software", "yattic".into()),
    ] {
        encoder.add_text_chunk(keyword.into(), text).map_err(io::Error::other)?;
    }
    let mut writer = encoder.write_header().map_err(io::Error::other)?;
    writer.write_image_data(small).map_err(io::Error::other)?;
    writer.finish().map_err(io::Error::other)
}
