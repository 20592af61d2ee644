//! Text that means to be obeyed, in every place that can show text: on the screen, on a terminal in shell mode, in every
//! written form. The raw bytes that the terminal got are searched, not what it made of them.

use std::path::Path;
use std::time::Duration;

use crate::field::Field;
use crate::screen::Screen;
use crate::tally::Tally;

const MOST: Duration = Duration::from_secs(30);

/// Sequences with a word behind them, so that those of the program itself are told from those of the data.
const EVIL: &str = "\u{1b}]0;OBEYED\u{7}\u{1b}[31mOBEYED\u{9b}32mOBEYED\u{9d}0;OBEYED\u{202e}OBEYED\u{1b}P+qOBEYED\u{1b}\\\u{1b}_OBEYED\u{1b}\\\r\nOBEYED\u{8}\u{7f}\0\u{85}\u{feff}\u{e000}";
/// What a browser or reader of Markdown would run.
const MARKUP: &str = "<script>alert('OBEYED')</script><img src=x onerror=OBEYED>[OBEYED](javascript:OBEYED)`|`&amp;\"'><svg onload=OBEYED>]]>--><!--";

/// The keys that open views, and those that move in them.
const KEYS: [&str; 24] = [
    "\x1bOP", "\x1bOQ", "\x1bOR", "\x1bOS", "\x1b[15~", "\x1b[17~", "\x1b[18~", "\x1b[19~",
    "\x1b[20~", "\x1b[21~", "\x1b[23~", "\x1b[24~", "\t", "\x1b[A", "\x1b[B", "\x1b[C", "\x1b[D",
    "\r", "\x1b[5~", "\x1b[6~", "\x1b[H", "\x1b[F", "\x12", "\x06",
];

/// What of the data a terminal would have obeyed.
fn obeyed(bytes: &[u8]) -> Option<String> {
    let evil: [&[u8]; 9] = [
        b"\x1b]0;OBEYED",
        b"\x1b[31mOBEYED",
        "\u{9b}".as_bytes(),
        "\u{9d}".as_bytes(),
        "\u{202e}".as_bytes(),
        b"\x1bP+qOBEYED",
        b"\x1b_OBEYED",
        "\u{85}".as_bytes(),
        b"OBEYED\x08",
    ];
    let at = evil
        .iter()
        .find_map(|evil| bytes.windows(evil.len()).position(|part| part == *evil))?;
    let part = &bytes[at.saturating_sub(30)..(at + 30).min(bytes.len())];
    Some(format!("{:?}", String::from_utf8_lossy(part)))
}

/// Tries the screen and all written forms.
pub fn run(field: &Field) -> Tally {
    let mut tally = Tally::default();
    let place = field.folder("hostile");
    let home = field.folder("hostile-home");
    let evil_name = EVIL.replace('\0', "");
    let path = place.join(format!("b{}.db", evil_name.replace('/', "")));
    let path = match std::fs::write(&path, "") {
        Ok(()) => path,
        Err(_) => place.join("b.db"),
    };
    let file = rusqlite::Connection::open(&path).expect("a file");
    let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
    let (table, other) = (format!("t{evil_name}"), format!("o{MARKUP}"));
    file.execute_batch(&format!(
        "create table {t} (id integer primary key, {c} text default {v}, {m} text, n real);
         create table {o} (id integer primary key, {c} integer references {t}(id), n real);
         create index {i} on {t} ({c});
         create view {w} as select * from {t} /* {remark} */;
         create trigger {g} before delete on {t} begin select raise(abort, {v}); end;",
        t = quoted(&table),
        o = quoted(&other),
        c = quoted(&format!("c{evil_name}")),
        m = quoted(&format!("m{MARKUP}")),
        i = quoted(&format!("i{evil_name}")),
        w = quoted(&format!("w{evil_name}")),
        g = quoted(&format!("g{evil_name}")),
        v = format!("'{}'", evil_name.replace('\'', "''")),
        remark = MARKUP.replace("*/", ""),
    ))
    .expect("made");
    for n in 0..12 {
        let insert = format!("insert into {} values (?1, ?2, ?3, ?4)", quoted(&table));
        file.execute(&insert, rusqlite::params![n, EVIL, MARKUP, f64::from(n)])
            .expect("filled");
    }
    let document = format!(
        "{{\"_id\":1,{0:?}:{1:?},\"deep\":{{{0:?}:[{1:?}]}}}}\n",
        "k", "v"
    );
    let document = document
        .replace("\"k\"", &json(EVIL))
        .replace("\"v\"", &json(MARKUP));
    std::fs::write(place.join("papers.jsonl"), document).expect("written");
    let config = home.join("config/idle-tide");
    std::fs::create_dir_all(&config).expect("a folder");
    let settings = format!("[sources.{0}]\naddress = {0}\n", json(EVIL));
    std::fs::write(config.join("settings.toml"), settings).expect("written");
    let source = path.display().to_string();
    let statement = format!("select * from {}", quoted(&table));

    for (what, address) in [
        ("file", source.as_str()),
        ("collections", &format!("docs:{}", place.display())),
    ] {
        for theme in ["deep", "plain"] {
            let came = walk(
                field,
                &home,
                address,
                theme,
                &quoted(&table),
                what == "file",
            );
            tally.count(format!("{what} on the screen, {theme}"), came);
        }
    }
    // Shell mode on a terminal.
    let delete = format!("delete from {} where id = 3", quoted(&table));
    for (what, arguments) in [
        ("rows", vec!["run", &source, &statement]),
        ("an error", vec!["run", &source, "--write", &delete]),
        ("a wrong name", vec!["run", &source, EVIL_WORD]),
        ("a list", vec!["list", &source]),
        ("an object", vec!["about", &source, &table]),
        ("a definition", vec!["definition", &source]),
        ("a check", vec!["check", &source]),
        (
            "a source that is not there",
            vec!["run", EVIL_WORD, "select 1"],
        ),
        ("a saved source", vec!["run", "nobody", "select 1"]),
        ("a plan", vec!["run", &source, "/plan select 1"]),
        (
            "a command that is none",
            vec!["run", &source, "/\u{1b}]0;OBEYED\u{7}"],
        ),
    ] {
        let mut screen = Screen::open(field, &home, &arguments, 60, 200);
        let ended = screen.ended(Duration::from_secs(15));
        crate::field::until(Duration::from_millis(200), || false);
        let came = match (ended, obeyed(&screen.bytes())) {
            (None, _) => Err("did not end".into()),
            (_, Some(part)) => Err(part),
            _ => Ok(()),
        };
        tally.count(format!("{what} on a terminal"), came);
    }
    written(field, &mut tally, &home, &source, &statement);
    tally
}

const EVIL_WORD: &str = "\u{1b}]0;OBEYED\u{7}\u{1b}[31mOBEYED\u{9b}32mOBEYED\u{202e}";

/// A JSON text.
fn json(text: &str) -> String {
    let signs = text.encode_utf16().map(|unit| format!("\\u{unit:04x}"));
    format!("\"{}\"", signs.collect::<String>())
}

/// Every view and command over hostile data.
fn walk(
    field: &Field,
    home: &Path,
    address: &str,
    theme: &str,
    table: &str,
    is_file: bool,
) -> Result<(), String> {
    let mut screen = Screen::open(field, home, &["--theme", theme, address], 42, 142);
    screen.until("Try ")?;
    let rows = match is_file {
        true => format!(
            "select * from {};",
            table.replace(['\r', '\n', '\u{1b}', '\u{7}', '\u{8}', '\u{7f}'], "_")
        ),
        false => "from papers;".to_string(),
    };
    let commands = [
        "/tables --full",
        "/collections --full",
        "/views --full",
        "/indexes --full",
        "/functions",
        "/find o",
        "/find OBEYED",
        "/definition",
        "/bearings",
        "/sources",
        "/entries",
        "/catalog",
        "/links",
        "/figures papers --all",
        "/shape papers",
        "/outline",
        "/record",
        "/chart bars",
        "/chart points",
        "/chart histogram",
        "/columns",
        "/filter n > 2",
        "/layout",
        "/layout record",
        "/layout markdown",
        "/layout json",
        "/variables",
        "/log",
        "/help keys",
        "/plan select 1",
        "/about nothing",
        "/nonsense",
        "select * from nothing;",
        "select 'OBEYED' as;",
        "/recall 1",
        "/compare 1 2",
        "/across select * from result_2",
    ];
    // The first table is reached by its place in the lists.
    for line in [rows.as_str()].iter().chain(&commands) {
        screen.types(&format!("{line}\r"));
        crate::field::until(Duration::from_millis(40), || false);
        for key in ["\r", "\x1b[B", "\x1b[C", "\t", "\x1b"] {
            screen.types(key);
        }
        crate::field::until(Duration::from_millis(60), || false);
        screen.types("\x15");
    }
    for key in KEYS {
        screen.types(key);
        crate::field::until(Duration::from_millis(25), || false);
        screen.types("\x1b");
        crate::field::until(Duration::from_millis(25), || false);
    }
    screen.types("select * from \t");
    crate::field::until(Duration::from_millis(150), || false);
    if let Some(code) = screen.ended(Duration::from_millis(10)) {
        return Err(format!("ended with {code}: {}", screen.text()));
    }
    let bytes = screen.bytes();
    if !String::from_utf8_lossy(&bytes).contains("OBEYED") {
        return Err("the hostile text was never shown".into());
    }
    obeyed(&bytes).map_or(Ok(()), Err)
}

/// The written forms: nothing of the data is markup, script or formula in them.
fn written(field: &Field, tally: &mut Tally, home: &Path, source: &str, statement: &str) {
    let out = home.join("out");
    for (format, wrong) in [
        (
            "html",
            &[
                "<script",
                "<img",
                "<svg",
                "onerror=OBEYED>",
                "javascript:OBEYED\"",
            ][..],
        ),
        (
            "markdown",
            &["<script", "<img", "<svg", "\u{1b}", "[OBEYED](javascript"],
        ),
        ("text", &["\u{1b}", "\u{9b}", "\u{202e}", "\u{7}"]),
        ("record", &["\u{1b}", "\u{9b}", "\u{202e}", "\u{7}"]),
    ] {
        let path = out.with_extension(format);
        let to = path.display().to_string();
        let ran = field.run(
            home,
            &[
                "run",
                source,
                statement,
                "--format",
                format,
                "--output",
                &to,
                "--replace",
            ],
            MOST,
        );
        let text = std::fs::read_to_string(&path).unwrap_or_default();
        let found = wrong.iter().find(|wrong| text.contains(**wrong));
        let came = match found {
            _ if ran.code != Some(0) || !text.contains("OBEYED") => {
                Err(format!("not written: {}", ran.err))
            }
            Some(wrong) => Err(format!("holds {wrong:?}")),
            None => Ok(()),
        };
        tally.count(format!("written as {format}"), came);
    }
    for ending in ["svg", "pdf", "txt"] {
        let path = out.with_extension(ending);
        let to = path.display().to_string();
        let picture = format!("{statement} limit 6");
        for kind in ["bars --x 2 --y n", "points --x id --y n"] {
            let title = format!("{kind} --title \"{}\"", MARKUP.replace('"', "'"));
            let ran = field.run(
                home,
                &[
                    "run",
                    source,
                    &picture,
                    "--chart",
                    &title,
                    "--output",
                    &to,
                    "--replace",
                ],
                MOST,
            );
            let bytes = std::fs::read(&path).unwrap_or_default();
            let text = String::from_utf8_lossy(&bytes);
            let wrong = match ending {
                "svg" => &["<script", "<img", "onload=OBEYED>", "onerror=OBEYED>"][..],
                "pdf" => &["/JavaScript", "/JS ", "/Launch", "/URI"],
                _ => &["\u{1b}", "\u{9b}", "\u{202e}"],
            };
            let came = match wrong.iter().find(|wrong| text.contains(**wrong)) {
                _ if ran.sound().is_err() => ran.sound(),
                Some(wrong) => Err(format!("holds {wrong:?}")),
                None => Ok(()),
            };
            tally.count(
                format!("a picture as {ending}, {kind}, code {:?}", ran.code),
                came,
            );
        }
    }
    // What is written as statements makes the same rows again, and nothing else runs.
    let path = out.with_extension("sql");
    let to = path.display().to_string();
    for dialect in ["sqlite", "postgres", "mariadb", "tds"] {
        let arguments = [
            "run",
            source,
            statement,
            "--format",
            "sql",
            "--table",
            "u",
            "--dialect",
            dialect,
            "--create",
            "--output",
            &to,
            "--replace",
        ];
        let ran = field.run(home, &arguments, MOST);
        let mut came = ran.sound();
        if dialect == "sqlite" && came.is_ok() {
            let sql = std::fs::read_to_string(&path).unwrap_or_default();
            let file = rusqlite::Connection::open_in_memory().expect("opens");
            came = file
                .execute_batch(&sql)
                .map_err(|error| error.to_string())
                .and_then(|()| {
                    let same: i64 = file
                        .query_row("select count(*) from u where n >= 0", [], |row| row.get(0))
                        .map_err(|error| error.to_string())?;
                    (same == 12)
                        .then_some(())
                        .ok_or_else(|| format!("{same} rows of 12"))
                });
        }
        tally.count(format!("written as inserts for {dialect}"), came);
    }
}
