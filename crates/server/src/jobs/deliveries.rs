//! Tells of deliveries, gathered.

use crate::state::State;
use std::collections::HashMap;
use yellow_attic_core::OpeningId;
use yellow_attic_core::people::Notice;
use yellow_attic_core::size::human;
use yellow_attic_store::sharing::deliveries::Delivery;
use yellow_attic_store::{Actor, StoreError};

/// Deliveries are told of when none has been done for so long: gathered, not one by one.
pub const QUIET_MS: i64 = 30_000;

/// Tells the makers of intakes what was handed in, gathered.
pub async fn tell_of_deliveries(state: &State) -> Result<(), StoreError> {
    state.engine.sharing().close_deliveries().await?;
    let untold = state.engine.sharing().untold_deliveries(QUIET_MS).await?;
    if untold.is_empty() {
        return Ok(());
    }
    let ids = untold.iter().map(|d| d.id).collect();
    let mut by: HashMap<OpeningId, Vec<&Delivery>> = HashMap::new();
    for delivery in &untold {
        by.entry(delivery.opening).or_default().push(delivery);
    }
    let accounts = state.engine.people().accounts().await?;
    for (opening, deliveries) in by {
        let Some(opening) = state.engine.sharing().opening(opening).await? else { continue };
        let Some(maker) = accounts.iter().find(|a| a.id == opening.made_by) else { continue };
        let name = crate::dto::opening::name_of(state, &opening).await;
        let title = if opening.title.is_empty() { &name } else { &opening.title };
        let mut lines: Vec<String> = deliveries
            .iter()
            .take(50)
            .map(|d| {
                let broken = if d.broken { ", broken off" } else { "" };
                let mail = d.mail.as_deref().map(|m| format!(" ({m})")).unwrap_or_default();
                format!("{}{mail}: {} files, {}{broken}, from {}", d.sender, d.files, human(d.bytes), d.from)
            })
            .collect();
        if deliveries.len() > 50 {
            lines.push(format!("and {} more", deliveries.len() - 50));
        }
        let said = format!("handed in at \"{title}\", into \"{name}\":\n{}", lines.join("\n"));
        let subject = match deliveries.as_slice() {
            [one] => format!("{} has handed something in", one.sender),
            all => format!("{} deliveries at \"{title}\"", all.len()),
        };
        crate::state::letters::tell(state, &Actor::service(), maker, Some(Notice::Strangers), subject, said)
            .await;
    }
    state.engine.sharing().told_deliveries(ids).await
}
