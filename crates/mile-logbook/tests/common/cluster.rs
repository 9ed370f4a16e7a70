//! A PostgreSQL server of a test's own: a private cluster in a temporary folder, on a Unix socket. It goes when the test does.

use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

/// A server that runs, with an empty database `lab` that the role `owner` owns.
pub(crate) struct Cluster {
    folder: tempfile::TempDir,
    programs: PathBuf,
    port: u16,
}

/// The programs of the newest PostgreSQL of this machine.
fn programs() -> Option<PathBuf> {
    let mut found: Vec<PathBuf> = std::fs::read_dir("/usr/lib/postgresql")
        .into_iter()
        .flatten()
        .filter_map(|e| Some(e.ok()?.path().join("bin")))
        .filter(|p| p.join("initdb").is_file())
        .collect();
    found.sort();
    let path = std::env::var_os("PATH").unwrap_or_default();
    found.pop().or_else(|| std::env::split_paths(&path).find(|p| p.join("initdb").is_file()))
}

impl Cluster {
    /// Starts one; `None` where this machine has no PostgreSQL.
    pub(crate) fn start() -> Option<Self> {
        Self::start_at("", 5432)
    }

    /// The same, with lines for `postgresql.conf`, which must have the port where it is another.
    pub(crate) fn start_at(settings: &str, port: u16) -> Option<Self> {
        let folder = tempfile::Builder::new().prefix("hollow-mile-pg-").tempdir().unwrap();
        Self::start_in(folder, settings, port)
    }

    /// The same, in a folder that is there.
    pub(crate) fn start_in(folder: tempfile::TempDir, settings: &str, port: u16) -> Option<Self> {
        let programs = programs()?;
        let cluster = Self { folder, programs, port };
        if rustix::process::geteuid().is_root() {
            // The server refuses to run as root.
            assert!(
                Command::new("chown").arg("postgres").arg(cluster.folder.path()).status().unwrap().success()
            );
        }
        let data = cluster.data();
        let made = cluster
            .command("initdb")
            .args(["--no-sync", "--auth=trust", "--username=owner", "--encoding=UTF8", "--locale=C", "-D"])
            .arg(&data)
            .output()
            .unwrap();
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        let conf = format!(
            "listen_addresses = ''\nunix_socket_directories = '{}'\nfsync = on\nmax_connections = 200\n{settings}\n",
            cluster.folder.path().display()
        );
        let path = data.join("postgresql.conf");
        let before = std::fs::read_to_string(&path).unwrap();
        std::fs::write(&path, before + &conf).unwrap();
        cluster.up();
        cluster.sql("postgres", "CREATE DATABASE lab");
        Some(cluster)
    }

    /// A second server that follows this one, as it writes.
    pub(crate) fn standby(&self, port: u16) -> Self {
        let folder = tempfile::Builder::new().prefix("hollow-mile-pg-").tempdir().unwrap();
        let standby = Self { folder, programs: self.programs.clone(), port };
        if rustix::process::geteuid().is_root() {
            let path = standby.folder.path();
            assert!(Command::new("chown").arg("postgres").arg(path).status().unwrap().success());
        }
        let mut copy = self.command("pg_basebackup");
        copy.args([
            "-R",
            "--checkpoint=fast",
            "--no-sync",
            "-U",
            "owner",
            "-p",
            &self.port.to_string(),
            "-h",
        ]);
        let made = copy.arg(self.folder.path()).arg("-D").arg(standby.data()).output().unwrap();
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        let path = standby.data().join("postgresql.conf");
        let own = format!("unix_socket_directories = '{}'\nport = {port}\n", standby.folder.path().display());
        std::fs::write(&path, std::fs::read_to_string(&path).unwrap() + &own).unwrap();
        standby.up();
        standby
    }

    /// Makes a server that follows another one that is written to.
    pub(crate) fn promote(&self) {
        let done =
            self.command("pg_ctl").args(["promote", "-w", "-s", "-D"]).arg(self.data()).output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    }

    /// Where it is, as an address has it.
    pub(crate) fn place(&self) -> String {
        format!("{}:{}", self.folder.path().display().to_string().replace('/', "%2F"), self.port)
    }

    /// Lets nobody in by TCP without a password.
    pub(crate) fn require_passwords(&self) {
        let rules = "local all all trust\nhost all all 127.0.0.1/32 scram-sha-256\n";
        std::fs::write(self.data().join("pg_hba.conf"), rules).unwrap();
        self.sql("postgres", "SELECT pg_reload_conf()");
    }

    /// Has it answer with a certificate.
    pub(crate) fn encrypt(&self, certificate: &Path, key: &Path) {
        use std::os::unix::fs::PermissionsExt;
        for (from, name) in [(certificate, "server.crt"), (key, "server.key")] {
            let to = self.data().join(name);
            std::fs::copy(from, &to).unwrap();
            std::fs::set_permissions(&to, std::fs::Permissions::from_mode(0o600)).unwrap();
            if rustix::process::geteuid().is_root() {
                assert!(Command::new("chown").arg("postgres").arg(&to).status().unwrap().success());
            }
        }
        self.sql("postgres", "ALTER SYSTEM SET ssl = on");
        self.sql("postgres", "SELECT pg_reload_conf()");
    }

    /// Lets everybody in from a network.
    pub(crate) fn trust(&self, network: &str) {
        let rules = format!("local all all trust\nhost all all {network} trust\n");
        std::fs::write(self.data().join("pg_hba.conf"), rules).unwrap();
        self.sql("postgres", "SELECT pg_reload_conf()");
    }

    fn command(&self, name: &str) -> Command {
        let program = self.programs.join(name);
        let mut command = match rustix::process::geteuid().is_root() {
            false => Command::new(program),
            true => {
                let mut command = Command::new("setpriv");
                command.args(["--reuid=postgres", "--regid=postgres", "--init-groups"]).arg(program);
                command
            }
        };
        command.current_dir("/").stdin(Stdio::null());
        command
    }

    fn data(&self) -> PathBuf {
        self.folder.path().join("data")
    }

    /// What the server has written into its log.
    pub(crate) fn log(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("log")).unwrap_or_default()
    }

    /// Starts the server, and waits until it answers.
    pub(crate) fn up(&self) {
        let log = self.folder.path().join("log");
        let mut start = self.command("pg_ctl");
        start.args(["start", "-w", "-s", "-D"]).arg(self.data()).arg("-l").arg(&log);
        let done = start.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
        assert!(done.success(), "{}", std::fs::read_to_string(&log).unwrap_or_default());
    }

    /// Stops the server as a crash would: what was not committed is lost.
    pub(crate) fn down(&self) {
        let _ =
            self.command("pg_ctl").args(["stop", "-m", "immediate", "-s", "-D"]).arg(self.data()).output();
    }

    /// Ends it with SIGKILL, all of its processes.
    pub(crate) fn kill(&self) {
        let pid = std::fs::read_to_string(self.data().join("postmaster.pid")).unwrap_or_default();
        let Some(pid) = pid.lines().next().and_then(|p| p.trim().parse::<i32>().ok()) else { return };
        let children =
            std::fs::read_to_string(format!("/proc/{pid}/task/{pid}/children")).unwrap_or_default();
        for pid in std::iter::once(pid).chain(children.split_whitespace().filter_map(|c| c.parse().ok())) {
            if let Some(pid) = rustix::process::Pid::from_raw(pid) {
                let _ = rustix::process::kill_process(pid, rustix::process::Signal::KILL);
            }
        }
        while Path::new(&format!("/proc/{pid}")).exists() {
            std::thread::sleep(std::time::Duration::from_millis(5));
        }
    }

    /// The address as a role.
    pub(crate) fn address(&self, role: &str) -> String {
        format!("postgres://{role}@{}/lab", self.place())
    }

    /// What statements give in a database, as the owner.
    pub(crate) fn sql(&self, database: &str, statements: &str) -> String {
        let out = self.psql(database, "owner", statements);
        assert!(out.status.success(), "{statements}: {}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8(out.stdout).unwrap().trim().to_owned()
    }

    /// The same, as a role, and whatever comes of it.
    pub(crate) fn psql(&self, database: &str, role: &str, statements: &str) -> Output {
        let mut psql = Command::new("psql");
        psql.args(["-X", "-A", "-t", "-q", "-v", "ON_ERROR_STOP=1", "-d", database, "-U", role, "-h"]);
        psql.arg(self.folder.path()).args(["-p", &self.port.to_string(), "-c", statements]).output().unwrap()
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        self.down();
    }
}
