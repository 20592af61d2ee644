//! Any bytes to everything that reads some: no panic, no hang, and what is understood is written so that it is understood
//! again. The tests run each target for a moment, the campaign for minutes. FUZZ_SECONDS and FUZZ_SEED repeat a run.

use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::field::{Chance, Field, finish, last_line};
use crate::tally::Tally;

mod documents;
mod protocols;
mod texts;

/// Something that reads bytes.
pub struct Target {
    /// Its name.
    pub name: &'static str,
    /// What it usually reads.
    pub seeds: fn() -> Vec<Vec<u8>>,
    /// Reads; panics where a promise is broken.
    pub run: fn(&[u8]),
}

/// All targets.
pub fn targets() -> Vec<Target> {
    [texts::TARGETS, documents::TARGETS, protocols::TARGETS]
        .into_iter()
        .flatten()
        .map(|target| Target { ..*target })
        .collect()
}

/// The stack of a task's thread.
const STACK: usize = 64 * 1024 * 1024;

/// How long the campaign runs each target.
const LONG: Duration = Duration::from_secs(60);

/// Runs all of them for long, two at a time, each as a process of its own: one that ends it is counted too.
pub fn run(field: &Field) -> Tally {
    let mut tally = Tally::default();
    let place = field.folder("fuzzing");
    let list = targets();
    let next = std::sync::atomic::AtomicUsize::new(0);
    let done = std::sync::Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                let at = || next.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
                while let Some(target) = list.get(at()) {
                    let kept = place.join(target.name);
                    let mut command = Command::new(std::env::current_exe().expect("a path"));
                    command.args(["--fuzz", target.name]).arg(&kept);
                    let ran = finish(command, b"", LONG * 3);
                    let input = || {
                        let bytes = std::fs::read(&kept).unwrap_or_default();
                        String::from_utf8_lossy(&bytes).into_owned()
                    };
                    let came = match (ran.sound(), ran.code) {
                        (Err(words), _) => Err(format!("{words}; the input was {:?}", input())),
                        (_, Some(0)) => Ok(last_line(&ran.err).parse::<u64>().unwrap_or(0)),
                        _ => Err(ran.err),
                    };
                    done.lock()
                        .expect("no panic")
                        .push((target.name, came, ran.peak));
                }
            });
        }
    });
    let mut inputs = 0;
    for (name, came, peak) in done.into_inner().expect("no panic") {
        inputs += came.as_ref().map_or(0, |count| *count);
        tally.peak = tally.peak.max(peak);
        tally.count(name, came.map(|_| ()));
    }
    tally
        .figures
        .push(format!("{inputs} inputs, {} s each target", LONG.as_secs()));
    tally
}

/// Runs one target, as the process that [`run`] starts: what it reads lies in `kept` meanwhile, how many inputs there were is
/// the last line that it says.
///
/// # Errors
/// In words with the input: what a promise was broken with.
pub fn one(name: &str, kept: &Path) -> Result<(), String> {
    std::panic::set_hook(Box::new(|_| {}));
    let list = targets();
    let target = list.iter().find(|target| target.name == name);
    let target = target.ok_or_else(|| format!("there is no target {name}"))?;
    // With as much of a stack as the threads of the program have.
    let work = || for_long(target, LONG, seed(), Some(kept));
    let count = std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().stack_size(STACK);
        let thread = thread.spawn_scoped(scope, work);
        let thread = thread.map_err(|error| error.to_string())?;
        thread.join().map_err(|_| "the thread ended".to_string())?
    })?;
    eprintln!("{count}");
    Ok(())
}

fn seed() -> u64 {
    let given = std::env::var("FUZZ_SEED").ok();
    given.and_then(|s| s.parse().ok()).unwrap_or(0x1d1e_71de)
}

/// Gives a target changed seeds for so long; answers how many.
fn for_long(
    target: &Target,
    long: Duration,
    seed: u64,
    kept: Option<&Path>,
) -> Result<u64, String> {
    let kept = match kept.map(std::fs::File::create).transpose() {
        Ok(kept) => kept,
        Err(error) => return Err(error.to_string()),
    };
    let seeds = (target.seeds)();
    let mut chance = Chance(seed);
    let begun = Instant::now();
    let mut count = 0;
    while begun.elapsed() < long {
        let state = chance.0;
        let bytes = mutated(&seeds, &mut chance);
        if let Some(kept) = &kept {
            let written = kept.write_all_at(&bytes, 0);
            let written = written.and_then(|()| kept.set_len(bytes.len() as u64));
            written.map_err(|error| error.to_string())?;
        }
        let one = Instant::now();
        let done = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| (target.run)(&bytes)));
        let input = || {
            format!(
                "{} with FUZZ_SEED={state}: {:?}",
                target.name,
                String::from_utf8_lossy(&bytes)
            )
        };
        if let Err(panic) = done {
            let words = panic.downcast_ref::<String>().cloned();
            let words = words.or_else(|| panic.downcast_ref::<&str>().map(ToString::to_string));
            return Err(format!("{}: {}", input(), words.unwrap_or_default()));
        }
        if one.elapsed() > Duration::from_secs(5) {
            return Err(format!("hangs: {}", input()));
        }
        count += 1;
    }
    Ok(count)
}

/// Changes bytes in one of the ways that find faults: flips, cuts, repeats, splices, numbers at their limits.
fn mutated(seeds: &[Vec<u8>], chance: &mut Chance) -> Vec<u8> {
    let mut bytes = seeds[chance.below(seeds.len())].clone();
    for _ in 0..1 + chance.below(6) {
        let at = chance.below(bytes.len() + 1);
        match chance.below(8) {
            0 if at < bytes.len() => bytes[at] = chance.next() as u8,
            1 if at < bytes.len() => bytes[at] ^= 1 << chance.below(8),
            2 => bytes.truncate(at),
            3 => {
                let other = &seeds[chance.below(seeds.len())];
                let from = chance.below(other.len() + 1);
                let part: Vec<u8> =
                    other[from..(from + chance.below(24)).min(other.len())].to_vec();
                bytes.splice(at..at, part);
            }
            4 if at < bytes.len() => {
                let end = (at + chance.below(16)).min(bytes.len());
                bytes.drain(at..end);
            }
            5 if at + 4 <= bytes.len() => {
                let number =
                    [0_u32, 1, 4, 5, 0x7fff_ffff, 0xffff_ffff, 0x8000_0000][chance.below(7)];
                bytes[at..at + 4].copy_from_slice(&number.to_le_bytes());
            }
            6 => {
                let part: Vec<u8> = bytes[at..(at + chance.below(12)).min(bytes.len())].to_vec();
                for _ in 0..chance.below(40) {
                    bytes.splice(at..at, part.iter().copied());
                }
            }
            _ => bytes.insert(at, b"{}[]()'\"`:;,.$\\-0n\n\0"[chance.below(20)]),
        }
    }
    bytes.truncate(20_000);
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_target_for_a_moment() {
        let seconds = std::env::var("FUZZ_SECONDS").ok();
        let moment = match seconds.and_then(|s| s.parse().ok()) {
            Some(seconds) => Duration::from_secs(seconds),
            None => Duration::from_millis(600),
        };
        for target in targets() {
            if let Err(words) = for_long(&target, moment, seed(), None) {
                panic!("{words}");
            }
        }
    }

    #[test]
    fn a_panic_and_a_hang_are_found() {
        let target = Target {
            name: "bad",
            seeds: || vec![b"seed".to_vec()],
            run: |bytes| assert!(bytes.len() < 9, "too long"),
        };
        let came = for_long(&target, Duration::from_secs(5), 7, None);
        assert!(came.is_err_and(|words| words.contains("too long") && words.contains("FUZZ_SEED")));
    }
}
