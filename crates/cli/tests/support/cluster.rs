//! A PostgreSQL cluster of a test's own, which may be stopped.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;

use tempfile::TempDir;

use super::{free_port, open_folder};

/// A cluster; it is stopped and gone when it is dropped.
pub struct Cluster {
    /// Its database `pronoia`, as Pronoia's account, with the password.
    pub url: String,
    /// The same as its superuser.
    pub admin: String,
    disk: Option<SmallDisk>,
    folder: TempDir,
    port: u16,
    options: String,
}

impl Cluster {
    /// Makes one, with further settings.
    pub fn start(options: &str) -> Self {
        let options = format!("-c fsync=off {options}");
        let mut cluster = Self {
            url: String::new(),
            admin: String::new(),
            disk: None,
            folder: open_folder(),
            port: free_port(),
            options,
        };
        cluster.start_again();
        cluster
    }

    /// Makes one on a disk of its own of so many megabytes; none where this user may mount no disk.
    pub fn on_small_disk(megabytes: u32) -> Option<Self> {
        let options = "-c fsync=off -c min_wal_size=32MB -c max_wal_size=32MB -c shared_buffers=16MB".into();
        let folder = open_folder();
        let disk = SmallDisk::at(&folder.path().join("cluster"), megabytes)?;
        let mut cluster =
            Self { url: String::new(), admin: String::new(), disk: Some(disk), folder, port: free_port(), options };
        cluster.start_again();
        Some(cluster)
    }

    /// Stops it, as an administrator does; whoever is connected is thrown out.
    pub fn stop(&self) {
        self.run("stop_cluster \"$1\"");
    }

    /// Starts it again, at the same port.
    pub fn start_again(&mut self) {
        let started =
            self.run("cluster_options=$3; start_cluster \"$1\" \"$2\"; echo \"$cluster_url $cluster_admin_url\"");
        let (url, admin) = started.split_once(' ').expect("two addresses");
        (self.url, self.admin) = (url.to_owned(), admin.to_owned());
    }

    /// The disk of its own.
    pub fn disk(&self) -> &SmallDisk {
        self.disk.as_ref().expect("a disk of its own")
    }

    /// Runs what `./start` and `./test` share; gives what it says.
    fn run(&self, commands: &str) -> String {
        let machine = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/machine.sh");
        let output = Command::new("bash")
            .args(["-c", &format!("set -e; . {machine}; need_postgres; {commands}"), "bash"])
            .arg(self.folder.path().join("cluster"))
            .args([&self.port.to_string(), &self.options])
            .output()
            .expect("bash runs");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).expect("text").trim().to_owned()
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        self.stop();
        drop(self.disk.take());
    }
}

/// A disk that is soon full; it is gone when it is dropped.
pub struct SmallDisk(PathBuf);

impl SmallDisk {
    /// Mounts one over a folder; none where this user may not.
    pub fn at(folder: &Path, megabytes: u32) -> Option<Self> {
        std::fs::create_dir_all(folder).expect("a folder");
        let size = format!("size={megabytes}m,mode=0777");
        let mounted = Command::new("mount").args(["-t", "tmpfs", "-o", &size, "tmpfs"]).arg(folder).output();
        let mounted = mounted.is_ok_and(|output| output.status.success());
        // Whoever looks at the figures of a build must not take what was left out for what was shown.
        assert!(mounted || std::env::var_os("CI").is_none(), "this user may mount no disk, so that nothing is shown");
        mounted.then(|| Self(folder.to_owned()))
    }

    /// Fills it, but for so many bytes; gives the file that does.
    pub fn fill_but(&self, left: usize) -> PathBuf {
        let path = self.0.join("ballast");
        let mut file = std::fs::File::create(&path).expect("a file");
        let mut written = 0;
        while file.write_all(&[0; 1 << 16]).is_ok() {
            written += 1 << 16;
        }
        file.set_len(u64::try_from(written - left.min(written)).expect("a size")).expect("cut");
        path
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("--lazy").arg(&self.0).output();
    }
}
