//! The full screen in a terminal of its own: what is typed, what stands on it, and every byte that came.

use std::fs::File;
use std::io::{Read, Write};
use std::num::NonZero;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use rustix::process::Signal;
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};

use crate::field::{Field, signal, until};

/// How long anything on the screen is waited for.
const PATIENCE: Duration = Duration::from_secs(20);

/// The program in a terminal.
pub struct Screen {
    child: Child,
    terminal: Option<File>,
    seen: Arc<Mutex<Seen>>,
}

struct Seen {
    parser: vt100::Parser,
    bytes: Vec<u8>,
}

impl Screen {
    /// Starts the program with these arguments in a terminal of this size.
    pub fn open(field: &Field, home: &Path, arguments: &[&str], rows: u16, columns: u16) -> Self {
        let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).expect("a terminal");
        grantpt(&master).expect("granted");
        unlockpt(&master).expect("unlocked");
        let name = ptsname(&master, Vec::new()).expect("named");
        let name = name.into_string().expect("text");
        let slave = || -> OwnedFd {
            let file = File::options().read(true).write(true).open(&name);
            file.expect("opens").into()
        };
        tcsetwinsize(&master, size(rows, columns)).expect("sized");
        let mut command = Command::new("setsid");
        command.arg("--ctty").arg(field.program()).args(arguments);
        field.at_home(&mut command, home);
        let child = command
            .env("TERM", "xterm-256color")
            .stdin(slave())
            .stdout(slave())
            .stderr(Stdio::from(slave()))
            .spawn()
            .expect("starts");
        let terminal = File::from(master);
        let seen = Arc::new(Mutex::new(Seen {
            parser: vt100::Parser::new(at_least_one(rows), at_least_one(columns), 0),
            bytes: Vec::new(),
        }));
        let (mut reader, into) = (terminal.try_clone().expect("a handle"), Arc::clone(&seen));
        std::thread::spawn(move || {
            let mut piece = [0; 65536];
            while let Ok(count @ 1..) = reader.read(&mut piece) {
                let mut seen = into.lock().expect("no panic");
                seen.parser.process(&piece[..count]);
                seen.bytes.extend_from_slice(&piece[..count]);
            }
        });
        Self {
            child,
            terminal: Some(terminal),
            seen,
        }
    }

    /// The process.
    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    /// Types these characters; keys are the sequences that a terminal sends.
    pub fn types(&mut self, text: &str) {
        if let Some(terminal) = &mut self.terminal {
            let _ = terminal.write_all(text.as_bytes());
        }
    }

    /// What stands on the screen.
    pub fn text(&self) -> String {
        let seen = self.seen.lock().expect("no panic");
        seen.parser.screen().contents()
    }

    /// Every byte that came so far.
    pub fn bytes(&self) -> Vec<u8> {
        self.seen.lock().expect("no panic").bytes.clone()
    }

    /// Waits until the screen satisfies a condition.
    pub fn when(&mut self, what: &str, so: impl Fn(&str) -> bool) -> Result<String, String> {
        let mut text = String::new();
        let mut ended = None;
        let came = until(PATIENCE, || {
            text = self.text();
            so(&text) || {
                ended = self.child.try_wait().ok().flatten();
                ended.is_some()
            }
        });
        match ended {
            Some(status) => Err(format!("ended ({status}) before {what}")),
            None if came => Ok(text),
            None => {
                let lines = text.lines().map(str::trim_end);
                let lines: Vec<&str> = lines.filter(|line| !line.is_empty()).collect();
                Err(format!("never saw {what} on:\n{}", lines.join("\n")))
            }
        }
    }

    /// Waits for a text.
    pub fn until(&mut self, text: &str) -> Result<String, String> {
        self.when(text, |screen| screen.contains(text))
    }

    /// Gives the terminal another size.
    pub fn resize(&mut self, rows: u16, columns: u16) {
        if let Some(terminal) = &self.terminal {
            let _ = tcsetwinsize(terminal, size(rows, columns));
        }
        let mut seen = self.seen.lock().expect("no panic");
        seen.parser
            .screen_mut()
            .set_size(at_least_one(rows), at_least_one(columns));
        drop(seen);
        signal(self.pid(), Signal::WINCH);
    }

    /// Takes the terminal away.
    pub fn hang_up(&mut self) {
        self.terminal = None;
        signal(self.pid(), Signal::HUP);
    }

    /// Waits for its end: the exit code, or the signal that ended it as 128 and its number.
    pub fn ended(&mut self, most: Duration) -> Option<i32> {
        let mut status = None;
        until(most, || {
            status = self.child.try_wait().ok().flatten();
            status.is_some()
        });
        let status = status?;
        let by = std::os::unix::process::ExitStatusExt::signal(&status);
        status.code().or(by.map(|signal| 128 + signal))
    }

    /// Kills it at once.
    pub fn kill(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        self.kill();
    }
}

fn at_least_one(count: u16) -> NonZero<u16> {
    NonZero::new(count).unwrap_or(NonZero::<u16>::MIN)
}

fn size(rows: u16, columns: u16) -> Winsize {
    Winsize {
        ws_row: rows,
        ws_col: columns,
        ws_xpixel: 0,
        ws_ypixel: 0,
    }
}
