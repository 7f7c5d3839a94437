//! Folders that are kept the same: first joining, one change, a renamed folder, a start, and doing nothing.

use crate::cases::{Failure, line, median};
use crate::disk::run as command;
use crate::peers::{PASSWORD, Service, beside};
use std::fs;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// Each first joining is of a folder of its own.
const PAIRS: usize = 3;
const FOLDERS: usize = 100;
const EACH: usize = 200;
/// Nothing takes longer than this.
const PATIENCE: Duration = Duration::from_secs(300);

/// Passes on what comes, and counts it.
struct Counter {
    at: SocketAddr,
    bytes: Arc<AtomicU64>,
}

impl Counter {
    fn before(to: SocketAddr) -> Result<Counter, Failure> {
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let (at, bytes) = (listener.local_addr()?, Arc::new(AtomicU64::new(0)));
        let count = bytes.clone();
        std::thread::spawn(move || {
            for from in listener.incoming().flatten() {
                let Ok(to) = TcpStream::connect(to) else { continue };
                for (one, other) in [(from.try_clone(), to.try_clone()), (Ok(to), Ok(from))] {
                    let (Ok(one), Ok(other), count) = (one, other, count.clone()) else { continue };
                    std::thread::spawn(move || pass_on(one, other, &count));
                }
            }
        });
        Ok(Counter { at, bytes })
    }
}

fn pass_on(mut from: TcpStream, mut to: TcpStream, count: &AtomicU64) {
    let mut piece = vec![0; 64 << 10];
    while let Ok(n) = from.read(&mut piece) {
        if n == 0 || to.write_all(&piece[..n]).is_err() {
            break;
        }
        count.fetch_add(n as u64, Ordering::Relaxed);
    }
    let _ = to.shutdown(std::net::Shutdown::Write);
}

/// A computer with its own settings.
pub struct Computer {
    home: PathBuf,
    folder: PathBuf,
    pub running: Option<Child>,
}

impl Computer {
    pub fn connect(disk: &Path, name: &str, at: SocketAddr) -> Result<Computer, Failure> {
        let (home, folder) = (disk.join(format!("home-{name}")), disk.join(name));
        fs::create_dir_all(&home)?;
        let computer = Computer { home, folder, running: None };
        let mut child = computer
            .yattic(&[
                "connect",
                &format!("http://{at}"),
                "--sign-in",
                "bench",
                "--password-stdin",
                "--device",
                name,
            ])?
            .stdin(Stdio::piped())
            .spawn()?;
        child.stdin.take().ok_or("no input")?.write_all(PASSWORD.as_bytes())?;
        match child.wait()?.success() {
            true => Ok(computer),
            false => Err("a computer was not connected".into()),
        }
    }

    pub fn yattic(&self, arguments: &[&str]) -> Result<Command, Failure> {
        let mut command = Command::new(beside("yattic")?);
        command.args(arguments).env("YATTIC_HOME", &self.home).stdout(Stdio::null());
        Ok(command)
    }

    pub fn ok(&self, arguments: &[&str]) -> Result<(), Failure> {
        match self.yattic(arguments)?.status()?.success() {
            true => Ok(()),
            false => Err(format!("yattic {} failed", arguments.join(" ")).into()),
        }
    }

    fn pair(&self, remote: &str) -> Result<(), Failure> {
        self.ok(&["sync", "add", &self.folder.display().to_string(), remote])
    }

    /// Both sides are the same: how long that took.
    fn once(&self) -> Result<f64, Failure> {
        let begun = Instant::now();
        self.ok(&["sync", "run", "--once"])?;
        Ok(begun.elapsed().as_secs_f64())
    }

    fn run(&mut self) -> Result<(), Failure> {
        self.running = Some(self.yattic(&["sync", "run"])?.spawn()?);
        Ok(())
    }

    /// Seconds of the processor, and MiB of memory, of what runs.
    pub fn costs(&self) -> Result<(f64, f64), Failure> {
        costs_of(self.running.as_ref().ok_or("it does not run")?.id())
    }

    /// Waits until its pair is in step.
    fn in_step(&self) -> Result<(), Failure> {
        let begun = Instant::now();
        while begun.elapsed() < PATIENCE {
            for entry in fs::read_dir(self.home.join("pairs"))?.flatten() {
                let name = entry.file_name();
                if name.to_string_lossy().ends_with(".status.json")
                    && fs::read_to_string(entry.path())?.contains(r#""state":"in_step""#)
                {
                    return Ok(());
                }
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Err("a pair did not come into step".into())
    }
}

impl Drop for Computer {
    fn drop(&mut self) {
        if let Some(mut child) = self.running.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// Seconds of the processor, and MiB of memory, of a process.
pub fn costs_of(process: u32) -> Result<(f64, f64), Failure> {
    let seconds = seconds_of(process)?;
    let status = fs::read_to_string(format!("/proc/{process}/status"))?;
    let held = status.lines().find_map(|l| l.strip_prefix("VmRSS:")).ok_or("no memory")?;
    let kib: f64 = held.trim().trim_end_matches(" kB").parse()?;
    Ok((seconds, kib / 1024.0))
}

/// Seconds of the processor that a process has taken.
fn seconds_of(process: u32) -> Result<f64, Failure> {
    let stat = fs::read_to_string(format!("/proc/{process}/stat"))?;
    let after: Vec<&str> = stat.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
    let ticks: f64 =
        after.get(11).ok_or("no time")?.parse::<f64>()? + after.get(12).ok_or("no time")?.parse::<f64>()?;
    Ok(ticks / 100.0)
}

/// Files of 8 KiB that differ.
fn files(at: &Path, folders: usize, each: usize) -> Result<(), Failure> {
    let mut bytes = vec![0; 8192];
    for folder in 0..folders {
        let folder = at.join(format!("folder-{folder:03}"));
        fs::create_dir_all(&folder)?;
        for n in 0..each {
            blake3::Hasher::new()
                .update(folder.to_string_lossy().as_bytes())
                .update(&n.to_le_bytes())
                .finalize_xof()
                .fill(&mut bytes);
            fs::write(folder.join(format!("file-{n:03}")), &bytes)?;
        }
    }
    Ok(())
}

pub fn until(what: impl Fn() -> bool) -> Result<f64, Failure> {
    let begun = Instant::now();
    while begun.elapsed() < PATIENCE {
        if what() {
            return Ok(begun.elapsed().as_secs_f64());
        }
        std::thread::sleep(Duration::from_millis(2));
    }
    Err("what was to come did not come".into())
}

pub fn told(what: &str, figure: f64, unit: &str, reach: &str) {
    println!("{what:<52} {figure:>6.2} {unit:<4} {:>21}  {reach}", "");
}

/// Runs it on a service of its own.
pub fn run(disk: &Path) -> Result<(), Failure> {
    let data = disk.join("store-sync");
    fs::create_dir_all(&data)?;
    let service = Service::start(&data)?;
    let (mut ups, mut downs, mut copies) = (Vec::new(), Vec::new(), Vec::new());
    for n in 0..PAIRS {
        let (one, two) = (format!("up-{n}"), format!("down-{n}"));
        let (up, down) =
            (Computer::connect(disk, &one, service.at)?, Computer::connect(disk, &two, service.at)?);
        files(&up.folder, FOLDERS, EACH)?;
        command("sync", &[])?;
        let begun = Instant::now();
        command(
            "cp",
            &["-r", &up.folder.display().to_string(), &disk.join(format!("copy-{n}")).display().to_string()],
        )?;
        command("sync", &[])?;
        copies.push(begun.elapsed().as_secs_f64());
        let remote = format!("home:/{one}");
        up.ok(&["mkdir", &remote])?;
        up.pair(&remote)?;
        ups.push(up.once()?);
        down.pair(&remote)?;
        command("sync", &[])?;
        downs.push(down.once()?);
        command(
            "diff",
            &["-r", "-x", ".yattic", &up.folder.display().to_string(), &down.folder.display().to_string()],
        )?;
    }
    let copy = median(copies);
    let (up, down) = (median(ups), median(downs));
    line("20,000 files of 8 KiB down, against cp -r and sync", down, copy, "s", copy / down, "at least 0.4");
    line("the same up", up, copy, "s", copy / up, "at least 0.3");
    one_change(disk, service.at)?;
    one_large(disk, service.at)?;
    many(disk, service.at)?;
    fleet(disk, &service)?;
    service.stop()
}

/// A file of 1 GiB of which 1 MiB in the middle is changed: what goes over the line for that, each way.
fn one_large(disk: &Path, at: SocketAddr) -> Result<(), Failure> {
    const MIDDLE: u64 = 512 << 20;
    let (sent, fetched) = (Counter::before(at)?, Counter::before(at)?);
    let mut one = Computer::connect(disk, "large-one", sent.at)?;
    let mut two = Computer::connect(disk, "large-two", fetched.at)?;
    fs::create_dir_all(&one.folder)?;
    let (mut file, mut noise) = (fs::File::create(one.folder.join("film"))?, vec![0; 1 << 20]);
    for n in 0..1024_u64 {
        blake3::Hasher::new().update(&n.to_le_bytes()).finalize_xof().fill(&mut noise);
        file.write_all(&noise)?;
    }
    drop(file);
    one.ok(&["mkdir", "home:/large"])?;
    for computer in [&mut one, &mut two] {
        computer.pair("home:/large")?;
        computer.once()?;
        computer.run()?;
        computer.in_step()?;
    }
    std::thread::sleep(Duration::from_secs(5));
    let before = (sent.bytes.load(Ordering::Relaxed), fetched.bytes.load(Ordering::Relaxed));
    blake3::Hasher::new().update(b"changed").finalize_xof().fill(&mut noise);
    let file = fs::File::options().write(true).open(one.folder.join("film"))?;
    std::os::unix::fs::FileExt::write_all_at(&file, &noise, MIDDLE)?;
    drop(file);
    let there = || {
        let mut read = vec![0; noise.len()];
        let file = fs::File::open(two.folder.join("film"));
        file.is_ok_and(|f| std::os::unix::fs::FileExt::read_exact_at(&f, &mut read, MIDDLE).is_ok())
            && read == noise
    };
    let took = until(there)?;
    std::thread::sleep(Duration::from_secs(2));
    let mib = |bytes: u64| bytes as f64 / f64::from(1 << 20);
    let up = mib(sent.bytes.load(Ordering::Relaxed) - before.0);
    let down = mib(fetched.bytes.load(Ordering::Relaxed) - before.1);
    told("1 GiB with 1 MiB changed, bytes on the wire up", up, "MiB", "under 3 MiB");
    told("the same down", down, "MiB", "under 3 MiB");
    told("the same, until it is on the second", took, "s", "");
    Ok(())
}

/// Many devices on one service: one file is changed, and all have it.
fn fleet(disk: &Path, service: &Service) -> Result<(), Failure> {
    const DEVICES: usize = 200;
    // They are all of one account here, which may watch with 128 of them as systems come.
    fs::write("/proc/sys/fs/inotify/max_user_instances", "1024")?;
    let mut fleet = Vec::with_capacity(DEVICES);
    for n in 0..DEVICES {
        let mut computer = Computer::connect(disk, &format!("fleet-{n}"), service.at)?;
        if n == 0 {
            fs::create_dir_all(&computer.folder)?;
            fs::write(computer.folder.join("notice.txt"), "open")?;
            computer.ok(&["mkdir", "home:/fleet"])?;
        }
        computer.pair("home:/fleet")?;
        computer.once()?;
        computer.run()?;
        fleet.push(computer);
    }
    for computer in &fleet {
        computer.in_step()?;
    }
    std::thread::sleep(Duration::from_secs(20));
    let mut took = Vec::new();
    let (before, begun) = (seconds_of(service.process())?, Instant::now());
    for n in 0..5 {
        let text = format!("closed {n}");
        fs::write(fleet[0].folder.join("notice.txt"), &text)?;
        let has = |computer: &Computer| {
            fs::read_to_string(computer.folder.join("notice.txt")).is_ok_and(|there| there == text)
        };
        took.push(until(|| fleet.iter().rev().all(has))?);
        std::thread::sleep(Duration::from_secs(2));
    }
    let of = (seconds_of(service.process())? - before) / begun.elapsed().as_secs_f64();
    told("200 devices, one file changed, until all have it", median(took), "s", "within 5 s");
    told("the same, the service's part of a processor", of, "", "under 1");
    Ok(())
}

/// One small file, and a renamed folder, until they are on the second computer.
fn one_change(disk: &Path, at: SocketAddr) -> Result<(), Failure> {
    let counter = Counter::before(at)?;
    let mut one = Computer::connect(disk, "one", counter.at)?;
    let mut two = Computer::connect(disk, "two", counter.at)?;
    for computer in [&mut one, &mut two] {
        computer.pair("home:/up-0")?;
        computer.once()?;
        computer.run()?;
        computer.in_step()?;
    }
    std::thread::sleep(Duration::from_secs(3));
    let mut took = Vec::new();
    for n in 0..15 {
        let text = format!("change {n}");
        fs::write(one.folder.join("folder-000/file-000"), &text)?;
        let other = two.folder.join("folder-000/file-000");
        took.push(until(|| fs::read_to_string(&other).is_ok_and(|there| there == text))?);
        std::thread::sleep(Duration::from_millis(700));
    }
    told("a changed small file until it is on the second", median(took), "s", "under 1 s, median");
    // All of it lies in one folder that is renamed.
    fs::create_dir(one.folder.join("all"))?;
    for folder in 0..FOLDERS {
        let name = format!("folder-{folder:03}");
        fs::rename(one.folder.join(&name), one.folder.join("all").join(&name))?;
    }
    let last = two.folder.join(format!("all/folder-{:03}/file-000", FOLDERS - 1));
    until(|| last.exists())?;
    std::thread::sleep(Duration::from_secs(5));
    let before = counter.bytes.load(Ordering::Relaxed);
    fs::rename(one.folder.join("all"), one.folder.join("whole"))?;
    let last = two.folder.join(format!("whole/folder-{:03}/file-000", FOLDERS - 1));
    let took = until(|| last.exists())?;
    std::thread::sleep(Duration::from_secs(3));
    let bytes = counter.bytes.load(Ordering::Relaxed) - before;
    told("a folder of 20,000 files renamed, until it is there", took, "s", "under 2 s");
    told("the same, bytes on the wire", bytes as f64 / 1024.0, "KiB", "under 64 KiB");
    Ok(())
}

/// A start, and doing nothing, with 100,000 files.
fn many(disk: &Path, at: SocketAddr) -> Result<(), Failure> {
    let mut computer = Computer::connect(disk, "many", at)?;
    for folder in 0..500 {
        let folder = computer.folder.join(format!("folder-{folder:03}"));
        fs::create_dir_all(&folder)?;
        for n in 0..200 {
            fs::write(folder.join(format!("file-{n:03}")), n.to_string())?;
        }
    }
    computer.ok(&["mkdir", "home:/many"])?;
    computer.pair("home:/many")?;
    computer.once()?;
    let (mut starts, mut finds) = (Vec::new(), Vec::new());
    for _ in 0..5 {
        let begun = Instant::now();
        command("find", &[&computer.folder.display().to_string(), "-printf", "%p %s %T@ %C@ %i\n"])?;
        finds.push(begun.elapsed().as_secs_f64());
        starts.push(computer.once()?);
    }
    let (start, find) = (median(starts), median(finds));
    line("start with 100,000 files, nothing changed, to find", start, find, "s", start / find, "at most 3");
    computer.run()?;
    computer.in_step()?;
    std::thread::sleep(Duration::from_secs(5));
    let (before, _) = computer.costs()?;
    let begun = Instant::now();
    std::thread::sleep(Duration::from_secs(30));
    let (after, memory) = computer.costs()?;
    told(
        "idle with 100,000 files, of one processor",
        (after - before) / begun.elapsed().as_secs_f64() * 100.0,
        "%",
        "under 0.2 %",
    );
    told("the same, memory", memory, "MiB", "under 120 MiB");
    Ok(())
}
