//! The parts of a ZIP archive (APPNOTE 6.3.10) whose files are stored as they are, so that its
//! length is known before a byte is read and any range of it can be made again.
//!
//! Each file: local header, bytes, data descriptor (the checksum is known only after the bytes).
//! At the end: the central directory. Sizes and offsets beyond 32 bits use zip64 fields. Names
//! are UTF-8 (flag 11); times are kept to the second in the extended timestamp field 0x5455.

use std::borrow::Cow;

/// What an archive says of a file or folder.
#[derive(Clone, Debug)]
pub struct Entry<'a> {
    /// With slashes, without one at the beginning or end.
    pub path: Cow<'a, str>,
    /// Whether it is a folder: then it has no bytes.
    pub folder: bool,
    /// In bytes.
    pub size: u64,
    /// In milliseconds since 1970.
    pub mtime: i64,
    /// Whether it is a program.
    pub executable: bool,
}

const FLAGS: u16 = 1 << 3 | 1 << 11;
const MOST_32: u64 = 0xffff_ffff;

impl Entry<'_> {
    fn is_large(&self) -> bool {
        self.size >= MOST_32
    }

    fn version(&self) -> u16 {
        if self.is_large() { 45 } else { 20 }
    }

    fn flags(&self) -> u16 {
        if self.folder { 1 << 11 } else { FLAGS }
    }

    fn name_len(&self) -> usize {
        self.path.len() + usize::from(self.folder)
    }

    fn put_name(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(self.path.as_bytes());
        if self.folder {
            out.push(b'/');
        }
    }

    fn put_time(&self, out: &mut Vec<u8>) {
        let (time, date) = dos_time(self.mtime);
        put16(out, time);
        put16(out, date);
    }

    /// Extended timestamp: the time of modification, in seconds.
    fn put_extra_time(&self, out: &mut Vec<u8>) {
        put16(out, 0x5455);
        put16(out, 5);
        out.push(1);
        let seconds = self.mtime.div_euclid(1000).clamp(i64::from(i32::MIN), i64::from(i32::MAX)) as i32;
        out.extend_from_slice(&seconds.to_le_bytes());
    }
}

/// The local header, before the bytes.
pub fn head(entry: &Entry<'_>) -> Vec<u8> {
    let mut out = Vec::with_capacity(head_len(entry) as usize);
    put32(&mut out, 0x0403_4b50);
    put16(&mut out, entry.version());
    put16(&mut out, entry.flags());
    put16(&mut out, 0);
    entry.put_time(&mut out);
    put32(&mut out, 0);
    let size = if entry.is_large() { MOST_32 as u32 } else { 0 };
    put32(&mut out, size);
    put32(&mut out, size);
    put16(&mut out, entry.name_len() as u16);
    put16(&mut out, if entry.is_large() { 9 + 20 } else { 9 });
    entry.put_name(&mut out);
    entry.put_extra_time(&mut out);
    if entry.is_large() {
        put16(&mut out, 1);
        put16(&mut out, 16);
        put64(&mut out, 0);
        put64(&mut out, 0);
    }
    out
}

/// How long [`head`] is.
pub fn head_len(entry: &Entry<'_>) -> u64 {
    30 + entry.name_len() as u64 + 9 + if entry.is_large() { 20 } else { 0 }
}

/// The data descriptor, after the bytes of a file.
pub fn tail(entry: &Entry<'_>, crc: u32) -> Vec<u8> {
    let mut out = Vec::new();
    if entry.folder {
        return out;
    }
    put32(&mut out, 0x0807_4b50);
    put32(&mut out, crc);
    for _ in 0..2 {
        if entry.is_large() {
            put64(&mut out, entry.size);
        } else {
            put32(&mut out, entry.size as u32);
        }
    }
    out
}

/// How long [`tail`] is.
pub fn tail_len(entry: &Entry<'_>) -> u64 {
    match (entry.folder, entry.is_large()) {
        (true, _) => 0,
        (false, false) => 16,
        (false, true) => 24,
    }
}

/// The entry's part of the central directory. `offset`: where its local header is.
pub fn central(entry: &Entry<'_>, crc: u32, offset: u64) -> Vec<u8> {
    let mut out = Vec::with_capacity(central_len(entry, offset) as usize);
    let far = offset >= MOST_32;
    let version = if far { 45 } else { entry.version() };
    put32(&mut out, 0x0201_4b50);
    // Made on Unix, so that the mode counts.
    put16(&mut out, 3 << 8 | version);
    put16(&mut out, version);
    put16(&mut out, entry.flags());
    put16(&mut out, 0);
    entry.put_time(&mut out);
    put32(&mut out, if entry.folder { 0 } else { crc });
    let size = entry.size.min(MOST_32) as u32;
    put32(&mut out, size);
    put32(&mut out, size);
    put16(&mut out, entry.name_len() as u16);
    put16(&mut out, (9 + wide_len(entry, offset)) as u16);
    put16(&mut out, 0);
    put16(&mut out, 0);
    put16(&mut out, 0);
    let mode: u32 = match (entry.folder, entry.executable) {
        (true, _) => 0o040_755,
        (false, true) => 0o100_755,
        (false, false) => 0o100_644,
    };
    put32(&mut out, mode << 16 | u32::from(entry.folder) << 4);
    put32(&mut out, offset.min(MOST_32) as u32);
    entry.put_name(&mut out);
    entry.put_extra_time(&mut out);
    if wide_len(entry, offset) > 0 {
        put16(&mut out, 1);
        put16(&mut out, (wide_len(entry, offset) - 4) as u16);
        if entry.is_large() {
            put64(&mut out, entry.size);
            put64(&mut out, entry.size);
        }
        if far {
            put64(&mut out, offset);
        }
    }
    out
}

fn wide_len(entry: &Entry<'_>, offset: u64) -> u64 {
    match (entry.is_large(), offset >= MOST_32) {
        (false, false) => 0,
        (large, far) => 4 + if large { 16 } else { 0 } + if far { 8 } else { 0 },
    }
}

/// How long [`central`] is.
pub fn central_len(entry: &Entry<'_>, offset: u64) -> u64 {
    46 + entry.name_len() as u64 + 9 + wide_len(entry, offset)
}

/// The end of the archive. `at` and `length`: of the central directory.
pub fn end(entries: u64, at: u64, length: u64) -> Vec<u8> {
    let mut out = Vec::new();
    if is_wide(entries, at, length) {
        put32(&mut out, 0x0606_4b50);
        put64(&mut out, 44);
        put16(&mut out, 3 << 8 | 45);
        put16(&mut out, 45);
        put32(&mut out, 0);
        put32(&mut out, 0);
        put64(&mut out, entries);
        put64(&mut out, entries);
        put64(&mut out, length);
        put64(&mut out, at);
        put32(&mut out, 0x0706_4b50);
        put32(&mut out, 0);
        put64(&mut out, at + length);
        put32(&mut out, 1);
    }
    put32(&mut out, 0x0605_4b50);
    put16(&mut out, 0);
    put16(&mut out, 0);
    put16(&mut out, entries.min(0xffff) as u16);
    put16(&mut out, entries.min(0xffff) as u16);
    put32(&mut out, length.min(MOST_32) as u32);
    put32(&mut out, at.min(MOST_32) as u32);
    put16(&mut out, 0);
    out
}

/// How long [`end`] is.
pub fn end_len(entries: u64, at: u64, length: u64) -> u64 {
    if is_wide(entries, at, length) { 76 + 22 } else { 22 }
}

fn is_wide(entries: u64, at: u64, length: u64) -> bool {
    entries >= 0xffff || at >= MOST_32 || length >= MOST_32
}

fn put16(out: &mut Vec<u8>, n: u16) {
    out.extend_from_slice(&n.to_le_bytes());
}

fn put32(out: &mut Vec<u8>, n: u32) {
    out.extend_from_slice(&n.to_le_bytes());
}

fn put64(out: &mut Vec<u8>, n: u64) {
    out.extend_from_slice(&n.to_le_bytes());
}

/// A time as the oldest field has it: UTC, from 1980 to 2107, to two seconds.
fn dos_time(ms: i64) -> (u16, u16) {
    let days = ms.div_euclid(86_400_000);
    let seconds = ms.rem_euclid(86_400_000) / 1000;
    let (year, month, day) = civil(days);
    if year < 1980 {
        return (0, 1 << 5 | 1);
    }
    if year > 2107 {
        return (23 << 11 | 59 << 5 | 29, 127 << 9 | 12 << 5 | 31);
    }
    let time = ((seconds / 3600) << 11) | ((seconds / 60 % 60) << 5) | ((seconds % 60) / 2);
    (time as u16, (((year - 1980) << 9) | (month << 5) | day) as u16)
}

/// Year, month and day of a day since 1970 in the Gregorian calendar.
fn civil(days: i64) -> (i64, i64, i64) {
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let doe = z.rem_euclid(146_097);
    let yoe = (doe - doe / 1460 + doe / 36_524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let mp = (5 * doy + 2) / 153;
    let month = if mp < 10 { mp + 3 } else { mp - 9 };
    (yoe + era * 400 + i64::from(month <= 2), month, doy - (153 * mp + 2) / 5 + 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_part_is_as_long_as_announced(
            path in "[a-zä/]{1,40}", folder: bool, size: u64, mtime: i64, offset: u64, entries: u64, length: u64
        ) {
            let size = if folder { 0 } else { size };
            let mtime = mtime / 1_000_000;
            let e = Entry { path: Cow::from(path.as_str()), folder, size, mtime, executable: false };
            prop_assert_eq!(head(&e).len() as u64, head_len(&e));
            prop_assert_eq!(tail(&e, 7).len() as u64, tail_len(&e));
            prop_assert_eq!(central(&e, 7, offset).len() as u64, central_len(&e, offset));
            let (offset, length) = (offset >> 1, length >> 1);
            prop_assert_eq!(end(entries, offset, length).len() as u64, end_len(entries, offset, length));
        }
    }

    #[test]
    fn times_are_those_of_the_calendar() {
        // 2026-11-02T16:20:31Z
        let (time, date) = dos_time(1_793_636_431_000);
        assert_eq!((date >> 9, date >> 5 & 15, date & 31), (46, 11, 2));
        assert_eq!((time >> 11, time >> 5 & 63, time & 31), (16, 20, 15));
        assert_eq!(dos_time(0), (0, 33));
        assert_eq!(civil(0), (1970, 1, 1));
        assert_eq!(civil(11_016), (2000, 2, 29));
    }
}
