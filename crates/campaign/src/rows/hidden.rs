//! Writes that do not look like writes, to a session that refuses them. The lists lie in `hidden/`, a statement a line. Each is
//! sent alone, inside a transaction, and once more with all the others in one session to a source that was saved so;
//! another driver looks at everything a write could change before and after.

use std::collections::HashSet;
use std::path::Path;
use std::time::Duration;

use crate::field::{Field, port};
use crate::peers::{
    Documents, File, Mysql, Peer, Postgres, Tabular, document_server, lying_in, standin,
};
use crate::tally::Tally;

const MOST: Duration = Duration::from_secs(30);

/// A source that writes are hidden from.
struct Target<'a> {
    name: &'a str,
    address: String,
    /// What opens it for writing, so that only the refusal keeps it.
    options: &'a [&'a str],
    begin: &'a str,
    statements: Vec<String>,
    make: Box<dyn Fn() -> Result<Box<dyn Peer>, String> + 'a>,
    /// A folder into which a server could write.
    outside: &'a Path,
}

/// Tries all sources.
pub fn run(field: &Field) -> Tally {
    let mut tally = Tally::default();
    let outside = field.folder("outside");
    let everyone = std::os::unix::fs::PermissionsExt::from_mode(0o777);
    std::fs::set_permissions(&outside, everyone).expect("open to all");
    if let Some(above) = outside.parent() {
        let enter = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(above, enter).expect("open to all");
    }
    let lines = |text: &str| -> Vec<String> {
        text.lines()
            .filter(|line| !line.is_empty() && !line.starts_with("# "))
            .map(|line| line.replace("FOLDER", &outside.display().to_string()))
            .collect()
    };
    let common = include_str!("hidden/common.txt");
    let both = |own: &str| [lines(common), lines(own)].concat();

    let place = field.folder("file");
    let path = place.join("books.db");
    let statements = [lines(common), lines(include_str!("hidden/sqlite.txt"))].concat();
    for options in [&["--write", "--writes", "none"][..], &[]] {
        tries(
            field,
            &mut tally,
            &Target {
                name: match options {
                    [] => "a file opened to be read",
                    _ => "a file",
                },
                address: path.display().to_string(),
                options,
                begin: "begin",
                statements: statements.clone(),
                make: Box::new(|| {
                    for entry in std::fs::read_dir(&place).into_iter().flatten().flatten() {
                        let _ = std::fs::remove_file(entry.path());
                    }
                    let mut file = File::at(&path);
                    file.make(&lines_of(include_str!("hidden/sqlite-before.txt")))?;
                    Ok(Box::new(file))
                }),
                outside: &outside,
            },
        );
    }
    for (server, own, before) in [
        (
            "postgres",
            include_str!("hidden/postgres.txt"),
            include_str!("hidden/postgres-before.txt"),
        ),
        (
            "mariadb",
            include_str!("hidden/mariadb.txt"),
            include_str!("hidden/mariadb-before.txt"),
        ),
        (
            "mysql",
            include_str!("hidden/mysql.txt"),
            include_str!("hidden/mysql-before.txt"),
        ),
    ] {
        let Some(port) = port(server) else {
            tally.left_out.push(format!("{server}, which is not here"));
            continue;
        };
        let before = lines_of(before);
        tries(
            field,
            &mut tally,
            &Target {
                name: server,
                address: format!("{server}://haven@127.0.0.1:{port}/hidden"),
                options: &["--writes", "none"],
                begin: "begin",
                statements: both(own),
                make: Box::new(|| {
                    let mut peer: Box<dyn Peer> = match server {
                        "postgres" => Box::new(Postgres::open(&port, "hidden")?),
                        _ => Box::new(Mysql::open(&port, "hidden", server == "mysql")?),
                    };
                    peer.make(&before)?;
                    Ok(peer)
                }),
                outside: &outside,
            },
        );
    }
    let standin = standin();
    let tds = standin.address.port();
    let count = std::cell::Cell::new(0);
    tries(
        field,
        &mut tally,
        &Target {
            name: "tabular",
            address: format!("tds://haven@127.0.0.1:{tds}/harbour"),
            options: &["--writes", "none"],
            begin: "begin transaction",
            statements: both(include_str!("hidden/tabular.txt")),
            make: Box::new(|| {
                let mut peer = Tabular::open(tds, "harbour")?;
                if count.replace(1) > 0 {
                    // Its objects are made once; what a write left is put right.
                    peer.make(&["drop table if exists t", "drop table if exists other"])?;
                }
                peer.make(&lines_of(include_str!("hidden/tabular-before.txt")))?;
                Ok(Box::new(peer))
            }),
            outside: &outside,
        },
    );
    documents(field, &mut tally, &outside);
    tally
}

/// Document servers and files of documents: here the program itself refuses.
fn documents(field: &Field, tally: &mut Tally, outside: &Path) {
    let flows: Vec<String> = include_str!("hidden/flow.txt")
        .lines()
        .filter(|line| !line.is_empty() && !line.starts_with("# "))
        .map(str::to_string)
        .collect();
    let folder = field.folder("collections");
    tries(
        field,
        tally,
        &Target {
            name: "files of documents",
            address: format!("docs:{}", folder.display()),
            options: &["--write", "--writes", "none"],
            begin: "begin",
            statements: flows.clone(),
            make: Box::new(|| {
                for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
                    let _ = std::fs::remove_file(entry.path());
                }
                let text = "{\"_id\": 1, \"a\": 1, \"l\": [1, 2]}\n{\"_id\": 2, \"a\": 2}\n";
                for name in ["t.jsonl", "other.jsonl"] {
                    std::fs::write(folder.join(name), text).map_err(|error| error.to_string())?;
                }
                Ok(Box::new(File::at(&folder.join("t.jsonl"))))
            }),
            outside,
        },
    );
    let listening = document_server();
    let port = listening.address.port();
    tries(
        field,
        tally,
        &Target {
            name: "documents",
            address: format!("mongodb://127.0.0.1:{port}/hidden"),
            options: &["--writes", "none"],
            begin: "begin",
            statements: flows,
            make: Box::new(|| {
                let mut peer = Documents::open(port, "hidden")?;
                peer.drop()?;
                peer.make(&["t", "other"])?;
                Ok(Box::new(peer))
            }),
            outside,
        },
    );
}

fn lines_of(text: &str) -> Vec<&str> {
    text.lines()
        .filter(|line| !line.is_empty() && !line.starts_with("# "))
        .collect()
}

/// The other driver has to see a write that is not refused, or all of this tells nothing.
fn control(field: &Field, home: &Path, target: &Target, peer: &mut dyn Peer) -> Result<(), String> {
    if !target.options.contains(&"none") {
        return Ok(());
    }
    let before = peer.all()?;
    let mut arguments = vec!["run", &target.address, "--writes", "free"];
    arguments.extend(target.options.iter().filter(|one| **one == "--write"));
    arguments.push(&target.statements[0]);
    let ran = field.run(home, &arguments, MOST);
    match peer.all()? == before {
        true => Err(format!("an allowed write is not seen: {}", ran.err)),
        false => Ok(()),
    }
}

/// Sends every statement in three ways.
fn tries(field: &Field, tally: &mut Tally, target: &Target) {
    eprintln!("  {}", target.name);
    let home = field.folder("home");
    let mut peer = match (target.make)() {
        Ok(peer) => peer,
        Err(words) => {
            tally.count(target.name, Err(format!("could not be made: {words}")));
            return;
        }
    };
    if let Err(words) = control(field, &home, target, &mut *peer) {
        tally.count(target.name, Err(words));
        return;
    }
    match (target.make)() {
        Ok(new) => peer = new,
        Err(words) => {
            tally.count(target.name, Err(format!("not made again: {words}")));
            return;
        }
    }
    // What changes by itself is not looked at.
    let look = |peer: &mut dyn Peer| -> Result<Vec<String>, String> {
        let mut lines = peer.all()?;
        let files = lying_in(target.outside);
        lines.extend(files.into_iter().map(|file| format!("outside: {file}")));
        Ok(lines)
    };
    let mut seen = match (look(&mut *peer), look(&mut *peer)) {
        (Ok(first), Ok(second)) => {
            let second: HashSet<String> = second.into_iter().collect();
            first
                .into_iter()
                .filter(|line| second.contains(line))
                .collect::<Vec<String>>()
        }
        (Err(words), _) | (_, Err(words)) => {
            tally.count(target.name, Err(format!("cannot be looked at: {words}")));
            return;
        }
    };
    let settings = home.join("config/idle-tide");
    std::fs::create_dir_all(&settings).expect("a folder");
    let saved = format!(
        "[sources.kept]\naddress = \"{}\"\nwrites = \"none\"\n",
        target.address
    );
    std::fs::write(settings.join("settings.toml"), saved).expect("written");
    let mut refused = 0;
    let all = target.statements.iter();
    let alone = all.clone().map(|one| (one.as_str(), false));
    let inside = all.map(|one| (one.as_str(), true));
    let mut before_last = 0;
    for (statement, in_transaction) in alone.chain(inside).chain([("", false)]) {
        let mut arguments = vec!["run"];
        if statement.is_empty() {
            // All of them in one session.
            arguments.extend(["kept", "--keep-going"]);
            if target.options.contains(&"--write") {
                arguments.push("--write");
            }
            arguments.extend(target.statements.iter().map(String::as_str));
        } else {
            arguments.push(&target.address);
            arguments.extend(target.options);
            if in_transaction {
                arguments.extend(["--keep-going", target.begin]);
            }
            arguments.push(statement);
            if in_transaction {
                arguments.push("commit");
            }
        }
        let most = if statement.is_empty() { MOST * 4 } else { MOST };
        let ran = field.run(&home, &arguments, most);
        tally.peak = tally.peak.max(ran.peak);
        refused += usize::from(ran.code != Some(0));
        let mut came = ran.sound();
        match look(&mut *peer) {
            Ok(now) => {
                let now: HashSet<String> = now.into_iter().collect();
                let gone: Vec<&str> = seen
                    .iter()
                    .filter(|line| !now.contains(*line))
                    .map(String::as_str)
                    .collect();
                let grown = now.len() > before_last && before_last > 0;
                if !gone.is_empty() || grown {
                    let what: String = gone.join(" / ").chars().take(300).collect();
                    came = Err(format!(
                        "went through; no longer there: [{what}], lines {} then {}",
                        before_last,
                        now.len()
                    ));
                }
                before_last = now.len();
                if came.is_err() {
                    // On from a clean state.
                    before_last = 0;
                    for entry in std::fs::read_dir(target.outside)
                        .into_iter()
                        .flatten()
                        .flatten()
                    {
                        let _ = std::fs::remove_file(entry.path());
                    }
                    drop(peer);
                    peer = match (target.make)() {
                        Ok(peer) => peer,
                        Err(words) => {
                            tally.count(target.name, Err(format!("not made again: {words}")));
                            return;
                        }
                    };
                    let (Ok(first), Ok(second)) = (look(&mut *peer), look(&mut *peer)) else {
                        tally.count(target.name, Err("cannot be looked at again".into()));
                        return;
                    };
                    let second: HashSet<String> = second.into_iter().collect();
                    seen = first
                        .into_iter()
                        .filter(|line| second.contains(line))
                        .collect();
                }
            }
            Err(words) => came = Err(format!("the other driver was hit: {words}")),
        }
        let way = match (statement, in_transaction) {
            ("", _) => "all in one session",
            (_, true) => "in a transaction",
            _ => "alone",
        };
        tally.count(format!("{}, {way}: {statement}", target.name), came);
    }
    tally.figures.push(format!(
        "{}: {} statements, {refused} runs refused",
        target.name,
        target.statements.len()
    ));
}
