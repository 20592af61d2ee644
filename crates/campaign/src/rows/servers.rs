//! Servers that do not keep to their protocol: real ones, with somebody between who cuts, drips, flips, repeats, goes silent or
//! pours. Whatever comes, the program ends by itself or when it is told to, in words, and takes no memory for promises.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::Stdio;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use rustix::process::Signal;

use crate::field::{Chance, Field, last_line, memory, port, signal};
use crate::peers::{document_server, standin};
use crate::tally::Tally;

/// What the one between does with what the server says.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Way {
    /// Closes the link after so many bytes.
    Cut,
    /// Gives it on in pieces of a few bytes.
    Drip,
    /// Turns single bits over.
    Flip,
    /// Puts a number at its limit into it.
    Lie,
    /// Says a piece twice.
    Repeat,
    /// Says nothing more, and keeps the link.
    Silence,
    /// Says nonsense without an end.
    Pour,
}

const WAYS: [Way; 7] = [
    Way::Cut,
    Way::Drip,
    Way::Flip,
    Way::Lie,
    Way::Repeat,
    Way::Silence,
    Way::Pour,
];
/// How often each way is tried with each server.
const TIMES: usize = 14;
/// One message may have 512 MB; more than that nobody gets, in MB.
const MEMORY: u64 = 600;

/// Tries all servers.
pub fn run(field: &Field) -> Tally {
    let mut tally = Tally::default();
    let standin = standin();
    let documents = document_server();
    let servers = [
        (
            "postgres",
            port("postgres"),
            "postgres",
            "select generate_series(1, 200), repeat('tide', 40)",
        ),
        (
            "mariadb",
            port("mariadb"),
            "harbour",
            "select seq, repeat('tide', 40) from seq_1_to_200",
        ),
        (
            "mysql",
            port("mysql"),
            "harbour",
            "select a.id, repeat('tide', 40) from information_schema.collations a",
        ),
        (
            "tds",
            Some(standin.address.port().to_string()),
            "harbour",
            "declare @n int = 0 while @n < 40 begin select @n as n, replicate('tide', 40) as word; set @n = @n + 1; end",
        ),
        (
            "mongodb",
            Some(documents.address.port().to_string()),
            "harbour",
            "insert into t [{ a: 1 }, { a: 2 }]; from t",
        ),
    ];
    let next = Mutex::new(0);
    let parts = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                loop {
                    let at = {
                        let mut next = next.lock().expect("no panic");
                        *next += 1;
                        *next - 1
                    };
                    let Some((name, port, database, statement)) = servers.get(at) else {
                        return;
                    };
                    let mut part = Tally::default();
                    match port {
                        Some(port) => one(field, &mut part, name, port, database, statement),
                        None => part.left_out.push(format!("{name}, which is not here")),
                    }
                    parts.lock().expect("no panic").push(part);
                }
            });
        }
    });
    for part in parts.into_inner().expect("no panic") {
        tally.add(part);
    }
    floods(field, &mut tally);
    tally
}

fn one(field: &Field, tally: &mut Tally, name: &str, port: &str, database: &str, statement: &str) {
    let home = field.folder(&format!("against-{name}"));
    let scheme = name;
    let user = if name == "mongodb" { "" } else { "haven@" };
    let option = if name == "mongodb" { "" } else { "?tls=off" };
    // How much a whole conversation says.
    let (place, said) = between(port, Way::Drip, u64::MAX, 1);
    let address = |place: u16| format!("{scheme}://{user}127.0.0.1:{place}/{database}{option}");
    let whole = field.run(
        &home,
        &["run", &address(place), "/tables", statement],
        Duration::from_secs(60),
    );
    if whole.code != Some(0) {
        tally.count(
            name,
            Err(format!("nothing comes of it at all: {}", whole.err)),
        );
        return;
    }
    let length = said.load(Ordering::SeqCst).max(1);
    let mut by = Chance(0x5eed_0002);
    let mut codes = std::collections::BTreeMap::new();
    for way in WAYS {
        for time in 0..TIMES {
            // The first says nothing at all.
            let at = if time == 0 { 0 } else { by.next() % length };
            let seed = by.next() | 1;
            let (place, _) = between(port, way, at, seed);
            let came = against(field, &home, &address(place), statement, tally, &mut codes);
            tally.count(
                format!("{name}, {way:?} after {at} of {length} bytes, seed {seed}"),
                came,
            );
        }
    }
    let codes: Vec<String> = codes
        .iter()
        .map(|(code, count)| format!("{code}: {count}"))
        .collect();
    tally
        .figures
        .push(format!("{name}: exit codes {}", codes.join(", ")));
}

/// Runs the program; after a second it is told to end, and has to.
fn against(
    field: &Field,
    home: &std::path::Path,
    address: &str,
    statement: &str,
    tally: &mut Tally,
    codes: &mut std::collections::BTreeMap<i32, usize>,
) -> Result<(), String> {
    let mut command = field.command(home, &["run", address, "/tables", statement]);
    let errors = tempfile::NamedTempFile::new().map_err(|error| error.to_string())?;
    let child = command
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(errors.reopen().map_err(|error| error.to_string())?)
        .spawn();
    let mut child = child.map_err(|error| error.to_string())?;
    let begun = Instant::now();
    let (mut peak, mut told) = (0, false);
    let status = loop {
        peak = peak.max(memory(child.id()).0);
        if let Some(status) = child.try_wait().map_err(|error| error.to_string())? {
            break Some(status);
        }
        if begun.elapsed() > Duration::from_secs(1) && !told {
            told = true;
            signal(child.id(), Signal::INT);
        }
        if begun.elapsed() > Duration::from_secs(8) {
            let _ = child.kill();
            let _ = child.wait();
            break None;
        }
        std::thread::sleep(Duration::from_millis(3));
    };
    tally.peak = tally.peak.max(peak);
    let said = std::fs::read_to_string(errors.path()).unwrap_or_default();
    if peak > MEMORY {
        return Err(format!("took {peak} MB"));
    }
    if said.contains("panicked") {
        return Err(format!("panicked: {said}"));
    }
    let Some(status) = status else {
        return Err(format!(
            "did not end when it was told to: {}",
            last_line(&said)
        ));
    };
    match status.code() {
        Some(101) | None => Err(format!("{status}: {}", last_line(&said))),
        Some(code) => {
            *codes.entry(code).or_default() += 1;
            // What fails says so.
            match code != 0 && code != 130 && said.trim().is_empty() {
                true => Err(format!("code {code} without a word")),
                false => Ok(()),
            }
        }
    }
}

/// Stands between the program and the server at `port`; answers its own port, and the count of bytes that the server said.
fn between(port: &str, way: Way, at: u64, seed: u64) -> (u16, Arc<AtomicU64>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("listens");
    let own = listener.local_addr().expect("a place").port();
    let said = Arc::new(AtomicU64::new(0));
    let (port, total) = (port.to_string(), Arc::clone(&said));
    std::thread::spawn(move || {
        // Enough for a session and its helpers.
        for client in listener.incoming().flatten().take(8) {
            let Ok(server) = TcpStream::connect(format!("127.0.0.1:{port}")) else {
                return;
            };
            let (Ok(mut up_from), Ok(mut up_to)) = (client.try_clone(), server.try_clone()) else {
                return;
            };
            std::thread::spawn(move || {
                let _ = std::io::copy(&mut up_from, &mut up_to);
                let _ = up_to.shutdown(std::net::Shutdown::Both);
            });
            let total = Arc::clone(&total);
            std::thread::spawn(move || down(server, client, way, at, seed, &total));
        }
    });
    (own, said)
}

fn down(
    mut server: TcpStream,
    mut client: TcpStream,
    way: Way,
    at: u64,
    seed: u64,
    total: &AtomicU64,
) {
    let mut by = Chance(seed);
    let mut piece = [0; 8192];
    while let Ok(count @ 1..) = server.read(&mut piece) {
        let before = total.fetch_add(count as u64, Ordering::SeqCst);
        let here = at.saturating_sub(before) as usize;
        let now = before + count as u64 > at;
        let mut bytes = piece[..count].to_vec();
        let mut send = |bytes: &[u8]| client.write_all(bytes).is_ok();
        let goes_on = match way {
            Way::Drip => {
                let step = 1 + by.below(700);
                bytes.chunks(step).all(|part| {
                    std::thread::sleep(Duration::from_micros(100));
                    send(part)
                })
            }
            _ if !now => send(&bytes),
            Way::Cut => {
                send(&bytes[..here.min(count)]);
                false
            }
            Way::Flip => {
                for _ in 0..1 + by.below(3) {
                    let place = here.min(count - 1) + by.below(count - here.min(count - 1));
                    bytes[place] ^= 1 << by.below(8);
                }
                send(&bytes)
            }
            Way::Lie => {
                let place = here.min(count.saturating_sub(4));
                let limit = [0_u32, 1, 0x7fff_ffff, 0xffff_ffff, 0x8000_0000, 0x00ff_ffff];
                let number = limit[by.below(limit.len())].to_be_bytes();
                let end = (place + 4).min(count);
                bytes[place..end].copy_from_slice(&number[..end - place]);
                send(&bytes)
            }
            Way::Repeat => {
                let from = here.min(count);
                send(&bytes) && send(&bytes[from..])
            }
            Way::Silence => {
                send(&bytes[..here.min(count)]);
                // The link stays until the program goes.
                let mut rest = [0; 1024];
                while client.read(&mut rest).is_ok_and(|count| count > 0) {}
                false
            }
            Way::Pour => {
                send(&bytes[..here.min(count)]);
                let mut nonsense = vec![0; 65536];
                for byte in &mut nonsense {
                    *byte = by.next() as u8;
                }
                let begun = Instant::now();
                while begun.elapsed() < Duration::from_secs(5)
                    && client.write_all(&nonsense).is_ok()
                {}
                false
            }
        };
        if !goes_on {
            break;
        }
    }
    let _ = client.shutdown(std::net::Shutdown::Both);
}

/// What real servers may say without lying: notices by the hundred thousand, as many columns as they have.
fn floods(field: &Field, tally: &mut Tally) {
    let home = field.folder("floods");
    let columns = |count: usize| -> String {
        let list: Vec<String> = (0..count).map(|n| format!("{n} as c{n}")).collect();
        format!("select {}", list.join(", "))
    };
    let notices = "do $$ begin for i in 1..100000 loop raise notice 'the tide is at %, %', i, repeat('x', 200); end loop; end $$";
    let cases = [
        (
            "postgres",
            "postgres",
            "100 000 notices",
            notices.to_string(),
        ),
        ("postgres", "postgres", "1 600 columns", columns(1_600)),
        (
            "postgres",
            "postgres",
            "a value of 100 MB",
            "select length(repeat('tide', 25000000)), repeat('tide', 25000000)".into(),
        ),
        ("mariadb", "harbour", "4 000 columns", columns(4_000)),
        (
            "mariadb",
            "harbour",
            "65 000 warnings",
            "select cast(concat('x', seq) as int) from seq_1_to_65000".into(),
        ),
        ("mysql", "harbour", "4 000 columns", columns(4_000)),
    ];
    for (server, database, what, statement) in cases {
        let Some(port) = port(server) else {
            tally
                .left_out
                .push(format!("{what} from {server}, which is not here"));
            continue;
        };
        let address = format!("{server}://haven@127.0.0.1:{port}/{database}");
        let ran = field.run(
            &home,
            &["run", &address, "--format", "csv", &statement],
            Duration::from_secs(60),
        );
        tally.peak = tally.peak.max(ran.peak);
        let came = ran.sound().and_then(|()| match ran.code {
            _ if ran.peak > 700 => Err(format!("took {} MB", ran.peak)),
            Some(0) => Ok(()),
            code => Err(format!("{code:?}: {}", last_line(&ran.err))),
        });
        tally
            .figures
            .push(format!("{what} from {server}: {} MB", ran.peak));
        tally.count(format!("{what} from {server}"), came);
    }
}
