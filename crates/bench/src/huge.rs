//! Ten million files with twenty million past states: what must not cost more than with ten thousand.

use crate::cases::{Failure, Measured, fill, line, median};
use crate::dav::propfind_time;
use crate::make::make;
use crate::peers::{Nginx, Service};
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;
use yellow_attic_core::rules::{Rule, Rules, Scope};
use yellow_attic_store::fs::clock::SetClock;
use yellow_attic_store::timeline::purge::Progress;
use yellow_attic_store::{Engine, Options};

const FILES: i64 = 10_000_000;
const PAST: i64 = 20_000_000;

/// Runs it on stores of its own.
pub fn run(disk: &Path) -> Result<(), Failure> {
    let huge = disk.join("store-huge");
    make(&huge, FILES, PAST)?;
    run_on(disk, &huge)
}

/// The same on one that was made before.
pub fn run_on(disk: &Path, huge: &Path) -> Result<(), Failure> {
    let small = disk.join("store-few");
    fill(&small, 10_000)?;
    let nginx = Nginx::start(&disk.join("nginx-huge"))?;
    std::fs::create_dir_all(disk.join("nginx-huge/root"))?;
    let mut starts = Vec::new();
    for _ in 0..3 {
        let service = Service::start(huge)?;
        starts.push(service.started_in.as_secs_f64());
        service.stop()?;
    }
    println!("{:<52} {:>6.2} s {:>27}  under 2 s", "start with 10,000,000 files", median(starts), "");
    let on = |what: &str| ["small", "list"].contains(&what);
    let few = Measured::take(&small, disk, &nginx, &on, false)?;
    let many = Measured::take(huge, disk, &nginx, &on, false)?;
    few.compare(&many, "10,000,000", "at least 0.9");
    let (few, many) = (propfind_time(&small)?, propfind_time(huge)?);
    line("PROPFIND of 10,000: 10,000,000 files against 10,000", many, few, "ms", few / many, "at least 0.9");
    look(huge)
}

/// The looks at the rules: over all, and an hour later.
pub fn look(data: &Path) -> Result<(), Failure> {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build()?;
    runtime.block_on(async {
        let clock = Arc::new(SetClock::at(jiff::Timestamp::now().as_millisecond()));
        let engine = Engine::open(Options { clock: clock.clone(), ..Options::new(data) }).await?;
        // The first third of 400 days made what is there now, so the oldest past state ended 6,400 hours ago, and then as many
        // each hour: this rule lets the first go an hour from now.
        let text = "everything for 6401 hours";
        let rules =
            Rules::default().with(Scope::Service, Rule::Versions, Some(Rule::Versions.read(text)?))?;
        let progress = Progress::default();
        let begun = Instant::now();
        let gone = engine.history().let_go_due(&rules, &progress).await?;
        println!(
            "{:<52} {:>6.2} s   ({} states went)",
            "look over all of 20,000,000 past states",
            begun.elapsed().as_secs_f64(),
            gone.states
        );
        for (what, hours) in [("an hour later", 1), ("as much as 1 % due", 20)] {
            clock.advance(hours * 3_600_000);
            let begun = Instant::now();
            let seen = engine.history().plan_change(&rules).await?;
            println!(
                "{:<52} {:>6.2} s   ({} of {} due)   under 1 s",
                format!("look at what is due, {what}"),
                begun.elapsed().as_secs_f64(),
                seen.total().states,
                seen.looked_at
            );
        }
        engine.stop().await;
        Ok(())
    })
}
