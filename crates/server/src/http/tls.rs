//! TLS from certificate and key files, looked at again when they change.

use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::{CipherSuite, Error, ServerConfig};
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
    pub fn ways(self: &Arc<Pair>) -> Result<Ways, String> {
        let way = |ours: bool| -> Result<Arc<ServerConfig>, String> {
            let mut provider = ring::default_provider();
            if ours {
                // The sort is stable: else the order stays.
                provider.cipher_suites.sort_by_key(|s| !AES_128.contains(&s.suite()));
            }
            let mut config = ServerConfig::builder_with_provider(Arc::new(provider))
                .with_safe_default_protocol_versions()
                .map_err(|e| e.to_string())?
                .with_no_client_auth()
                .with_cert_resolver(self.clone());
            config.ignore_client_order = ours;
            config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
            Ok(Arc::new(config))
        };
        Ok(Ways { ours: way(true)?, theirs: way(false)? })
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

/// AES with keys of 128 bits: as safe for what passes here as with 256, in two thirds of the time.
const AES_128: [CipherSuite; 3] = [
    CipherSuite::TLS13_AES_128_GCM_SHA256,
    CipherSuite::TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256,
    CipherSuite::TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,
];

/// ChaCha20: what those like best whose processor does nothing for AES.
const CHACHA: [CipherSuite; 3] = [
    CipherSuite::TLS13_CHACHA20_POLY1305_SHA256,
    CipherSuite::TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256,
    CipherSuite::TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256,
];

/// Whose liking decides on the cipher.
#[derive(Clone)]
pub struct Ways {
    ours: Arc<ServerConfig>,
    theirs: Arc<ServerConfig>,
}

impl Ways {
    /// How a connection is served, by what it begins with.
    pub fn of(&self, hello: &ClientHello<'_>) -> Arc<ServerConfig> {
        let known = |s: &&CipherSuite| self.knows(**s);
        match hello.cipher_suites().iter().find(known) {
            Some(first) if CHACHA.contains(first) => self.theirs.clone(),
            _ => self.ours.clone(),
        }
    }

    fn knows(&self, suite: CipherSuite) -> bool {
        self.theirs.crypto_provider().cipher_suites.iter().any(|s| s.suite() == suite)
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
