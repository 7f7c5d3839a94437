//! TLS from certificate and key files, looked at again when they change.

use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::{Error, ServerConfig};
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, SystemTime};

/// The files are looked at this often.
const LOOK_EVERY: Duration = Duration::from_secs(5);

/// A certificate and its key, as they are in their files.
#[derive(Debug)]
pub struct Pair {
    certificate: PathBuf,
    key: PathBuf,
    current: RwLock<Arc<CertifiedKey>>,
}

impl Pair {
    /// Reads both files. An error says which, and what is wrong.
    pub fn open(certificate: &Path, key: &Path) -> Result<Arc<Pair>, String> {
        let current = RwLock::new(read(certificate, key)?);
        Ok(Arc::new(Pair { certificate: certificate.into(), key: key.into(), current }))
    }

    /// How connections are served: HTTP/2 where the other side can, else HTTP/1.1.
    pub fn server(self: &Arc<Pair>) -> Result<ServerConfig, String> {
        let provider = Arc::new(ring::default_provider());
        let mut config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|e| e.to_string())?
            .with_no_client_auth()
            .with_cert_resolver(self.clone());
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        Ok(config)
    }

    /// Looks at the files now and then, for ever. A pair that cannot be used is told once; the one
    /// before stays in force.
    pub async fn follow(self: Arc<Pair>) {
        let mut seen = self.looks();
        loop {
            tokio::time::sleep(LOOK_EVERY).await;
            let now = self.looks();
            if now == seen {
                continue;
            }
            // The second of the two files may still be on its way.
            tokio::time::sleep(Duration::from_secs(1)).await;
            seen = self.looks();
            match read(&self.certificate, &self.key) {
                Ok(fresh) => {
                    *self.current.write().unwrap_or_else(PoisonError::into_inner) = fresh;
                    tracing::info!("the certificate was read anew");
                }
                Err(reason) => {
                    tracing::error!(%reason, "the new certificate cannot be used; the one before stays in force");
                }
            }
        }
    }

    fn looks(&self) -> [Option<(SystemTime, u64)>; 2] {
        [&self.certificate, &self.key].map(|path| {
            let facts = std::fs::metadata(path).ok()?;
            Some((facts.modified().ok()?, facts.len()))
        })
    }
}

impl ResolvesServerCert for Pair {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.current.read().unwrap_or_else(PoisonError::into_inner).clone())
    }
}

fn read(certificate: &Path, key: &Path) -> Result<Arc<CertifiedKey>, String> {
    let say =
        |what: &str, path: &Path, why: &dyn std::fmt::Display| format!("{what} {}: {why}", path.display());
    let chain: Vec<_> = CertificateDer::pem_file_iter(certificate)
        .and_then(Iterator::collect)
        .map_err(|e| say("the certificate", certificate, &e))?;
    if chain.is_empty() {
        return Err(say("the certificate", certificate, &"no certificate is in the file"));
    }
    let secret = PrivateKeyDer::from_pem_file(key).map_err(|e| say("the key", key, &e))?;
    match CertifiedKey::from_der(chain, secret, &ring::default_provider()) {
        Ok(pair) => Ok(Arc::new(pair)),
        Err(Error::InconsistentKeys(_)) => Err(format!(
            "the key {} does not belong to the certificate {}",
            key.display(),
            certificate.display()
        )),
        Err(e) => Err(say("the certificate", certificate, &e)),
    }
}
