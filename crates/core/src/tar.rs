//! The header of a file or folder in a tar stream (POSIX.1-2001, pax).

use ::tar::{Builder, EntryType, Header};

/// The old fields hold sizes and times below this.
const MOST: u64 = 1 << 33;

/// What an entry is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Entry {
    /// A folder.
    Folder,
    /// A file.
    File,
    /// A file that is a program.
    Program,
}

impl Entry {
    /// A file, or a program.
    pub fn file(executable: bool) -> Entry {
        if executable { Entry::Program } else { Entry::File }
    }
}

/// The blocks before the bytes of an entry. What the old fields cannot hold comes in a pax header
/// first: names that are long or not ASCII, times to the millisecond, sizes from 8 GiB on.
/// `stand_in`: a name for readers that know no pax header; it must not collide.
pub fn head(path: &str, kind: Entry, size: u64, mtime_ms: i64, stand_in: &str) -> Vec<u8> {
    stated_head(path, kind, size, mtime_ms, stand_in, &[])
}

/// The same, with what a program that keeps a tree in step says of an entry, in pax headers of our own (`YATTIC.…`).
pub fn stated_head(
    path: &str,
    kind: Entry,
    size: u64,
    mtime_ms: i64,
    stand_in: &str,
    stated: &[(&str, &str)],
) -> Vec<u8> {
    let folder = kind == Entry::Folder;
    let path = if folder { format!("{path}/") } else { path.to_string() };
    let mut header = Header::new_ustar();
    let stated: Vec<(String, String)> =
        stated.iter().map(|(word, text)| (format!("YATTIC.{word}"), (*text).to_string())).collect();
    let mut pax: Vec<(&str, String)> =
        stated.iter().map(|(key, text)| (key.as_str(), text.clone())).collect();
    // A dot at the beginning would be taken away by the library.
    let plain = path.is_ascii() && path.len() <= 100 && !path.starts_with('.') && !path.contains("/.");
    if !plain || header.set_path(&path).is_err() {
        pax.push(("path", path));
        let _ = header.set_path(stand_in);
    }
    if mtime_ms % 1000 != 0 || mtime_ms < 0 {
        let sign = if mtime_ms < 0 { "-" } else { "" };
        let ms = mtime_ms.unsigned_abs();
        pax.push(("mtime", format!("{sign}{}.{:03}", ms / 1000, ms % 1000)));
    }
    if size >= MOST {
        pax.push(("size", size.to_string()));
    }
    header.set_size(if size < MOST { size } else { 0 });
    header.set_mtime(u64::try_from(mtime_ms / 1000).unwrap_or(0).min(MOST - 1));
    header.set_mode(if kind == Entry::File { 0o644 } else { 0o755 });
    header.set_entry_type(if folder { EntryType::Directory } else { EntryType::Regular });
    header.set_cksum();
    let mut out = Vec::with_capacity(512);
    if !pax.is_empty() {
        let mut builder = Builder::new(Vec::new());
        let _ = builder.append_pax_extensions(pax.iter().map(|(k, v)| (*k, v.as_bytes())));
        // Only what was written so far: the end of the stream comes later.
        out.append(builder.get_mut());
    }
    out.extend_from_slice(header.as_bytes());
    out
}

/// The zeros after a file of this size.
pub fn padding(size: u64) -> u64 {
    size.next_multiple_of(512) - size
}

/// The end of a stream.
pub const END: [u8; 1024] = [0; 1024];

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Read;

    proptest! {
        #[test]
        fn any_entry_is_read_back_as_it_was(
            path in "[a-zé0-9 ._-]{1,60}(/[a-zß.]{1,90}){0,3}", folder: bool, program: bool, size in 0u64..3000, mtime in -10_000i64..4_000_000_000_000
        ) {
            let size = if folder { 0 } else { size };
            let kind = if folder { Entry::Folder } else { Entry::file(program) };
            let mut bytes = head(&path, kind, size, mtime, "stand-in/7");
            bytes.extend(vec![7; size as usize]);
            bytes.extend(vec![0; padding(size) as usize]);
            bytes.extend(END);
            let mut archive = ::tar::Archive::new(&bytes[..]);
            let mut entries = archive.entries().unwrap();
            let mut entry = entries.next().unwrap().unwrap();
            let wanted = if folder { format!("{path}/") } else { path.clone() };
            prop_assert_eq!(String::from_utf8(entry.path_bytes().into_owned()).unwrap(), wanted);
            let said = entry.pax_extensions().unwrap().and_then(|all| {
                all.flatten().find(|e| e.key() == Ok("mtime")).map(|e| e.value().unwrap().to_string())
            });
            let ms = match said {
                Some(seconds) => (seconds.parse::<f64>().unwrap() * 1000.0).round() as i64,
                None => entry.header().mtime().unwrap() as i64 * 1000,
            };
            prop_assert_eq!(ms, mtime);
            prop_assert_eq!(entry.header().mode().unwrap() & 0o100 != 0, folder || program);
            let mut data = Vec::new();
            entry.read_to_end(&mut data).unwrap();
            prop_assert_eq!(data.len() as u64, size);
            drop(entry);
            prop_assert!(entries.next().is_none());
        }
    }
}
