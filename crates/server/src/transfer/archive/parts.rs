//! The parts of an archive in either format: what comes before and after each file, and at the end.

use crate::state::archives::Format;
use yellow_attic_core::name::escaped;
use yellow_attic_core::{tar, zip};
use yellow_attic_store::timeline::tree::TreeItem;

/// How an archive of some items is laid out.
pub struct Layout {
    format: Format,
    length: u64,
}

fn entry(item: &TreeItem) -> zip::Entry<'_> {
    zip::Entry {
        path: escaped(&item.path),
        folder: item.folder,
        size: item.size,
        mtime: item.mtime,
        executable: item.executable,
    }
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
            Format::Tar => tar::padding(item.size),
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
            Format::Tar => tar::END.to_vec(),
        }
    }

    fn end_len(&self, entries: u64, at: u64, length: u64) -> u64 {
        match self.format {
            Format::Zip => zip::end_len(entries, at, length),
            Format::Tar => 1024,
        }
    }
}

fn tar_head(item: &TreeItem) -> Vec<u8> {
    let kind = match item.folder {
        true => tar::Entry::Folder,
        false => tar::Entry::file(item.executable),
    };
    tar::head(&item.path, kind, item.size, item.mtime, &format!("long-names/{}", item.node))
}
