use super::{Common, Outcome};
use yellow_attic_store::engine::secrets::{USUAL_NAME, look};

/// Look at the key that seals second factors, whether or not the service runs.
///
/// It is made at the first start, in the file that secrets_key names (secrets.key in the data folder, if nobody says).
/// Without it, accounts that have a second factor cannot sign in but by a recovery code.
#[derive(clap::Args)]
pub struct Key {
    #[command(subcommand)]
    asked: Asked,
}

#[derive(clap::Subcommand)]
enum Asked {
    /// Print the key, so that it can be kept elsewhere.
    Show(Common),
    /// Try the key on every secret that is sealed; exit status 1 if it is not the right one.
    Check(Common),
}

impl Key {
    /// Settings.
    pub fn common(&self) -> &Common {
        match &self.asked {
            Asked::Show(common) | Asked::Check(common) => common,
        }
    }
}

/// Shows or checks it.
pub async fn run(key: &Key) -> Outcome {
    let config = key.common().read()?;
    let path = config.secrets_key.clone().unwrap_or_else(|| config.data.join(USUAL_NAME));
    let fit = look(&config.data, &path).await?;
    let at = path.display();
    println!("Key file  {at}");
    println!("Key       {}", fit.found.as_deref().unwrap_or("not there"));
    println!("Store     {}", fit.wanted.as_deref().unwrap_or("has sealed nothing yet"));
    println!("Secrets   {} of {} opened by it", fit.opened, fit.sealed);
    let wanted = fit.wanted.as_deref().unwrap_or_default();
    if fit.found.is_none() && fit.sealed > 0 {
        return Err(format!(
            "the key {wanted} is not in {at}\n  Put it back there, or say in secrets_key where it is. If it is lost: let each account in by yatticd let-in ACCOUNT --without-factors; a new key is made once nothing is sealed with the old one."
        )
        .into());
    }
    if fit.found.is_some() && fit.wanted.is_some() && fit.found != fit.wanted && fit.sealed > 0 {
        return Err(format!("{at} holds another key than {wanted}\n  Put the right one in its place.").into());
    }
    if fit.opened < fit.sealed {
        let damaged = fit.sealed - fit.opened;
        return Err(format!(
            "{damaged} secrets are damaged\n  Take those second factors away and set them up anew."
        )
        .into());
    }
    if let (Asked::Show(_), true) = (&key.asked, fit.found.is_some()) {
        print!("Its text  {}", std::fs::read_to_string(&path)?);
        println!(
            "          Whoever has it and a copy of the data can make codes of second factors: keep it apart."
        );
    }
    Ok(())
}
