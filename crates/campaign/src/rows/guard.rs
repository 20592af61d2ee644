//! Statements that sweep, and ordinary ones, from the tables of the language crate: in shell mode, where nobody can answer, a
//! sweep is refused with its own code and an ordinary statement is not asked about; on the full screen nothing is swept
//! before somebody said so, nor when the program is ended then. What was swept another driver tells.

use std::path::Path;
use std::time::Duration;

use rustix::process::Signal;

use crate::field::{Field, last_line, port, signal};
use crate::peers::{Documents, File, Mysql, Peer, Postgres, Tabular, document_server, standin};
use crate::screen::Screen;
use crate::tally::Tally;

const MOST: Duration = Duration::from_secs(30);
/// The code of what was asked about and nobody said yes to.
const ASKED: i32 = 4;
/// The tables that statements sweep.
const TABLES: [&str; 3] = ["visits", "dues", "arrivals"];

const BEFORE: &[&str] = &[
    "create table visits (id integer primary key, crew integer, berth integer, note varchar(40), arrived varchar(40))",
    "insert into visits values (1, 3, 1, 'a', null), (2, 4, 2, 'b', null), (3, 5, 9, 'c', null), (4, 6, 9, 'd', null)",
    "create table dues (id integer primary key, visit_id integer, crew integer, berth integer, note varchar(40))",
    "insert into dues values (1, 1, 3, 1, 'a'), (2, 2, 4, 2, 'b'), (3, 90, 9, 9, 'z')",
    "create table arrivals (id integer primary key, crew integer, berth integer, note varchar(40), arrived varchar(40))",
    "insert into arrivals values (11, 1, 1, 'a', null), (12, 2, 2, 'b', null)",
];

/// What a table of statements expects of one.
struct Line<'a> {
    sweeps: bool,
    statement: &'a str,
}

fn lines(tables: &[&'static str]) -> Vec<Line<'static>> {
    let all = tables.iter().flat_map(|table| table.lines());
    all.filter(|line| !line.is_empty() && !line.starts_with('#'))
        .filter_map(|line| line.split_once(" | "))
        .map(|(expected, statement)| Line {
            sweeps: expected.contains(", "),
            statement,
        })
        .collect()
}

/// Whether a table is gone, or nothing of it is as it was.
fn swept(before: &[Option<Vec<String>>], now: &[Option<Vec<String>>]) -> bool {
    before.iter().zip(now).any(|(before, now)| {
        let Some(before) = before.as_ref().filter(|rows| !rows.is_empty()) else {
            return false;
        };
        now.as_ref()
            .is_none_or(|now| !before.iter().any(|row| now.contains(row)))
    })
}

fn rows(peer: &mut dyn Peer) -> Vec<Option<Vec<String>>> {
    let question = |table: &&str| format!("select * from {table}");
    TABLES
        .iter()
        .map(|table| peer.ask(&question(table)).ok())
        .collect()
}

macro_rules! table {
    ($name:literal) => {
        include_str!(concat!("../../../lang/tests/statements/", $name, ".txt"))
    };
}

/// Tries all families.
pub fn run(field: &Field) -> Tally {
    let mut tally = Tally::default();
    let home = field.folder("home");
    let place = field.folder("guarded");
    let path = place.join("books.db");
    let address = path.display().to_string();
    both(
        field,
        &mut tally,
        &home,
        ("file", &address, &["--write"]),
        &lines(&[table!("common"), table!("sqlite")]),
        &mut || {
            let _ = std::fs::remove_file(&path);
            let mut file = File::at(&path);
            file.make(BEFORE)?;
            Ok(Box::new(file))
        },
    );
    for (server, own) in [
        ("postgres", table!("postgres")),
        ("mariadb", table!("mariadb")),
        ("mysql", table!("mariadb")),
    ] {
        let Some(port) = port(server) else {
            tally.left_out.push(format!("{server}, which is not here"));
            continue;
        };
        let address = format!("{server}://haven@127.0.0.1:{port}/harbour_guard");
        both(
            field,
            &mut tally,
            &home,
            (server, &address, &[]),
            &lines(&[table!("common"), own]),
            &mut || {
                let name = "harbour_guard";
                let mut peer: Box<dyn Peer> = match server {
                    "postgres" => Box::new(Postgres::open(&port, name)?),
                    _ => Box::new(Mysql::open(&port, name, server == "mysql")?),
                };
                peer.make(BEFORE)?;
                Ok(peer)
            },
        );
    }
    let standin = standin();
    let tds = standin.address.port();
    let address = format!("tds://haven@127.0.0.1:{tds}/harbour");
    both(
        field,
        &mut tally,
        &home,
        ("tabular", &address, &[]),
        &lines(&[table!("tabular")]),
        &mut || {
            let mut peer = Tabular::open(tds, "harbour")?;
            for name in TABLES {
                peer.make(&[&format!("drop table if exists {name}")])?;
            }
            peer.make(BEFORE)?;
            Ok(Box::new(peer))
        },
    );
    let listening = document_server();
    let port = listening.address.port();
    let address = format!("mongodb://127.0.0.1:{port}/guarded");
    both(
        field,
        &mut tally,
        &home,
        ("documents", &address, &[]),
        &lines(&[table!("flow")]),
        &mut || {
            let mut peer = Documents::open(port, "guarded")?;
            peer.drop()?;
            peer.make(&TABLES)?;
            peer.make(&["calls"])?;
            Ok(Box::new(peer))
        },
    );
    tally
}

type Make<'a> = &'a mut dyn FnMut() -> Result<Box<dyn Peer>, String>;

/// Without a screen, and on it.
fn both(
    field: &Field,
    tally: &mut Tally,
    home: &Path,
    source: (&str, &str, &[&str]),
    list: &[Line],
    make: Make,
) {
    shell(field, tally, home, source, list, make);
    screen(field, tally, home, source, list, make);
}

fn shell(
    field: &Field,
    tally: &mut Tally,
    home: &Path,
    (name, address, options): (&str, &str, &[&str]),
    list: &[Line],
    make: Make,
) {
    eprintln!("  {name}");
    let (mut slips, mut alarms, mut by_condition) = (0, 0, Vec::new());
    for line in list {
        let mut peer = match make() {
            Ok(peer) => peer,
            Err(words) => {
                tally.count(name, Err(format!("could not be made: {words}")));
                return;
            }
        };
        let before = rows(&mut *peer);
        // Some wait for noon.
        let mut arguments = vec!["run", address, "--timeout", "5"];
        arguments.extend(options);
        arguments.push(line.statement);
        let ran = field.run(home, &arguments, MOST);
        tally.peak = tally.peak.max(ran.peak);
        let asked = ran.code == Some(ASKED);
        let mut came = ran.sound();
        let gone = swept(&before, &rows(&mut *peer));
        // A limit that is below the rows there are leaves some, and what is no statement of this server does nothing.
        let limited = line.statement.contains(" limit ") && !gone;
        if asked && gone {
            came = Err("was asked about and swept all the same".into());
        } else if line.sweeps && !asked && !limited {
            slips += 1;
            came = Err(format!(
                "a slip, code {:?}: {}",
                ran.code,
                last_line(&ran.err)
            ));
        } else if !line.sweeps && asked {
            alarms += 1;
            came = Err(format!("a false alarm: {}", last_line(&ran.err)));
        }
        if gone && !asked && !line.sweeps {
            by_condition.push(line.statement);
        }
        tally.count(format!("{name}: {}", line.statement), came);
    }
    for statement in &by_condition {
        eprintln!("    all rows by a condition: {statement}");
    }
    tally.figures.push(format!(
        "{name}: {} statements, {slips} slips, {alarms} false alarms, {} met all rows there were by their condition",
        list.len(),
        by_condition.len()
    ));
}

/// The full screen: nothing is swept before somebody says so, nor when the program is ended then.
fn screen(
    field: &Field,
    tally: &mut Tally,
    home: &Path,
    (name, address, options): (&str, &str, &[&str]),
    list: &[Line],
    make: Make,
) {
    eprintln!("  {name} on the full screen");
    let sweeping: Vec<&Line> = list.iter().filter(|line| line.sweeps).collect();
    for line in &sweeping {
        let came = make().and_then(|mut peer| {
            let before = rows(&mut *peer);
            let mut arguments = vec![address];
            arguments.extend(options);
            arguments.extend(["--first", line.statement]);
            let mut screen = Screen::open(field, home, &arguments, 42, 142);
            // Refused, asked about or held: in any case there is a word about it.
            screen.when("what becomes of it", |text| {
                [
                    "held, and not kept yet",
                    "asks first",
                    "Nothing was changed.",
                    // What is a comment to one server and a statement to its kin.
                    "0 rows deleted from",
                ]
                .iter()
                .any(|word| text.contains(word))
            })?;
            let mut untouched = |when: &str| match swept(&before, &rows(&mut *peer)) {
                true => Err(format!("swept {when}")),
                false => Ok(()),
            };
            untouched("before anybody said so")?;
            signal(screen.pid(), Signal::TERM);
            let code = screen.ended(Duration::from_secs(10));
            if code.is_none() {
                return Err("did not end when it was told to".into());
            }
            untouched("when the program was ended")
        });
        tally.count(format!("{name}, full screen: {}", line.statement), came);
    }
    tally.figures.push(format!(
        "{name}: {} sweeps on the full screen",
        sweeping.len()
    ));
}
