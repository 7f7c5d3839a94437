use super::{Common, Outcome, log, until_stopped};
use yellow_attic_server::service;

/// Run the service until it is told to stop.
pub async fn run(common: &Common) -> Outcome {
    let config = common.read()?;
    log(&config);
    println!("Yellow Attic {}: opening {}", env!("CARGO_PKG_VERSION"), config.data.display());
    let running = service::start(config).await?;
    println!("Serving {}", running.address);
    if let Some(code) = &running.set_up_code {
        println!("There is no administrator yet. Open this address once to become it:");
        println!("  {}/set-up#{code}", running.address);
    }
    until_stopped().await;
    println!("Stopping: running requests are finished first");
    running.stop().await;
    println!("Stopped");
    Ok(())
}
