use super::{Common, Outcome};
use yellow_attic_server::http::times::show;
use yellow_attic_store::engine::mending;
use yellow_attic_store::fs::clock::{Clock, SystemClock};

/// Compare the times that are kept with this machine's clock, while the service is stopped.
///
/// A clock that was wrong can leave changes stamped with a time to come; until that time has come, all later ones are
/// stamped with it too. With --mend they get the present time. The order of changes stays, and the record says that
/// it was done.
#[derive(clap::Args)]
pub struct ClockOf {
    #[command(flatten)]
    pub common: Common,
    /// Stamp what lies ahead of this machine's clock with its present time.
    #[arg(long)]
    mend: bool,
}

/// Compares, and mends if asked.
pub async fn run(clock: &ClockOf) -> Outcome {
    let config = clock.common.read()?;
    let now = SystemClock.now_ms();
    let known = match SystemClock.is_synchronised() {
        true => "kept in step with other clocks, as the kernel says",
        false => "not kept in step with other clocks, as the kernel says",
    };
    println!("This machine  {}, {known}", show(now));
    let times = mending::look_at_times(&config.data, now).await?;
    println!("Newest kept   {}", show(times.newest));
    println!("Ahead         {} changes are stamped with a time to come", times.ahead);
    if clock.mend {
        let mended = mending::mend_times(&config.data, now).await?;
        println!("Mended        {} changes have the present time now", mended.ahead);
    } else if times.newest > now {
        println!(
            "If this machine's clock is right, mend them: yatticd clock --mend --data {}",
            config.data.display()
        );
    }
    Ok(())
}
