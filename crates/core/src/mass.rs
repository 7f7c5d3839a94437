//! Mass change: one device turns much of what lies on a shelf into noise, or gives it endings that nobody knows. What
//! malware does, and hardly anybody else.
//!
//! Only what was there before counts: a file is compared as it was with what has become of it in the end. How it got
//! there, by how many saves and renames, says nothing; nor does what is new, but that it takes the place of what was removed.

use std::collections::{BTreeMap, BTreeSet};

/// Changes count together that lie within this time, in milliseconds.
pub const WINDOW_MS: i64 = 30 * 60_000;
/// Who is in no hurry is found out within this time: [`MANY`] files, whatever the share.
pub const SLOW_MS: i64 = 24 * 3_600_000;
/// Fewer are never an alarm.
pub const LEAST: usize = 20;
/// So many are one whatever the share.
const MANY: usize = 50;
/// The share of a shelf's files, in percent.
const SHARE: usize = 20;
/// Noise from here on is what encrypted bytes have: hundredths of a bit per byte.
pub const NOISY: u16 = 750;
/// The most that packed bytes are given which say what they are: a picture is no noise.
const KNOWN_KIND: u16 = 700;
/// A rise that counts, in hundredths of a bit per byte.
const RISE: u16 = 40;
/// A state that was there for less than this is still being made: copied in, saved in steps, written down in bits.
const YOUNG_MS: i64 = 60_000;
/// Shorter contents are no contents yet.
const EMPTY: i64 = 64;

/// How bytes begin that are packed and no secret: pictures, films, sounds, archives, documents, stores of programs.
const KINDS: [&[u8]; 37] = [
    b"\xff\xd8\xff",
    b"\x89PNG",
    b"GIF8",
    b"RIFF",
    b"\x1a\x45\xdf\xa3",
    b"OggS",
    b"fLaC",
    b"ID3",
    b"\xff\xfb",
    b"\xff\xf3",
    b"\xff\xf1",
    b"\xff\xf9",
    b"FORM",
    b"II*\0",
    b"MM\0*",
    b"8BPS",
    b"FLV",
    b"\x00\x00\x01\xba",
    b"\x30\x26\xb2\x75",
    b"PK\x03\x04",
    b"\x1f\x8b",
    b"BZh",
    b"\xfd7zXZ\0",
    b"\x28\xb5\x2f\xfd",
    b"7z\xbc\xaf",
    b"Rar!",
    b"\x04\x22\x4d\x18",
    b"%PDF",
    b"SQLite format 3",
    b"PACK",
    b"\xfftOc",
    b"DIRC",
    b"wOF2",
    b"\x7fELF",
    b"MZ",
    b"\xd0\xcf\x11\xe0",
    b"\xed\xab\xee\xdb",
];

fn says_what_it_is(bytes: &[u8]) -> bool {
    KINDS.iter().any(|kind| bytes.starts_with(kind))
        // Films and pictures of one family (ISO base media), and zlib's streams.
        || bytes.get(4..8).is_some_and(|kind| [b"ftyp", b"moov", b"mdat", b"wide"].iter().any(|k| kind == *k))
        || bytes.len() > 1 && bytes[0] == 0x78 && [0x01, 0x5e, 0x9c, 0xda].contains(&bytes[1])
}

/// How much like noise bytes look, in hundredths of a bit per byte, 0 to 800: the noisiest of a few samples of the
/// whole. What says at its beginning which packed kind it is gets at most 700.
pub fn noise(bytes: &[u8]) -> u16 {
    let parts: Vec<&[u8]> = samples(bytes.len() as u64)
        .into_iter()
        .map(|(from, n)| &bytes[from as usize..from as usize + n])
        .collect();
    noise_of(&parts)
}

/// Where samples lie in so many bytes, the beginning first: of up to 4 KiB all, else eight times 512.
pub fn samples(size: u64) -> Vec<(u64, usize)> {
    match size {
        0..=4096 => vec![(0, size as usize)],
        _ => (0..8).map(|n| (n * ((size - 512) / 7), 512)).collect(),
    }
}

/// The same of samples that were read, the beginning first.
pub fn noise_of(parts: &[&[u8]]) -> u16 {
    let noisiest = parts.iter().map(|part| entropy(part)).max().unwrap_or(0);
    match parts.first().is_some_and(|first| says_what_it_is(first)) {
        true => noisiest.min(KNOWN_KIND),
        false => noisiest,
    }
}

/// Shannon's entropy. Short parts cannot look like noise, and are measured against what they could.
fn entropy(part: &[u8]) -> u16 {
    if part.len() < 64 {
        return 0;
    }
    // Four counts side by side: one that is raised again at once waits for itself.
    let mut side_by_side = [[0u32; 256]; 4];
    let fours = part.chunks_exact(4);
    fours.remainder().iter().for_each(|b| side_by_side[0][*b as usize] += 1);
    for four in fours {
        side_by_side.iter_mut().zip(four).for_each(|(counts, b)| counts[*b as usize] += 1);
    }
    let counts = (0..256).map(|b| side_by_side.iter().map(|counts| counts[b]).sum::<u32>());
    let n = part.len() as f64;
    let bits: f64 = counts.filter(|c| *c > 0).map(|c| (f64::from(c) / n) * (n / f64::from(c)).log2()).sum();
    // Of n random bytes one sees less than eight bits: about 8 - 255 / (2 n ln 2).
    let most = (8.0 - 255.0 / (2.0 * n * std::f64::consts::LN_2)).max(n.log2().min(8.0) - 0.5);
    (bits / most.min(8.0) * 800.0).clamp(0.0, 800.0) as u16
}

/// A file as it was for a while.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Looks {
    /// Its name.
    pub name: String,
    /// The folder in which it lay.
    pub folder: i64,
    /// How many bytes.
    pub size: i64,
    /// How noisy they were.
    pub noise: u16,
    /// Since when it was so, in milliseconds.
    pub at: i64,
}

/// One change of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// Its number on the timeline.
    pub moment: i64,
    /// When, in milliseconds.
    pub at: i64,
    /// Which file.
    pub node: i64,
    /// As it was before; none if it is new.
    pub before: Option<Looks>,
    /// As it is after; none if it was removed.
    pub after: Option<Looks>,
}

/// A file of which something suspicious has become.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Suspect {
    /// Which file.
    pub node: i64,
    /// The number of the first change that led there.
    pub moment: i64,
    /// When that was, in milliseconds.
    pub at: i64,
    /// The ending that it got, if it got one that nobody knows.
    pub ending: Option<String>,
}

/// What raised the alarm.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Alarm {
    /// The last number before the first such change.
    pub before: i64,
    /// When the first such change was.
    pub from_ms: i64,
    /// When the last was.
    pub to_ms: i64,
    /// How many files were rewritten to noise, given another ending, or both.
    pub files: usize,
    /// How many files the shelf had.
    pub of: usize,
    /// The ending that most of them got, if they got one.
    pub ending: Option<String>,
}

/// Endings that people give: a file that is renamed to one is tidied up, not taken.
const KNOWN: &str = " 3gp 7z aac ai aiff avi avif azw3 backup bak bat bib blend bmp bz2 c cfg conf cpp cr2 cr3 cs css csv dbf \
    dng doc docm docx dot dotx dwg dxf eml epub eps exe flac fodt gif go gpx gz h heic heif hpp htm html ics indd ini iso \
    java jpe jpeg jpg js json jsonl jsx key kml kmz kt lock log m3u m4a m4b m4v mbox md mdb mid mkv mobi mov mp3 mp4 mpeg \
    mpg msg mts nef numbers odf odg odp ods odt ogg old opus orf orig otf pages parquet pdf php pl plist png po pot pps \
    ppt pptx ps psd pst pub py qfx rar raw rb rs rst rtf rw2 sav scala sh shp sql sqlite srt ss sub svg swift tar tex tgz \
    tif tiff toml torrent ts tsv tsx ttf txt vcf vob vsd vsdx wav webm webp wma wmf wmv woff woff2 wpd xcf xls xlsm xlsx \
    xml xmp xz yaml yml zip zst ";

/// Endings of what is not finished: what it is renamed to is its name.
const TEMPORARY: &str = " crdownload download filepart part partial swp swx temp tmp new ";

fn ending(name: &str) -> Option<String> {
    let (stem, ending) = name.rsplit_once('.')?;
    (!stem.is_empty()).then(|| ending.to_lowercase())
}

fn is_in(list: &str, ending: &str) -> bool {
    !ending.is_empty() && !ending.contains(' ') && list.contains(&format!(" {ending} "))
}

/// The ending that a file got, if it is one that nobody knows, and no temporary name was only given up for it.
fn strange_ending(before: &str, after: &str) -> Option<String> {
    let (was, is) = (ending(before), ending(after)?);
    let finished = was.as_deref().is_some_and(|was| is_in(TEMPORARY, was))
        || before.starts_with(['.', '~', '#']) && before.contains(after.trim_start_matches('.'));
    (was.as_deref() != Some(is.as_str()) && !finished && !is_in(KNOWN, &is) && !is_in(TEMPORARY, &is))
        .then_some(is)
}

/// Whether a state is noise, or has an ending that nobody knows, where another was neither.
fn turned_bad(was: &Looks, is: &Looks) -> bool {
    is.noise >= NOISY && is.noise >= was.noise.saturating_add(RISE)
        || strange_ending(&was.name, &is.name).is_some()
}

/// The last state of a file that was good, and the change that ended it: of those that were there for a minute or more
/// before the last change. What is shorter than a few bytes is none yet: whoever saves may empty a file first.
fn last_good<'c>(
    its: &[&'c Change],
    until: i64,
    turned: &dyn Fn(&Looks) -> bool,
) -> Option<(&'c Change, &'c Looks)> {
    let good = |change: &&'c Change| {
        let was = change.before.as_ref().filter(|was| was.size >= EMPTY && until - was.at >= YOUNG_MS);
        was.is_some_and(turned)
    };
    let mut at = its.iter().rposition(good)?;
    // What led there by itself belongs to it: a strange name first, and noise later.
    while at > 0
        && let (Some(was), Some(is)) = (&its[at - 1].before, &its[at - 1].after)
        && turned_bad(was, is)
    {
        at -= 1;
    }
    let change = its[at];
    change.before.as_ref().map(|was| (change, was))
}

/// What has become of the files that one device changed on one shelf, oldest change first.
pub fn suspects(changes: &[Change]) -> Vec<Suspect> {
    let mut by: BTreeMap<i64, Vec<&Change>> = BTreeMap::new();
    for change in changes {
        by.entry(change.node).or_default().push(change);
    }
    let mut found = Vec::new();
    // By folder: older files that were removed, and new ones that are noise.
    let mut removed: BTreeMap<i64, Vec<(&Change, &Looks)>> = BTreeMap::new();
    let mut new: BTreeMap<i64, Vec<(&Change, &Looks)>> = BTreeMap::new();
    for (node, its) in by {
        let (first, last) = (its[0], its[its.len() - 1]);
        match &last.after {
            Some(is) => {
                let turned = |was: &Looks| turned_bad(was, is);
                if let Some((change, was)) = last_good(&its, last.at, &turned) {
                    let ending = strange_ending(&was.name, &is.name);
                    found.push(Suspect { node, moment: change.moment, at: last.at, ending });
                } else if first.before.is_none() {
                    new.entry(is.folder).or_default().push((first, is));
                }
            }
            None => {
                if let Some((change, was)) = last_good(&its, last.at, &|_| true) {
                    removed.entry(was.folder).or_default().push((change, was));
                }
            }
        }
    }
    for (folder, gone) in removed {
        let Some(new) = new.get(&folder) else { continue };
        // First those that took a name and added to it, then whatever noise is in the place of what is gone.
        let mut noise: Vec<&(&Change, &Looks)> = new.iter().filter(|(_, is)| is.noise >= NOISY).collect();
        for (change, was) in gone {
            let named = new
                .iter()
                .find(|(_, is)| is.name.strip_prefix(&was.name).is_some_and(|more| more.starts_with('.')));
            let ending = named.and_then(|(_, is)| strange_ending(&was.name, &is.name));
            let taken = match (named, noise.iter().position(|(_, is)| Some(*is) == named.map(|n| n.1))) {
                (Some(_), Some(at)) => Some(noise.remove(at)),
                (None, _) if was.noise < NOISY => noise.pop(),
                _ => None,
            };
            if taken.is_some() || ending.is_some() {
                let moment = taken.map_or(change.moment, |(c, _)| c.moment.min(change.moment));
                found.push(Suspect { node: change.node, moment, at: change.at, ending });
            }
        }
    }
    found.sort_by_key(|s| (s.at, s.moment));
    found
}

/// Decides on what has become of files by one device on one shelf, each once, the earliest first; `files`: how many the
/// shelf had.
pub fn judge(found: &[Suspect], files: usize) -> Option<Alarm> {
    let quick = |n: usize| n >= MANY || n >= LEAST && n * 100 >= files * SHARE;
    let run = run_of(found, WINDOW_MS, &quick).or_else(|| run_of(found, SLOW_MS, &|n| n >= MANY))?;
    let mut endings: BTreeMap<&str, usize> = BTreeMap::new();
    run.iter().filter_map(|s| s.ending.as_deref()).for_each(|e| *endings.entry(e).or_default() += 1);
    let nodes = run.iter().map(|s| s.node).collect::<BTreeSet<_>>().len();
    let most = endings.into_iter().max_by_key(|(_, n)| *n);
    Some(Alarm {
        before: run.iter().map(|s| s.moment).min().unwrap_or(1) - 1,
        from_ms: run[0].at,
        to_ms: run[run.len() - 1].at,
        files: nodes,
        of: files.max(nodes),
        ending: most.filter(|(_, n)| *n * 2 >= nodes).map(|(e, _)| e.to_string()),
    })
}

/// The first run that is enough within a time, as far as it goes on without a longer pause.
fn run_of<'s>(found: &'s [Suspect], within: i64, enough: &dyn Fn(usize) -> bool) -> Option<&'s [Suspect]> {
    let mut from = 0;
    for to in 0..found.len() {
        while found[to].at - found[from].at > within {
            from += 1;
        }
        let nodes = found[from..=to].iter().map(|s| s.node).collect::<BTreeSet<_>>().len();
        if enough(nodes) {
            let mut last = to;
            while last + 1 < found.len() && found[last + 1].at - found[last].at <= within {
                last += 1;
            }
            return Some(&found[from..=last]);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn random(length: usize) -> Vec<u8> {
        let mut bytes = vec![0; length];
        blake3::Hasher::new().finalize_xof().fill(&mut bytes);
        bytes
    }

    const TEXT: &str = "The lamp was lit at four; wind from the west, two ships passed. ";

    #[test]
    fn noise_tells_text_from_random_bytes_whatever_their_length() {
        let random = random(40_000);
        for length in [200, 1000, 4096, 8192, 40_000] {
            assert!(noise(&random[..length]) >= NOISY, "{length}: {}", noise(&random[..length]));
        }
        let text = TEXT.repeat(600);
        assert!(noise(text.as_bytes()) < 500);
        assert_eq!((noise(b""), noise(&[7; 4000])), (0, 0));
        // Whoever encrypts a part of each file is heard too.
        let mut part = text.into_bytes();
        let at = part.len() / 4;
        part[at..at * 3].copy_from_slice(&random[..at * 2]);
        assert!(noise(&part) >= NOISY);
    }

    #[test]
    fn what_says_which_packed_kind_it_is_is_no_noise() {
        for head in
            [&b"\xff\xd8\xff\xe0"[..], b"PK\x03\x04", b"\x78\x9c", b"\0\0\0\x20ftypmp42", b"\x1a\x45\xdf\xa3"]
        {
            let bytes = [head, &random(9000)].concat();
            assert!(noise(&bytes) < NOISY, "{head:?}");
        }
    }

    fn looks(name: &str, noise: u16, at: i64) -> Looks {
        Looks { name: name.into(), folder: 1, size: 1000, noise, at }
    }

    /// A file from long ago that becomes something else, one each second.
    fn change(i: i64, before: (&str, u16), after: Option<(&str, u16)>) -> Change {
        let at = 10_000_000 + i * 1000;
        Change {
            moment: 100 + i,
            at,
            node: i,
            before: Some(looks(before.0, before.1, 0)),
            after: after.map(|(name, noise)| looks(name, noise, at)),
        }
    }

    fn found(changes: &[Change], files: usize) -> Option<Alarm> {
        judge(&suspects(changes), files)
    }

    #[test]
    fn rewriting_a_fifth_of_a_shelf_to_noise_is_an_alarm_with_the_last_number_before() {
        let changes: Vec<Change> =
            (0..25).map(|i| change(i, ("log.csv", 420), Some(("log.csv", 798)))).collect();
        let alarm = found(&changes, 100).unwrap();
        assert_eq!((alarm.before, alarm.files, alarm.of, alarm.ending), (99, 25, 100, None));
        assert_eq!(found(&changes[..19], 40), None, "too few");
        assert_eq!(found(&changes, 200), None, "too small a share");
    }

    #[test]
    fn the_moment_before_keeps_what_was_made_and_worked_on_a_little_earlier() {
        let mut changes = Vec::new();
        for i in 0..30 {
            let state = |n: i64, noise: u16| looks("log.csv", noise, n * 600_000 + i);
            let one = |n: i64, before: Option<Looks>, after: Looks| Change {
                moment: 1000 * n + i,
                at: n * 600_000 + i,
                node: i,
                before,
                after: Some(after),
            };
            changes.push(one(1, None, state(1, 420)));
            changes.push(one(2, Some(state(1, 420)), state(2, 430)));
            changes.push(one(3, Some(state(2, 430)), state(3, 799)));
        }
        changes.sort_by_key(|c| c.moment);
        assert_eq!(found(&changes, 30).unwrap().before, 2999);
    }

    #[test]
    fn a_common_new_ending_that_nobody_knows_is_named_and_a_known_one_is_none() {
        let to = |name: &'static str| -> Vec<Change> {
            (0..30).map(|i| change(i, ("a.jpeg", 700), Some((name, 700)))).collect()
        };
        assert_eq!(found(&to("a.jpeg.tide"), 50).unwrap().ending.as_deref(), Some("tide"));
        for tidy in ["a.jpg", "A.JPEG", "b.jpeg", "a.bak", "a"] {
            assert_eq!(found(&to(tidy), 50), None, "{tidy}");
        }
    }

    #[test]
    fn temporary_names_are_given_up_without_an_alarm() {
        for (before, after) in [
            (".film.mkv.x8Kd2q", "film.mkv"),
            ("film.mkv.part", "film.xyz"),
            ("~wr0003.tmp", "letter.docx"),
            ("#notes.zzz#", "notes.zzz"),
        ] {
            let changes: Vec<Change> =
                (0..60).map(|i| change(i, (before, 700), Some((after, 700)))).collect();
            assert_eq!(found(&changes, 60), None, "{before} to {after}");
        }
    }

    #[test]
    fn what_is_being_made_is_not_changed() {
        // An empty file first, then its bytes, then once more.
        let mut changes = Vec::new();
        for i in 0..80 {
            let at = 10_000_000 + i * 1000;
            let empty = Looks { size: 0, noise: 0, ..looks("key.bin", 0, at) };
            let full = looks("key.bin", 798, at + 500);
            changes.push(Change { moment: 3 * i, at, node: i, before: None, after: Some(empty.clone()) });
            changes.push(Change {
                moment: 3 * i + 1,
                at: at + 500,
                node: i,
                before: Some(empty),
                after: Some(full.clone()),
            });
            let early = Looks { noise: 400, ..full };
            changes.push(Change {
                moment: 3 * i + 2,
                at: at + 50_000,
                node: i,
                before: Some(early),
                after: Some(looks("key.bin", 799, at + 50_000)),
            });
        }
        assert_eq!(found(&changes, 80), None);
    }

    #[test]
    fn noise_in_the_place_of_what_was_removed_counts_by_whatever_name() {
        let mut changes = Vec::new();
        for i in 0..30 {
            let at = 10_000_000 + i * 1000;
            changes.push(Change {
                moment: 2 * i,
                at,
                node: 1000 + i,
                before: None,
                after: Some(looks(&format!("k{i}"), 799, at)),
            });
            changes.push(Change {
                moment: 2 * i + 1,
                at,
                node: i,
                before: Some(looks("letter.txt", 420, 0)),
                after: None,
            });
        }
        assert_eq!(found(&changes, 60).unwrap().files, 30);
        // Noise that is added, and what is removed elsewhere, have nothing to do with each other.
        let added: Vec<Change> = changes.iter().filter(|c| c.before.is_none()).cloned().collect();
        assert_eq!(found(&added, 60), None);
        let gone: Vec<Change> = changes.iter().filter(|c| c.before.is_some()).cloned().collect();
        assert_eq!(found(&gone, 60), None);
    }

    #[test]
    fn who_is_in_no_hurry_is_found_out_within_a_day() {
        let slowly = |apart: i64| -> Vec<Change> {
            (0..60)
                .map(|i| Change {
                    at: 10_000_000 + i * apart,
                    ..change(i, ("a.csv", 400), Some(("a.csv", 790)))
                })
                .collect()
        };
        assert_eq!(found(&slowly(20 * 60_000), 10_000).unwrap().files, 60);
        assert_eq!(found(&slowly(60 * 60_000), 10_000), None, "an hour apart");
    }

    #[test]
    fn a_days_work_is_none() {
        let pictures: Vec<Change> =
            (0..80).map(|i| change(i, ("a.jpg", 700), Some(("b.jpg", 700)))).collect();
        assert_eq!(found(&pictures, 100), None);
        // One file saved again and again is one file.
        let one: Vec<Change> =
            (0..80).map(|i| Change { node: 1, ..change(i, ("a.csv", 400), Some(("a.csv", 790))) }).collect();
        assert_eq!(found(&one, 100), None);
    }
}
