//! Measures Idle Tide against the bare driver in the same run, each measurement in a process of its own so
//! that its peak memory is its own. Prints a table; exits with 1 when a ratio is above its bound.

mod screen;
mod work;

use std::path::Path;
use std::process::Command;

/// Runs of each side; the fastest counts, since anything slower was disturbed.
const RUNS: usize = 7;

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

/// Runs both sides in turn and keeps the fastest of each.
fn pair(ours: &str, bare: &str, dir: &Path) -> (Measured, Measured) {
    let mut best: Option<(Measured, Measured)> = None;
    for _ in 0..RUNS {
        let (a, b) = (child(ours, dir), child(bare, dir));
        best = Some(match best {
            None => (a, b),
            Some((x, y)) => (
                Measured {
                    seconds: x.seconds.min(a.seconds),
                    peak_kb: x.peak_kb.max(a.peak_kb),
                },
                Measured {
                    seconds: y.seconds.min(b.seconds),
                    peak_kb: y.peak_kb.max(b.peak_kb),
                },
            ),
        });
    }
    best.expect("at least one run")
}

struct Row {
    what: &'static str,
    ours: &'static str,
    bare: &'static str,
    ratio: f64,
    /// Megabytes.
    memory: Option<u64>,
}

const ROWS: &[Row] = &[
    Row {
        what: "1 M rows of 8 columns to CSV",
        ours: "export",
        bare: "decode",
        ratio: 1.3,
        memory: Some(64),
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
];

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if let [name, dir] = arguments.as_slice() {
        let start = std::time::Instant::now();
        work::run(name, Path::new(dir));
        println!("{:.4} {}", start.elapsed().as_secs_f64(), peak_kb());
        return;
    }
    let dir = tempfile::tempdir().expect("a directory");
    eprintln!("preparing …");
    work::prepare(dir.path());
    let mut failed = false;
    println!("| what | ours | bare | ratio | bound | peak memory | bound |");
    println!("|---|---|---|---|---|---|---|");
    for row in ROWS {
        let (ours, bare) = pair(row.ours, row.bare, dir.path());
        let ratio = ours.seconds / bare.seconds;
        let memory = ours.peak_kb / 1024;
        let above = ratio > row.ratio || row.memory.is_some_and(|bound| memory > bound);
        failed |= above;
        println!(
            "| {} | {:.2} s | {:.2} s | {ratio:.2} | {} | {memory} MB | {} |{}",
            row.what,
            ours.seconds,
            bare.seconds,
            row.ratio,
            row.memory
                .map_or("reported".into(), |bound| format!("{bound} MB")),
            if above { " above" } else { "" }
        );
    }
    println!();
    screen::report(dir.path());
    if failed {
        std::process::exit(1);
    }
}
