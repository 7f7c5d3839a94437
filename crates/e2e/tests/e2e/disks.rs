//! Full and read-only disks, on small ext4 images; and how such an image loses its power.

use crate::support::{Service, wait_for};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use yellow_attic_client::{When, api};

/// An ext4 image with a journal on a loop device.
pub struct Ext4 {
    dir: tempfile::TempDir,
    pub at: PathBuf,
}

fn run(program: &str, arguments: &[&str]) {
    let done = Command::new(program).args(arguments).output().unwrap_or_else(|e| panic!("{program}: {e}"));
    assert!(done.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&done.stderr));
}

impl Ext4 {
    pub fn make(mib: u64) -> Ext4 {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path().join("disk");
        fs::create_dir(&at).unwrap();
        let image = dir.path().join("image");
        fs::File::create(&image).unwrap().set_len(mib << 20).unwrap();
        run("mkfs.ext4", &["-q", "-E", "lazy_itable_init=0,lazy_journal_init=0", image.to_str().unwrap()]);
        let disk = Ext4 { dir, at };
        disk.mount();
        disk
    }

    fn mount(&self) {
        let image = self.dir.path().join("image");
        run("mount", &["-o", "loop", image.to_str().unwrap(), self.at.to_str().unwrap()]);
    }

    /// EXT4_IOC_SHUTDOWN without flushing the log: as if the power went.
    pub fn cut_power(&self) {
        let script = "import fcntl,os,struct,sys; fcntl.ioctl(os.open(sys.argv[1], os.O_RDONLY), 0x8004587d, struct.pack('I', 2))";
        run("python3", &["-c", script, self.at.to_str().unwrap()]);
    }

    pub fn mount_again(&self) {
        assert!(wait_for(|| Command::new("umount").arg(&self.at).status().unwrap().success()));
        self.mount();
    }

    fn remount(&self, how: &str) {
        run("mount", &["-o", &format!("remount,{how}"), self.at.to_str().unwrap()]);
    }
}

impl Drop for Ext4 {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.at).status();
    }
}

fn fill(at: &Path) -> PathBuf {
    let ballast = at.join("ballast");
    let mut file = fs::File::create(&ballast).unwrap();
    let block = vec![0u8; 1 << 20];
    while std::io::Write::write_all(&mut file, &block).is_ok() {}
    ballast
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_is_said_so_and_the_service_goes_on_when_there_is_space_again() {
    let disk = Ext4::make(200);
    let mut service = Service::start_in(&disk.at.join("data"));
    service.set_up().await;
    let client = service.client().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    let kept = client.put(home, "kept", None, &When::default(), vec![1; 100_000].into()).await.unwrap();
    let ballast = fill(&disk.at);
    for size in [10, 100_000, 5_000_000] {
        let refused =
            client.put(home, "more", None, &When::default(), vec![2; size].into()).await.unwrap_err();
        assert_eq!(refused.code(), Some("disk_full"), "{refused}");
    }
    // Reading goes on.
    assert_eq!(client.place("home:/kept", None).await.unwrap().node.size, 100_000);
    assert_eq!(client.place("home:/more", None).await.unwrap_err().code(), Some("not_found"));
    fs::remove_file(ballast).unwrap();
    assert!(service.staging_is_clean());
    let mut put = None;
    for _ in 0..50 {
        match client.put(home, "more", None, &When::default(), vec![2; 100_000].into()).await {
            Ok(node) => {
                put = Some(node);
                break;
            }
            Err(_) => tokio::time::sleep(std::time::Duration::from_millis(100)).await,
        }
    }
    assert!(put.is_some(), "the service did not go on");
    client
        .change(kept.id, &api::Target { name: Some("renamed".into()), ..Default::default() })
        .await
        .unwrap();
    drop(service);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_fills_while_a_body_arrives_refuses_it_and_keeps_nothing() {
    let disk = Ext4::make(160);
    let mut service = Service::start_in(&disk.at.join("data"));
    service.set_up().await;
    let client = service.client().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    // Of unknown length, and larger than the disk.
    let pieces = (0..400).map(|n| Ok(vec![n as u8; 1 << 20].into()));
    let body =
        yellow_attic_client::Body::stream(None, futures_util::stream::iter(pieces.collect::<Vec<_>>()));
    let refused = client.put(home, "huge", None, &When::default(), body).await;
    assert!(refused.is_err());
    assert!(service.staging_is_clean());
    client.put(home, "small", None, &When::default(), vec![1; 100].into()).await.unwrap();
    drop(service);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_read_only_disk_is_said_so_and_the_service_goes_on_when_it_is_writable_again() {
    let disk = Ext4::make(200);
    let mut service = Service::start_in(&disk.at.join("data"));
    service.set_up().await;
    let client = service.client().await;
    let home = client.place("home:/", None).await.unwrap().node.id;
    client.put(home, "kept", None, &When::default(), b"1".to_vec().into()).await.unwrap();
    assert!(service.staging_is_clean());
    // Files that are open for writing keep a disk writable: freeze it through its own error state.
    let remounted = Command::new("mount").args(["-o", "remount,ro"]).arg(&disk.at).status().unwrap();
    if !remounted.success() {
        // The catalogue's log is open: make the shelf itself refuse instead.
        run("chattr", &["+i", disk.at.join("data/staging").to_str().unwrap()]);
    }
    let refused = client.put(home, "more", None, &When::default(), b"2".to_vec().into()).await.unwrap_err();
    assert!(matches!(refused.code(), Some("disk_read_only" | "writes_stopped")), "{refused}");
    assert_eq!(client.place("home:/kept", None).await.unwrap().node.size, 1);
    if remounted.success() {
        disk.remount("rw");
    } else {
        run("chattr", &["-i", disk.at.join("data/staging").to_str().unwrap()]);
    }
    let mut done = false;
    for _ in 0..50 {
        if client.put(home, "more", None, &When::default(), b"2".to_vec().into()).await.is_ok() {
            done = true;
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    assert!(done, "the service did not go on");
    drop(service);
}
