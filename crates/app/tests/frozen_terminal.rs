//! A terminal that does not read any more: the program is in the middle of drawing, and has to end all the same.

use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::OwnedFd;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};

#[test]
fn a_terminal_that_stops_reading_does_not_keep_the_program() {
    for (signal, code) in [("-TERM", 143), ("-HUP", 129)] {
        let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).expect("a terminal");
        grantpt(&master).expect("granted");
        unlockpt(&master).expect("unlocked");
        let name = ptsname(&master, Vec::new()).expect("named");
        let name = name.into_string().expect("text");
        let open = || -> OwnedFd {
            let file = File::options().read(true).write(true).open(&name);
            file.expect("opens").into()
        };
        let size = Winsize {
            ws_row: 40,
            ws_col: 120,
            ws_xpixel: 0,
            ws_ypixel: 0,
        };
        tcsetwinsize(&master, size).expect("sized");
        let home = tempfile::tempdir().expect("dir");
        let mut child = Command::new("setsid")
            .args(["--ctty", env!("CARGO_BIN_EXE_idle-tide"), "sqlite::memory:"])
            .env("HOME", home.path())
            .env("TERM", "xterm-256color")
            .stdin(open())
            .stdout(open())
            .stderr(Stdio::null())
            .spawn()
            .expect("starts");
        let mut terminal = File::from(master);
        let mut seen = String::new();
        let mut piece = [0; 4096];
        while !seen.contains("in memory") {
            let count = terminal.read(&mut piece).expect("drawn");
            seen.push_str(&String::from_utf8_lossy(&piece[..count]));
        }
        // The guide opens and closes: more frames than a terminal holds, and nobody reads them.
        for _ in 0..60 {
            terminal.write_all(b"\x1bOP").expect("typed");
            std::thread::sleep(Duration::from_millis(10));
            terminal.write_all(b"q").expect("typed");
        }
        let pid = child.id().to_string();
        let killed = Command::new("kill").args([signal, &pid]).status();
        assert!(killed.expect("kill").success());
        let begun = Instant::now();
        let status = loop {
            if let Some(status) = child.try_wait().expect("waited") {
                break status;
            }
            if begun.elapsed() > Duration::from_secs(15) {
                let _ = child.kill();
                panic!("it goes on after {signal}");
            }
            std::thread::sleep(Duration::from_millis(20));
        };
        assert_eq!(status.code(), Some(code), "{signal}");
    }
}
