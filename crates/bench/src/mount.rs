//! The mounted folder, against the plain client, the local disk, and ordinary programs on it.

use crate::cases::{Failure, line, median};
use crate::disk::run as command;
use crate::peers::Service;
use crate::sync::{Computer, costs_of, told, until};
use std::fs::{self, File};
use std::io::{BufRead, BufReader, Read, Seek, SeekFrom, Write};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A computer with a mounted folder.
struct Mounted {
    computer: Computer,
    top: PathBuf,
    running: Child,
}

impl Mounted {
    fn new(disk: &Path, name: &str, at: SocketAddr, options: &[&str]) -> Result<Mounted, Failure> {
        let computer = Computer::connect(disk, name, at)?;
        let top = disk.join(format!("mounted-{name}"));
        let running = Mounted::start(&computer, &top, options)?;
        Ok(Mounted { computer, top, running })
    }

    fn start(computer: &Computer, top: &Path, options: &[&str]) -> Result<Child, Failure> {
        let mut arguments = vec!["mount".to_string(), top.display().to_string()];
        arguments.extend(options.iter().map(ToString::to_string));
        let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
        let mut child = computer.yattic(&arguments)?.stdout(Stdio::piped()).spawn()?;
        let mut said = String::new();
        let mut lines = BufReader::new(child.stdout.take().ok_or("no output")?);
        lines.read_line(&mut said)?;
        std::thread::spawn(move || std::io::copy(&mut lines, &mut std::io::sink()));
        match said.contains("is mounted") {
            true => Ok(child),
            false => Err("it was not mounted".into()),
        }
    }

    fn at(&self, path: &str) -> PathBuf {
        self.top.join("home").join(path)
    }

    fn sum(&self, of: &str) -> Result<u64, Failure> {
        self.sums()?[of].as_u64().ok_or_else(|| "no sums".into())
    }

    fn sums(&self) -> Result<serde_json::Value, Failure> {
        let told = self.computer.yattic(&["--json", "mount"])?.stdout(Stdio::piped()).output()?;
        let told: Vec<serde_json::Value> = serde_json::from_slice(&told.stdout)?;
        let mine = |one: &&serde_json::Value| one["mount"]["at"].as_str() == self.top.to_str();
        Ok(told.iter().find(mine).ok_or("it is not mounted")?["sums"].clone())
    }

    /// Waits until the service has all.
    fn all_sent(&self) -> Result<(), Failure> {
        let begun = Instant::now();
        while self.sum("owed")? > 0 || self.sums()?["in_step"] != true {
            if begun.elapsed() > Duration::from_secs(600) {
                return Err("not all was sent".into());
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        Ok(())
    }

    fn end(mut self) -> Result<(), Failure> {
        self.computer.ok(&["mount", "--end", &self.top.display().to_string()])?;
        self.running.wait()?;
        Ok(())
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = self.running.kill();
        let _ = self.running.wait();
        let _ = Command::new("umount").arg("-l").arg(&self.top).stderr(Stdio::null()).status();
    }
}

/// Noise, so that nothing is the same twice.
fn noise(at: &Path, name: &str, mib: usize) -> Result<(), Failure> {
    let mut file = File::create(at)?;
    let mut piece = vec![0; 1 << 20];
    for n in 0..mib {
        blake3::Hasher::new()
            .update(name.as_bytes())
            .update(&n.to_le_bytes())
            .finalize_xof()
            .fill(&mut piece);
        file.write_all(&piece)?;
    }
    Ok(())
}

fn cold() -> Result<(), Failure> {
    command("sync", &[])?;
    Ok(fs::write("/proc/sys/vm/drop_caches", "1")?)
}

fn read_all(at: &Path) -> Result<f64, Failure> {
    let begun = Instant::now();
    let (mut file, mut piece) = (File::open(at)?, vec![0; 1 << 20]);
    while file.read(&mut piece)? > 0 {}
    Ok(begun.elapsed().as_secs_f64())
}

fn took(does: impl FnOnce() -> Result<(), Failure>) -> Result<f64, Failure> {
    let begun = Instant::now();
    does()?;
    Ok(begun.elapsed().as_secs_f64())
}

/// Runs it on a service of its own.
pub fn run(disk: &Path) -> Result<(), Failure> {
    let data = disk.join("store-mount");
    fs::create_dir_all(&data)?;
    let service = Service::start(&data)?;
    reading(disk, service.at)?;
    writing(disk, service.at)?;
    through_little(disk, service.at)?;
    let alone = names(disk, service.at, None)?;
    names(disk, service.at, Some(alone))?;
    programs(disk, service.at)?;
    service.stop()
}

fn reading(disk: &Path, at: SocketAddr) -> Result<(), Failure> {
    let plain = Computer::connect(disk, "plain-reading", at)?;
    let local = disk.join("film");
    noise(&local, "film", 1024)?;
    plain.ok(&["put", "--quiet", &local.display().to_string(), "home:/film"])?;
    // As large as the disk of the measurements lets it be; what it takes does not depend on that.
    let gib = 8;
    let large = disk.join("large");
    noise(&large, "large", gib * 1024)?;
    plain.ok(&["put", "--quiet", &large.display().to_string(), "home:/large"])?;
    let (mut ends, mut fetched, mut knows) = (Vec::new(), Vec::new(), Vec::new());
    let mut want = vec![0; 64 << 10];
    let mut file = File::open(&large)?;
    file.seek(SeekFrom::End(-(64 << 10)))?;
    file.read_exact(&mut want)?;
    fs::remove_file(&large)?;
    for n in 0..5 {
        let mounted = Mounted::new(disk, &format!("end-{n}"), at, &[])?;
        let mut got = vec![0; 64 << 10];
        // The names are known then; how long that takes is told by itself.
        knows.push(took(|| {
            fs::metadata(mounted.at("large"))?;
            Ok(())
        })?);
        ends.push(took(|| {
            let mut file = File::open(mounted.at("large"))?;
            file.seek(SeekFrom::End(-(64 << 10)))?;
            Ok(file.read_exact(&mut got)?)
        })?);
        if got != want {
            return Err("other bytes".into());
        }
        fetched.push(mounted.sum("fetched")? as f64 / f64::from(1 << 20));
        mounted.end()?;
    }
    told(&format!("64 KiB at the end of {gib} GiB"), median(ends) * 1000.0, "ms", "under 150 ms");
    told("a new mount, until it knows the names", median(knows) * 1000.0, "ms", "");
    told("the same, fetched for it", median(fetched), "MiB", "under 2 MiB");
    let (mut first, mut again, mut gets, mut locals) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for n in 0..3 {
        let out = disk.join(format!("got-{n}"));
        cold()?;
        gets.push(took(|| plain.ok(&["get", "--quiet", "home:/film", &out.display().to_string()]))?);
        let mounted = Mounted::new(disk, &format!("reading-{n}"), at, &[])?;
        // What is known of names is not what is measured.
        fs::metadata(mounted.at("film"))?;
        cold()?;
        first.push(read_all(&mounted.at("film"))?);
        again.push(read_all(&mounted.at("film"))?);
        read_all(&local)?;
        locals.push(read_all(&local)?);
        mounted.end()?;
        fs::remove_file(&out)?;
        let _ = fs::remove_dir_all(disk.join(format!("home-reading-{n}")));
    }
    let (first, again, get, local) = (median(first), median(again), median(gets), median(locals));
    line("1 GiB in order the first time, against yattic get", first, get, "s", get / first, "at least 0.8");
    line("the same again, against the local disk", again, local, "s", local / again, "at least 0.7");
    Ok(())
}

fn tree(at: &Path, files: usize, kib: usize) -> Result<(), Failure> {
    let mut piece = vec![0; kib << 10];
    for n in 0..files {
        let folder = at.join(format!("folder-{:03}", n / 50));
        fs::create_dir_all(&folder)?;
        blake3::Hasher::new()
            .update(at.as_os_str().as_encoded_bytes())
            .update(&n.to_le_bytes())
            .finalize_xof()
            .fill(&mut piece);
        fs::write(folder.join(format!("file-{n:05}")), &piece)?;
    }
    Ok(())
}

fn writing(disk: &Path, at: SocketAddr) -> Result<(), Failure> {
    let plain = Computer::connect(disk, "plain-writing", at)?;
    let mounted = Mounted::new(disk, "writing", at, &[])?;
    let (mut copies, mut puts) = (Vec::new(), Vec::new());
    for n in 0..2 {
        let (one, two) = (disk.join(format!("put-{n}")), disk.join(format!("copied-{n}")));
        tree(&one, 5_000, 410)?;
        tree(&two, 5_000, 410)?;
        cold()?;
        puts.push(took(|| {
            plain.ok(&["put", "--quiet", &one.display().to_string(), &format!("home:/put-{n}")])
        })?);
        cold()?;
        copies.push(took(|| {
            command("cp", &["-r", &two.display().to_string(), &mounted.at("").display().to_string()])?;
            mounted.all_sent()
        })?);
        command(
            "diff",
            &["-r", &two.display().to_string(), &mounted.at(&format!("copied-{n}")).display().to_string()],
        )?;
        fs::remove_dir_all(&one)?;
        fs::remove_dir_all(&two)?;
        plain.ok(&["rm", "--yes", &format!("home:/put-{n}")])?;
        fs::remove_dir_all(mounted.at(&format!("copied-{n}")))?;
    }
    let (copy, put) = (median(copies), median(puts));
    line("cp -r of 5,000 files, 2 GiB, until all is sent", copy, put, "s", put / copy, "at least 0.7");
    mounted.end()
}

fn through_little(disk: &Path, at: SocketAddr) -> Result<(), Failure> {
    const LIMIT: u64 = 512 << 20;
    let plain = Computer::connect(disk, "plain-little", at)?;
    let (one, two) = (disk.join("little-put"), disk.join("little-copied"));
    for folder in [&one, &two] {
        fs::create_dir_all(folder)?;
        for n in 0..64 {
            noise(&folder.join(format!("film-{n}")), &format!("{} {n}", folder.display()), 64)?;
        }
    }
    cold()?;
    let put = took(|| plain.ok(&["put", "--quiet", &one.display().to_string(), "home:/little-put"]))?;
    let mounted = Mounted::new(disk, "little", at, &["--room", "512MiB"])?;
    cold()?;
    let stop = std::sync::atomic::AtomicBool::new(false);
    let mut most = 0;
    let copy = std::thread::scope(|scope| {
        let watches = scope.spawn(|| {
            let mut most = 0;
            while !stop.load(std::sync::atomic::Ordering::Relaxed) {
                most = most.max(mounted.sum("held").unwrap_or(0));
                std::thread::sleep(Duration::from_millis(200));
            }
            most
        });
        let copy = took(|| {
            command("cp", &["-r", &two.display().to_string(), &mounted.at("").display().to_string()])?;
            mounted.all_sent()
        });
        stop.store(true, std::sync::atomic::Ordering::Relaxed);
        most = watches.join().unwrap_or(u64::MAX);
        copy
    })?;
    line("4 GiB in 64 files through 512 MiB, against put", copy, put, "s", put / copy, "at least 0.6");
    told("the same, the most that lay here", most as f64 / f64::from(1 << 20), "MiB", "at most 512");
    if most > LIMIT {
        println!("  over its limit");
    }
    mounted.end()
}

/// How long it takes until the service knows, when many files go and as many come in one another's way.
fn go_and_come(disk: &Path, mounted: &Mounted) -> Result<f64, Failure> {
    let source = disk.join("goes-and-comes");
    tree(&source, 2_500, 20)?;
    let from = source.display().to_string();
    command("cp", &["-r", &from, &mounted.at("goes").display().to_string()])?;
    mounted.all_sent()?;
    let took = took(|| {
        fs::remove_dir_all(mounted.at("goes"))?;
        command("cp", &["-r", &from, &mounted.at("comes").display().to_string()])?;
        mounted.all_sent()
    })?;
    fs::remove_dir_all(mounted.at("comes"))?;
    mounted.all_sent()?;
    fs::remove_dir_all(&source)?;
    Ok(took)
}

fn names(disk: &Path, at: SocketAddr, alone: Option<f64>) -> Result<f64, Failure> {
    let Some(alone) = alone else {
        let mounted = Mounted::new(disk, "few-names", at, &[])?;
        mounted.all_sent()?;
        let took = go_and_come(disk, &mounted)?;
        mounted.end()?;
        return Ok(took);
    };
    let plain = Computer::connect(disk, "plain-names", at)?;
    let local = disk.join("many");
    for folder in 0..500 {
        let folder = local.join(format!("folder-{folder:03}"));
        fs::create_dir_all(&folder)?;
        for n in 0..200 {
            fs::write(folder.join(format!("file-{n:03}")), n.to_string())?;
        }
    }
    plain.ok(&["put", "--quiet", &local.display().to_string(), "home:/many"])?;
    let mut mounted = Mounted::new(disk, "names", at, &[])?;
    let begun = Instant::now();
    until(|| mounted.at("many/folder-499/file-199").exists())?;
    told("100,000 entries known, from mounting", begun.elapsed().as_secs_f64(), "s", "");
    let find = |at: &Path| {
        took(|| command("find", &[&at.display().to_string(), "-printf", "%p %s %T@\n"]).map(|_| ()))
    };
    let (mut ours, mut plain) = (Vec::new(), Vec::new());
    find(&mounted.at("many"))?;
    find(&local)?;
    for _ in 0..5 {
        ours.push(find(&mounted.at("many"))?);
        plain.push(find(&local)?);
    }
    let (ours, plain) = (median(ours), median(plain));
    line("find over 100,000 entries, warm, against ext4", ours, plain, "s", ours / plain, "at most 8");
    let beside = go_and_come(disk, &mounted)?;
    line("2,500 files go, as many come, beside 100,000", beside, alone, "s", beside / alone, "at most 1.5");
    std::thread::sleep(Duration::from_secs(10));
    let (before, _) = costs_of(mounted.running.id())?;
    let begun = Instant::now();
    std::thread::sleep(Duration::from_secs(30));
    let (after, memory) = costs_of(mounted.running.id())?;
    let of = (after - before) / begun.elapsed().as_secs_f64() * 100.0;
    told("idle with 100,000 entries, of one processor", of, "%", "under 0.2 %");
    told("the same, memory", memory, "MiB", "under 150 MiB");
    mounted.computer.ok(&["mount", "--end", &mounted.top.display().to_string()])?;
    mounted.running.wait()?;
    let begun = Instant::now();
    mounted.running = Mounted::start(&mounted.computer, &mounted.top, &[])?;
    let there = until(|| mounted.at("many/folder-499/file-199").exists())?;
    told(
        "mounted again, until the last entry is seen",
        begun.elapsed().as_secs_f64().max(there),
        "s",
        "within 1 s",
    );
    mounted.end()?;
    Ok(alone)
}

fn shell(dir: &Path, script: &str) -> Result<f64, Failure> {
    took(|| {
        let done = Command::new("sh")
            .args(["-e", "-c", script])
            .current_dir(dir)
            .env("GIT_CONFIG_GLOBAL", "/dev/null")
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .output()?;
        match done.status.success() {
            true => Ok(()),
            false => Err(String::from_utf8_lossy(&done.stderr).into_owned().into()),
        }
    })
}

fn programs(disk: &Path, at: SocketAddr) -> Result<(), Failure> {
    let mounted = Mounted::new(disk, "programs", at, &[])?;
    // What it takes to know all names is told by itself.
    mounted.all_sent()?;
    let source = disk.join("repository");
    tree(&source, 1_000, 8)?;
    let made = "git init -q -b main && git add . && git -c user.name=Ines -c user.email=ines@museum.example commit -q -m first";
    shell(&source, made)?;
    let plain = disk.join("plain");
    fs::create_dir_all(&plain)?;
    let clone =
        format!("git clone -q {} repository && git -C repository status --porcelain", source.display());
    let build = r#"mkdir build && cd build && for n in $(seq 40); do
printf 'int f%s(int a) { return a * %s; }\n' $n $n > f$n.c; gcc -c f$n.c -o f$n.o; done
printf 'int f7(int); int main(void) { return f7(6) - 42; }\n' > main.c; gcc main.c *.o -o program; ./program"#;
    let database = r#"python3 -c "
import sqlite3
db = sqlite3.connect('things.db')
db.execute('create table things (n integer primary key, text)')
for n in range(10000):
    with db: db.execute('insert into things values (?, ?)', (n, 'thing'))
assert db.execute('select count(*) from things').fetchone() == (10000,)
""#;
    for (what, script) in [
        ("git clone of 1,000 files, and git status", clone.as_str()),
        ("building a C program of 41 files", build),
        ("10,000 inserts into a database, each durable", database),
    ] {
        let (ours, theirs) = (shell(&mounted.at(""), script)?, shell(&plain, script)?);
        line(what, ours, theirs, "s", theirs / ours, "works");
    }
    mounted.all_sent()?;
    mounted.end()
}
