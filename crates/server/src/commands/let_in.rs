use super::{Common, Outcome};
use yellow_attic_server::state::secrets::{hash_secret, new_secret};
use yellow_attic_store::{Actor, Engine};

/// How long the address counts.
const COUNTS_MS: i64 = 3_600_000;

/// Print an address by which an account chooses a new password, once and within the hour, while the service is stopped.
///
/// For the sole administrator who has lost the password or the second factor. Whoever may run this may read all there is
/// on the machine in any case; it stands in the record.
#[derive(clap::Args)]
pub struct LetIn {
    #[command(flatten)]
    pub common: Common,
    /// The account's sign-in name.
    account: String,
    /// Take its second factors away as well.
    #[arg(long)]
    without_factors: bool,
}

/// Makes the address.
pub async fn run(asked: &LetIn) -> Outcome {
    let config = asked.common.read()?;
    let engine = Engine::open(config.store()).await?;
    let made = make(&engine, asked).await;
    engine.stop().await;
    let secret = made?;
    let scheme = if config.tls.is_some() { "https" } else { "http" };
    let base = config.public_address.unwrap_or_else(|| format!("{scheme}://{}", config.listen));
    println!("Start the service, then open within the hour: {base}/welcome#{secret}");
    Ok(())
}

async fn make(engine: &Engine, asked: &LetIn) -> Result<String, Box<dyn std::error::Error>> {
    let account = engine
        .people()
        .account_named(&asked.account)
        .await?
        .ok_or_else(|| format!("there is no account \"{}\"", asked.account))?;
    if account.disabled_at.is_some() {
        return Err(format!("the account \"{}\" is disabled: enable it first", asked.account).into());
    }
    let actor = Actor { who: "this machine".into(), from: "yatticd let-in".into(), ..Actor::service() };
    let secret = new_secret().map_err(|e| e.to_string())?;
    let expires = engine.now_ms() + COUNTS_MS;
    engine.sign_ins().invite(&actor, &account, hash_secret(&secret), expires).await?;
    if asked.without_factors && !engine.sign_ins().factors(account.id).await?.is_empty() {
        engine.sign_ins().end_factor(&actor, &account, None).await?;
        println!("Its second factors are taken away.");
    }
    Ok(secret)
}
