//! Mass change: one device rewrites or renames much of a shelf within a short time, and what it leaves
//! looks like noise, or carries other endings. What malware does, and hardly anybody else.

use std::collections::BTreeMap;

/// Changes count together that lie within this time, in milliseconds.
pub const WINDOW_MS: i64 = 30 * 60_000;
/// Fewer are never an alarm.
pub const LEAST: usize = 20;
/// So many are one whatever the share, a hundredth of a shelf.
const MANY: usize = 1_000;
/// The share of a shelf's files, in percent.
const SHARE: usize = 20;
/// Noise from here on is what encrypted and packed bytes have: hundredths of a bit per byte.
pub const NOISY: u16 = 750;
/// A rise that counts, in hundredths of a bit per byte.
const RISE: u16 = 40;

/// How much like noise bytes look: Shannon's entropy of their first part, in hundredths of a bit per
/// byte, 0 to 800. Short ones cannot look like noise, and are measured against what they could.
pub fn noise(bytes: &[u8]) -> u16 {
    let part = &bytes[..bytes.len().min(4096)];
    if part.len() < 64 {
        return 0;
    }
    let mut counts = [0u32; 256];
    part.iter().for_each(|b| counts[*b as usize] += 1);
    let n = part.len() as f64;
    let bits: f64 =
        counts.iter().filter(|c| **c > 0).map(|c| (f64::from(*c) / n) * (n / f64::from(*c)).log2()).sum();
    // Of n random bytes one sees less than eight bits: about 8 - 255 / (2 n ln 2).
    let most = (8.0 - 255.0 / (2.0 * n * std::f64::consts::LN_2)).max(n.log2().min(8.0) - 0.5);
    (bits / most.min(8.0) * 800.0).clamp(0.0, 800.0) as u16
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
    /// Its name before, if it had one.
    pub before: Option<String>,
    /// Its name after; none if it was removed.
    pub after: Option<String>,
    /// How noisy its bytes were and are, if they changed.
    pub noise: Option<(u16, u16)>,
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

fn ending(name: &str) -> Option<&str> {
    name.rsplit_once('.').filter(|(stem, _)| !stem.is_empty()).map(|(_, ending)| ending)
}

/// Whether a change is of the kind: bytes became noise, or the ending became another.
pub fn suspicious(change: &Change) -> bool {
    let noisy = change.noise.is_some_and(|(was, is)| is >= NOISY && is >= was.saturating_add(RISE));
    let renamed = match (&change.before, &change.after) {
        (Some(before), Some(after)) => before != after && ending(before) != ending(after),
        _ => false,
    };
    noisy || renamed
}

/// Looks at what one device changed on one shelf, oldest first; `files`: how many the shelf had.
pub fn judge(changes: &[Change], files: usize) -> Option<Alarm> {
    let bad: Vec<&Change> = changes.iter().filter(|c| suspicious(c)).collect();
    // A rename with one common new ending is what malware does; people who tidy up give many.
    let enough = |n: usize| n >= LEAST && (n * 100 >= files * SHARE || (n >= MANY && n * 100 >= files));
    let mut from = 0;
    for to in 0..bad.len() {
        while bad[to].at - bad[from].at > WINDOW_MS {
            from += 1;
        }
        let nodes: std::collections::BTreeSet<i64> = bad[from..=to].iter().map(|c| c.node).collect();
        if !enough(nodes.len()) {
            continue;
        }
        // An alarm: as far as it goes on without a longer pause.
        let mut last = to;
        while last + 1 < bad.len() && bad[last + 1].at - bad[last].at <= WINDOW_MS {
            last += 1;
        }
        let run = &bad[from..=last];
        let mut endings: BTreeMap<&str, usize> = BTreeMap::new();
        for change in run {
            if let (Some(before), Some(after)) = (&change.before, &change.after)
                && let (was, Some(is)) = (ending(before), ending(after))
                && was != Some(is)
            {
                *endings.entry(is).or_default() += 1;
            }
        }
        let nodes: std::collections::BTreeSet<i64> = run.iter().map(|c| c.node).collect();
        let most = endings.into_iter().max_by_key(|(_, n)| *n);
        return Some(Alarm {
            before: run[0].moment - 1,
            from_ms: run[0].at,
            to_ms: run[run.len() - 1].at,
            files: nodes.len(),
            of: files.max(nodes.len()),
            ending: most.filter(|(_, n)| *n * 2 >= nodes.len()).map(|(e, _)| e.to_string()),
        });
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn change(i: usize, before: &str, after: &str, noise: Option<(u16, u16)>) -> Change {
        Change {
            moment: 100 + i as i64,
            at: i as i64 * 1000,
            node: i as i64,
            before: Some(before.into()),
            after: Some(after.into()),
            noise,
        }
    }

    #[test]
    fn noise_tells_text_from_random_bytes_whatever_their_length() {
        let mut random = vec![0; 8192];
        blake3::Hasher::new().finalize_xof().fill(&mut random);
        for length in [200, 1000, 4096, 8192] {
            assert!(noise(&random[..length]) >= NOISY, "{length}: {}", noise(&random[..length]));
        }
        let text = "The lamp was lit at four; wind from the west, two ships passed. ".repeat(60);
        assert!(noise(text.as_bytes()) < 500);
        assert_eq!((noise(b""), noise(&[7; 4000])), (0, 0));
    }

    #[test]
    fn rewriting_a_fifth_of_a_shelf_to_noise_is_an_alarm_with_the_last_number_before() {
        let changes: Vec<Change> =
            (0..25).map(|i| change(i, "log.csv", "log.csv", Some((420, 798)))).collect();
        let alarm = judge(&changes, 100).unwrap();
        assert_eq!((alarm.before, alarm.files, alarm.of, alarm.ending), (99, 25, 100, None));
        assert_eq!(judge(&changes[..19], 40), None, "too few");
        assert_eq!(judge(&changes, 200), None, "too small a share");
    }

    #[test]
    fn a_common_new_ending_is_named() {
        let changes: Vec<Change> = (0..30).map(|i| change(i, "a.jpg", "a.jpg.tide", None)).collect();
        assert_eq!(judge(&changes, 50).unwrap().ending.as_deref(), Some("tide"));
    }

    #[test]
    fn a_days_work_is_none() {
        // Saving pictures over pictures, renaming within an ending, and slow change.
        let pictures: Vec<Change> = (0..80).map(|i| change(i, "a.jpg", "b.jpg", Some((790, 795)))).collect();
        assert_eq!(judge(&pictures, 100), None);
        let slow: Vec<Change> = (0..80)
            .map(|i| Change { at: i as i64 * WINDOW_MS, ..change(i, "a.csv", "a.csv", Some((400, 790))) })
            .collect();
        assert_eq!(judge(&slow, 100), None);
        // One file saved again and again is one file.
        let one: Vec<Change> =
            (0..80).map(|i| Change { node: 1, ..change(i, "a.csv", "a.csv", Some((400, 790))) }).collect();
        assert_eq!(judge(&one, 100), None);
    }
}
