//! Ports at which no server of the family listens: one that closes at once, one that speaks something else, one that sends noise, one at which
//! nobody is, and a server of another family. Every family says so in its own words, soon, and gives no secret away.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use idle_tide_engines::{OpenError, OpenOptions, Silent, Source, Trouble, open};

/// A listener that greets whoever comes with these bytes and reads what they say, until it is dropped.
struct Stranger {
    address: SocketAddr,
    ends: Arc<AtomicBool>,
    thread: Option<JoinHandle<Vec<u8>>>,
}

impl Stranger {
    /// `stays`: whether it waits for what comes before it closes.
    fn greets(words: &'static [u8], stays: bool) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("listens");
        let address = listener.local_addr().expect("an address");
        let ends = Arc::new(AtomicBool::new(false));
        let end = Arc::clone(&ends);
        let thread = std::thread::spawn(move || {
            let mut heard = Vec::new();
            for stream in listener.incoming() {
                if end.load(Ordering::SeqCst) {
                    break;
                }
                let Ok(mut stream) = stream else { continue };
                let _ = stream.set_read_timeout(Some(Duration::from_millis(300)));
                let _ = stream.write_all(words);
                let mut buffer = [0; 4_096];
                let answers = if stays { 64 } else { 0 };
                for _ in 0..answers {
                    match stream.read(&mut buffer) {
                        Ok(0) | Err(_) => break,
                        Ok(count) => heard.extend(&buffer[..count]),
                    }
                    let _ = stream.write_all(words);
                }
            }
            heard
        });
        Stranger {
            address,
            ends,
            thread: Some(thread),
        }
    }

    /// What it heard.
    fn heard(mut self) -> Vec<u8> {
        self.ends.store(true, Ordering::SeqCst);
        let _ = std::net::TcpStream::connect(self.address);
        let thread = self.thread.take().expect("a thread");
        thread.join().expect("ends")
    }
}

const FAMILIES: [&str; 5] = ["postgres", "mariadb", "mysql", "tds", "mongodb"];

fn opened(address: &str) -> Result<(), OpenError> {
    let source = Source::parse(address)?;
    open(&source, OpenOptions::default(), &Silent).map(drop)
}

#[test]
fn a_port_of_something_else_is_told_as_such_and_hears_no_password() {
    const PAGE: &[u8] = b"HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\n\r\n";
    for family in FAMILIES {
        for (kind, words, stays) in [
            ("closes", &b""[..], false),
            ("a page", PAGE, true),
            ("noise", &[0xff; 64], true),
            ("nothing but zeros", &[0; 256], true),
        ] {
            let stranger = Stranger::greets(words, stays);
            let place = stranger.address;
            let began = Instant::now();
            // Document servers are looked for again and again, unless the address says how long.
            let more = match family {
                "mongodb" => "?serverSelectionTimeoutMS=2000",
                _ => "",
            };
            let address = format!("{family}://mate:herring@{place}/haven{more}");
            let error = opened(&address).expect_err("no server");
            let said = format!("{error:?}");
            assert!(
                began.elapsed() < Duration::from_secs(20),
                "{family} {kind}: {said}"
            );
            assert!(
                error.headline.contains(&place.port().to_string()),
                "{family} {kind}: {said}"
            );
            assert!(!error.checks.is_empty(), "{family} {kind}: {said}");
            assert!(!said.contains("herring"), "{family} {kind}: {said}");
            assert!(
                !matches!(
                    error.trouble,
                    Trouble::Login | Trouble::NoDatabase | Trouble::Cancelled
                ),
                "{family} {kind}: {said}"
            );
            let heard = stranger.heard();
            let wide: Vec<u8> = "herring"
                .encode_utf16()
                .flat_map(u16::to_le_bytes)
                .collect();
            for secret in [&b"herring"[..], &wide] {
                let told = heard.windows(secret.len()).any(|part| part == secret);
                assert!(!told, "{family} {kind}: the password was sent");
            }
        }
    }
}

#[test]
fn a_port_at_which_nobody_listens_is_refused_with_what_to_check() {
    // A port that was free a moment ago.
    let place = TcpListener::bind("127.0.0.1:0").and_then(|listener| listener.local_addr());
    let place = place.expect("an address");
    for family in FAMILIES {
        let more = match family {
            "mongodb" => "?serverSelectionTimeoutMS=1000",
            _ => "",
        };
        let error = opened(&format!("{family}://mate:x@{place}/haven{more}")).expect_err("nobody");
        assert_eq!(error.trouble, Trouble::Refused, "{family}: {error:?}");
        assert!(
            error.headline.contains(&place.port().to_string()),
            "{error:?}"
        );
        assert!(!error.checks.is_empty(), "{error:?}");
    }
}

#[test]
fn an_address_that_cannot_be_one_says_what_is_wrong_with_it() {
    let mut wrong = Vec::new();
    for (address, words) in [
        (
            "",
            "The source has no name. Name a file, an address, or demo.",
        ),
        ("postgres://h:port/x", "port"),
        ("postgres://h:70000/x", "port"),
        ("postgres://u@h/x?tls=maybe", "tls"),
        ("postgres://u@h/x?via=a@", "secure-shell host has no name"),
        ("postgres://u@h/x?via-key=k", "needs via before it"),
        (
            "postgres://u@h/x?through=c",
            "through in the address is not known",
        ),
        ("mongodb://", "needs a host"),
        (
            "sea-of-fog://h/x",
            "Addresses that begin with sea-of-fog: cannot be opened.",
        ),
        (
            "/nowhere/at/all/harbour.db",
            "There is no file /nowhere/at/all/harbour.db",
        ),
        ("docs:/nowhere/at/all", "There is no file or folder"),
    ] {
        let error = opened(address).map_or_else(|error| error, |()| panic!("{address} was opened"));
        let said = format!("{} {}", error.headline, error.checks.join(" "));
        if !said.contains(words) {
            wrong.push(format!("{address}: {said}"));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}
