//! A computer whose folder is mounted: files of which only that they are there is known here, programs that open them, write
//! into them or release them, and lines that are cut off meanwhile. What is read is always what the service had at the moment
//! that the file stands for, and nothing is ever sent of what is not here.

use super::machine::Machine;
use super::{Ledger, People, World, new_bytes};
use crate::merge::Hash;
use crate::merge::trial::chance::Chance;
use crate::merge::trial::service::Service;

/// A state of the service: a node and a moment.
pub type State = (i64, i64);

impl Machine {
    /// What a file stands for, read from the service; none while the line is cut off.
    fn fetched(&self, state: State, service: &Service, away: bool) -> Option<Hash> {
        (!away).then(|| service.state(state.0, state.1)).flatten()
    }

    /// What programs do with a mounted folder, beside what they do with any.
    pub fn program(
        &mut self,
        service: &Service,
        away: bool,
        chance: &mut Chance,
        ledger: &mut Ledger,
    ) -> Result<String, String> {
        let files: Vec<u64> = self.disk.all().into_iter().filter(|n| self.disk.hash(*n).is_some()).collect();
        let Some(file) = chance.pick(&files) else { return Ok(String::new()) };
        let hash = self.disk.hash(file).unwrap_or_default();
        let state = self.disk.stubs.get(&file).copied();
        match chance.below(5) {
            // Opened: it pins what it stands for, whatever comes after.
            0 => {
                if let Some(state) = state {
                    self.open.push((state, hash));
                }
                Ok(format!("opens {file}"))
            }
            1 => {
                let Some((state, hash)) = chance.pick(&self.open) else { return Ok(String::new()) };
                match self.fetched(state, service, away) {
                    Some(read) if read != hash => {
                        Err(format!("{state:?} was opened as {hash:?} and read as {read:?}"))
                    }
                    read => Ok(format!("reads {state:?}: {}", read.is_some())),
                }
            }
            // Written into: all of it is brought here first, or nothing is written.
            2 => {
                if let Some(state) = state {
                    match self.fetched(state, service, away) {
                        None => return Ok(format!("cannot write into {file}")),
                        Some(read) if read != hash => {
                            return Err(format!(
                                "{file} stands for {state:?}, which is {read:?} and not {hash:?}"
                            ));
                        }
                        Some(_) => drop(self.disk.stubs.remove(&file)),
                    }
                }
                let bytes = new_bytes(chance, ledger);
                ledger.killed(Some(hash));
                self.disk.write(file, bytes, None);
                ledger.saved(bytes.0);
                Ok(format!("writes into {file} #{}", bytes.0[7]))
            }
            // Kept: brought here, and nothing else of it changes but that something did.
            3 => {
                if let Some(state) = state
                    && self.fetched(state, service, away).is_some()
                {
                    self.disk.stubs.remove(&file);
                    self.disk.touch(file);
                }
                Ok(format!("keeps {file}"))
            }
            _ => Ok(self.releases(file, chance)),
        }
    }

    /// Its bytes go, if the service has them as far as the pair knows.
    fn releases(&mut self, file: u64, chance: &mut Chance) -> String {
        let object = self.disk.object(file);
        let is_it = |f: &crate::merge::Facets| f.here.as_ref().is_some_and(|here| here.object == object);
        let Some((item, facets)) = self.pair.items().find(|(_, f)| is_it(f)).map(|(i, f)| (i, f.clone()))
        else {
            return String::new();
        };
        let (Some(here), Some(there)) = (facets.here, facets.there) else { return String::new() };
        let sent = here.hash.is_some() && here.hash == there.bytes.map(|(hash, _)| hash);
        if !sent || self.disk.stat(file) != here.stat || self.disk.stubs.contains_key(&file) {
            return String::new();
        }
        self.disk.stubs.insert(file, (there.node.0, there.moment.0));
        self.disk.touch(file);
        // A stop may come before the pair knows of it.
        if chance.percent(70)
            && let (Some(was), Some(now)) = (here.stat, self.disk.stat(file))
        {
            self.pair.let_go(item, was, now);
        }
        format!("releases {file}")
    }
}

/// Runs a schedule with a mounted folder on one or two of the computers.
pub fn mounting(seed: u64, telling: bool) -> (World, Result<(), String>) {
    let mut world = World::new(seed, 2 + (seed % 2) as usize, telling);
    let many = 1 + (seed % 2) as usize;
    world.machines.iter_mut().take(many).for_each(|machine| machine.mounted = true);
    let faulty = !seed.is_multiple_of(4);
    let mut outcome = Ok(());
    for _ in 0..2 {
        let mut away = false;
        for _ in 0..100 + world.chance.below(400) {
            if world.chance.percent(4) {
                away = !away && faulty;
            }
            if world.chance.percent(20) {
                let n = world.chance.below(many);
                let (machine, chance) = (&mut world.machines[n], &mut world.chance);
                match machine.program(&world.service, away, chance, &mut world.ledger) {
                    Ok(told) => world.tell(|| format!("{n} {told}")),
                    Err(why) => return (world, Err(why)),
                }
            } else {
                world.step(faulty, People::Anywhere);
            }
        }
        outcome = world.quiet().and_then(|()| world.check()).and_then(|()| bytes_are_to_be_had(&world));
        if outcome.is_err() {
            break;
        }
    }
    (world, outcome)
}

/// All that stands for something on the service can be read there, and is what it is taken for; nothing waits for bytes that
/// are nowhere.
fn bytes_are_to_be_had(world: &World) -> Result<(), String> {
    for machine in &world.machines {
        for (inode, state) in &machine.disk.stubs {
            let (read, hash) = (world.service.state(state.0, state.1), machine.disk.hash(*inode));
            if read != hash {
                return Err(format!(
                    "{}: {inode} stands for {state:?}: {read:?} and not {hash:?}",
                    machine.name
                ));
            }
        }
        if let Some((item, _, why)) = machine.pair.held().next() {
            return Err(format!("{}: {item:?} is held: {why:?}", machine.name));
        }
    }
    Ok(())
}
