//! Progress on standard error, on a terminal only.

use crate::output::Output;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::io::IsTerminal;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use yellow_attic_sync::Progress;

/// Shows a transfer until it is dropped.
pub struct Shown {
    bar: ProgressBar,
    ticking: tokio::task::JoinHandle<()>,
}

/// Begins to show a transfer.
pub fn show(output: Output, progress: &Arc<Progress>) -> Shown {
    let visible = !output.quiet && !output.json && std::io::stderr().is_terminal();
    let bar = ProgressBar::with_draw_target(
        Some(0),
        if visible { ProgressDrawTarget::stderr_with_hz(8) } else { ProgressDrawTarget::hidden() },
    );
    let plain = std::env::var_os("NO_COLOR").is_some();
    let look = if plain {
        "{msg}  {binary_bytes} of {binary_total_bytes}  [{bar:24}]  {binary_bytes_per_sec}  {eta} left"
    } else {
        "{msg}  {binary_bytes} of {binary_total_bytes}  {bar:24.yellow/dim}  {binary_bytes_per_sec}  {eta} left"
    };
    if let Ok(style) = ProgressStyle::with_template(look) {
        bar.set_style(style.progress_chars("━━╌"));
    }
    let (ticked, progress) = (bar.clone(), progress.clone());
    let ticking = tokio::spawn(async move {
        loop {
            let files = progress.files.load(Ordering::Relaxed);
            let done = progress.files_done.load(Ordering::Relaxed);
            // Nothing found yet is not all done.
            ticked.set_length(progress.bytes.load(Ordering::Relaxed).max(1));
            ticked.set_position(progress.bytes_done.load(Ordering::Relaxed));
            ticked.set_message(format!("{done} of {files} files"));
            tokio::time::sleep(Duration::from_millis(120)).await;
        }
    });
    Shown { bar, ticking }
}

impl Drop for Shown {
    fn drop(&mut self) {
        self.ticking.abort();
        self.bar.finish_and_clear();
    }
}
