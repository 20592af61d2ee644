//! A machine that fails around the program: disks that are full, pipes that are closed, signals, a terminal that is gone or
//! changes its size without an end.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use rustix::process::Signal;

use crate::field::{Chance, Field, last_line, signal, text, until};
use crate::screen::Screen;
use crate::tally::Tally;

const MOST: Duration = Duration::from_secs(30);

/// Tries all faults.
pub fn run(field: &Field) -> Tally {
    let mut tally = Tally::default();
    let home = field.folder("home");
    let place = field.folder("faults");
    let path = place.join("books.db");
    let file = rusqlite::Connection::open(&path).expect("a file");
    file.execute_batch(
        "create table big as with recursive n(i) as (select 1 union all select i + 1 from n where i < 60000)
         select i, 'word ' || i as word, hex(zeroblob(60)) as filler from n;",
    )
    .expect("filled");
    full_disks(field, &mut tally, &home, &place, &path);
    closed_pipes(field, &mut tally, &home, &path);
    signals(field, &mut tally, &home, &path);
    terminals(field, &mut tally, &home, &path);
    tally
}

/// A disk of two megabytes, which is given back when this goes.
struct Small(PathBuf);

impl Small {
    fn mount(path: PathBuf) -> Option<Self> {
        std::fs::create_dir_all(&path).ok()?;
        let mut mount = Command::new("mount");
        let mounted = mount
            .args(["-t", "tmpfs", "-o", "size=2m", "campaign"])
            .arg(&path)
            .stderr(Stdio::null())
            .status();
        mounted.ok().filter(|status| status.success())?;
        Some(Self(path))
    }

    /// Fills all but so many bytes of it.
    fn fill(&self, all_but: usize) {
        let filler = self.0.join("filler");
        let _ = std::fs::write(&filler, vec![0; 4 << 20]);
        let size = std::fs::metadata(&filler).map_or(0, |meta| meta.len());
        let file = std::fs::File::options().write(true).open(&filler);
        if let Ok(file) = file {
            let _ = file.set_len(size.saturating_sub(all_but as u64));
        }
    }
}

impl Drop for Small {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

fn full_disks(field: &Field, tally: &mut Tally, home: &Path, place: &Path, path: &Path) {
    eprintln!("  full disks");
    let Some(disk) = Small::mount(place.join("disk")) else {
        tally
            .left_out
            .push("full disks: this user may not mount one".into());
        return;
    };
    let on = |name: &str| disk.0.join(name);
    let (source, big) = (text(path), "select * from big");
    // What fails says so, with a code, and what was there stays as it was.
    let mut tells =
        |what: &str, arguments: &[&str], old: Option<&Path>, environment: Option<(&str, &Path)>| {
            let before = old.and_then(|path| std::fs::read(path).ok());
            let mut command = field.command(home, arguments);
            if let Some((name, value)) = environment {
                command.env(name, value);
            }
            let ran = crate::field::finish(command, b"", MOST);
            let came = ran.sound().and_then(|()| match ran.code {
                Some(0) => Err("went well on a full disk".into()),
                _ if !ran.err.contains("No space") && !ran.err.contains("full") => {
                    Err(format!("does not say why: {}", last_line(&ran.err)))
                }
                _ if old.and_then(|path| std::fs::read(path).ok()) != before => {
                    Err("what was there is no longer".into())
                }
                _ => Ok(()),
            });
            tally.count(format!("full disk: {what}"), came);
        };
    for format in ["csv", "json", "parquet", "xlsx", "text"] {
        let out = on(&format!("out.{format}"));
        std::fs::write(&out, "the old one").expect("written");
        // Some forms are small.
        disk.fill(40_000);
        tells(
            &format!("export {format}"),
            &[
                "run",
                &source,
                big,
                "--format",
                format,
                "--output",
                &text(&out),
                "--replace",
            ],
            Some(&out),
            None,
        );
        let _ = std::fs::remove_file(&out);
    }
    let _ = std::fs::remove_file(on("filler"));
    let csv = place.join("rows.csv");
    let lines: String = (0..60_000)
        .map(|n| format!("{n},{}\n", "tide".repeat(20)))
        .collect();
    std::fs::write(&csv, format!("id,word\n{lines}")).expect("written");
    let db = on("small.db");
    drop(rusqlite::Connection::open(&db).and_then(|file| {
        file.execute_batch(
            "create table t (id integer, word text); insert into t values (-1, 'old');",
        )
    }));
    tells(
        "load",
        &["load", &text(&db), &text(&csv), "--into", "t"],
        None,
        None,
    );
    let count: rusqlite::Result<i64> = rusqlite::Connection::open(&db)
        .and_then(|file| file.query_row("select count(*) from t", [], |row| row.get(0)));
    let _ = std::fs::remove_file(&db);
    let collection = on("t.jsonl");
    let old: String = (0..9_000)
        .map(|n| format!("{{\"_id\":{n},\"a\":\"{}\"}}\n", "tide".repeat(20)))
        .collect();
    std::fs::write(&collection, &old).expect("written");
    let folder = format!("docs:{}", disk.0.display());
    tells(
        "documents",
        &[
            "run",
            &folder,
            "--write",
            "--writes",
            "free",
            "update all t set b = 'another word that takes room'",
        ],
        Some(&collection),
        None,
    );
    let _ = std::fs::remove_file(&collection);
    disk.fill(4_096);
    tells(
        "a result that goes to the disk",
        &[
            "run",
            &source,
            "select a.*, b.filler as again, hex(zeroblob(3000)) as more from big a join big b on b.i = a.i",
            "--format",
            "text",
            "--output",
            "/dev/null",
        ],
        None,
        Some(("TMPDIR", &disk.0)),
    );
    tally.count(
        "full disk: the table after a load that failed",
        match count {
            Ok(1) => Ok(()),
            other => Err(format!("{other:?} rows, of which one was there")),
        },
    );
    // A home that is full stops nobody's work.
    disk.fill(0);
    let small_home = on("home");
    let _ = std::fs::create_dir_all(&small_home);
    let mut screen = Screen::open(field, &small_home, &[&source], 42, 142);
    let came = screen.until("Try ").and_then(|_| {
        screen.types("/diary walk.md\r/theme shoal\rselect 40 + 2 as answer;\r");
        screen.until("42")?;
        signal(screen.pid(), Signal::TERM);
        screen
            .ended(Duration::from_secs(5))
            .map(|_| ())
            .ok_or_else(|| "did not end".to_string())
    });
    tally.count("full disk: the home", came);
}

fn closed_pipes(field: &Field, tally: &mut Tally, home: &Path, path: &Path) {
    eprintln!("  closed pipes");
    let source = text(path);
    for format in [
        "csv", "json", "jsonl", "text", "markdown", "html", "sql", "raw", "record",
    ] {
        let endless =
            "with recursive n(i) as (select 1 union all select i + 1 from n) select i from n";
        let statement = match format {
            // These see all rows first.
            "text" | "markdown" | "record" => "select * from big",
            "raw" => "select hex(zeroblob(3000000)) as a",
            _ => endless,
        };
        let mut arguments = vec!["run", &source, statement, "--format", format];
        if format == "sql" {
            arguments.extend(["--table", "t"]);
        }
        let mut command = field.command(home, &arguments);
        let child = command
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn();
        let mut child = child.expect("starts");
        let mut out = child.stdout.take().expect("piped");
        let mut head = [0; 1000];
        let _ = out.read(&mut head);
        drop(out);
        let ended = until(Duration::from_secs(10), || {
            child.try_wait().ok().flatten().is_some()
        });
        let _ = child.kill();
        let mut said = String::new();
        if let Some(mut errors) = child.stderr.take() {
            let _ = errors.read_to_string(&mut said);
        }
        let _ = child.wait();
        tally.count(
            format!("closed pipe: {format}"),
            match ended {
                _ if said.contains("panicked") => Err(said),
                true => Ok(()),
                false => Err("goes on without a reader".into()),
            },
        );
    }
}

fn signals(field: &Field, tally: &mut Tally, home: &Path, path: &Path) {
    eprintln!("  signals");
    let source = text(path);
    let endless =
        "with recursive n(i) as (select 1 union all select i + 1 from n) select max(i) from n;";
    for (name, which, ends) in [
        ("HUP", Signal::HUP, Some(129)),
        ("INT", Signal::INT, None),
        ("QUIT", Signal::QUIT, Some(131)),
        ("TERM", Signal::TERM, Some(143)),
        ("PIPE", Signal::PIPE, None),
        ("ALARM", Signal::ALARM, Some(142)),
        ("USR1", Signal::USR1, Some(138)),
        ("USR2", Signal::USR2, Some(140)),
        ("CHILD", Signal::CHILD, None),
        ("WINCH", Signal::WINCH, None),
        ("URG", Signal::URG, None),
        ("IO", Signal::IO, Some(157)),
    ] {
        for busy in [false, true] {
            let mut screen = Screen::open(field, home, &[&source], 42, 142);
            let came = screen.until("Try ").and_then(|_| {
                if busy {
                    screen.types(&format!("{endless}\r"));
                    screen.until("Ctrl-C")?;
                }
                signal(screen.pid(), which);
                let patience = Duration::from_secs(if ends.is_some() { 5 } else { 1 });
                let code = screen.ended(patience);
                match (ends, code) {
                    // A signal that was meant to end it does, and the terminal is as it was.
                    (Some(_), Some(_)) => given_back(&screen, which),
                    (Some(_), None) => Err("did not end".into()),
                    (None, None) => Ok(()),
                    (None, Some(code)) if which == Signal::INT => {
                        given_back(&screen, which).map_err(|error| format!("{code}: {error}"))
                    }
                    (None, Some(code)) => Err(format!("ended with {code}")),
                }
            });
            let way = if busy {
                "while a statement runs"
            } else {
                "at rest"
            };
            tally.count(format!("signal {name} {way}"), came);
        }
    }
    // Stopped and let go on, again and again.
    let mut screen = Screen::open(field, home, &[&source], 42, 142);
    let came = screen.until("Try ").and_then(|_| {
        for round in 0..20 {
            signal(screen.pid(), Signal::TSTP);
            until(Duration::from_millis(30), || false);
            signal(screen.pid(), Signal::CONT);
            until(Duration::from_millis(30), || false);
            let sum = 1_000 + round;
            screen.types(&format!("select {round} + 1000 as sum;\r"));
            screen.until(&sum.to_string())?;
        }
        Ok(())
    });
    tally.count("stopped and let go on, twenty times", came);
}

/// Whether the last words to the terminal were those that give it back: the main screen, the cursor, no mouse.
fn given_back(screen: &Screen, which: Signal) -> Result<(), String> {
    // What the system ends at once cannot give anything back.
    if !matches!(
        which,
        Signal::HUP | Signal::INT | Signal::TERM | Signal::QUIT
    ) {
        return Ok(());
    }
    let bytes = screen.bytes();
    let text = String::from_utf8_lossy(&bytes);
    let last = |what: &str| text.rfind(what);
    for (on, off) in [
        ("\u{1b}[?1049h", "\u{1b}[?1049l"),
        ("\u{1b}[?25l", "\u{1b}[?25h"),
        ("\u{1b}[?2004h", "\u{1b}[?2004l"),
    ] {
        if last(on) > last(off) {
            return Err(format!("{:?} was not undone", &on[1..]));
        }
    }
    Ok(())
}

fn terminals(field: &Field, tally: &mut Tally, home: &Path, path: &Path) {
    eprintln!("  terminals");
    let source = text(path);
    for busy in [false, true] {
        let mut screen = Screen::open(field, home, &[&source], 42, 142);
        let came = screen.until("Try ").and_then(|_| {
            if busy {
                screen.types("select count(*) from big a, big b;\r");
                screen.until("Ctrl-C")?;
            }
            screen.hang_up();
            screen
                .ended(Duration::from_secs(6))
                .map(|_| ())
                .ok_or_else(|| "goes on without a terminal".to_string())
        });
        tally.count(format!("the terminal is gone, busy: {busy}"), came);
    }
    let mut by = Chance(0x5eed_0005);
    let mut screen = Screen::open(field, home, &[&source], 42, 142);
    let came = screen.until("Try ").and_then(|_| {
        let keys = [
            "\x1bOP", "\x1b[17~", "\x1b[19~", "\x1b[18~", "\x1b", "\t", "\x1b[B", "\r", "\x1b[6~",
            "\x1bOR", "\x1bOQ",
        ];
        let lines = [
            "select * from big;\r",
            "/tables --full\r",
            "/chart points\r",
            "/about big\r",
            "/figures big\r",
            "/links\r",
            "/live 1\r",
            "select 'half",
        ];
        for round in 0..600 {
            let (rows, columns) = match round % 10 {
                0 => (1, 1),
                1 => (500, 200),
                2 => (1, 500),
                3 => (200, 1),
                _ => (1 + by.below(120) as u16, 1 + by.below(300) as u16),
            };
            screen.resize(rows, columns);
            if round % 3 == 0 {
                screen.types(keys[by.below(keys.len())]);
            }
            if round % 25 == 0 {
                screen.types(&format!("\x1b\x03\x15{}", lines[by.below(lines.len())]));
            }
            until(Duration::from_millis(4), || false);
            if let Some(code) = screen.ended(Duration::ZERO) {
                return Err(format!("ended with {code} at {columns}x{rows}"));
            }
        }
        screen.resize(42, 142);
        screen.types("\x1b\x1b\x1b\x03");
        until(Duration::from_millis(500), || false);
        screen.types("\x1b\x15select 777 + 1 as sum;\r");
        screen.until("778").map(|_| ())
    });
    tally.figures.push("600 sizes from 1x1 to 500x200".into());
    tally.count("sizes", came);
}
