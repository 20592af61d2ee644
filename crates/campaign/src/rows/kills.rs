//! The program is killed at a random moment, two hundred times in each of what it writes: what was there before or what was
//! to come is there afterwards, never a half, and the next start is fine.

use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::{Duration, Instant};

use idle_tide_desk::settings::Settings;

use crate::field::{Chance, Field, text};
use crate::peers::{Documents, Peer};
use crate::screen::Screen;
use crate::tally::Tally;

const TIMES: usize = 200;
const MOST: Duration = Duration::from_secs(30);

/// How to try one kind of writing: a folder, a home, a seed.
type Kind = fn(&Field, &Path, &Path, &mut Chance, &mut Tally);

/// Tries all kinds, two at a time.
pub fn run(field: &Field) -> Tally {
    let kinds: [(&str, Kind); 9] = [
        ("export", export),
        ("load", load),
        ("collections", collections),
        ("practice-server", practice_server),
        ("history", history),
        ("settings", settings),
        ("diary", diary),
        ("held-change", held_change),
        ("spill", spill),
    ];
    let mut tally = Tally::default();
    let next = std::sync::atomic::AtomicUsize::new(0);
    let done = std::sync::Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let Some((name, kind)) =
                    kinds.get(next.fetch_add(1, std::sync::atomic::Ordering::SeqCst))
                {
                    eprintln!("  {name}");
                    let mut own = Tally::default();
                    let begun = Instant::now();
                    let place = field.folder(&format!("killed-{name}"));
                    let home = field.folder(&format!("killed-{name}-home"));
                    kind(field, &place, &home, &mut Chance(0x5eed_0001), &mut own);
                    let took = begun.elapsed().as_secs();
                    own.figures.insert(0, format!("{name} {took} s"));
                    done.lock().expect("no panic").push(own);
                }
            });
        }
    });
    for own in done.into_inner().expect("no panic") {
        tally.add(own);
    }
    tally
}

/// Starts a call, and kills it somewhere within the time that a whole one takes. Says whether it had ended by itself.
fn killed(
    field: &Field,
    home: &Path,
    arguments: &[&str],
    whole: Duration,
    by: &mut Chance,
) -> bool {
    let mut child = field.start(home, arguments);
    let micros = whole.as_micros() as usize * 11 / 10;
    std::thread::sleep(Duration::from_micros(by.below(micros) as u64));
    let ended = child.try_wait().ok().flatten().is_some();
    let _ = child.kill();
    let _ = child.wait();
    ended
}

/// How long a whole call takes.
fn timed(field: &Field, home: &Path, arguments: &[&str]) -> Result<Duration, String> {
    let begun = Instant::now();
    let ran = field.run(home, arguments, MOST);
    match ran.code {
        Some(0) => Ok(begun.elapsed()),
        _ => Err(ran.err),
    }
}

/// The names in a folder besides these.
fn others(folder: &Path, known: &[&str]) -> Vec<String> {
    let names = std::fs::read_dir(folder).into_iter().flatten().flatten();
    names
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .filter(|name| !known.contains(&name.as_str()))
        .collect()
}

fn database(path: &Path, rows: usize) -> rusqlite::Connection {
    let file = rusqlite::Connection::open(path).expect("a file");
    file.execute_batch(&format!(
        "create table big as with recursive n(i) as (select 1 union all select i + 1 from n where i < {rows})
         select i, 'word ' || i as word, i * 1.5 as half from n;"
    ))
    .expect("filled");
    file
}

fn export(field: &Field, place: &Path, home: &Path, by: &mut Chance, tally: &mut Tally) {
    let path = place.join("books.db");
    drop(database(&path, 30_000));
    let (path, out) = (text(&path), place.join("out.csv"));
    let target = text(&out);
    let arguments = [
        "run",
        &path,
        "select * from big",
        "--format",
        "csv",
        "--output",
        &target,
        "--replace",
    ];
    let whole = match timed(field, home, &arguments) {
        Ok(whole) => whole,
        Err(words) => return tally.count("export", Err(words)),
    };
    let new = std::fs::read(&out).expect("written");
    let (mut kept, mut left) = (0, 0);
    for _ in 0..TIMES {
        std::fs::write(&out, "the old one").expect("written");
        killed(field, home, &arguments, whole, by);
        let now = std::fs::read(&out).unwrap_or_default();
        kept += usize::from(now == b"the old one");
        let here = others(place, &["books.db", "out.csv"]);
        left += usize::from(!here.is_empty());
        for name in here {
            let _ = std::fs::remove_file(place.join(name));
        }
        tally.count(
            "export",
            match now == b"the old one" || now == new {
                true => Ok(()),
                false => Err(format!("{} bytes of {}", now.len(), new.len())),
            },
        );
    }
    tally.figures.push(format!(
        "old {kept} times, a file beside it left {left} times"
    ));
}

fn load(field: &Field, place: &Path, home: &Path, by: &mut Chance, tally: &mut Tally) {
    let (path, csv) = (place.join("books.db"), place.join("rows.csv"));
    let rows = 20_000;
    let lines: String = (0..rows).map(|n| format!("{n},word {n}\n")).collect();
    std::fs::write(&csv, format!("id,word\n{lines}")).expect("written");
    let file = rusqlite::Connection::open(&path).expect("a file");
    file.execute_batch("create table t (id integer, word text)")
        .expect("made");
    let (path, csv) = (text(&path), text(&csv));
    let arguments = ["load", &path, &csv, "--into", "t"];
    let whole = match timed(field, home, &arguments) {
        Ok(whole) => whole,
        Err(words) => return tally.count("load", Err(words)),
    };
    let mut none = 0;
    for _ in 0..TIMES {
        file.execute_batch("delete from t").expect("emptied");
        killed(field, home, &arguments, whole, by);
        let count: rusqlite::Result<i64> =
            file.query_row("select count(*) from t", [], |row| row.get(0));
        none += usize::from(count == Ok(0));
        tally.count(
            "load",
            match count {
                Ok(count) if count == 0 || count == rows => Ok(()),
                other => Err(format!("{other:?} rows of {rows}")),
            },
        );
    }
    tally.figures.push(format!("none loaded {none} times"));
}

fn collections(field: &Field, place: &Path, home: &Path, by: &mut Chance, tally: &mut Tally) {
    let path = place.join("t.jsonl");
    let old: String = (0..8_000)
        .map(|n| format!("{{\"_id\":{n},\"a\":1}}\n"))
        .collect();
    std::fs::write(&path, &old).expect("written");
    let folder = format!("docs:{}", text(place));
    let arguments = [
        "run",
        &folder,
        "--write",
        "--writes",
        "free",
        "update all t set a = 2",
    ];
    let whole = match timed(field, home, &arguments) {
        Ok(whole) => whole,
        Err(words) => return tally.count("collections", Err(words)),
    };
    let new = std::fs::read_to_string(&path).expect("written");
    let (mut kept, mut left) = (0, 0);
    for _ in 0..TIMES {
        std::fs::write(&path, &old).expect("written");
        killed(field, home, &arguments, whole, by);
        let now = std::fs::read_to_string(&path).unwrap_or_default();
        kept += usize::from(now == old);
        left += usize::from(!others(place, &["t.jsonl"]).is_empty());
        tally.count(
            "collections",
            match now == old || now == new {
                true => Ok(()),
                false => Err(format!("{} bytes of {}", now.len(), new.len())),
            },
        );
    }
    let fine = field.run(home, &["run", &folder, "from t limit 1"], MOST);
    tally.count("collections, the next start", fine.sound());
    tally.figures.push(format!(
        "old {kept} times, a file beside it left {left} times"
    ));
}

/// What was acknowledged is there again.
fn practice_server(field: &Field, place: &Path, home: &Path, by: &mut Chance, tally: &mut Tally) {
    let data = text(place);
    let mut written = 0_i64;
    let mut most = 0;
    for _ in 0..TIMES {
        let mut child = field
            .command(
                home,
                &["practice-server", "--empty", "--port", "0", "--data", &data],
            )
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("starts");
        let mut line = String::new();
        let out = child.stdout.take().expect("piped");
        let mut out = std::io::BufReader::new(out);
        let port = loop {
            line.clear();
            if std::io::BufRead::read_line(&mut out, &mut line).unwrap_or(0) == 0 {
                break None;
            }
            let port = line.split("127.0.0.1:").nth(1).map(|rest| {
                rest.chars()
                    .take_while(char::is_ascii_digit)
                    .collect::<String>()
            });
            if let Some(port) = port.and_then(|port| port.parse::<u16>().ok()) {
                break Some(port);
            }
        };
        let came = (|| {
            let port = port.ok_or("it did not say where it listens")?;
            let mut peer = Documents::open(port, "kept")?;
            let there = peer.ask("t")?.len() as i64;
            if there < written {
                return Err(format!(
                    "{there} documents of {written} that were acknowledged"
                ));
            }
            written = there;
            // It is killed while this goes on.
            let pid = child.id();
            let wait = Duration::from_micros(by.below(20_000) as u64);
            let killer = std::thread::spawn(move || {
                std::thread::sleep(wait);
                crate::field::signal(pid, rustix::process::Signal::KILL);
            });
            while peer.insert("t", written).is_ok() {
                written += 1;
            }
            most = most.max(written);
            killer.join().map_err(|_| "no killer".to_string())
        })();
        let _ = child.kill();
        let _ = child.wait();
        tally.count("practice server", came);
    }
    tally.figures.push(format!("{most} documents at the end"));
}

/// Opens the full screen over a file, types these lines, and kills it at some moment.
fn typed(
    field: &Field,
    home: &Path,
    path: &Path,
    lines: &str,
    by: &mut Chance,
) -> Result<(), String> {
    let path = text(path);
    let mut screen = Screen::open(field, home, &[&path, "--write"], 30, 100);
    screen.until("Try ")?;
    // What the one before had half-written is there again, and goes.
    screen.types("\x15");
    screen.types(lines);
    std::thread::sleep(Duration::from_micros(by.below(150_000) as u64));
    screen.kill();
    Ok(())
}

/// Where a file lies under the home.
fn find(folder: &Path, name: &str) -> Option<PathBuf> {
    let entries = std::fs::read_dir(folder).ok()?;
    entries.flatten().find_map(|entry| {
        let path = entry.path();
        match path.is_dir() {
            true => find(&path, name),
            false => (entry.file_name() == name).then_some(path),
        }
    })
}

fn history(field: &Field, place: &Path, home: &Path, by: &mut Chance, tally: &mut Tally) {
    let path = place.join("books.db");
    drop(database(&path, 10));
    let (mut last, mut count) = (0, 0);
    for round in 0..TIMES {
        let lines: String = (0..12)
            .map(|n| format!("select '{round} {n}' as word;\r"))
            .collect();
        let came = typed(field, home, &path, &lines, by).and_then(|()| {
            let Some(path) = find(home, "history.jsonl") else {
                return Ok(());
            };
            let history = idle_tide_desk::history::History::open(&path);
            let history = history.map_err(|error| error.to_string())?;
            let items = history.items();
            count = items.len();
            if items.len() < last {
                return Err(format!("{} of {last} statements", items.len()));
            }
            last = items.len();
            let whole = |text: &str| text.starts_with("select '") && text.ends_with("' as word;");
            match items.iter().find(|item| !whole(&item.text)) {
                Some(item) => Err(format!("half a statement: {}", item.text)),
                None => Ok(()),
            }
        });
        tally.count("history", came);
    }
    tally.figures.push(format!("{count} statements kept"));
}

fn settings(field: &Field, place: &Path, home: &Path, by: &mut Chance, tally: &mut Tally) {
    let path = place.join("books.db");
    drop(database(&path, 10));
    let folder = home.join("config/idle-tide");
    std::fs::create_dir_all(&folder).expect("a folder");
    let file = folder.join("settings.toml");
    let first = "# ours\ntheme = \"deep\"\n\n[sources.kept]\naddress = \"books.db\" # here\nwrites = \"none\"\n";
    std::fs::write(&file, first).expect("written");
    let mut changed = 0;
    for _ in 0..TIMES {
        let lines = "/theme shoal\r/theme plain\r/theme deep\r/theme shoal\r".repeat(3);
        let came = typed(field, home, &path, &lines, by).and_then(|()| {
            let read = Settings::read(&file)?;
            let text = std::fs::read_to_string(&file).map_err(|error| error.to_string())?;
            changed += usize::from(!text.contains("\"deep\""));
            let kept = read
                .sources
                .get("kept")
                .is_some_and(|s| s.writes.as_deref() == Some("none"));
            match kept && text.starts_with("# ours") && text.contains("# here") {
                true => Ok(()),
                false => Err(format!("the settings lost something: {text}")),
            }
        });
        tally.count("settings", came);
    }
    let left = others(&folder, &["settings.toml"]).len();
    tally.figures.push(format!(
        "another theme {changed} times, {left} files beside"
    ));
}

fn diary(field: &Field, place: &Path, home: &Path, by: &mut Chance, tally: &mut Tally) {
    let path = place.join("books.db");
    drop(database(&path, 10));
    let diary = place.join("walk.md");
    let mut there = 0;
    for _ in 0..TIMES {
        let _ = std::fs::remove_file(&diary);
        let lines: String = (0..8).map(|n| format!("select {n} as word;\r")).collect();
        let lines = format!("/diary {}\r{lines}", diary.display());
        let came = typed(field, home, &path, &lines, by).and_then(|()| {
            let Ok(content) = std::fs::read_to_string(&diary) else {
                return Ok(());
            };
            there += 1;
            // Every fence that opens is closed.
            let fences = content
                .lines()
                .filter(|line| line.starts_with("```"))
                .count();
            if fences == 0 {
                // Killed before the first entry.
                return Ok(());
            }
            if fences % 2 == 1 {
                return Err(format!("half an entry: {content}"));
            }
            let arguments = ["run", &text(&path), "--file", &text(&diary), "--check"];
            let ran = field.run(home, &arguments, MOST);
            match ran.code {
                Some(0) => Ok(()),
                code => Err(format!("does not run again, {code:?}: {}", ran.err)),
            }
        });
        tally.count("diary", came);
    }
    let left = others(place, &["books.db", "walk.md"]).len();
    tally.figures.push(format!(
        "a diary was there {there} times, {left} files beside"
    ));
}

fn held_change(field: &Field, place: &Path, home: &Path, by: &mut Chance, tally: &mut Tally) {
    let path = place.join("books.db");
    let file = database(&path, 2_000);
    for _ in 0..TIMES {
        let came = typed(
            field,
            home,
            &path,
            "update big set word = 'other' where i > 5;\r",
            by,
        )
        .and_then(|()| {
            let changed: rusqlite::Result<i64> =
                file.query_row("select count(*) from big where word = 'other'", [], |row| {
                    row.get(0)
                });
            match changed {
                Ok(0) => Ok(()),
                other => Err(format!("{other:?} rows were changed and nobody kept them")),
            }
        });
        tally.count("held change", came);
    }
    let fine = field.run(
        home,
        &[
            "run",
            &text(&path),
            "--write",
            "update big set word = 'x' where i = 1",
        ],
        MOST,
    );
    tally.count("held change, the next start", fine.sound());
}

/// Results that go to the disk leave nothing there.
fn spill(field: &Field, place: &Path, home: &Path, by: &mut Chance, tally: &mut Tally) {
    let path = place.join("books.db");
    drop(database(&path, 1_000));
    let temporary = place.join("temporary");
    std::fs::create_dir_all(&temporary).expect("a folder");
    let big = "select a.i, b.word, hex(zeroblob(400)) as filler from big a, big b";
    let path = text(&path);
    let mut left = 0;
    for _ in 0..TIMES {
        let mut command = field.command(
            home,
            &[
                "run",
                &path,
                big,
                "--format",
                "text",
                "--output",
                "/dev/null",
            ],
        );
        command.env("TMPDIR", &temporary);
        let child = command
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn();
        let mut child = child.expect("starts");
        std::thread::sleep(Duration::from_micros(by.below(400_000) as u64));
        let _ = child.kill();
        let _ = child.wait();
        let here = others(&temporary, &[]).len();
        left = left.max(here);
        tally.count(
            "spill",
            match here {
                0 => Ok(()),
                count => Err(format!("{count} files are left")),
            },
        );
        for name in others(&temporary, &[]) {
            let _ = std::fs::remove_file(temporary.join(name));
        }
    }
}
