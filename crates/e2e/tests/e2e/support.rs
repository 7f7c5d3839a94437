//! A service of its own for each test, with an administrator and a connected computer.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};
use yellow_attic_client::{Client, api};

pub const PASSWORD: &str = "lamp oil and fog";

/// The built programs lie beside the tests.
pub fn program(name: &str) -> PathBuf {
    let mut dir = std::env::current_exe().unwrap();
    dir.pop();
    dir.pop();
    dir.join(name)
}

/// A program of the clients that others wrote.
pub fn python(script: &str) -> Command {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut python = Command::new(here.join("../../target/python/bin/python3"));
    python.arg(here.join("clients").join(script));
    python
}

pub struct Service {
    pub child: Child,
    pub address: String,
    pub set_up_code: Option<String>,
    pub data: PathBuf,
    _dir: Option<tempfile::TempDir>,
}

impl Service {
    /// Starts on a data folder; on a port that the system chooses.
    pub fn start_in(data: &Path) -> Service {
        Service::start_with(data, &[])
    }

    /// The same with more arguments. A store is made first if there is none; whatever the disk under the test
    /// promises.
    pub fn start_with(data: &Path, more: &[&str]) -> Service {
        Service::start_set(data, more, &[])
    }

    /// The same with variables of the environment.
    pub fn start_set(data: &Path, more: &[&str], set: &[(&str, &str)]) -> Service {
        if !data.join("store").exists() && !data.join("catalogue.db").exists() {
            let made = Command::new(program("yatticd"))
                .args(["init", "--accept-unsafe-disk", "--data"])
                .arg(data)
                .env_clear()
                .envs(set.iter().copied())
                .output()
                .unwrap();
            assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        }
        let mut child = Command::new(program("yatticd"))
            .args(["serve", "--listen", "127.0.0.1:0", "--log", "error", "--data"])
            .arg(data)
            .args(more)
            .env_clear()
            .envs(set.iter().copied())
            .stdout(Stdio::piped())
            // A service whose disk is taken away says much.
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let mut address = String::new();
        let mut set_up_code = None;
        // With an administrator there is nothing after this line.
        let known = data.join("has-administrator").exists();
        for line in lines.by_ref() {
            let line = line.unwrap();
            if let Some(a) = line.strip_prefix("Serving ") {
                address = a.to_string();
                if known {
                    break;
                }
            }
            if let Some((_, code)) = line.split_once("/set-up#") {
                set_up_code = Some(code.to_string());
                break;
            }
        }
        assert!(!address.is_empty(), "the service did not start");
        std::thread::spawn(move || lines.for_each(drop));
        Service { child, address, set_up_code, data: data.to_path_buf(), _dir: None }
    }

    /// A new service in a folder of its own, without an administrator.
    pub fn new() -> Service {
        let dir = tempfile::tempdir().unwrap();
        let mut service = Service::start_in(&dir.path().join("data"));
        service._dir = Some(dir);
        service
    }

    /// SIGKILL, and a new process on the same data.
    pub fn killed_and_started_again(mut self) -> Service {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
        let mut service = Service::start_in(&self.data);
        service._dir = self._dir.take();
        service
    }

    /// The same, with the catalogue changed between.
    pub fn changed_and_started_again(mut self, statement: &str) -> Service {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
        in_the_catalogue(&self.data, statement);
        let mut service = Service::start_in(&self.data);
        service._dir = self._dir.take();
        service
    }

    /// Makes Ines the administrator.
    pub async fn set_up(&mut self) {
        let code = self.set_up_code.take().unwrap();
        let body = api::SetUp {
            code,
            sign_in: "ines".into(),
            display_name: "Ines Marrow".into(),
            password: PASSWORD.into(),
        };
        Client::new(&self.address, None).unwrap().set_up(&body).await.unwrap();
        // Synced: a test may cut the power at any time.
        let known = std::fs::File::create(self.data.join("has-administrator")).unwrap();
        known.sync_all().unwrap();
        std::fs::File::open(&self.data).unwrap().sync_all().unwrap();
    }

    /// A client signed in as Ines, on a computer of its own.
    pub async fn client(&self) -> Client {
        self.client_of("ines").await
    }

    /// The same of somebody else.
    pub async fn client_of(&self, sign_in: &str) -> Client {
        let asked = api::NewDevice {
            sign_in: sign_in.into(),
            password: PASSWORD.into(),
            device: "scanner room".into(),
            ..Default::default()
        };
        let token = Client::new(&self.address, None).unwrap().connect(&asked).await.unwrap().token;
        Client::new(&self.address, Some(&token)).unwrap()
    }

    /// Set up, with a client.
    pub async fn ready() -> (Service, Client) {
        let mut service = Service::new();
        service.set_up().await;
        let client = service.client().await;
        (service, client)
    }

    /// Sends bytes as they are, and returns all that comes back.
    pub fn raw(&self, request: &[u8]) -> String {
        let mut line = TcpStream::connect(self.address.trim_start_matches("http://")).unwrap();
        line.set_read_timeout(Some(PATIENCE)).unwrap();
        // It may be refused before all of it is sent.
        let _ = line.write_all(request);
        let _ = line.shutdown(std::net::Shutdown::Write);
        let mut answer = Vec::new();
        let _ = line.read_to_end(&mut answer);
        String::from_utf8_lossy(&answer).into_owned()
    }

    /// Bytes of files that came in the usual ways.
    pub async fn received(&self) -> u64 {
        self.figure("yattic_received_bytes_total").await
    }

    /// Bytes of files that went out.
    pub async fn sent(&self) -> u64 {
        self.figure("yattic_sent_bytes_total").await
    }

    async fn figure(&self, name: &str) -> u64 {
        let asked = api::NewDevice {
            sign_in: "ines".into(),
            password: PASSWORD.into(),
            device: "watch".into(),
            ..Default::default()
        };
        let token = Client::new(&self.address, None).unwrap().connect(&asked).await.unwrap().token;
        let call = reqwest::Client::new().get(format!("{}/metrics", self.address)).bearer_auth(token);
        let text = call.send().await.unwrap().text().await.unwrap();
        let line = text.lines().find_map(|l| l.strip_prefix(name));
        line.unwrap_or_else(|| panic!("no {name}: {text}")).trim().parse().unwrap()
    }

    /// What lies in staging once nothing is under way.
    pub fn staging_is_clean(&self) -> bool {
        wait_for(|| std::fs::read_dir(self.data.join("staging")).unwrap().count() == 0)
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// How long what must come is waited for: machines are slow at times, and whoever waits is told at once when it comes.
pub const PATIENCE: Duration = Duration::from_secs(90);

/// Waits for a condition.
pub fn wait_for(mut condition: impl FnMut() -> bool) -> bool {
    let begun = Instant::now();
    while begun.elapsed() < PATIENCE {
        if condition() {
            return true;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    condition()
}

/// The same of what is asked for.
pub async fn eventually(mut condition: impl AsyncFnMut() -> bool) -> bool {
    let begun = Instant::now();
    while begun.elapsed() < PATIENCE {
        if condition().await {
            return true;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    false
}

/// A process that ends with its test, whatever becomes of that.
pub struct Ends(pub Child);

impl Drop for Ends {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// The client as a process, with a cleared environment and a home of its own.
pub struct Yattic {
    pub home: tempfile::TempDir,
}

impl Yattic {
    pub fn new() -> Yattic {
        Yattic { home: tempfile::tempdir().unwrap() }
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(program("yattic"));
        command
            .args(arguments)
            // What a command writes where it runs stays below the test's own folder.
            .current_dir(self.home.path())
            .env_clear()
            .env("YATTIC_HOME", self.home.path())
            .env("XDG_CACHE_HOME", self.home.path().join("xdg-cache"))
            .env("TZ", "UTC")
            .stdin(Stdio::null());
        command
    }

    pub fn run(&self, arguments: &[&str]) -> Output {
        self.command(arguments).output().unwrap()
    }

    /// Runs it; it must succeed. Returns what it printed.
    pub fn ok(&self, arguments: &[&str]) -> String {
        let done = self.run(arguments);
        assert!(
            done.status.success(),
            "yattic {arguments:?}: {}{}",
            String::from_utf8_lossy(&done.stdout),
            String::from_utf8_lossy(&done.stderr)
        );
        String::from_utf8(done.stdout).unwrap()
    }

    /// Runs it; it must fail with this status. Returns what it said.
    pub fn fails(&self, status: i32, arguments: &[&str]) -> String {
        let done = self.run(arguments);
        let said = String::from_utf8(done.stderr).unwrap();
        assert_eq!(done.status.code(), Some(status), "yattic {arguments:?}: {said}");
        said
    }

    /// Runs it with standard input. Returns what it printed.
    pub fn fed(&self, arguments: &[&str], input: &[u8]) -> Output {
        let mut child = self
            .command(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(input).unwrap();
        child.wait_with_output().unwrap()
    }

    pub fn connect(&self, service: &Service) {
        self.connect_to(&service.address);
    }

    pub fn connect_to(&self, address: &str) {
        let said = self.try_connect(address, "ines", PASSWORD);
        assert_eq!(said, "");
    }

    /// Connects under a name for the computer.
    pub fn connect_as(&self, service: &Service, device: &str) {
        let asked =
            ["connect", &service.address, "--sign-in", "ines", "--password-stdin", "--device", device];
        let done = self.fed(&asked, format!("{PASSWORD}\n").as_bytes());
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    }

    /// Turns to where the service listens by now, with the token it has.
    pub fn follow(&self, service: &Service) {
        let file = self.home.path().join("connection.toml");
        let text = std::fs::read_to_string(&file).unwrap();
        let lines = text.lines().map(|line| match line.starts_with("address") {
            true => format!("address = \"{}\"\n", service.address),
            false => format!("{line}\n"),
        });
        std::fs::write(&file, lines.collect::<String>()).unwrap();
    }

    /// Connects as somebody. Returns why not, if it is refused.
    pub fn try_connect(&self, address: &str, name: &str, password: &str) -> String {
        let done = self.fed(
            &["connect", address, "--sign-in", name, "--password-stdin", "--device", "front desk laptop"],
            format!("{password}\n").as_bytes(),
        );
        let said = String::from_utf8_lossy(&done.stderr).into_owned();
        assert_eq!(done.status.success(), said.is_empty(), "{said}");
        said
    }
}

/// Changes the catalogue of a service that is stopped.
pub fn in_the_catalogue(data: &Path, statement: &str) {
    let done = python("in_catalogue.py").arg(data.join("catalogue.db")).arg(statement).output().unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
}
