//! Names of accounts and devices, for showing who did something.

use std::collections::HashMap;
use std::sync::Arc;
use yellow_attic_core::{AccountId, DeviceId};
use yellow_attic_store::Engine;

/// Names of accounts and devices, for showing who did something.
#[derive(Default)]
pub struct Names(pub tokio::sync::RwLock<Option<BothMaps>>);

/// All names, and those that people from outside may know: nobody's computers.
pub type BothMaps = (Arc<NameMap>, Arc<NameMap>);

/// Names by id.
#[derive(Default)]
pub struct NameMap {
    /// Of accounts.
    pub accounts: HashMap<AccountId, String>,
    /// Of devices.
    pub devices: HashMap<DeviceId, String>,
}

impl NameMap {
    /// Who made something, and with which device; none if nobody is known.
    pub fn author(&self, account: Option<AccountId>, device: Option<DeviceId>) -> Option<String> {
        let account = account.and_then(|a| self.accounts.get(&a))?;
        match device.and_then(|d| self.devices.get(&d)) {
            Some(device) => Some(format!("{account}, {device}")),
            None => Some(account.clone()),
        }
    }
}

impl Names {
    /// The names as they are.
    pub async fn get(&self, engine: &Engine) -> Arc<NameMap> {
        self.both(engine).await.0
    }

    pub async fn both(&self, engine: &Engine) -> BothMaps {
        if let Some(maps) = &*self.0.read().await {
            return maps.clone();
        }
        let (accounts, devices) = match engine.people().names().await {
            Ok(names) => names,
            // Not remembered: the next look may find them.
            Err(error) => {
                tracing::warn!(%error, "names could not be read; an answer goes without them");
                return BothMaps::default();
            }
        };
        let accounts: HashMap<AccountId, String> = accounts.into_iter().collect();
        let outside = Arc::new(NameMap { accounts: accounts.clone(), devices: HashMap::new() });
        let all = Arc::new(NameMap { accounts, devices: devices.into_iter().collect() });
        let maps = (all, outside);
        *self.0.write().await = Some(maps.clone());
        maps
    }

    /// Something about them changed.
    pub async fn forget(&self) {
        *self.0.write().await = None;
    }
}
