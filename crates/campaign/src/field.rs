//! Where the campaign takes place: the program as it is built, folders of its own, servers that are private to the run.

use std::fs::File;
use std::io::{Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};

/// The password of the servers' owner, whose name is `haven`.
pub const OWNER: &str = "the owner's secret";

/// The program and a folder for what a row makes.
pub struct Field {
    program: PathBuf,
    folder: tempfile::TempDir,
}

/// What came of running the program.
#[derive(Debug)]
pub struct Ran {
    /// Its exit code; `None` if a signal ended it.
    pub code: Option<i32>,
    /// Its standard error.
    pub err: String,
    /// The most memory that it took, in MB, as often as it was looked at.
    pub peak: u64,
    /// Whether it had to be killed because it did not end in time.
    pub hung: bool,
}

impl Ran {
    /// Says what no input may lead to: a panic, a signal that nobody sent, no end.
    pub fn sound(&self) -> Result<(), String> {
        if self.hung {
            return Err(format!("did not end; {}", last_line(&self.err)));
        }
        if self.err.contains("panicked") || self.code == Some(101) {
            return Err(format!("panicked: {}", self.err));
        }
        match self.code {
            None => Err(format!("ended by a signal: {}", last_line(&self.err))),
            Some(_) => Ok(()),
        }
    }
}

/// A path as an argument.
pub fn text(path: &Path) -> String {
    path.display().to_string()
}

/// The last line of a text that holds something, for a report.
pub fn last_line(text: &str) -> &str {
    text.lines()
        .rev()
        .find(|line| !line.trim().is_empty())
        .unwrap_or("")
}

impl Field {
    /// A field with the program that stands beside this one.
    ///
    /// # Errors
    /// The program is not there, or no folder can be made.
    pub fn new() -> Result<Self, String> {
        let mine = std::env::current_exe().map_err(|error| error.to_string())?;
        let program = mine.with_file_name("idle-tide");
        if !program.exists() {
            return Err(format!("{} is not built", program.display()));
        }
        let folder = tempfile::Builder::new().prefix("campaign-").tempdir();
        let folder = folder.map_err(|error| error.to_string())?;
        Ok(Self { program, folder })
    }

    /// An empty folder of this name, made anew.
    pub fn folder(&self, name: &str) -> PathBuf {
        let path = self.folder.path().join(name);
        let _ = std::fs::remove_dir_all(&path);
        std::fs::create_dir_all(&path).expect("a folder");
        path
    }

    /// The program with its arguments, at home in this folder.
    pub fn command(&self, home: &Path, arguments: &[&str]) -> Command {
        let mut command = Command::new(&self.program);
        command.args(arguments);
        self.at_home(&mut command, home);
        command
    }

    /// The path of the program.
    pub fn program(&self) -> &Path {
        &self.program
    }

    /// Gives a command this home, and the passwords of the servers.
    pub fn at_home(&self, command: &mut Command, home: &Path) {
        command
            .env("HOME", home)
            .env("XDG_CONFIG_HOME", home.join("config"))
            .env("XDG_STATE_HOME", home.join("state"))
            .env("XDG_DATA_HOME", home.join("data"))
            .env("TMPDIR", self.folder.path())
            .env("PGPASSWORD", OWNER)
            .env("MYSQL_PWD", OWNER)
            .env("IDLE_TIDE_TDS_PASSWORD", OWNER)
            .env("RUST_BACKTRACE", "0")
            .current_dir(home);
    }

    /// Runs it to its end, at most `most` long.
    pub fn run(&self, home: &Path, arguments: &[&str], most: Duration) -> Ran {
        self.run_with(home, arguments, &[], most)
    }

    /// The same with a text on its standard input.
    pub fn run_with(&self, home: &Path, arguments: &[&str], input: &[u8], most: Duration) -> Ran {
        finish(self.command(home, arguments), input, most)
    }

    /// Starts it and lets it go on.
    pub fn start(&self, home: &Path, arguments: &[&str]) -> Child {
        let mut command = self.command(home, arguments);
        command
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        command.spawn().expect("starts")
    }
}

/// Runs a command to its end; what is longer than `most` is killed.
pub fn finish(mut command: Command, input: &[u8], most: Duration) -> Ran {
    let mut given = tempfile::tempfile().expect("a file");
    given.write_all(input).expect("written");
    given.rewind().expect("at its start");
    let err = tempfile::tempfile().expect("a file");
    let child = command
        .stdin(given)
        .stdout(Stdio::null())
        .stderr(err.try_clone().expect("a handle"))
        .spawn();
    let mut child = child.expect("starts");
    let begun = Instant::now();
    let (mut peak, mut hung) = (0, false);
    let code = loop {
        peak = peak.max(memory(child.id()).0);
        if let Some(status) = child.try_wait().expect("waited") {
            break status.code();
        }
        if begun.elapsed() > most {
            hung = true;
            let _ = child.kill();
        }
        std::thread::sleep(Duration::from_millis(3));
    };
    Ran {
        code,
        err: text_of(err),
        peak,
        hung,
    }
}

fn text_of(mut file: File) -> String {
    let mut bytes = Vec::new();
    file.rewind().expect("at its start");
    // More than any row looks at.
    let read = file.take(16_000_000).read_to_end(&mut bytes);
    read.expect("read");
    String::from_utf8_lossy(&bytes).into_owned()
}

/// The most memory a process took and what it takes now, in MB; zeros when it is gone.
pub fn memory(pid: u32) -> (u64, u64) {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let field = |name: &str| {
        let line = status.lines().find(|line| line.starts_with(name))?;
        line.split_whitespace().nth(1)?.parse::<u64>().ok()
    };
    (
        field("VmHWM:").unwrap_or(0) / 1024,
        field("VmRSS:").unwrap_or(0) / 1024,
    )
}

/// How many files and sockets a process has open.
pub fn handles(pid: u32) -> usize {
    std::fs::read_dir(format!("/proc/{pid}/fd")).map_or(0, Iterator::count)
}

/// Sends a signal to a process.
pub fn signal(pid: u32, signal: Signal) {
    if let Some(pid) = Pid::from_raw(pid as i32) {
        let _ = kill_process(pid, signal);
    }
}

/// Waits until something is so; `false` if it is not within `most`.
pub fn until(most: Duration, mut so: impl FnMut() -> bool) -> bool {
    let begun = Instant::now();
    while begun.elapsed() < most {
        if so() {
            return true;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    false
}

/// A seeded generator (xorshift64*, Vigna 2016): what a row tried is tried again in the same order.
pub struct Chance(pub u64);

impl Chance {
    /// The next number.
    pub fn next(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_f491_4f6c_dd1d)
    }

    /// A number below `end`.
    pub fn below(&mut self, end: usize) -> usize {
        (self.next() % end.max(1) as u64) as usize
    }
}

/// The port of a server that scripts/test-servers started; `None` if it is not there.
pub fn port(server: &str) -> Option<String> {
    std::env::var(format!("HAVEN_{}_PORT", server.to_uppercase())).ok()
}
