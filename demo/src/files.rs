//! Files of true formats, each drawn or written from its own name.

use crate::Dice;
use std::io::{Cursor, Write};

/// A logbook page: ruled paper with lines of writing. PNG.
pub fn page_png(purpose: &str) -> Vec<u8> {
    let (w, h) = (372usize, 526usize);
    let mut dice = Dice::new(purpose);
    let tone = 226 - dice.below(24) as i32;
    let mut px = vec![0u8; w * h * 3];
    let mut stain = (dice.below(w as u64) as i32, dice.below(h as u64) as i32, 40 + dice.below(60) as i32);
    stain.2 *= stain.2;
    for y in 0..h {
        for x in 0..w {
            let noise = dice.below(9) as i32 - 4;
            let (dx, dy) = (x as i32 - stain.0, y as i32 - stain.1);
            let dark = if dx * dx + dy * dy < stain.2 { 14 } else { 0 };
            let rule = if y % 22 == 20 { 18 } else { 0 };
            let margin = if x == 44 { 40 } else { 0 };
            let v = tone + noise - dark - rule;
            let at = (y * w + x) * 3;
            px[at] = (v + 6).clamp(0, 255) as u8;
            px[at + 1] = (v - 4 - margin).clamp(0, 255) as u8;
            px[at + 2] = (v - 30 - margin).clamp(0, 255) as u8;
        }
    }
    for line in 2..22 {
        let mut x = 54 + dice.below(12) as usize;
        let end = w - 20 - dice.below(140) as usize;
        while x < end {
            let word = 14 + dice.below(34) as usize;
            for dx in 0..word.min(end.saturating_sub(x)) {
                let y = line * 22 + 12 + dice.below(6) as usize;
                for stroke in 0..2 {
                    let at = ((y + stroke) * w + x + dx) * 3;
                    px[at..at + 3].copy_from_slice(&[52, 46, 60]);
                }
            }
            x += word + 9;
        }
    }
    png(w, h, &px)
}

fn png(w: usize, h: usize, px: &[u8]) -> Vec<u8> {
    let mut bytes = Vec::new();
    {
        let mut encoder = png::Encoder::new(&mut bytes, w as u32, h as u32);
        encoder.set_color(png::ColorType::Rgb);
        encoder.set_depth(png::BitDepth::Eight);
        encoder.set_compression(png::Compression::Fast);
        let written = encoder.write_header().and_then(|mut writer| writer.write_image_data(px));
        debug_assert!(written.is_ok(), "writing to memory");
    }
    bytes
}

/// The lighthouse at some hour: sky, sea, tower, lamp. JPEG.
pub fn view_jpeg(purpose: &str) -> Vec<u8> {
    let (w, h) = (640usize, 426usize);
    let mut dice = Dice::new(purpose);
    let hour = dice.below(4);
    let (top, low, sea) = match hour {
        0 => ([92, 126, 150], [226, 190, 140], [66, 92, 104]),
        1 => ([128, 168, 186], [214, 224, 220], [72, 112, 120]),
        2 => ([60, 62, 92], [214, 132, 92], [48, 56, 74]),
        _ => ([150, 160, 160], [206, 206, 198], [108, 122, 122]),
    };
    let tower = 120 + dice.below(380) as i32;
    let horizon = 250 + dice.below(50) as i32;
    let mut px = Vec::with_capacity(w * h * 3);
    for y in 0..h as i32 {
        for x in 0..w as i32 {
            let mut c = if y < horizon {
                let t = y * 256 / horizon;
                [0, 1, 2].map(|i: usize| (top[i] * (256 - t) + low[i] * t) / 256)
            } else {
                let wave = ((x * 7 + y * 13) % 29 - 14) / 5 + dice.below(7) as i32 - 3;
                sea.map(|v| v + wave)
            };
            let rock = horizon - 26 + ((x - tower).abs() * (x - tower).abs()) / 260;
            if y > rock && y < horizon + 30 && (x - tower).abs() < 110 {
                c = [58, 54, 50].map(|v| v + dice.below(12) as i32);
            }
            let half = 13 + (y - (horizon - 190)) / 16;
            if (x - tower).abs() <= half && y > horizon - 170 && y < horizon - 14 {
                let band = ((y - horizon + 170) / 39) % 2 == 0;
                let shade = (x - tower) * 2;
                c = if band {
                    [226 - shade, 220 - shade, 206 - shade]
                } else {
                    [158 - shade, 62 - shade, 46 - shade]
                };
            }
            if (x - tower).abs() <= 10 && y > horizon - 192 && y <= horizon - 170 {
                c = [246, 214, 110];
            }
            px.extend(c.map(|v| v.clamp(0, 255) as u8));
        }
    }
    let mut bytes = Vec::new();
    let encoder = jpeg_encoder::Encoder::new(&mut bytes, 80);
    let written = encoder.encode(&px, w as u16, h as u16, jpeg_encoder::ColorType::Rgb);
    debug_assert!(written.is_ok(), "writing to memory");
    bytes
}

/// A document of one page. PDF 1.4, its text in a standard font.
pub fn pdf(title: &str, lines: &[String]) -> Vec<u8> {
    let escape = |t: &str| t.replace('\\', "\\\\").replace('(', "\\(").replace(')', "\\)");
    let mut text = format!("BT /F1 20 Tf 64 760 Td ({}) Tj /F1 11 Tf 0 -36 Td 16 TL\n", escape(title));
    for line in lines {
        text.push_str(&format!("({}) Tj T*\n", escape(line)));
    }
    text.push_str("ET\n0.5 w 64 748 m 531 748 l S\n");
    let objects = [
        "<< /Type /Catalog /Pages 2 0 R >>".to_string(),
        "<< /Type /Pages /Kids [3 0 R] /Count 1 >>".to_string(),
        "<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R /Resources << /Font << /F1 5 0 R >> >> >>"
            .to_string(),
        format!("<< /Length {} >>\nstream\n{text}endstream", text.len()),
        "<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>".to_string(),
    ];
    let mut out = b"%PDF-1.4\n".to_vec();
    let mut offsets = Vec::new();
    for (i, object) in objects.iter().enumerate() {
        offsets.push(out.len());
        out.extend(format!("{} 0 obj\n{object}\nendobj\n", i + 1).bytes());
    }
    let xref = out.len();
    out.extend(format!("xref\n0 {}\n0000000000 65535 f \n", objects.len() + 1).bytes());
    for offset in offsets {
        out.extend(format!("{offset:010} 00000 n \n").bytes());
    }
    out.extend(
        format!("trailer << /Size {} /Root 1 0 R >>\nstartxref\n{xref}\n%%EOF\n", objects.len() + 1).bytes(),
    );
    out
}

/// A fog signal: two tones, some seconds. WAV, 16 bit, mono, 8 kHz.
pub fn signal_wav(purpose: &str, seconds: u32) -> Vec<u8> {
    let mut dice = Dice::new(purpose);
    let rate = 8000;
    let (low, high) = (70 + dice.below(40) as u32, 140 + dice.below(90) as u32);
    let mut out = Cursor::new(Vec::new());
    let spec = hound::WavSpec {
        channels: 1,
        sample_rate: rate,
        bits_per_sample: 16,
        sample_format: hound::SampleFormat::Int,
    };
    if let Ok(mut writer) = hound::WavWriter::new(&mut out, spec) {
        for n in 0..rate * seconds {
            let t = f64::from(n) / f64::from(rate);
            let tone = if (t as u32).is_multiple_of(2) { low } else { high };
            let wave = (t * f64::from(tone) * std::f64::consts::TAU).sin();
            let _ = writer.write_sample((wave * 9000.0) as i16 + dice.below(600) as i16 - 300);
        }
        let _ = writer.finalize();
    }
    out.into_inner()
}

/// Several files in one. ZIP.
pub fn batch_zip(files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let mut out = Cursor::new(Vec::new());
    let mut zip = zip::ZipWriter::new(&mut out);
    let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for (name, bytes) in files {
        let _ = zip.start_file(name.as_str(), options);
        let _ = zip.write_all(bytes);
    }
    let _ = zip.finish();
    out.into_inner()
}

const THINGS: [&str; 12] = [
    "brass lamp",
    "signal flag",
    "tide table",
    "oil can",
    "lens segment",
    "keeper's coat",
    "rope ladder",
    "barometer",
    "log line",
    "storm glass",
    "winding key",
    "sounding lead",
];
const PLACES: [&str; 6] = ["lamp room", "stair 2", "store", "gallery", "boat house", "watch room"];
const WEATHER: [&str; 6] =
    ["fog at six", "wind from the west", "clear", "heavy sea", "rain till noon", "snow showers"];

/// A list of things with numbers and places. CSV.
pub fn inventory_csv(purpose: &str, rows: usize) -> Vec<u8> {
    let mut dice = Dice::new(purpose);
    let mut text = String::from("number,thing,place,year,condition\n");
    for row in 1..=rows {
        let (thing, place) = (dice.pick(&THINGS), dice.pick(&PLACES));
        let condition = dice.pick(&["good", "fair", "to be cleaned", "on loan"]);
        text.push_str(&format!("L{row:04},{thing},{place},{},{condition}\n", 1868 + dice.below(90)));
    }
    text.into_bytes()
}

/// Sentences about the lighthouse. Markdown.
pub fn notes_md(title: &str, paragraphs: usize) -> Vec<u8> {
    let mut dice = Dice::new(title);
    let mut text = format!("# {title}\n");
    for _ in 0..paragraphs {
        let (thing, other) = (dice.pick(&THINGS), dice.pick(&THINGS));
        let (place, weather, year) = (dice.pick(&PLACES), dice.pick(&WEATHER), 1871 + dice.below(70));
        text.push_str(&format!(
            "\nThe {thing} stood in the {place} until {year}. The log of that day says: {weather}. \
             Beside it hung the {other}, which the keeper's daughter drew from memory.\n"
        ));
    }
    text.into_bytes()
}

/// Lines for a document.
pub fn lines(purpose: &str, count: usize) -> Vec<String> {
    let mut dice = Dice::new(purpose);
    (0..count)
        .map(|n| {
            let (thing, place) = (dice.pick(&THINGS), dice.pick(&PLACES));
            format!(
                "{}. One {thing}, from the {place}, valued at {} in the year's list.",
                n + 1,
                40 + dice.below(900)
            )
        })
        .collect()
}
