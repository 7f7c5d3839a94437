//! The parts of an archive in either format: what comes before and after each file, and at the end.

use yellow_attic_core::zip;
use yellow_attic_store::tree::TreeItem;

/// Which kind of archive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// ZIP, stored.
    Zip,
    /// POSIX tar with pax headers where they are needed.
    Tar,
}

impl Format {
    /// Reads the word for it.
    pub fn from_word(word: &str) -> Option<Format> {
        match word {
            "zip" => Some(Format::Zip),
            "tar" => Some(Format::Tar),
            _ => None,
        }
    }

    /// The word for it, which is the ending of its name too.
    pub fn word(self) -> &'static str {
        match self {
            Format::Zip => "zip",
            Format::Tar => "tar",
        }
    }

    /// Its media type.
    pub fn media_type(self) -> &'static str {
        match self {
            Format::Zip => "application/zip",
            Format::Tar => "application/x-tar",
        }
    }
}

/// How an archive of some items is laid out.
pub struct Layout {
    format: Format,
    length: u64,
}

fn entry(item: &TreeItem) -> zip::Entry<'_> {
    zip::Entry { path: &item.path, folder: item.folder, size: item.size, mtime: item.mtime }
}

impl Layout {
    /// Measures it.
    pub fn of(format: Format, items: &[TreeItem]) -> Layout {
        let mut layout = Layout { format, length: 0 };
        let mut files = 0;
        let mut directory = 0;
        for item in items {
            directory += layout.central_len(item, files);
            files += layout.head_len(item) + item.size + layout.tail_len(item);
        }
        layout.length = files + directory + layout.end_len(items.len() as u64, files, directory);
        layout
    }

    /// How long it is as a whole.
    pub fn length(&self) -> u64 {
        self.length
    }

    /// Whether it says the checksum of each file.
    pub fn needs_checksums(&self) -> bool {
        self.format == Format::Zip
    }

    pub fn head(&self, item: &TreeItem) -> Vec<u8> {
        match self.format {
            Format::Zip => zip::head(&entry(item)),
            Format::Tar => tar_head(item),
        }
    }

    pub fn head_len(&self, item: &TreeItem) -> u64 {
        match self.format {
            Format::Zip => zip::head_len(&entry(item)),
            Format::Tar => tar_head(item).len() as u64,
        }
    }

    pub fn tail(&self, item: &TreeItem, crc: u32) -> Vec<u8> {
        match self.format {
            Format::Zip => zip::tail(&entry(item), crc),
            Format::Tar => vec![0; self.tail_len(item) as usize],
        }
    }

    pub fn tail_len(&self, item: &TreeItem) -> u64 {
        match self.format {
            Format::Zip => zip::tail_len(&entry(item)),
            Format::Tar => item.size.next_multiple_of(512) - item.size,
        }
    }

    pub fn central(&self, item: &TreeItem, crc: u32, offset: u64) -> Vec<u8> {
        match self.format {
            Format::Zip => zip::central(&entry(item), crc, offset),
            Format::Tar => Vec::new(),
        }
    }

    pub fn central_len(&self, item: &TreeItem, offset: u64) -> u64 {
        match self.format {
            Format::Zip => zip::central_len(&entry(item), offset),
            Format::Tar => 0,
        }
    }

    pub fn end(&self, entries: u64, at: u64, length: u64) -> Vec<u8> {
        match self.format {
            Format::Zip => zip::end(entries, at, length),
            Format::Tar => vec![0; 1024],
        }
    }

    fn end_len(&self, entries: u64, at: u64, length: u64) -> u64 {
        match self.format {
            Format::Zip => zip::end_len(entries, at, length),
            Format::Tar => 1024,
        }
    }
}

/// The header of a file or folder. What the old fields cannot hold comes in a pax header before.
fn tar_head(item: &TreeItem) -> Vec<u8> {
    let path = if item.folder { format!("{}/", item.path) } else { item.path.to_string() };
    let mut header = tar::Header::new_ustar();
    let mut pax: Vec<(&str, String)> = Vec::new();
    if !path.is_ascii() || path.len() > 100 || header.set_path(&path).is_err() {
        pax.push(("path", path));
        // For readers that know no pax header: a name that cannot collide.
        let _ = header.set_path(format!("long-names/{}", item.node));
    }
    if item.mtime % 1000 != 0 || item.mtime < 0 {
        let sign = if item.mtime < 0 { "-" } else { "" };
        let ms = item.mtime.unsigned_abs();
        pax.push(("mtime", format!("{sign}{}.{:03}", ms / 1000, ms % 1000)));
    }
    if item.size >= 1 << 33 {
        pax.push(("size", item.size.to_string()));
    }
    header.set_size(if item.size < 1 << 33 { item.size } else { 0 });
    header.set_mtime(u64::try_from(item.mtime / 1000).unwrap_or(0).min((1 << 33) - 1));
    header.set_mode(if item.folder { 0o755 } else { 0o644 });
    header.set_entry_type(if item.folder { tar::EntryType::Directory } else { tar::EntryType::Regular });
    header.set_cksum();
    let mut out = Vec::with_capacity(512);
    if !pax.is_empty() {
        let mut builder = tar::Builder::new(Vec::new());
        let _ = builder.append_pax_extensions(pax.iter().map(|(k, v)| (*k, v.as_bytes())));
        // Only what was written so far: the end of the archive comes later.
        out.append(builder.get_mut());
    }
    out.extend_from_slice(header.as_bytes());
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Read;
    use yellow_attic_core::NodeId;

    fn item(path: &str, folder: bool, size: u64) -> TreeItem {
        TreeItem { path: path.into(), node: NodeId(7), folder, size, mtime: 1_793_636_431_250 }
    }

    #[test]
    fn both_formats_are_as_long_as_announced_and_read_back() {
        let long = format!("folder/{}/ü.txt", "x".repeat(150));
        let items = [
            item("folder", true, 0),
            item("folder/a.txt", false, 700),
            item(&long, false, 0),
            item("b", false, 512),
        ];
        for format in [Format::Zip, Format::Tar] {
            let layout = Layout::of(format, &items);
            let mut bytes = Vec::new();
            let mut central = Vec::new();
            for item in &items {
                let offset = bytes.len() as u64;
                let data = vec![b'x'; item.size as usize];
                let crc = crc32fast::hash(&data);
                bytes.extend(layout.head(item));
                bytes.extend(&data);
                bytes.extend(layout.tail(item, crc));
                central.extend(layout.central(item, crc, offset));
            }
            let at = bytes.len() as u64;
            bytes.extend(&central);
            bytes.extend(layout.end(items.len() as u64, at, central.len() as u64));
            assert_eq!(bytes.len() as u64, layout.length(), "{format:?}");
            if format == Format::Tar {
                let mut found = Vec::new();
                for entry in tar::Archive::new(&bytes[..]).entries().unwrap() {
                    let mut entry = entry.unwrap();
                    let mut data = Vec::new();
                    entry.read_to_end(&mut data).unwrap();
                    found.push((entry.path().unwrap().to_str().unwrap().to_string(), data.len() as u64));
                }
                let wanted: Vec<_> = items
                    .iter()
                    .map(|i| (format!("{}{}", i.path, if i.folder { "/" } else { "" }), i.size))
                    .collect();
                assert_eq!(found, wanted);
            }
        }
    }
}
