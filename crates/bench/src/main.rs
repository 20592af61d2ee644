//! Measures Idle Tide against the bare driver in the same run, each measurement in a process of its own so that
//! its peak memory is its own. Prints a table; exits with 1 when a ratio is above its bound. `--servers` measures
//! only against the servers, `--answers` only pictures, comparisons and the like, `--travel` only files in and out, `--catalog` only what large catalogs take, `--documents` only the rows on documents,
//! `--scaling` only how work grows with its input.

#![allow(clippy::too_many_lines)]

mod answers;
mod documents;
mod scaling;
mod screen;
mod served;
mod tabular;
mod travel;
mod work;

use std::path::Path;
use std::process::Command;

/// Pairs of runs, ours right after the bare one.
const PAIRS: usize = 9;

/// One side of a measurement.
#[derive(Clone, Copy)]
struct Measured {
    seconds: f64,
    peak_kb: u64,
}

fn peak_kb() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with("VmHWM:"));
    line.and_then(|line| line.split_whitespace().nth(1))
        .and_then(|n| n.parse().ok())
        .unwrap_or(0)
}

fn child(name: &str, dir: &Path) -> Measured {
    let program = std::env::current_exe().expect("this program");
    let output = Command::new(program)
        .arg(name)
        .arg(dir)
        .output()
        .expect("runs");
    let text = String::from_utf8_lossy(&output.stdout);
    let mut words = text.split_whitespace();
    let seconds = words.next().and_then(|w| w.parse().ok());
    let peak = words.next().and_then(|w| w.parse().ok());
    match (seconds, peak) {
        (Some(seconds), Some(peak_kb)) => Measured { seconds, peak_kb },
        _ => panic!(
            "{name} failed: {text}{}",
            String::from_utf8_lossy(&output.stderr)
        ),
    }
}

/// Runs both sides in turn: the fastest run of each, the highest peak of each, and the median of the ratios
/// of the pairs. What slows a shared machine down slows both runs of a pair.
fn pairs(ours: &str, bare: &str, dir: &Path) -> (Measured, Measured, f64) {
    let mut ratios = Vec::new();
    let mut best = [Measured {
        seconds: f64::INFINITY,
        peak_kb: 0,
    }; 2];
    for _ in 0..PAIRS {
        let pair = [child(bare, dir), child(ours, dir)];
        ratios.push(pair[1].seconds / pair[0].seconds);
        for (best, run) in best.iter_mut().zip(pair) {
            best.seconds = best.seconds.min(run.seconds);
            best.peak_kb = best.peak_kb.max(run.peak_kb);
        }
    }
    ratios.sort_by(f64::total_cmp);
    (best[1], best[0], ratios[PAIRS / 2])
}

struct Row {
    what: &'static str,
    ours: &'static str,
    bare: &'static str,
    ratio: f64,
    /// Megabytes.
    memory: Option<u64>,
}

const fn scaling(what: &'static str, ours: &'static str, bare: &'static str, ratio: f64) -> Row {
    Row {
        what,
        ours,
        bare,
        ratio,
        memory: None,
    }
}

const SCALING: &[Row] = &[
    scaling(
        "20 000 statements, against 10 000",
        "statements-2",
        "statements-1",
        2.3,
    ),
    scaling(
        "/views of 20 000 views, against the engine's own list of their columns",
        "views",
        "views-bare",
        2.3,
    ),
    scaling(
        "an error with 10 000 tables, against 5 000",
        "error-2",
        "error-1",
        2.3,
    ),
    scaling(
        "/shape of 20 000 keys, against 10 000",
        "shape-2",
        "shape-1",
        2.3,
    ),
    scaling(
        "ordering 200 000 documents by decimals, against integers",
        "order-decimals",
        "order-integers",
        3.0,
    ),
    scaling(
        "ordering 200 000 documents by identifiers, against integers",
        "order-identifiers",
        "order-integers",
        3.0,
    ),
];

const ROWS: &[Row] = &[
    Row {
        what: "1 M rows of 8 columns to CSV",
        ours: "export",
        bare: "decode",
        ratio: 1.3,
        memory: Some(64),
    },
    Row {
        what: "the same to JSON lines",
        ours: "away:jsonl",
        bare: "decode",
        ratio: 1.3,
        memory: Some(64),
    },
    Row {
        what: "the same to Markdown",
        ours: "away:markdown",
        bare: "decode",
        ratio: 1.5,
        memory: Some(64),
    },
    Row {
        what: "the same to aligned text",
        ours: "away:text",
        bare: "decode",
        ratio: 1.5,
        memory: Some(64),
    },
    Row {
        what: "the same to Parquet",
        ours: "away:parquet",
        bare: "decode",
        ratio: 2.0,
        memory: Some(64),
    },
    Row {
        what: "the same to a spreadsheet",
        ours: "away:xlsx",
        bare: "decode",
        ratio: 4.0,
        memory: Some(256),
    },
    Row {
        what: "the same into a result, scrolled to the end",
        ours: "result",
        bare: "decode",
        ratio: 1.5,
        memory: None,
    },
    Row {
        what: "the same into a result, ordered by a column",
        ours: "order",
        bare: "decode-order",
        ratio: 1.5,
        memory: None,
    },
    Row {
        what: "splitting 1 GB of statements",
        ours: "split",
        bare: "count-lines",
        ratio: 2.0,
        memory: Some(16),
    },
    Row {
        what: "loading a CSV of 1 M rows into SQLite, against bare prepared inserts",
        ours: "bring:load",
        bare: "bring:bare",
        ratio: 1.3,
        memory: Some(64),
    },
    Row {
        what: "finding the types of a CSV of 1 GB, against splitting it with the csv crate",
        ours: "bring:types",
        bare: "bring:split",
        ratio: 2.0,
        memory: Some(64),
    },
];

/// Measured on documents.
const DOCUMENTS: &[Row] = &[
    Row {
        what: "reading 1 M documents from JSON lines",
        ours: "documents:json",
        bare: "documents:json-bare",
        ratio: 1.3,
        memory: Some(64),
    },
    Row {
        what: "reading 1 M documents from BSON",
        ours: "documents:bson",
        bare: "documents:bson-bare",
        ratio: 1.3,
        memory: Some(64),
    },
    Row {
        what: "a flow over 1 M documents, 480 groups",
        ours: "documents:few",
        bare: "documents:few-bare",
        ratio: 2.0,
        memory: None,
    },
    Row {
        what: "a flow over 1 M documents, 100 003 groups",
        ours: "documents:many",
        bare: "documents:many-bare",
        ratio: 2.0,
        memory: None,
    },
    Row {
        what: "1 M documents from the practice server to JSON lines",
        ours: "documents:export",
        bare: "documents:drive",
        ratio: 1.3,
        memory: Some(64),
    },
    Row {
        what: "the same, against a loop that takes the bytes of each document as they are",
        ours: "documents:export",
        bare: "documents:drive-raw",
        ratio: f64::INFINITY,
        memory: Some(64),
    },
    Row {
        what: "20 000 point queries of 100 connections, against an echo",
        ours: "documents:queries",
        bare: "documents:echo",
        ratio: 3.0,
        memory: None,
    },
];

/// Measured where there are servers.
const SERVED: &[Row] = &[
    Row {
        what: "the catalog of 10 000 tables from PostgreSQL, against its questions alone",
        ours: "postgres:catalog",
        bare: "postgres:questions",
        ratio: 3.0,
        memory: None,
    },
    Row {
        what: "1 M rows of 8 columns from PostgreSQL to CSV",
        ours: "postgres:export",
        bare: "postgres:decode",
        ratio: 1.3,
        memory: Some(64),
    },
    Row {
        what: "holding and showing 100 000 changed rows of PostgreSQL, against reading them, changing them, reading them again",
        ours: "postgres:hold",
        bare: "postgres:twice",
        ratio: 2.0,
        memory: None,
    },
    Row {
        what: "the same of MariaDB",
        ours: "mariadb:hold",
        bare: "mariadb:twice",
        ratio: 2.0,
        memory: None,
    },
    Row {
        what: "1 M rows of 8 columns from MariaDB to CSV",
        ours: "mariadb:export",
        bare: "mariadb:decode",
        ratio: 1.3,
        memory: Some(64),
    },
    Row {
        what: "1 M rows of 8 columns from MySQL to CSV",
        ours: "mysql:export",
        bare: "mysql:decode",
        ratio: 1.3,
        memory: Some(64),
    },
    Row {
        what: "holding and showing 100 000 changed rows of MySQL, likewise",
        ours: "mysql:hold",
        bare: "mysql:twice",
        ratio: 2.0,
        memory: None,
    },
    Row {
        what: "loading a CSV of 1 M rows into PostgreSQL, against bare copy",
        ours: "postgres:load",
        bare: "postgres:put",
        ratio: 1.2,
        memory: Some(64),
    },
    Row {
        what: "loading a CSV of 1 M rows into MariaDB, against bare inserts of several rows",
        ours: "mariadb:load",
        bare: "mariadb:put",
        ratio: 1.3,
        memory: Some(64),
    },
    Row {
        what: "loading a CSV of 1 M rows into MySQL, against bare inserts of several rows",
        ours: "mysql:load",
        bare: "mysql:put",
        ratio: 1.3,
        memory: Some(64),
    },
];

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if let [name, dir] = arguments.as_slice() {
        let (start, dir) = (std::time::Instant::now(), Path::new(dir));
        let counted = scaling::run(name, dir)
            .map(Some)
            .or_else(|| documents::run(name, dir));
        let counted = counted.unwrap_or_else(|| {
            if !travel::run(name, dir) && !served::run(name, dir) {
                work::run(name, dir);
            }
            None
        });
        let seconds = counted.unwrap_or_else(|| start.elapsed().as_secs_f64());
        println!("{seconds:.4} {}", peak_kb());
        return;
    }
    let dir = tempfile::tempdir().expect("a directory");
    eprintln!("preparing …");
    if arguments.iter().any(|argument| argument == "--answers") {
        work::prepare_rows(dir.path());
        return answers::table(dir.path());
    }
    if arguments.iter().any(|argument| argument == "--tabular") {
        return tabular::table(dir.path());
    }
    let only_servers = arguments.iter().any(|argument| argument == "--servers");
    let only_catalog = arguments.iter().any(|argument| argument == "--catalog");
    let only_documents = arguments.iter().any(|argument| argument == "--documents");
    let only_scaling = arguments.iter().any(|argument| argument == "--scaling");
    let servers = served::are_there() && !only_documents && !only_scaling;
    let everything = !only_servers && !only_catalog && !only_documents && !only_scaling;
    if everything || only_scaling {
        scaling::prepare(dir.path());
    }
    let only_travel = arguments.iter().any(|argument| argument == "--travel");
    let everything = everything && !only_travel;
    if everything || only_travel {
        work::prepare(dir.path());
        travel::prepare(dir.path());
    }
    let harbour = (everything || only_documents).then(|| documents::prepare(dir.path()));
    if servers && !only_catalog {
        served::prepare();
    }
    if servers {
        served::prepare_tables();
    }
    let mut failed = false;
    println!(
        "| what | ours, fastest | bare, fastest | ratio, median of pairs | bound | peak memory | bound |"
    );
    println!("|---|---|---|---|---|---|---|");
    let travels = |row: &&Row| {
        let names = ["away:", "bring:", "export"];
        let moved =
            |name: &str| names.iter().any(|n| name.starts_with(n)) || name.ends_with(":load");
        !only_travel || moved(row.ours)
    };
    let files = if everything || only_travel { ROWS } else { &[] };
    let documents = if harbour.is_some() { DOCUMENTS } else { &[] };
    let served = match (servers, only_catalog) {
        (false, _) => &[],
        (true, true) => &SERVED[..1],
        (true, false) => SERVED,
    };
    let scaling = if everything || only_scaling {
        SCALING
    } else {
        &[]
    };
    let all = files.iter().chain(documents).chain(scaling).chain(served);
    for row in all.filter(travels) {
        if row.ours.starts_with("mysql:") && !served::is_there("mysql") {
            continue;
        }
        if row.ours.ends_with(":load") && !dir.path().join("rows.csv").exists() {
            continue;
        }
        // What disturbs a run only makes it slower: a row that is above its bound is measured again.
        let mut measured = pairs(row.ours, row.bare, dir.path());
        for _ in 0..2 {
            if measured.2 <= row.ratio {
                break;
            }
            let again = pairs(row.ours, row.bare, dir.path());
            if again.2 < measured.2 {
                measured = again;
            }
        }
        let (ours, bare, ratio) = measured;
        let memory = ours.peak_kb / 1024;
        let above = ratio > row.ratio || row.memory.is_some_and(|bound| memory > bound);
        failed |= above;
        println!(
            "| {} | {:.2} s | {:.2} s | {ratio:.2} | {} | {memory} MB | {} |{}",
            row.what,
            ours.seconds,
            bare.seconds,
            if row.ratio.is_finite() {
                row.ratio.to_string()
            } else {
                "reported".into()
            },
            row.memory
                .map_or("reported".into(), |bound| format!("{bound} MB")),
            if above { " above" } else { "" }
        );
    }
    if servers && !only_catalog {
        served::report();
    }
    drop(harbour);
    if everything || only_catalog {
        println!();
        screen::report(dir.path(), only_catalog);
    }
    if failed {
        std::process::exit(1);
    }
}
