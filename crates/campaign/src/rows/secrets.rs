//! A session with every form in which a secret can be typed, then a search through everything: the home, the log, the diary,
//! what was exported, the screen, the arguments of the process.

use std::path::Path;
use std::time::Duration;

use crate::field::{Field, port};
use crate::peers::{document_server, standin};
use crate::screen::Screen;
use crate::tally::Tally;

/// Every secret begins so.
const MARK: &str = "hushhush";

/// Tries all families.
pub fn run(field: &Field) -> Tally {
    let mut tally = Tally::default();
    let file = field.folder("secrets").join("books.db");
    drop(
        rusqlite::Connection::open(&file).and_then(|file| file.execute_batch("create table t (a)")),
    );
    let standin = standin();
    let documents = document_server();
    let at = |scheme: &str, port: Option<String>, database: &str| {
        port.map(|port| format!("{scheme}://haven@127.0.0.1:{port}/{database}"))
    };
    let families = [
        (
            "sqlite",
            Some(file.display().to_string()),
            include_str!("secrets/sqlite.txt"),
        ),
        (
            "postgres",
            at("postgres", port("postgres"), "postgres"),
            include_str!("secrets/postgres.txt"),
        ),
        (
            "mariadb",
            at("mariadb", port("mariadb"), "harbour"),
            include_str!("secrets/mariadb.txt"),
        ),
        (
            "mysql",
            at("mysql", port("mysql"), "harbour"),
            include_str!("secrets/mariadb.txt"),
        ),
        (
            "tabular",
            at("tds", Some(standin.address.port().to_string()), "harbour"),
            include_str!("secrets/tabular.txt"),
        ),
        (
            "documents",
            Some(format!(
                "mongodb://127.0.0.1:{}/harbour",
                documents.address.port()
            )),
            include_str!("secrets/flow.txt"),
        ),
    ];
    for (name, address, forms) in families {
        let Some(address) = address else {
            tally.left_out.push(format!("{name}, which is not here"));
            continue;
        };
        let everywhere = include_str!("secrets/everywhere.txt");
        let forms: Vec<String> = forms
            .lines()
            .chain(everywhere.lines())
            .filter(|line| !line.is_empty() && !line.starts_with("# "))
            .enumerate()
            .map(|(n, line)| line.replace("SECRET", &format!("{MARK}{n}x")))
            .collect();
        session(field, &mut tally, name, &address, &forms);
        tally.figures.push(format!("{name}: {} forms", forms.len()));
    }
    tally
}

fn session(field: &Field, tally: &mut Tally, name: &str, address: &str, forms: &[String]) {
    eprintln!("  {name}");
    let home = field.folder("secret-home");
    let log = home.join("events.log");
    let log_name = log.display().to_string();
    let mut screen = Screen::open(field, &home, &[address, "--log", &log_name], 42, 142);
    if let Err(words) = screen.until("Try ") {
        tally.count(name, Err(words));
        return;
    }
    screen.types(&format!("/diary {}\r", home.join("walk.md").display()));
    // The servers' passwords must not become other ones: nothing that is typed is kept.
    screen.types("begin;\r");
    for form in forms {
        screen.types(&format!("{form}\r"));
        crate::field::until(Duration::from_millis(120), || false);
        // Whatever it asks, the answer is no; a blank that it wants filled stays empty.
        for key in ["\x1b", "\x1b", "n", "\x03", "\x15"] {
            screen.types(key);
            crate::field::until(Duration::from_millis(15), || false);
        }
    }
    screen.types("rollback;\r/entries\r");
    crate::field::until(Duration::from_millis(600), || false);
    let arguments = std::fs::read(format!("/proc/{}/cmdline", screen.pid())).unwrap_or_default();
    let shown = screen.text();
    screen.types("\x1b\x1b/log 200\r");
    crate::field::until(Duration::from_millis(400), || false);
    let shown = format!("{shown}\n{}", screen.text());
    screen.types("\x1b\x1b\x15/quit\r");
    let ended = screen.ended(Duration::from_secs(3));
    if ended.is_none() {
        // It may ask about what is open.
        crate::field::signal(screen.pid(), rustix::process::Signal::TERM);
        screen.ended(Duration::from_secs(5));
    }
    let mut found = Vec::new();
    if String::from_utf8_lossy(&arguments).contains(MARK) {
        found.push("the arguments".to_string());
    }
    for line in shown.lines().filter(|line| line.contains(MARK)) {
        found.push(format!("the screen: {}", line.trim()));
    }
    search(&home, &mut found);
    let seen = std::fs::read_to_string(home.join("walk.md"))
        .unwrap_or_default()
        .len()
        + std::fs::read_to_string(&log).unwrap_or_default().len();
    if seen < 500 {
        found.push(format!("nothing was written down at all ({seen} bytes)"));
    }
    for form in forms {
        let secret = form
            .split(MARK)
            .nth(1)
            .and_then(|rest| rest.split('x').next());
        let Some(secret) = secret.map(|n| format!("{MARK}{n}x")) else {
            continue;
        };
        let at: Vec<&String> = found.iter().filter(|line| line.contains(&secret)).collect();
        tally.count(
            format!("{name}: {form}"),
            match at.first() {
                Some(line) => Err(format!("found in {line}")),
                None => Ok(()),
            },
        );
    }
    for line in found.iter().filter(|line| !line.contains(MARK)) {
        tally.count(name, Err(line.clone()));
    }
}

/// Every line of every file that holds a secret.
fn search(folder: &Path, found: &mut Vec<String>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            search(&path, found);
            continue;
        }
        let text = String::from_utf8_lossy(&std::fs::read(&path).unwrap_or_default()).into_owned();
        let name = entry.file_name().to_string_lossy().into_owned();
        for line in text.lines().filter(|line| line.contains(MARK)) {
            let line: String = line.chars().take(300).collect();
            found.push(format!("{name}: {line}"));
        }
    }
}
