//! The service under measurement, and the general-purpose server beside it.

use crate::cases::Failure;
use crate::http::Line;
use std::io::{BufRead, BufReader};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A running service with somebody signed in.
pub struct Service {
    child: Child,
    /// Where it listens.
    pub at: SocketAddr,
    /// The device token.
    pub token: String,
    /// From its start to its first line of readiness.
    pub started_in: Duration,
}

pub const PASSWORD: &str = "measured twice, cut once";

impl Service {
    /// Its process.
    pub fn process(&self) -> u32 {
        self.child.id()
    }

    /// Starts it on a data folder, making its administrator if there is none.
    pub fn start(data: &Path) -> Result<Service, Failure> {
        Service::start_set(data, &[])
    }

    /// The same with variables of the environment.
    pub fn start_set(data: &Path, set: &[(&str, &str)]) -> Result<Service, Failure> {
        let port = free_port()?;
        let at: SocketAddr = format!("127.0.0.1:{port}").parse()?;
        if !data.join("catalogue.db").exists() {
            let made = Command::new(beside("yatticd")?)
                .args(["init", "--data", &data.display().to_string()])
                .stdout(Stdio::null())
                .status()?;
            if !made.success() {
                return Err("the store could not be made".into());
            }
        }
        let begun = Instant::now();
        let mut child = Command::new(beside("yatticd")?)
            .args([
                "serve",
                "--data",
                &data.display().to_string(),
                "--listen",
                &at.to_string(),
                "--log",
                "error",
            ])
            .envs(set.iter().copied())
            .stdout(Stdio::piped())
            .spawn()?;
        let out = child.stdout.take().ok_or("no output")?;
        let mut lines = BufReader::new(out).lines();
        let mut code = None;
        let mut started_in = Duration::ZERO;
        for line in lines.by_ref() {
            let line = line?;
            if line.starts_with("Serving") {
                started_in = begun.elapsed();
            }
            if let Some((_, c)) = line.split_once("/set-up#") {
                code = Some(c.to_string());
                break;
            }
            if started_in > Duration::ZERO && data.join("bench-admin").exists() {
                break;
            }
        }
        std::thread::spawn(move || lines.for_each(drop));
        let json = |line: &mut Line, path: &str, body: String| {
            let head = format!(
                "POST /api/v1{path} HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n",
                body.len()
            );
            line.ask(&head, body.as_bytes(), true)
        };
        let mut line = Line::open(at)?;
        if let Some(code) = code {
            let (status, body) = json(
                &mut line,
                "/set-up",
                format!(
                    r#"{{"code":"{code}","sign_in":"bench","display_name":"Bench","password":"{PASSWORD}"}}"#
                ),
            )?;
            if status != 201 {
                return Err(format!("set-up: {}", String::from_utf8_lossy(&body)).into());
            }
            std::fs::write(data.join("bench-admin"), b"")?;
        }
        let (_, body) = json(
            &mut line,
            "/devices",
            format!(r#"{{"sign_in":"bench","password":"{PASSWORD}","device":"bench"}}"#),
        )?;
        let answer: serde_json::Value = serde_json::from_slice(&body)?;
        let token = answer["token"].as_str().ok_or("no token")?.to_string();
        Ok(Service { child, at, token, started_in })
    }

    /// Starts it with more arguments, on a data folder where somebody is signed in with a token.
    pub fn start_with(data: &Path, more: &[&str], token: String) -> Result<Service, Failure> {
        let at: SocketAddr = format!("127.0.0.1:{}", free_port()?).parse()?;
        let begun = Instant::now();
        let child = Command::new(beside("yatticd")?)
            .args([
                "serve",
                "--data",
                &data.display().to_string(),
                "--listen",
                &at.to_string(),
                "--log",
                "error",
            ])
            .args(more)
            .stdout(Stdio::null())
            .spawn()?;
        for _ in 0..400 {
            if std::net::TcpStream::connect(at).is_ok() {
                return Ok(Service { child, at, token, started_in: begun.elapsed() });
            }
            std::thread::sleep(Duration::from_millis(25));
        }
        Err("the service did not start".into())
    }

    /// The head of a request.
    pub fn head(&self, method: &str, path: &str, length: usize) -> String {
        format!(
            "{method} {path} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {}\r\nContent-Length: {length}\r\n\r\n",
            self.token
        )
    }

    /// Asks for JSON.
    pub fn json(&self, method: &str, path: &str, body: &str) -> Result<serde_json::Value, Failure> {
        let mut line = Line::open(self.at)?;
        let head = format!(
            "{method} {path} HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n",
            self.token,
            body.len()
        );
        let (status, answer) = line.ask(&head, body.as_bytes(), true)?;
        if status >= 300 {
            return Err(format!("{method} {path}: {}", String::from_utf8_lossy(&answer)).into());
        }
        Ok(serde_json::from_slice(&answer).unwrap_or_default())
    }

    /// Resident memory in bytes, now and at its highest.
    pub fn memory(&self) -> Result<(u64, u64), Failure> {
        let text = std::fs::read_to_string(format!("/proc/{}/status", self.child.id()))?;
        let of = |name: &str| {
            text.lines()
                .find_map(|l| l.strip_prefix(name))
                .and_then(|l| {
                    l.trim_start_matches(':').trim().split(' ').next().and_then(|n| n.parse::<u64>().ok())
                })
                .unwrap_or(0)
                * 1024
        };
        Ok((of("VmRSS"), of("VmHWM")))
    }

    /// Stops it in peace.
    pub fn stop(mut self) -> Result<(), Failure> {
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        self.child.wait()?;
        Ok(())
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A program that was built beside this one.
pub fn beside(name: &str) -> Result<PathBuf, Failure> {
    Ok(std::env::current_exe()?.parent().ok_or("no folder")?.join(name))
}

fn free_port() -> Result<u16, Failure> {
    Ok(std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}

/// A general-purpose server with its DAV module, without any sync.
pub struct Nginx {
    child: Child,
    /// Where it listens.
    pub at: SocketAddr,
    /// What it serves.
    pub root: PathBuf,
}

impl Nginx {
    /// Starts it in a folder.
    pub fn start(folder: &Path) -> Result<Nginx, Failure> {
        Nginx::start_as(folder, "")
    }

    /// Starts it with TLS.
    pub fn start_with_tls(folder: &Path, certificate: &Path, key: &Path) -> Result<Nginx, Failure> {
        let tls =
            format!("ssl_certificate {}; ssl_certificate_key {};", certificate.display(), key.display());
        Nginx::start_as(folder, &tls)
    }

    fn start_as(folder: &Path, tls: &str) -> Result<Nginx, Failure> {
        let ssl = if tls.is_empty() { "" } else { " ssl" };
        let root = folder.join("root");
        std::fs::create_dir_all(&root)?;
        std::fs::create_dir_all(folder.join("body"))?;
        let port = free_port()?;
        let at: SocketAddr = format!("127.0.0.1:{port}").parse()?;
        let f = folder.display();
        std::fs::write(
            folder.join("nginx.conf"),
            format!(
                "user root; worker_processes 2; daemon off; pid {f}/pid; error_log {f}/error.log;\n\
                 events {{ worker_connections 512; }}\n\
                 http {{ access_log off; sendfile on; tcp_nodelay on; keepalive_requests 10000000;\n\
                 client_max_body_size 0; client_body_temp_path {f}/body;\n\
                 proxy_temp_path {f}/p; fastcgi_temp_path {f}/f; uwsgi_temp_path {f}/u; scgi_temp_path {f}/s;\n\
                 server {{ listen {at}{ssl}; {tls} root {f}/root; dav_methods PUT; }} }}\n"
            ),
        )?;
        let child = Command::new("nginx")
            .args(["-c", &folder.join("nginx.conf").display().to_string()])
            .stderr(Stdio::null())
            .spawn()?;
        for _ in 0..200 {
            if std::net::TcpStream::connect(at).is_ok() {
                return Ok(Nginx { child, at, root });
            }
            std::thread::sleep(Duration::from_millis(25));
        }
        Err("the general-purpose server did not start".into())
    }

    /// The head of a request.
    pub fn head(method: &str, path: &str, length: usize) -> String {
        format!("{method} {path} HTTP/1.1\r\nHost: x\r\nContent-Length: {length}\r\n\r\n")
    }
}

impl Drop for Nginx {
    fn drop(&mut self) {
        // The master ends its workers.
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}

/// A general-purpose server with its DAV module, for listings.
pub struct Apache {
    child: Child,
    /// Where it listens.
    pub at: SocketAddr,
    /// What it serves.
    pub root: PathBuf,
}

impl Apache {
    /// Starts it in a folder.
    pub fn start(folder: &Path) -> Result<Apache, Failure> {
        let root = folder.join("root");
        std::fs::create_dir_all(&root)?;
        let at: SocketAddr = format!("127.0.0.1:{}", free_port()?).parse()?;
        let f = folder.display();
        let modules: String = ["mpm_event", "authz_core", "dav", "dav_fs", "mime", "setenvif"]
            .iter()
            .map(|m| format!("LoadModule {m}_module /usr/lib/apache2/modules/mod_{m}.so\n"))
            .collect();
        std::fs::write(
            folder.join("apache.conf"),
            format!(
                "{modules}ServerRoot {f}\nServerName localhost\nListen {at}\nPidFile {f}/pid\nErrorLog {f}/error.log\n\
                 User www-data\nGroup www-data\nTypesConfig /etc/mime.types\nDocumentRoot {f}/root\nDavLockDB {f}/locks\n\
                 KeepAliveTimeout 60\n<Directory {f}/root>\nDav On\nRequire all granted\n</Directory>\n"
            ),
        )?;
        let child = Command::new("apache2")
            .args(["-X", "-f", &folder.join("apache.conf").display().to_string()])
            .stderr(Stdio::null())
            .spawn()?;
        for _ in 0..200 {
            if std::net::TcpStream::connect(at).is_ok() {
                return Ok(Apache { child, at, root });
            }
            std::thread::sleep(Duration::from_millis(25));
        }
        let log = std::fs::read_to_string(folder.join("error.log")).unwrap_or_default();
        Err(format!("the server with the DAV module did not start: {log}").into())
    }
}

impl Drop for Apache {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}
