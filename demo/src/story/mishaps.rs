//! What went wrong: a clean-up that was made good, and a computer that was not its owner's any more.

use super::{Failure, HOUR, Museum};
use crate::files;
use yellow_attic_store::Place;

impl Museum {
    /// A clean-up that went wrong, three weeks ago, and what was done about it the next day.
    pub(super) async fn mishap(&mut self) -> Result<(), Failure> {
        self.at(20, 16);
        let spoiled: Vec<String> = (1..=34).map(|p| format!("logbook-1911-p{p:03}.png")).collect();
        let moment = self.engine.history().now_moment().await?;
        for name in &spoiled {
            let mut bytes = files::page_png("a blank page");
            bytes.truncate(900 + name.len());
            self.put("front desk laptop", "Collections:Logbooks/1911", name, bytes).await?;
        }
        self.at(19, 9);
        for name in &spoiled[..30] {
            let node = self.file("Collections:Logbooks/1911", name)?;
            self.engine.history().restore(&self.actor("ines"), node, Some(moment), Place::Last).await?;
        }
        Ok(())
    }

    /// Three days ago something on the front desk's laptop made the season's photographs unreadable, one after
    /// the other, and gave them another ending. It was noticed and shut out; nothing is rolled back yet. Two
    /// people went on working there, and theirs must not be lost by the way back.
    pub(super) async fn sealed(&mut self) -> Result<(), Failure> {
        self.engine.history().watch_for_mass_change().await?;
        self.at(3, 14);
        let (who, folder) = ("front desk laptop", "Visitor desk:Photographs/Season");
        for n in 1..=58 {
            let name = format!("view-{n:03}.jpg");
            let size = 21_000 + self.dice.below(9_000) as usize;
            let noise: Vec<u8> = (0..size).map(|_| self.dice.below(256) as u8).collect();
            self.put(who, folder, &name, noise).await?;
            self.rename(who, folder, &name, folder, &format!("{name}.sealed")).await?;
            self.clock.set(self.engine.now_ms() + 4_000);
        }
        self.engine.history().watch_for_mass_change().await?;
        self.clock.set(self.engine.now_ms() + HOUR);
        let tickets = files::inventory_csv("tickets-August.csv, corrected", 92);
        self.put("dario", "Visitor desk:Tickets", "tickets-August.csv", tickets).await?;
        let note = files::notes_md("What happened to the photographs", 2);
        self.put("ivy", "Visitor desk:Handovers", "about-the-photographs.md", note).await
    }
}
