//! Files that are not what they say: a database with bits turned over, files cut off, empty, pipes, devices, folders, loops,
//! and what is as large as it gets. Whatever it is, the program ends in words and keeps running where it runs.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

use flate2::Compression;
use flate2::write::GzEncoder;

use crate::field::{Chance, Field, Ran, last_line, memory, text};
use crate::screen::Screen;
use crate::tally::Tally;

const MOST: Duration = Duration::from_secs(20);
/// More than this no damaged file may take, in MB.
const MEMORY: u64 = 600;

fn count(tally: &mut Tally, what: impl AsRef<str>, ran: &Ran) {
    tally.peak = tally.peak.max(ran.peak);
    let came = ran.sound().and_then(|()| match ran.code {
        _ if ran.peak > MEMORY => Err(format!("took {} MB", ran.peak)),
        Some(0) => Ok(()),
        // What fails says so.
        code if ran.err.trim().is_empty() => Err(format!("code {code:?} without a word")),
        _ => Ok(()),
    });
    tally.count(what, came);
}

/// Tries all kinds of files.
pub fn run(field: &Field) -> Tally {
    let mut tally = Tally::default();
    let home = field.folder("home");
    let place = field.folder("files");
    let mut by = Chance(0x5eed_0003);
    databases(field, &mut tally, &home, &place, &mut by);
    for_loading(field, &mut tally, &home, &place, &mut by);
    no_files(field, &mut tally, &home, &place);
    own_files(field, &mut tally, &home, &place, &mut by);
    sizes(field, &mut tally, &home, &place);
    tally
}

/// A database with bits turned over, and cut off anywhere.
fn databases(field: &Field, tally: &mut Tally, home: &Path, place: &Path, by: &mut Chance) {
    eprintln!("  databases");
    let path = place.join("books.db");
    let file = rusqlite::Connection::open(&path).expect("a file");
    file.execute_batch(
        "create table t (id integer primary key, word text, kept blob, half real);
         create index by_word on t (word);
         create view seen as select * from t where id > 3;
         create virtual table found using fts5(word);
         with recursive n(i) as (select 1 union all select i + 1 from n where i < 800)
         insert into t select i, 'word ' || i, zeroblob(i % 700), i / 2.0 from n;
         insert into found select word from t;",
    )
    .expect("made");
    drop(file);
    let whole = std::fs::read(&path).expect("read");
    let damaged = place.join("damaged.db");
    let address = text(&damaged);
    let before = tally.tried;
    for time in 0..130 {
        let mut bytes = whole.clone();
        if time < 100 {
            for _ in 0..1 + by.below(8) {
                // Heads of pages are where it hurts.
                let page = by.below(bytes.len() / 4096) * 4096;
                let at = if by.below(2) == 0 {
                    page + by.below(100)
                } else {
                    by.below(bytes.len())
                };
                bytes[at] ^= 1 << by.below(8);
            }
        } else {
            bytes.truncate(by.below(whole.len()));
        }
        std::fs::write(&damaged, &bytes).expect("written");
        let arguments = [
            "run",
            &address,
            "--keep-going",
            "--timeout",
            "5",
            "/tables --full",
            "/about t",
            "/figures t",
            "/definition",
            "select * from t order by word",
            "select count(*) from found where found match 'word'",
            "/check t",
        ];
        let ran = field.run(home, &arguments, MOST);
        count(tally, format!("damage {time}"), &ran);
        let unchanged = std::fs::read(&damaged).is_ok_and(|now| now == bytes);
        if !unchanged {
            tally.count(
                format!("damage {time}"),
                Err("a file opened to be read was changed".into()),
            );
        }
    }
    tally
        .figures
        .push(format!("{} damaged databases", tally.tried - before));
}

/// Files to be loaded, of each kind, damaged and cut.
fn for_loading(field: &Field, tally: &mut Tally, home: &Path, place: &Path, by: &mut Chance) {
    eprintln!("  files to load");
    let into = text(&place.join("into.db"));
    let source = text(&place.join("books.db"));
    let mut kinds: Vec<(&str, Vec<u8>)> = Vec::new();
    for (ending, format) in [
        ("csv", "csv"),
        ("tsv", "tsv"),
        ("json", "json"),
        ("jsonl", "jsonl"),
        ("parquet", "parquet"),
    ] {
        let out = place.join(format!("whole.{ending}"));
        let asked = "select id, word, half from t limit 60";
        let ran = field.run(
            home,
            &[
                "run",
                &source,
                asked,
                "--format",
                format,
                "--output",
                &text(&out),
                "--replace",
            ],
            MOST,
        );
        match ran.code {
            Some(0) => kinds.push((ending, std::fs::read(&out).unwrap_or_default())),
            code => tally.count(
                format!("making {ending}"),
                Err(format!("{code:?}: {}", ran.err)),
            ),
        }
    }
    let document = idle_tide_core::document::bson::encode(
        &idle_tide_core::document! { "id": 1, "word": "tide", "half": 1.5 },
    );
    kinds.push(("bson", document.repeat(40)));
    let mut zipped = GzEncoder::new(Vec::new(), Compression::default());
    let csv = kinds[0].1.clone();
    zipped.write_all(&csv).expect("zipped");
    kinds.push(("csv.gz", zipped.finish().expect("zipped")));
    let wide: Vec<u8> = std::char::decode_utf16(csv.iter().map(|byte| u16::from(*byte)))
        .flat_map(|sign| (sign.unwrap_or('?') as u16).to_le_bytes())
        .collect();
    kinds.push(("csv", [b"\xff\xfe".to_vec(), wide].concat()));
    for (ending, whole) in &kinds {
        let damaged = place.join(format!("damaged.{ending}"));
        for time in 0..40 {
            let mut bytes = whole.clone();
            for _ in 0..1 + by.below(5) {
                let at = by.below(bytes.len());
                match by.below(4) {
                    0 => bytes.truncate(at),
                    1 => bytes.splice(at..at, [0xff, 0, b'"', b'\n']).for_each(drop),
                    _ => bytes[at] ^= 1 << by.below(8),
                }
                if bytes.is_empty() {
                    break;
                }
            }
            std::fs::write(&damaged, &bytes).expect("written");
            let _ = std::fs::remove_file(&into);
            drop(
                rusqlite::Connection::open(&into)
                    .and_then(|file| file.execute_batch("create table x (a)")),
            );
            let ran = field.run(home, &["load", &into, &text(&damaged), "--into", "t"], MOST);
            count(tally, format!("loading {ending} {time}"), &ran);
            let ran = field.run(
                home,
                &[
                    "run",
                    &format!("docs:{}", text(place)),
                    "--timeout",
                    "5",
                    "from damaged limit 3",
                ],
                MOST,
            );
            if time % 10 == 0 {
                count(tally, format!("collection {ending} {time}"), &ran);
            }
        }
        let _ = std::fs::remove_file(&damaged);
    }
    tally.figures.push(format!(
        "{} kinds of files to load, 40 times each",
        kinds.len()
    ));
}

/// Things that are no files, in every place where a file is named.
fn no_files(field: &Field, tally: &mut Tally, home: &Path, place: &Path) {
    eprintln!("  no files");
    let strange = place.join("strange");
    let _ = std::fs::remove_dir_all(&strange);
    std::fs::create_dir_all(strange.join("folder.db")).expect("a folder");
    std::fs::write(strange.join("empty.db"), "").expect("written");
    std::fs::write(strange.join("text.db"), "no database\n".repeat(900)).expect("written");
    std::fs::write(strange.join("none.db"), "x").expect("written");
    let nobody = std::os::unix::fs::PermissionsExt::from_mode(0o000);
    std::fs::set_permissions(strange.join("none.db"), nobody).expect("closed");
    std::os::unix::fs::symlink(strange.join("loop.db"), strange.join("loop.db")).expect("a loop");
    std::os::unix::fs::symlink("/nowhere/at/all", strange.join("nowhere.db")).expect("a link");
    let pipe = strange.join("pipe.db");
    let made = std::process::Command::new("mkfifo").arg(&pipe).status();
    if !made.is_ok_and(|status| status.success()) {
        tally.left_out.push("pipes, which cannot be made".into());
    }
    let mut paths: Vec<PathBuf> = [
        "folder.db",
        "empty.db",
        "text.db",
        "none.db",
        "loop.db",
        "nowhere.db",
        "pipe.db",
        "missing.db",
    ]
    .iter()
    .map(|name| strange.join(name))
    .collect();
    paths.extend(
        [
            "/dev/null",
            "/dev/zero",
            "/dev/full",
            "/dev/tty",
            "/proc/self/mem",
            "/proc/kmsg",
        ]
        .map(PathBuf::from),
    );
    let good = text(&place.join("books.db"));
    for path in &paths {
        let name = text(path);
        let is_pipe = path == &pipe;
        let endless = is_pipe || ["/dev/zero", "/dev/full", "/proc/kmsg"].contains(&name.as_str());
        for (way, arguments) in [
            ("source", vec!["run", &name, "--timeout", "3", "select 1"]),
            (
                "source to write",
                vec![
                    "run",
                    &name,
                    "--write",
                    "--timeout",
                    "3",
                    "create table t (a)",
                ],
            ),
            ("check", vec!["check", &name]),
            (
                "statements",
                vec!["run", &good, "--timeout", "3", "--file", &name],
            ),
            ("load", vec!["load", &good, &name, "--into", "x", "--dry"]),
            (
                "across",
                vec!["across", "--from", "a=:memory::select 1", &name],
            ),
        ] {
            // What waits for somebody at the other end of a pipe waits, and is stopped.
            if endless && matches!(way, "statements" | "load") || name == "/proc/kmsg" {
                let mut command = field.command(home, &arguments);
                let out = std::process::Stdio::null;
                let child = command.stdin(out()).stdout(out()).stderr(out()).spawn();
                let mut child = child.expect("starts");
                std::thread::sleep(Duration::from_millis(400));
                crate::field::signal(child.id(), rustix::process::Signal::INT);
                let ended = crate::field::until(Duration::from_secs(5), || {
                    child.try_wait().ok().flatten().is_some()
                });
                let _ = child.kill();
                let _ = child.wait();
                tally.count(
                    format!("{way} {name}"),
                    ended
                        .then_some(())
                        .ok_or_else(|| "does not end when it is told to".into()),
                );
                continue;
            }
            let ran = field.run(home, &arguments, MOST);
            count(tally, format!("{way} {name}"), &ran);
        }
    }
}

/// The program's own files: settings and history that are broken, foreign or gigantic.
fn own_files(field: &Field, tally: &mut Tally, home: &Path, place: &Path, by: &mut Chance) {
    eprintln!("  own files");
    let good = text(&place.join("books.db"));
    let (config, state) = (home.join("config/idle-tide"), home.join("state/idle-tide"));
    let contents: Vec<(&str, Vec<u8>)> = vec![
        ("empty", Vec::new()),
        ("random", (0..4_000).map(|_| by.next() as u8).collect()),
        ("zeros", vec![0; 100_000]),
        ("foreign", b"<?xml version=\"1.0\"?><a/>".to_vec()),
        ("half", b"{\"text\":\"select 1;\",\"at\":17".to_vec()),
        (
            "controls",
            b"[sources.\"\x1b[2J\"]\naddress = \"\\u001b]0;x\\u0007\"\n".to_vec(),
        ),
        ("deep", "[".repeat(200_000).into_bytes()),
        (
            "gigantic",
            "{\"text\":\"select 'a long one that was typed';\",\"at\":1}\n"
                .repeat(1_000_000)
                .into_bytes(),
        ),
        (
            "long line",
            [
                b"{\"text\":\"".to_vec(),
                vec![b'x'; 50_000_000],
                b"\"}\n".to_vec(),
            ]
            .concat(),
        ),
    ];
    for (name, content) in &contents {
        for (folder, file) in [
            (&config, "settings.toml"),
            (&state, "history.jsonl"),
            (&state, "visits.json"),
        ] {
            let _ = std::fs::remove_dir_all(&config);
            let _ = std::fs::remove_dir_all(&state);
            std::fs::create_dir_all(folder).expect("a folder");
            std::fs::write(folder.join(file), content).expect("written");
            let mut screen = Screen::open(field, home, &[&good], 42, 142);
            let came = screen
                .until("Try ")
                .and_then(|_| {
                    screen.types("select 41 + 1 as sum;\r");
                    screen.until("42")
                })
                .map(|_| ());
            let (peak, _) = memory(screen.pid());
            tally.peak = tally.peak.max(peak);
            let came = came.and_then(|()| match peak > MEMORY {
                true => Err(format!("took {peak} MB")),
                false => Ok(()),
            });
            tally.count(format!("{name} {file}"), came);
            screen.kill();
            // Settings that cannot be read are never written over.
            if file == "settings.toml" {
                let now = std::fs::read(folder.join(file)).unwrap_or_default();
                tally.count(
                    format!("{name} {file} stays"),
                    (&now == content)
                        .then_some(())
                        .ok_or_else(|| "was changed".into()),
                );
            }
        }
    }
    let _ = std::fs::remove_dir_all(&config);
    let _ = std::fs::remove_dir_all(&state);
}

/// As large as it gets.
fn sizes(field: &Field, tally: &mut Tally, home: &Path, place: &Path) {
    eprintln!("  sizes");
    let long = Duration::from_secs(120);
    let path = place.join("books.db");
    let source = text(&path);
    let mut tell = |what: &str, ran: &Ran, most: u64| {
        tally.peak = tally.peak.max(ran.peak);
        tally.figures.push(format!("{what}: {} MB", ran.peak));
        let came = ran.sound().and_then(|()| match ran.code {
            Some(0) if ran.peak <= most => Ok(()),
            Some(0) => Err(format!("took {} MB", ran.peak)),
            code => Err(format!("{code:?}: {}", last_line(&ran.err))),
        });
        tally.count(what, came);
    };
    let value = "select hex(zeroblob(50000000)) as large";
    for format in ["csv", "json", "text", "record", "raw"] {
        let out = text(&place.join("large.out"));
        let ran = field.run(
            home,
            &[
                "run",
                &source,
                value,
                "--format",
                format,
                "--output",
                &out,
                "--replace",
            ],
            long,
        );
        tell(&format!("a value of 100 MB as {format}"), &ran, 1_500);
    }
    let csv = place.join("large.csv");
    std::fs::write(&csv, format!("a,b\n1,{}\n", "x".repeat(100_000_000))).expect("written");
    let into = text(&place.join("into.db"));
    let _ = std::fs::remove_file(&into);
    drop(
        rusqlite::Connection::open(&into).and_then(|file| file.execute_batch("create table x (a)")),
    );
    let ran = field.run(home, &["load", &into, &text(&csv), "--into", "t"], long);
    tell("a line of 100 MB loaded", &ran, 1_500);
    let many = place.join("many.db");
    // The engine's own time grows with their square: 100 000 take it minutes to be looked at, whoever asks.
    let mut file = rusqlite::Connection::open(&many).expect("a file");
    let all = file.transaction().expect("begun");
    for n in 0..20_000 {
        all.execute_batch(&format!(
            "create table t{n} (id integer primary key, word text)"
        ))
        .expect("made");
    }
    all.commit().expect("kept");
    drop(file);
    let ran = field.run(home, &["run", &text(&many), "/tables"], long);
    tell("20 000 tables listed", &ran, 300);
    let script: String = (0..300_000)
        .map(|n| format!("select {n} as a_number_of_some_length;\n"))
        .collect();
    let ran = field.run_with(
        home,
        &[
            "run",
            ":memory:",
            "--quiet",
            "--file",
            "-",
            "--timeout",
            "100",
        ],
        script.as_bytes(),
        Duration::from_secs(300),
    );
    tell("12 MB of statements", &ran, 300);
    let statement = format!("select length('{}') as signs;", "x".repeat(10_000_000));
    let ran = field.run_with(
        home,
        &["run", ":memory:", "--file", "-"],
        statement.as_bytes(),
        long,
    );
    tell("a statement of 10 MB", &ran, 600);
    let deep = format!(
        "select {}1{} as a;",
        "(".repeat(100_000),
        ")".repeat(100_000)
    );
    let ran = field.run_with(
        home,
        &["run", ":memory:", "--file", "-"],
        deep.as_bytes(),
        long,
    );
    tally.count("100 000 brackets", ran.sound());
    let mut screen = Screen::open(field, home, &[&text(&many)], 42, 142);
    let came = screen.until("Try ").and_then(|_| {
        screen.types("select * from t9999");
        screen.until("t9999")?;
        screen.types("\t");
        screen.types("\r;\r");
        screen.when("an answer", |text| {
            text.contains("row") || text.contains("id")
        })
    });
    let (peak, _) = memory(screen.pid());
    tally
        .figures
        .push(format!("20 000 tables on the screen: {peak} MB"));
    tally.count("20 000 tables on the screen", came.map(|_| ()));
}
