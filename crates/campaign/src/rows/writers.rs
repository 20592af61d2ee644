//! Ten processes write to one file, a thousand inserts each, while somebody reads for long and somebody else holds a lock for
//! ten seconds: what is stored and what was reported as failed are together what was attempted.

use std::time::{Duration, Instant};

use crate::field::{Field, finish, last_line};
use crate::tally::Tally;

const WRITERS: usize = 10;
const INSERTS: usize = 1_000;

/// Tries both modes of the journal.
pub fn run(field: &Field) -> Tally {
    let mut tally = Tally::default();
    for mode in ["delete", "wal"] {
        let came = writers(field, &mut tally, mode);
        tally.count(format!("ten writers, journal {mode}"), came);
    }
    tally
}

fn writers(field: &Field, tally: &mut Tally, mode: &str) -> Result<(), String> {
    let place = field.folder("writers");
    let path = place.join("books.db");
    let file = rusqlite::Connection::open(&path).map_err(|error| error.to_string())?;
    file.execute_batch(&format!(
        "pragma journal_mode = {mode}; create table t (who integer, n integer, primary key (who, n));
         create table many as with recursive n(i) as (select 1 union all select i + 1 from n where i < 300000) select i from n;"
    ))
    .map_err(|error| error.to_string())?;
    let statements = |who: usize| -> String {
        (0..INSERTS)
            .map(|n| format!("insert into t values ({who}, {n});\n"))
            .collect()
    };
    let begun = Instant::now();
    let rans = std::thread::scope(|scope| {
        let writers: Vec<_> = (0..WRITERS)
            .map(|who| {
                let home = field.folder(&format!("writer-{who}"));
                let place = path.display().to_string();
                let arguments = [
                    "run",
                    place.as_str(),
                    "--write",
                    "--keep-going",
                    "--file",
                    "-",
                ];
                let command = field.command(&home, &arguments);
                let text = statements(who);
                scope.spawn(move || finish(command, text.as_bytes(), Duration::from_secs(600)))
            })
            .collect();
        let reader = {
            let home = field.folder("reader");
            let place = path.display().to_string();
            let asked = "select count(*) from many a, many b where a.i % 1000 = b.i % 1000";
            let command = field.command(&home, &["run", &place, "--timeout", "8", asked]);
            scope.spawn(move || finish(command, b"", Duration::from_secs(600)))
        };
        // Longer than anybody waits for a lock.
        std::thread::sleep(Duration::from_secs(1));
        let hold = file
            .busy_timeout(Duration::from_secs(60))
            .and_then(|()| file.execute_batch("begin immediate"));
        if hold.is_ok() {
            std::thread::sleep(Duration::from_secs(10));
            let _ = file.execute_batch("commit");
        }
        let rans: Vec<_> = writers
            .into_iter()
            .map(|one| one.join().expect("a writer"))
            .collect();
        let read = reader.join().expect("a reader");
        (rans, read, hold.is_ok())
    });
    let (writers, reader, held) = rans;
    if !held {
        return Err("the lock was never got".into());
    }
    reader.sound()?;
    let (mut reported, mut kept_out) = (0, 0);
    for ran in &writers {
        // Who could not come in has said so, and attempted nothing.
        if ran.code == Some(3) && ran.err.contains("is locked") {
            reported += INSERTS;
            kept_out += 1;
            continue;
        }
        ran.sound()?;
        tally.peak = tally.peak.max(ran.peak);
        // Each failure is one message with the engine's code.
        reported += ran.err.matches("SQLITE_BUSY").count();
        let others = ran.err.matches("The server said").count();
        if others > ran.err.matches("SQLITE_BUSY").count() {
            return Err(format!("another error: {}", last_line(&ran.err)));
        }
    }
    let stored: i64 = file
        .query_row("select count(*) from t", [], |row| row.get(0))
        .map_err(|error| error.to_string())?;
    let sound: String = file
        .query_row("pragma integrity_check", [], |row| row.get(0))
        .map_err(|error| error.to_string())?;
    let attempted = WRITERS * INSERTS;
    tally.figures.push(format!(
        "{mode}: {stored} stored + {reported} reported of {attempted}, {kept_out} writers not let in, {} s",
        begun.elapsed().as_secs()
    ));
    match stored as usize + reported == attempted && sound == "ok" {
        true => Ok(()),
        false => Err(format!(
            "{stored} stored and {reported} reported of {attempted}; the file is {sound}; {}",
            last_line(&writers[0].err)
        )),
    }
}
