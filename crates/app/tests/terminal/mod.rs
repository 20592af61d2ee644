//! The real program in a terminal multiplexer: typing, and waiting for text on the screen.
#![allow(dead_code)]

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, ChildStdout, Command, Output, Stdio};
use std::time::{Duration, Instant};

pub struct Tmux {
    dir: tempfile::TempDir,
}

impl Tmux {
    /// Opens a shell in a window of this size, with directories of its own.
    pub fn open(width: u16, height: u16) -> Self {
        let this = Tmux {
            dir: tempfile::tempdir().expect("dir"),
        };
        let (width, height) = (width.to_string(), height.to_string());
        let shell = format!(
            "env -u NO_COLOR HOME={home} XDG_DATA_HOME={home}/data XDG_STATE_HOME={home}/state XDG_CONFIG_HOME={home}/config EDITOR={home}/editor PS1='ready> ' bash --norc --noprofile",
            home = this.home().display()
        );
        this.tmux(&[
            "-f",
            "/dev/null",
            "new-session",
            "-d",
            "-x",
            &width,
            "-y",
            &height,
            &shell,
        ]);
        this.tmux(&["set-option", "-g", "escape-time", "5"]);
        this.until("ready>");
        this
    }

    pub fn home(&self) -> &Path {
        self.dir.path()
    }

    pub fn tmux(&self, arguments: &[&str]) -> Output {
        Command::new("tmux")
            .arg("-S")
            .arg(self.home().join("socket"))
            .args(arguments)
            .output()
            .expect("tmux runs; scripts/setup installs it")
    }

    pub fn keys(&self, keys: &[&str]) {
        for key in keys {
            self.tmux(&["send-keys", key]);
        }
    }

    pub fn types(&self, text: &str) {
        // A semicolon at the end would be read by tmux itself.
        let text = match text.strip_suffix(';') {
            Some(head) => format!("{head}\\;"),
            None => text.to_string(),
        };
        self.tmux(&["send-keys", "-l", &text]);
    }

    pub fn line(&self, text: &str) {
        self.types(text);
        self.keys(&["Enter"]);
    }

    pub fn screen(&self) -> String {
        String::from_utf8_lossy(&self.tmux(&["capture-pane", "-p"]).stdout).into_owned()
    }

    pub fn when(&self, what: &str, done: impl Fn(&str) -> bool) -> String {
        let start = Instant::now();
        loop {
            let screen = self.screen();
            if done(&screen) {
                return screen;
            }
            assert!(
                start.elapsed() < Duration::from_secs(30),
                "never saw {what}:\n{screen}"
            );
            std::thread::sleep(Duration::from_millis(15));
        }
    }

    pub fn until(&self, text: &str) -> String {
        self.when(text, |screen| screen.contains(text))
    }

    /// Starts the program and waits for the arrival card.
    pub fn start(&self, arguments: &str) {
        // Unlike the shell at the prompt, this one leaves the terminal's modes as it finds them.
        let program = env!("CARGO_BIN_EXE_idle-tide");
        self.line(&format!(
            "sh -c '{program} {arguments}; stty -a | grep -o -- .icanon; echo back\"\"again'"
        ));
        self.until("Try ");
    }

    pub fn pid(&self) -> String {
        let shell =
            String::from_utf8_lossy(&self.tmux(&["display-message", "-p", "#{pane_pid}"]).stdout)
                .trim()
                .to_string();
        let mut pid = shell;
        loop {
            let children = std::fs::read_to_string(format!("/proc/{pid}/task/{pid}/children"))
                .expect("children");
            match children.split_whitespace().next() {
                Some(child) => pid = child.to_string(),
                None => return pid,
            }
        }
    }

    /// Waits for the shell, with the screen and the terminal's modes as they were.
    pub fn given_back(&self) {
        let screen = self.until("backagain");
        assert!(
            screen.contains(" icanon") && !screen.contains("-icanon\n"),
            "{screen}"
        );
        let flags = self.tmux(&["display-message", "-p", "#{alternate_on}#{mouse_any_flag}"]);
        assert_eq!(
            String::from_utf8_lossy(&flags.stdout).trim(),
            "00",
            "screen and mouse are given back"
        );
    }
}

impl Drop for Tmux {
    fn drop(&mut self) {
        self.tmux(&["kill-server"]);
    }
}

/// The password of the servers' owner.
pub const OWNER: &str = "the owner's secret";

/// A place that scripts/test-servers tells.
/// Whether MySQL is there: it is left out where it could not be made, and scripts/test-servers says so.
#[allow(dead_code)]
pub fn has_mysql() -> bool {
    std::env::var("HAVEN_MYSQL_PORT").is_ok()
}

pub fn place(name: &str) -> String {
    std::env::var(name).unwrap_or_else(|_| {
        panic!("{name} is not set: these tests need the servers that scripts/test starts")
    })
}

/// Runs the program as the owner, without a screen.
fn as_owner(arguments: &[&str]) {
    let done = Command::new(env!("CARGO_BIN_EXE_idle-tide"))
        .args(arguments)
        .env("PGPASSWORD", OWNER)
        .env("MYSQL_PWD", OWNER)
        .env("IDLE_TIDE_TDS_PASSWORD", OWNER)
        .output()
        .expect("runs");
    assert!(
        done.status.success(),
        "{arguments:?}: {}",
        String::from_utf8_lossy(&done.stderr)
    );
}

/// Runs statements as the owner, without a screen.
pub fn owner(address: &str, statements: &[&str]) {
    let mut arguments = vec!["run", address, "--writes", "free"];
    arguments.extend(statements);
    as_owner(&arguments);
}

/// Loads the harbour into a database.
pub fn load(address: &str) {
    as_owner(&["demo", "--readings", "400", "--into", address]);
}

/// The program at a server's address, after the owner has come in.
pub fn arrive(address: &str) -> Tmux {
    let t = Tmux::open(142, 42);
    t.line(&format!("{} {address}", env!("CARGO_BIN_EXE_idle-tide")));
    t.until("Password of haven");
    t.line(OWNER);
    t.until("Try ");
    t
}

/// The practice server, ended by its own pid.
pub struct Practice {
    pub child: Child,
    pub address: String,
    _words: BufReader<ChildStdout>,
}

impl Drop for Practice {
    fn drop(&mut self) {
        let _ = Command::new("kill")
            .args(["-INT", &self.child.id().to_string()])
            .status();
        let _ = self.child.wait();
    }
}

/// The practice server at a port that is free, with these options.
pub fn practice(more: &[&str]) -> Practice {
    let mut child = Command::new(env!("CARGO_BIN_EXE_idle-tide"))
        .args(["practice-server", "--port", "0"])
        .args(more)
        .stdout(Stdio::piped())
        .spawn()
        .expect("starts");
    let mut first = String::new();
    let mut words = BufReader::new(child.stdout.take().expect("its words"));
    words.read_line(&mut first).expect("says where");
    let address = first.split_whitespace().last().expect("an address");
    Practice {
        child,
        address: address.to_string(),
        _words: words,
    }
}
