//! Servers that lie, in the program as a script calls it: lengths that nothing stands behind, keys that are none,
//! answers with columns missing. It ends with words and an exit code, in time, and takes no memory for promises.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Serves every connection in the same way; answers the port.
fn serve(behave: fn(&mut TcpStream) -> std::io::Result<()>) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("listens");
    let port = listener.local_addr().expect("address").port();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            std::thread::spawn(move || {
                let mut stream = stream;
                let _ = behave(&mut stream);
                // What it announced never comes.
                let mut rest = [0; 1024];
                while stream.read(&mut rest).is_ok_and(|count| count > 0) {}
            });
        }
    });
    port
}

/// Runs the program against it: its exit code, what it said, and the most memory it took, in MB.
fn run(address: &str, statement: &str) -> (Option<i32>, String, u64) {
    let home = tempfile::tempdir().expect("dir");
    let mut child = Command::new(env!("CARGO_BIN_EXE_idle-tide"))
        .args(["run", address, statement])
        .env("HOME", home.path())
        .env("PGPASSWORD", "a word")
        .env("MYSQL_PWD", "a word")
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("starts");
    let begun = Instant::now();
    let mut peak = 0;
    let code = loop {
        let status = std::fs::read_to_string(format!("/proc/{}/status", child.id()));
        let status = status.unwrap_or_default();
        let line = status.lines().find(|line| line.starts_with("VmHWM"));
        let kb = line.and_then(|line| line.split_whitespace().nth(1)?.parse::<u64>().ok());
        peak = peak.max(kb.unwrap_or(0) / 1024);
        if let Some(status) = child.try_wait().expect("waited") {
            break status.code();
        }
        assert!(
            begun.elapsed() < Duration::from_secs(40),
            "{statement} goes on"
        );
        std::thread::sleep(Duration::from_millis(5));
    };
    let mut said = String::new();
    let mut errors = child.stderr.take().expect("errors");
    errors.read_to_string(&mut said).expect("text");
    (code, said, peak)
}

/// A message of PostgreSQL's protocol.
fn message(kind: u8, body: &[u8]) -> Vec<u8> {
    let mut bytes = vec![kind];
    bytes.extend_from_slice(&(body.len() as u32 + 4).to_be_bytes());
    bytes.extend_from_slice(body);
    bytes
}

/// Reads the request for encryption, which is declined, and the one that starts.
fn postgres_start(stream: &mut TcpStream) -> std::io::Result<()> {
    loop {
        let mut length = [0; 4];
        stream.read_exact(&mut length)?;
        let mut rest = vec![0; (u32::from_be_bytes(length) as usize).saturating_sub(4)];
        stream.read_exact(&mut rest)?;
        if rest.starts_with(&80_877_103_u32.to_be_bytes()) {
            stream.write_all(b"N")?;
            continue;
        }
        return Ok(());
    }
}

fn postgres_login(stream: &mut TcpStream) -> std::io::Result<()> {
    postgres_start(stream)?;
    let mut bytes = message(b'R', &[0, 0, 0, 0]);
    bytes.extend(message(b'S', b"server_version\x0016.4\0"));
    bytes.extend(message(b'S', b"client_encoding\0UTF8\0"));
    bytes.extend(message(b'K', &[0, 0, 0, 1, 0, 0, 0, 1]));
    bytes.extend(message(b'Z', b"I"));
    stream.write_all(&bytes)
}

/// Reads a message and answers its kind.
fn postgres_message(stream: &mut TcpStream) -> std::io::Result<u8> {
    let mut head = [0; 5];
    stream.read_exact(&mut head)?;
    let length = u32::from_be_bytes([head[1], head[2], head[3], head[4]]) as usize;
    let mut rest = vec![0; length.saturating_sub(4)];
    stream.read_exact(&mut rest)?;
    Ok(head[0])
}

const ONE_COLUMN: &[u8] = b"\0\x01a\0\0\0\0\0\0\0\0\0\0\x19\xff\xff\xff\xff\xff\xff\0\0";

/// Whatever it is asked, it answers one row of one column.
fn one_column(stream: &mut TcpStream) -> std::io::Result<()> {
    one_value(stream, b'1')
}

fn one_value(stream: &mut TcpStream, value: u8) -> std::io::Result<()> {
    postgres_login(stream)?;
    loop {
        match postgres_message(stream)? {
            b'Q' | b'S' => {
                let mut bytes = message(b'T', ONE_COLUMN);
                bytes.extend(message(b'D', &[0, 1, 0, 0, 0, 1, value]));
                bytes.extend(message(b'C', b"SELECT 1\0"));
                bytes.extend(message(b'Z', b"I"));
                stream.write_all(&bytes)?;
            }
            b'X' => return Ok(()),
            _ => {}
        }
    }
}

#[test]
fn postgres_that_lies() {
    // A length of 2 GB before the login.
    let port = serve(|stream| {
        postgres_start(stream)?;
        stream.write_all(b"R\x7f\xff\xff\xff\0\0")
    });
    let at = |port: u16| format!("postgres://mate@127.0.0.1:{port}/books");
    let (code, said, peak) = run(&at(port), "select 1");
    assert!(matches!(code, Some(1 | 3 | 5)), "{code:?} {said}");
    assert!(
        said.contains("before the login") && peak < 200,
        "{peak} MB: {said}"
    );

    // A login whose numbers and keys are none.
    let port = serve(|stream| {
        postgres_start(stream)?;
        stream.write_all(&message(b'R', b"\0\0\0\x0aSCRAM-SHA-256\0\0"))?;
        postgres_message(stream)?;
        stream.write_all(&message(b'R', b"\0\0\0\x0br=,s=!,i=99999999999999"))
    });
    let (code, said, _) = run(&at(port), "select 1");
    assert!(
        matches!(code, Some(1 | 3 | 5)) && !said.is_empty(),
        "{code:?} {said}"
    );

    // Answers with columns missing: the catalog cannot be read, what is typed still is.
    let port = serve(one_column);
    let (code, said, _) = run(&at(port), "/tables");
    assert!(
        matches!(code, Some(1 | 3 | 5)) && !said.is_empty(),
        "{code:?} {said}"
    );

    // What is asked about the session and the catalog comes back as no text.
    let port = serve(|stream| one_value(stream, 0xff));
    let (code, said, _) = run(&at(port), "/tables");
    assert!(
        matches!(code, Some(1 | 3 | 5)) && !said.contains("panicked"),
        "{code:?} {said}"
    );

    // A value of 1.5 GB.
    let port = serve(|stream| {
        postgres_login(stream)?;
        postgres_message(stream)?;
        stream.write_all(&message(b'T', ONE_COLUMN))?;
        stream.write_all(b"D\x5f\xff\xff\xff\0\x01\x5f\xff\xff\xf0")?;
        let piece = vec![b'x'; 1 << 20];
        (0..1_600).try_for_each(|_| stream.write_all(&piece))
    });
    let (code, said, peak) = run(&at(port), "select 1");
    assert!(said.contains("512 MB is the most"), "{said}");
    assert!(
        matches!(code, Some(1 | 3 | 5)) && peak < 300,
        "{code:?} {peak} MB: {said}"
    );
}

/// A packet of MariaDB's protocol.
fn packet(number: u8, body: &[u8]) -> Vec<u8> {
    let mut bytes = (body.len() as u32).to_le_bytes()[..3].to_vec();
    bytes.push(number);
    bytes.extend_from_slice(body);
    bytes
}

fn mariadb_packet(stream: &mut TcpStream) -> std::io::Result<Vec<u8>> {
    let mut head = [0; 4];
    stream.read_exact(&mut head)?;
    let mut body = vec![0; u32::from_le_bytes([head[0], head[1], head[2], 0]) as usize];
    stream.read_exact(&mut body)?;
    Ok(body)
}

fn mariadb_greeting(stream: &mut TcpStream, plugin: &[u8]) -> std::io::Result<()> {
    let mut body = b"\x0a11.8.1-MariaDB\0\x01\0\0\0abcdefgh\0".to_vec();
    body.extend_from_slice(&[0x08, 0x82, 0x21, 0x02, 0x00, 0x08, 0x01, 21]);
    body.extend_from_slice(&[0; 10]);
    body.extend_from_slice(b"ijklmnopqrst\0");
    body.extend_from_slice(plugin);
    body.push(0);
    stream.write_all(&packet(0, &body))?;
    mariadb_packet(stream).map(drop)
}

const FINE: &[u8] = b"\0\0\0\x02\0\0\0";

#[test]
fn mariadb_that_lies() {
    let at = |port: u16| format!("mariadb://mate@127.0.0.1:{port}/books");
    // More columns than there is memory in the world.
    let port = serve(|stream| {
        mariadb_greeting(stream, b"mysql_native_password")?;
        stream.write_all(&packet(2, FINE))?;
        loop {
            mariadb_packet(stream)?;
            stream.write_all(&packet(1, b"\xfe\0\0\0\0\0\0\0\x10"))?;
        }
    });
    let (code, said, peak) = run(&at(port), "select 1");
    assert!(
        matches!(code, Some(1 | 3 | 5)) && !said.is_empty() && peak < 300,
        "{code:?} {peak} MB: {said}"
    );

    // A public key that is none.
    let port = serve(|stream| {
        mariadb_greeting(stream, b"caching_sha2_password")?;
        stream.write_all(&packet(2, b"\x01\x04"))?;
        mariadb_packet(stream)?;
        stream.write_all(&packet(
            4,
            b"\x01-----BEGIN PUBLIC KEY-----\nnone\n-----END PUBLIC KEY-----\n",
        ))
    });
    let (code, said, _) = run(&at(port), "select 1");
    assert!(
        matches!(code, Some(1 | 3 | 5)) && !said.is_empty(),
        "{code:?} {said}"
    );

    // It asks for a file of this machine that no statement names.
    static SENT: std::sync::Mutex<Vec<u8>> = std::sync::Mutex::new(Vec::new());
    let port = serve(|stream| {
        mariadb_greeting(stream, b"mysql_native_password")?;
        stream.write_all(&packet(2, FINE))?;
        mariadb_packet(stream)?;
        stream.write_all(&packet(1, b"\xfb/etc/passwd"))?;
        let mut bytes = [0; 4096];
        let count = stream.read(&mut bytes)?;
        SENT.lock()
            .expect("lock")
            .extend_from_slice(&bytes[..count]);
        Ok(())
    });
    let (code, said, _) = run(&at(port), "select 1");
    assert!(
        matches!(code, Some(1 | 3 | 5)) && !said.is_empty(),
        "{code:?} {said}"
    );
    let sent = SENT.lock().expect("lock").clone();
    assert!(!String::from_utf8_lossy(&sent).contains("root:"));

    // It says that the packet goes on, for ever.
    let port = serve(|stream| stream.write_all(b"\xff\xff\xff\0"));
    let (code, said, peak) = run(&at(port), "select 1");
    assert!(
        matches!(code, Some(1 | 3 | 5)) && !said.is_empty() && peak < 300,
        "{code:?} {peak} MB: {said}"
    );
}

/// Reads a message of the documents' wire protocol; answers its number and the name of its command.
fn wire_message(stream: &mut TcpStream) -> std::io::Result<([u8; 4], String)> {
    let mut head = [0; 16];
    stream.read_exact(&mut head)?;
    let length = u32::from_le_bytes([head[0], head[1], head[2], head[3]]) as usize;
    let mut body = vec![0; length - 16];
    stream.read_exact(&mut body)?;
    // Flags, the kind of section, the length and the first field of the document, or an old query's name.
    let old = u32::from_le_bytes([head[12], head[13], head[14], head[15]]) == 2004;
    let name = match old {
        true => "hello".to_string(),
        false => {
            let name = body[10..]
                .split(|byte| *byte == 0)
                .next()
                .unwrap_or_default();
            String::from_utf8_lossy(name).into_owned()
        }
    };
    Ok((
        [head[4], head[5], head[6], head[7]],
        if old { "old".into() } else { name },
    ))
}

fn wire_answer(
    stream: &mut TcpStream,
    to: [u8; 4],
    old: bool,
    document: &[u8],
) -> std::io::Result<()> {
    let before: &[u8] = match old {
        true => &[8, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0],
        false => &[0, 0, 0, 0, 0],
    };
    let length = 16 + before.len() + document.len();
    let mut bytes = (length as u32).to_le_bytes().to_vec();
    bytes.extend_from_slice(&[9, 0, 0, 0]);
    bytes.extend_from_slice(&to);
    bytes.extend_from_slice(&if old { 1_u32 } else { 2013 }.to_le_bytes());
    bytes.extend_from_slice(before);
    bytes.extend_from_slice(document);
    stream.write_all(&bytes)
}

/// A document of these fields: kind, name, bytes.
fn document(fields: &[(u8, &str, Vec<u8>)]) -> Vec<u8> {
    let mut body = Vec::new();
    for (kind, name, value) in fields {
        body.push(*kind);
        body.extend_from_slice(name.as_bytes());
        body.push(0);
        body.extend_from_slice(value);
    }
    let mut bytes = (body.len() as u32 + 5).to_le_bytes().to_vec();
    bytes.extend(body);
    bytes.push(0);
    bytes
}

fn nested(levels: usize) -> Vec<u8> {
    // Outermost first: each level is its length, its kind and name, the next one, and an end.
    let mut bytes = Vec::new();
    for level in 0..levels {
        bytes.extend_from_slice(&(((levels - level) * 8 + 5) as u32).to_le_bytes());
        bytes.extend_from_slice(b"\x03a\0");
    }
    bytes.extend_from_slice(&[5, 0, 0, 0, 0]);
    bytes.extend(vec![0; levels]);
    bytes
}

/// Documents nested deeper than any server keeps them.
#[test]
fn documents_without_a_bottom() {
    let port = serve(|stream| {
        let one = || 1.0_f64.to_le_bytes().to_vec();
        let number = |number: i32| number.to_le_bytes().to_vec();
        loop {
            let (to, name) = wire_message(stream)?;
            let answer = match name.as_str() {
                "hello" | "old" | "isMaster" | "ismaster" => document(&[
                    (1, "ok", one()),
                    (8, "ismaster", vec![1]),
                    (8, "helloOk", vec![1]),
                    (8, "isWritablePrimary", vec![1]),
                    (16, "maxWireVersion", number(21)),
                    (16, "minWireVersion", number(0)),
                    (16, "maxBsonObjectSize", number(16 << 20)),
                    (16, "maxMessageSizeBytes", number(48_000_000)),
                    (16, "maxWriteBatchSize", number(100_000)),
                ]),
                _ => {
                    let batch = document(&[(3, "0", nested(3_000))]);
                    let cursor = document(&[
                        (18, "id", 0_i64.to_le_bytes().to_vec()),
                        (2, "ns", b"\x04\0\0\0a.b\0".to_vec()),
                        (4, "firstBatch", batch),
                    ]);
                    document(&[(1, "ok", one()), (3, "cursor", cursor)])
                }
            };
            wire_answer(stream, to, name == "old", &answer)?;
        }
    });
    let address = format!("mongodb://127.0.0.1:{port}/books");
    for statement in ["from b", "call { ping: 1 }", "/tables"] {
        let (code, said, peak) = run(&address, statement);
        assert!(
            matches!(code, Some(1 | 3 | 5)) && !said.is_empty() && peak < 900,
            "{statement}: {code:?} {peak} MB: {said}"
        );
    }
}
