//! Every view drawn into a buffer and held as a snapshot, at a roomy and at a small size; keys and the
//! mouse against the state behind it; hostile values against the bytes that reach the terminal.

#![allow(clippy::too_many_lines)]

use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use idle_tide::app::{App, Focus, one_line};
use idle_tide::keys::{KEYS, Key, Keymap, Place, presses};

use idle_tide::theme::{Depth, Theme, ThemeName};
use idle_tide::views::draw;
use idle_tide::views::sources::Sources;
use idle_tide_desk::settings::Places;
use idle_tide_desk::{Desk, Event, Options, State, Writes, sheet};
use idle_tide_engines::Connection;
use idle_tide_engines::sqlite::{Sqlite, make_demo};
use ratatui::backend::{CrosstermBackend, TestBackend};
use ratatui::layout::Rect;
use ratatui::{Terminal, TerminalOptions, Viewport};

struct Screen {
    app: App,
    inbox: Receiver<Event>,
    _dir: Option<tempfile::TempDir>,
}

const THEME: Theme = Theme {
    name: ThemeName::Deep,
    depth: Depth::True,
};

impl Screen {
    fn on(connection: Box<dyn Connection>, source: &str) -> Self {
        Self::kept(connection, source, None)
    }

    fn kept(connection: Box<dyn Connection>, source: &str, places: Option<Places>) -> Self {
        let (sender, inbox) = channel();
        let notify = Arc::new(move |event| {
            let _ = sender.send(event);
        });
        let options = Options {
            source: source.into(),
            writes: Writes::Ask,
            places: places.clone(),
            stream: None,
        };
        let settings = places.map(|places| places.settings);
        let mut app = App::new(Desk::new(connection, options, notify), THEME, settings);
        app.desk.arrive();
        let mut screen = Screen {
            app,
            inbox,
            _dir: None,
        };
        screen.until("the arrival card", |app| {
            app.desk.entries()[0].state == State::Done
        });
        screen
    }

    fn harbour() -> Self {
        // Made once, copied for every screen.
        static MADE: std::sync::OnceLock<Vec<u8>> = std::sync::OnceLock::new();
        let dir = tempfile::tempdir().expect("dir");
        let path = dir.path().join("harbour.db");
        let bytes = MADE.get_or_init(|| {
            make_demo(&path, 800).expect("made");
            std::fs::read(&path).expect("read")
        });
        std::fs::write(&path, bytes).expect("copied");
        let connection = Sqlite::file(&path, true, &mut || {}).expect("opens");
        Screen {
            _dir: Some(dir),
            ..Self::on(Box::new(connection), "Brackwater Haven")
        }
    }

    /// A screen on the harbour's documents, in files.
    fn documents() -> Self {
        let dir = tempfile::tempdir().expect("dir");
        let path = dir.path().join("harbour-log");
        idle_tide_dock::harbour::make_folder(&path).expect("made");
        let connection =
            idle_tide_engines::documents::Local::open(&path, true, false).expect("opens");
        Screen {
            _dir: Some(dir),
            ..Self::on(Box::new(connection), "Brackwater")
        }
    }

    /// A screen with two saved sources, in the sources view.
    fn with_sources() -> Self {
        let dir = tempfile::tempdir().expect("dir");
        let places = Places {
            settings: dir.path().join("settings.toml"),
            history: dir.path().join("history.jsonl"),
            visits: dir.path().join("visits.json"),
            drafts: dir.path().join("drafts"),
            holds: dir.path().join("holds"),
        };
        let saved = "[sources.books]\naddress = \"postgres://mate@quay.example:5432/books\"\ntone = \"danger\"\nwrites = \"none\"\n\n[sources.sheds]\naddress = \"mariadb://mate@shed.example:3306/sheds\"\nvia = \"mate@gate.example\"\n";
        std::fs::write(&places.settings, saved).expect("written");
        let connection = Box::new(Sqlite::memory().expect("opens"));
        let mut screen = Screen {
            _dir: Some(dir),
            ..Self::kept(connection, "memory", Some(places))
        };
        // What runs on this machine is not the test's business.
        let settings = screen.app.desk.settings();
        screen.app.open(Sources {
            settings,
            ..Sources::default()
        });
        screen
    }

    fn memory() -> Self {
        Self::on(Box::new(Sqlite::memory().expect("opens")), "memory")
    }

    fn until(&mut self, what: &str, done: impl Fn(&App) -> bool) {
        let start = Instant::now();
        while !done(&self.app) {
            assert!(
                start.elapsed() < Duration::from_secs(20),
                "never came: {what}"
            );
            if let Ok(event) = self.inbox.recv_timeout(Duration::from_millis(20)) {
                self.app.event(timeless(event));
            }
        }
    }

    fn idle(&mut self) {
        self.until("quiet", |app| {
            !app.desk.is_busy() || app.desk.question().is_some()
        });
        // Figures and the catalog follow.
        self.text(100, 30);
        while let Ok(event) = self.inbox.recv_timeout(Duration::from_millis(120)) {
            self.app.event(timeless(event));
        }
        // A picture has the numbers that it was asked for, however long that takes.
        self.until("drawn", |app| {
            let chart = app.desk.entry().and_then(|entry| entry.chart());
            chart.is_none_or(|chart| {
                let data = chart.data.as_ref();
                data.is_some_and(|data| data.spec == chart.spec)
            })
        });
        let numbers: Vec<u32> = self.app.desk.entries().iter().map(|e| e.number).collect();
        for number in numbers {
            let stages = self.app.desk.stages_mut(number);
            for counts in stages
                .into_iter()
                .flat_map(|s| s.counts.iter_mut().flatten())
            {
                counts.took = Duration::ZERO;
            }
        }
    }

    fn press(&mut self, code: KeyCode) -> &mut Self {
        self.app.key(KeyEvent::new(code, KeyModifiers::NONE));
        self
    }

    fn control(&mut self, letter: char) -> &mut Self {
        self.app
            .key(KeyEvent::new(KeyCode::Char(letter), KeyModifiers::CONTROL));
        self
    }

    fn types(&mut self, text: &str) -> &mut Self {
        for character in text.chars() {
            let code = if character == '\n' {
                KeyCode::Enter
            } else {
                KeyCode::Char(character)
            };
            self.press(code);
        }
        self
    }

    fn submit(&mut self, text: &str) -> &mut Self {
        self.app.submit(text);
        self.idle();
        self
    }

    fn text(&mut self, width: u16, height: u16) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).expect("terminal");
        terminal
            .draw(|frame| draw(&mut self.app, frame))
            .expect("drawn");
        let buffer = terminal.backend().buffer().clone();
        let mut out = String::new();
        for y in 0..height {
            let mut line = String::new();
            let mut skip = 0;
            for x in 0..width {
                let symbol = buffer[(x, y)].symbol();
                if skip > 0 {
                    skip -= 1;
                    continue;
                }
                skip = unicode_width::UnicodeWidthStr::width(symbol).saturating_sub(1);
                line.push_str(symbol);
            }
            out.push_str(line.trim_end());
            out.push('\n');
        }
        ageless(&steady(&out))
    }

    /// Where a table stands in the drawing that is shown.
    fn plate(&self, name: &str) -> usize {
        let entry = self.app.desk.entry();
        let links = entry.and_then(|e| e.links()).expect("a drawing");
        let is_it = |n: &usize| links.name(*n).as_deref() == Some(name);
        (0..links.tables.len()).find(is_it).expect("drawn")
    }

    fn holds(&mut self, name: &str) {
        for (width, height) in [(142, 42), (80, 24)] {
            let text = self.text(width, height);
            insta::assert_snapshot!(format!("{name}_{width}x{height}"), text);
        }
    }
}

/// How long a change has been held is not told here.
fn ageless(text: &str) -> String {
    text.replacen("held 1 s", "held 0 s", 1)
}

/// Every statement takes 8 ms here.
fn timeless(mut event: Event) -> Event {
    if let Event::Ended { took, .. } = &mut event {
        *took = Duration::from_millis(8);
    }
    event
}

/// Takes out what differs from run to run: places and versions.
fn steady(text: &str) -> String {
    let mut out = String::new();
    for line in text.lines() {
        let mut line = line.to_string();
        if let Some(at) = line
            .find("harbour.db")
            .filter(|_| line.contains("/harbour.db"))
        {
            line = format!("    PLACE/{}", &line[at..]);
        }
        if let Some(at) = line.find("SQLite 3.") {
            let end = line[at + 7..].find(' ').map_or(line.len(), |n| at + 7 + n);
            line.replace_range(at + 7..end, "V");
        }
        out.push_str(line.trim_end());
        out.push('\n');
    }
    out
}

const JOIN: &str = "select v.name, q.name, count(*) as visits, sum(d.amount) as dues, v.note\nfrom visits s join vessels v on v.id = s.vessel_id\njoin berths b on b.id = s.berth_id join quays q on q.code = b.quay\njoin dues d on d.visit_id = s.id\ngroup by v.id, q.code order by dues desc, v.id;";

#[test]
fn the_desk_on_arrival() {
    Screen::harbour().holds("arrival");
}

#[test]
fn a_result_and_a_statement_being_written() {
    let mut s = Screen::harbour();
    s.submit(JOIN);
    s.app
        .paste("select s.arrived, d.amount\nfrom visits s\njoin dues d on (d.visit_id = s.");
    s.types("v");
    s.holds("writing");
    s.control('c').press(KeyCode::Esc);
    s.press(KeyCode::Down)
        .press(KeyCode::Right)
        .press(KeyCode::Right)
        .press(KeyCode::Right);
    s.idle();
    s.holds("reading");
    s.press(KeyCode::Enter);
    assert_eq!(s.app.in_front(), Some(Place::Record));
    s.holds("record");
}

#[test]
fn an_error_and_its_correction() {
    let mut s = Screen::harbour();
    s.types("select s.id, b.qauy from visits s\njoin berths b on b.id = s.berth_id;\n");
    s.idle();
    s.holds("error");
    s.press(KeyCode::Tab);
    assert!(s.app.composer.text().contains("b.quay"));
    s.press(KeyCode::Enter);
    s.idle();
    assert_eq!(s.app.desk.entry().map(|e| e.state), Some(State::Done));
    assert!(s.app.composer.is_blank());
}

#[test]
fn the_guide_and_the_entries() {
    let mut s = Screen::harbour();
    s.submit("select 1 as n;").submit("selct 2;");
    s.control('c').control('c');
    s.press(KeyCode::F(3));
    s.holds("entries");
    s.types("selct");
    assert!(!s.text(142, 42).contains("arrival"));
    s.press(KeyCode::Esc).press(KeyCode::F(1));
    s.holds("guide");
    s.types("export");
    assert!(s.text(142, 42).contains("writes all rows"));
    s.press(KeyCode::Esc).press(KeyCode::Esc);
    assert!(s.app.is_bare());
}

#[test]
fn a_question_and_a_text() {
    let mut s = Screen::harbour();
    s.submit("drop table visits;");
    s.holds("question");
    s.press(KeyCode::Enter);
    assert!(s.app.desk.question().is_some(), "Enter is no answer");
    s.types("n");
    s.idle();
    assert_eq!(s.app.composer.text(), "drop table visits;");
    s.control('c');
    s.submit("/about visits");
    s.holds("about");
}

/// What looks like a secret shows in no view of a result before it is asked for.
#[test]
fn secrets_are_covered_in_every_view() {
    let mut s = Screen::harbour();
    s.submit("select * from keepers;").holds("covered");
    s.press(KeyCode::Esc)
        .press(KeyCode::End)
        .press(KeyCode::Enter);
    assert!(!s.text(142, 42).contains("pbk$"), "{}", s.text(142, 42));
    s.press(KeyCode::Esc);
    for _ in 0..3 {
        s.press(KeyCode::Right);
    }
    assert!(!s.text(142, 42).contains("pbk$"), "the foot");
    s.press(KeyCode::Esc).submit("/reveal");
    assert!(s.text(142, 42).contains("pbk$"));
}

/// A change is seen before and after, reading begins by itself, and one key keeps it or takes it back.
#[test]
fn a_held_change_is_seen_and_ended_by_one_key() {
    let mut s = Screen::harbour();
    let change = "update berths set depth_m = depth_m + 0.25, crane = 1 where quay = 'N';";
    s.submit(change).holds("held");
    assert_eq!(s.app.focus, Focus::Read);
    s.control('d');
    assert!(
        s.text(142, 42).contains("A change is held on"),
        "{}",
        s.text(142, 42)
    );
    s.types("n").types("t");
    s.until("taken back", |app| app.desk.session().held().is_none());
    assert!(s.text(142, 42).contains("12 rows · taken back"));
    s.press(KeyCode::Esc)
        .submit("insert into quays select code || '2', name, faces, built from quays;");
    s.press(KeyCode::Esc);
    assert!(
        s.text(142, 42).contains("Esc K  keeps the change"),
        "{}",
        s.text(142, 42)
    );
    s.press(KeyCode::Esc).types("K");
    s.until("kept", |app| app.desk.session().held().is_none());
    assert!(s.text(142, 42).contains("4 rows · kept"));
    // Who goes on typing stays there: a letter is no key then.
    s.press(KeyCode::Esc);
    s.app.submit(change);
    s.types("sk");
    s.until("held", |app| app.desk.session().held().is_some());
    s.types("t");
    assert_eq!((s.app.focus, s.app.composer.text()), (Focus::Write, "skt"));
    assert!(s.app.desk.session().held().is_some());
}

#[test]
fn an_insert_marks_the_column_being_filled() {
    let mut s = Screen::harbour();
    s.types("insert into dues (visit_id, amount, raised_on) values (1, ");
    s.holds("insert");
}

#[test]
fn reading_keys_change_the_view() {
    let mut s = Screen::harbour();
    s.submit("select id, name, length_m, built from vessels;");
    s.press(KeyCode::Esc);
    s.press(KeyCode::End);
    assert!(s.text(142, 42).contains("row 480 of 480"));
    s.types("G12").press(KeyCode::Enter);
    assert!(s.text(142, 42).contains("row 12 of 480"));
    s.press(KeyCode::Right).press(KeyCode::Right).types("o");
    s.idle();
    s.until("ordered", |app| {
        app.desk
            .entry()
            .and_then(|e| e.sheet())
            .is_some_and(|s| s.view.order.is_some())
    });
    assert!(s.text(142, 42).contains("length_m↑"), "{}", s.text(142, 42));
    s.types("x");
    assert!(!s.text(142, 42).contains("length_m↑"));
    s.types("u[");
    let columns = s
        .app
        .desk
        .entry()
        .and_then(|e| e.sheet())
        .expect("rows")
        .view
        .columns
        .clone();
    assert_eq!(
        columns,
        [0, 2, 1, 3],
        "all are back, and one was moved left"
    );
    s.control('f').types("dunlin").press(KeyCode::Enter);
    s.until("it is found", |app| {
        let sheet = app.desk.entry().and_then(|e| e.sheet());
        sheet.is_some_and(|sheet| sheet.working.is_none())
    });
    let (row, column) = s.app.grid().map(|g| (g.row, g.column)).expect("grid");
    let shown = s.app.desk.entry().and_then(|e| e.sheet()).expect("rows");
    let number = shown.row_number(row).expect("row");
    let value = sheet::read(&shown.set)
        .value(number, shown.view.columns[column])
        .expect("value");
    assert!(value.as_ref().plain().contains("Dunlin"));
    s.types(",");
    assert_eq!(s.app.desk.current(), 0);
    s.types("/");
    assert_eq!((s.app.focus, s.app.composer.text()), (Focus::Write, "/"));
}

#[test]
fn writing_keys_recall_and_leave() {
    let mut s = Screen::memory();
    s.submit("select 1;").submit("select 2;");
    s.types("half").control('c');
    assert!(s.app.composer.is_blank());
    s.press(KeyCode::Up);
    assert_eq!(s.app.composer.text(), "half");
    s.press(KeyCode::Up).press(KeyCode::Up);
    assert_eq!(s.app.composer.text(), "select 1;");
    s.control('c');
    s.control('r').types("2").press(KeyCode::Enter);
    assert_eq!(s.app.composer.text(), "select 2;");
    s.control('c').types("show tables");
    s.text(142, 42);
    s.press(KeyCode::Esc);
    if s.app.focus == Focus::Read {
        s.press(KeyCode::Esc);
    }
    s.press(KeyCode::Tab);
    assert_eq!(s.app.composer.text(), "/tables");
    s.control('c').types("/bea\n");
    assert_eq!(
        s.app.composer.text(),
        "/bearings",
        "the start of a name is completed"
    );
    s.types("\n");
    s.idle();
    assert!(s.text(142, 42).contains("page size"));
    s.control('c').types("/theme shoal\n");
    assert_eq!(s.app.theme.name, ThemeName::Shoal);
    s.submit("begin;");
    s.control('d');
    assert!(!s.app.leaving && s.text(142, 42).contains("A transaction is open"));
    s.types("n").submit("rollback;");
    s.control('d');
    assert!(s.app.leaving);
}

#[test]
fn the_mouse_chooses_and_scrolls() {
    let mut s = Screen::harbour();
    s.submit("select id, name from vessels;");
    s.text(142, 42);
    let at = |kind, column, row| MouseEvent {
        kind,
        column,
        row,
        modifiers: KeyModifiers::NONE,
    };
    let (line, ..) = s.app.spots.rows.expect("rows");
    let (from, _, place) = s.app.spots.columns[1];
    s.app.mouse(at(
        MouseEventKind::Down(MouseButton::Left),
        from + 2,
        line + 4,
    ));
    assert_eq!(s.app.grid().map(|g| (g.row, g.column)), Some((4, place)));
    s.app.mouse(at(MouseEventKind::ScrollDown, 10, 10));
    assert_eq!(s.app.grid().map(|g| g.row), Some(7));
    let (y, x, _, entry) = s.app.spots.entries[0];
    s.app
        .mouse(at(MouseEventKind::Down(MouseButton::Left), x + 1, y));
    assert_eq!(s.app.desk.current(), entry);
}

/// Rows arrive in one thread while another draws them: neither may wait for the other for long.
#[test]
fn rows_are_drawn_while_they_arrive() {
    let mut s = Screen::memory();
    s.app.submit("with recursive n (i) as (select 1 union all select i + 1 from n) select i, i % 7 as k from n;");
    s.press(KeyCode::Esc);
    let start = Instant::now();
    let mut frames = 0;
    while frames < 400 {
        while let Ok(event) = s.inbox.try_recv() {
            s.app.event(timeless(event));
        }
        s.press(KeyCode::End);
        s.text(142, 42);
        frames += 1;
        assert!(
            start.elapsed() < Duration::from_secs(30),
            "stuck after {frames} frames"
        );
    }
    s.control('c');
    s.idle();
    assert_eq!(s.app.desk.entry().map(|e| e.state), Some(State::Stopped));
    assert!(s.text(142, 42).contains("stopped ·"));
}

#[test]
fn no_size_is_too_small_or_too_large() {
    let mut s = Screen::harbour();
    s.submit(JOIN);
    let wide: Vec<String> = (0..2_000).map(|n| format!("{n} as c{n}")).collect();
    s.submit(&format!("select {};", wide.join(", ")));
    for steps in ["", "w", "r", "g", "e"] {
        match steps {
            "w" => {
                s.app.paste("select (1,\n2,\n'open from visits");
            }
            "r" => {
                s.press(KeyCode::Esc);
                s.app
                    .key(KeyEvent::new(KeyCode::Right, KeyModifiers::CONTROL));
            }
            "g" => {
                s.press(KeyCode::F(1));
            }
            "e" => {
                s.press(KeyCode::Esc).press(KeyCode::F(3));
            }
            _ => {}
        }
        for (width, height) in [
            (1, 1),
            (2, 2),
            (5, 3),
            (20, 5),
            (40, 8),
            (79, 23),
            (300, 100),
            (20, 60),
            (200, 6),
        ] {
            s.text(width, height);
        }
    }
    s.press(KeyCode::Esc);
    assert!(
        s.text(142, 42).contains("c1999"),
        "the last column is in sight"
    );
    s.app.focus = Focus::Write;
    assert!(s.text(20, 5).contains("from visits"), "{}", s.text(20, 5));
}

/// An output that is kept, so that the very bytes can be looked at.
#[derive(Clone, Default)]
struct Kept(Arc<std::sync::Mutex<Vec<u8>>>);

impl std::io::Write for Kept {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.lock().expect("bytes").extend_from_slice(bytes);
        Ok(bytes.len())
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

#[test]
fn hostile_values_reach_the_terminal_only_as_marks() {
    let hostile = [
        "\x1b]0;owned\x07",
        "\x1b[2J\x1b[1;1Howned",
        "\u{9b}31mred",
        "a\x08\x08b",
        "\x1bPq#0\x1b\\",
        "line\r\nbreak\ttab",
        "\u{202e}desrever\u{202c}",
        "zero\u{200b}width",
        "e\u{301}\u{301}\u{301}\u{301}\u{301}\u{301}",
        "👩\u{200d}👩\u{200d}👧",
        "潮の港",
        "مرحبا",
        "\u{feff}bom",
        "nul\0byte",
        "\x1b(0lqqk",
    ];
    let mut s = Screen::memory();
    s.submit("create table \"bad \x1b[31mname\" (\"col\x1b[5m\" text, big text);");
    for value in hostile {
        let sql = format!(
            "insert into \"bad \x1b[31mname\" values (cast(x'{}' as text), '{}');",
            hex(value),
            "y".repeat(100)
        );
        s.submit(&sql);
        assert_eq!(
            s.app.desk.entry().map(|e| e.state),
            Some(State::Done),
            "{value:?}"
        );
    }
    s.submit("insert into \"bad \x1b[31mname\" values (cast(x'ff1b5b324aff' as text), replace(hex(zeroblob(500000)), '00', 'z' || char(27)));");
    let mut bytes = Vec::new();
    let mut shots = 0;
    for step in 0..6 {
        match step {
            0 => {
                s.submit("select * from \"bad \x1b[31mname\";");
            }
            1 => {
                s.press(KeyCode::Esc).press(KeyCode::Enter);
            }
            2 => {
                s.press(KeyCode::Esc).press(KeyCode::F(3));
            }
            3 => {
                s.press(KeyCode::Esc).submit("/about \"bad \x1b[31mname\"");
            }
            4 => {
                s.submit("select \x1b]0;owned\x07;");
            }
            _ => {
                s.app
                    .paste("\x1b[2J pasted \u{202e}\x07 from \"bad \x1b[31mname\"");
            }
        }
        let area = Rect::new(0, 0, 142, 42);
        let kept = Kept::default();
        let backend = CrosstermBackend::new(kept.clone());
        let options = TerminalOptions {
            viewport: Viewport::Fixed(area),
        };
        let mut terminal = Terminal::with_options(backend, options).expect("terminal");
        terminal
            .draw(|frame| draw(&mut s.app, frame))
            .expect("drawn");
        bytes.extend_from_slice(&kept.0.lock().expect("bytes"));
        shots += 1;
    }
    assert_eq!(shots, 6);
    let text = String::from_utf8(bytes).expect("UTF-8");
    for drawn in ["⟨1b⟩", "⟨9b⟩", "⟨202e⟩", "潮", "⟨00⟩", "⟨ff⟩"] {
        assert!(text.contains(drawn), "{drawn} was drawn");
    }
    let mut rest = text.as_str();
    while let Some(at) = rest.find(|c: char| c.is_control()) {
        let tail = &rest[at..];
        assert!(
            tail.starts_with("\x1b["),
            "a control character: {:?}",
            &tail[..tail.len().min(20)]
        );
        let end = tail[2..]
            .find(|c: char| ('@'..='~').contains(&c))
            .expect("a sequence ends")
            + 2;
        let last = tail.as_bytes()[end] as char;
        assert!(
            matches!(last, 'm' | 'H' | 'l' | 'h'),
            "a sequence of ours: {:?}",
            &tail[..=end]
        );
        rest = &tail[end + 1..];
    }
    for bad in ['\u{202e}', '\u{200b}', '\u{9b}', '\u{feff}', '\u{200d}'] {
        assert!(!text.contains(bad), "{bad:?}");
    }
}

fn hex(text: &str) -> String {
    text.bytes().map(|b| format!("{b:02x}")).collect()
}

/// What is pressed for a row of the table, one after the other.
fn pressed(cap: &str) -> Vec<Vec<KeyEvent>> {
    let keys = presses(&cap.replace("type", "q")).expect("keys");
    match cap {
        // One key after the other.
        "Ctrl-X Ctrl-E" => vec![keys],
        _ => keys.into_iter().map(|key| vec![key]).collect(),
    }
}

/// A screen on which every key of the place has something to do.
fn prepared(place: Place) -> Screen {
    let mut s = Screen::harbour();
    match place {
        Place::Writing | Place::Everywhere => {
            s.submit("select id, name from vessels;");
            s.app.paste("select id,\n  name, rig\nfrom vessels");
            s.press(KeyCode::Up)
                .press(KeyCode::Left)
                .press(KeyCode::Left)
                .control('w');
        }
        Place::Completing => {
            s.submit("select id, name from vessels;");
            s.types("select v.| from vessels v".replace('|', "n").as_str());
            for _ in 0.." from vessels v".len() {
                s.press(KeyCode::Left);
            }
            s.press(KeyCode::Backspace);
            assert!(s.app.choices.open);
        }
        Place::Rows => {
            s.submit("select id, name, rig from vessels;")
                .submit("select 2;");
            s.app.desk.show(1);
            s.press(KeyCode::Esc)
                .types("g240")
                .press(KeyCode::Enter)
                .press(KeyCode::Right);
        }
        Place::Proposal => {
            s.submit("/load - --into levels\nid;level\n1;2,5\n2;13,0\n");
            s.press(KeyCode::Down);
        }
        Place::Text => {
            s.submit("/about visits").submit("select 2;");
            s.app.desk.show(1);
            s.press(KeyCode::Esc);
            let number = s.app.desk.entry().expect("entry").number;
            s.app.texts.insert(number, (3, 8));
        }
        Place::Catalog => {
            s.press(KeyCode::F(2));
            s.types("vi").press(KeyCode::Down);
        }
        Place::Actions => {
            s.press(KeyCode::F(2));
            s.types("vi").press(KeyCode::Char(' ')).press(KeyCode::Down);
        }
        Place::Links => {
            s.submit("/links visits --distance 2");
            s.press(KeyCode::Esc);
            let (owners, visits) = (s.plate("owners"), s.plate("visits"));
            let number = s.app.desk.entry().expect("entry").number;
            for table in [owners, visits] {
                s.app.drawings.entry(number).or_default().at = table;
                s.press(KeyCode::Char(' '));
            }
            let looking = s.app.drawings.entry(number).or_default();
            (looking.y, looking.follow) = (3, false);
        }
        Place::Record => {
            s.submit("select * from hull_surveys;");
            s.press(KeyCode::Esc)
                .press(KeyCode::Down)
                .press(KeyCode::Enter)
                .press(KeyCode::PageDown);
        }
        Place::Document => {
            s = Screen::documents();
            s.submit("from landings where number <= 5;");
            s.press(KeyCode::Esc)
                .press(KeyCode::Down)
                .press(KeyCode::F(4));
            s.text(60, 24);
            for _ in 0..4 {
                s.press(KeyCode::Down);
            }
        }
        Place::Stages => {
            s = Screen::documents();
            s.submit("/stages from landings where port = 'Brackwater' limit 3 pick { number }");
            s.press(KeyCode::Esc).press(KeyCode::Up);
        }
        Place::Chart => {
            s.submit("select date(at) as day, 'gauge ' || gauge_id as gauge, level_m, temp_c, battery_v from readings;");
            s.press(KeyCode::F(8)).idle();
            s.text(60, 24);
            s.press(KeyCode::Right).press(KeyCode::Right);
            // The second from above.
            for _ in 0..4 {
                s.press(KeyCode::Up);
            }
            s.press(KeyCode::Down);
        }
        Place::Entries => {
            s.submit("select 1;").submit("select 2;");
            s.press(KeyCode::F(3)).press(KeyCode::Down);
        }
        Place::Guide => {
            s.app.open_guide("keys");
            s.press(KeyCode::PageDown);
        }
        Place::Question => {
            s.submit("drop table dues;");
        }
        Place::Held => {
            s.submit("update berths set depth_m = depth_m + 1 where quay = 'N';");
        }
        Place::Sources => {
            s = Screen::with_sources();
            s.press(KeyCode::Down);
        }
        Place::Form => {
            s = Screen::with_sources();
            s.press(KeyCode::Down)
                .types("e")
                .press(KeyCode::Down)
                .press(KeyCode::Down);
        }
        Place::Hidden => {
            s.app.submit("select :?word;");
            s.types("low water");
        }
        Place::Running => {
            s.app.submit(
                "with recursive n (i) as (select 1 union all select i + 1 from n) select i from n;",
            );
            s.until("rows", |app| {
                app.desk
                    .running()
                    .and_then(|e| e.sheet())
                    .is_some_and(|s| s.shown() > 10)
            });
        }
    }
    s
}

/// Everything a key could change, by name.
fn fingerprint(s: &mut Screen) -> Vec<(&'static str, String)> {
    let text = s.text(60, 24);
    let app = &mut s.app;
    let grid = app.grid().map(|grid| (grid.row, grid.column));
    let entry = app.desk.entry();
    let sheet = entry.and_then(|e| e.sheet());
    let view = sheet.map(|s| s.view.clone()).unwrap_or_default();
    let looking = entry.and_then(|e| app.drawings.get(&e.number));
    let links = entry.and_then(|e| e.links());
    let drawn = links.map(|l| {
        (
            l.distance,
            l.guessed,
            l.focus.len(),
            l.chosen.len(),
            l.route,
        )
    });
    let mark = entry.and_then(|e| app.charts.get(&e.number).map(|marked| marked.at));
    let notice = app.desk.notice().map(|notice| notice.text.clone());
    let shown = entry.map(|e| (e.number, e.text.clone()));
    let running = app.desk.running().is_some();
    vec![
        ("typed", app.composer.text().to_string()),
        ("cursor", format!("{:?}", app.composer.cursor())),
        ("focus", format!("{:?}", app.focus)),
        ("views", format!("{:?}", app.views())),
        ("prompt", format!("{:?}", app.prompt)),
        ("editor", format!("{:?}", app.edit)),
        ("hidden", app.hidden.clone()),
        ("list", format!("{:?}", (app.choices.at, app.choices.open))),
        ("copied", format!("{:?}", app.copied())),
        ("leaving", app.leaving.to_string()),
        ("redraw", app.redraw.to_string()),
        ("entries", app.desk.entries().len().to_string()),
        ("entry", format!("{shown:?}")),
        ("running", running.to_string()),
        ("asked", app.desk.question().is_some().to_string()),
        ("held", app.desk.session().held().is_some().to_string()),
        ("cell", format!("{grid:?}")),
        ("columns", view.columns.len().to_string()),
        ("placed", format!("{:?}", view.columns)),
        ("frozen", view.frozen.to_string()),
        ("order", format!("{:?}", view.order)),
        (
            "drawing",
            format!("{:?}", looking.map(|l| (l.x, l.y, l.at))),
        ),
        ("links", format!("{drawn:?}")),
        ("mark", format!("{mark:?}")),
        (
            "catalog",
            format!("{:?}", (&app.catalog.focus, &app.catalog.actions)),
        ),
        ("said", format!("{notice:?}")),
        ("screen", text),
    ]
}

/// What pressing a key does at its place, in a line: what is different then, and how it is.
fn effect((key, keys): &(&Key, Vec<KeyEvent>)) -> String {
    let mut s = prepared(key.place);
    s.text(60, 24);
    let before = fingerprint(&mut s);
    for key in keys {
        s.app.key(*key);
    }
    // What asks a network is not waited for: it may not be there.
    let asks = matches!(
        key.full_name().as_str(),
        "sources-test" | "sources-look" | "sources-open" | "sources-practice"
    );
    if !asks && s.app.desk.asking().is_none() {
        s.idle();
    }
    while let Ok(event) = s.inbox.recv_timeout(Duration::from_millis(10)) {
        s.app.event(timeless(event));
    }
    let after = fingerprint(&mut s);
    let mut changed: Vec<String> = before
        .iter()
        .zip(&after)
        .filter(|(was, is)| was.1 != is.1 && was.0 != "screen")
        .map(|(_, (name, is))| {
            let is = one_line(is, 60);
            format!("{name} {is}")
        })
        .collect();
    let (was, is) = (&before[before.len() - 1].1, &after[after.len() - 1].1);
    if changed.is_empty() && was != is {
        let line = was.lines().zip(is.lines()).find(|(was, is)| was != is);
        let line = line.map_or("", |(_, is)| is.trim());
        changed.push(format!("screen {}", one_line(line, 60)));
    }
    if asks && !changed.is_empty() {
        changed = vec!["asks the network".into()];
    }
    let pressed: Vec<String> = keys.iter().map(|key| format!("{:?}", key.code)).collect();
    format!(
        "{} {}: {}",
        key.full_name(),
        pressed.join(" "),
        changed.join(" · ")
    )
}

/// Each key of the table does what it says: the table of what is different after it is a snapshot.
#[test]
fn every_key_of_the_table_does_what_it_says() {
    // A screen for each key takes its time: several are pressed at once.
    let all: Vec<(&Key, Vec<KeyEvent>)> = KEYS
        .iter()
        .flat_map(|key| pressed(key.cap).into_iter().map(move |keys| (key, keys)))
        .collect();
    let effects: Vec<String> = std::thread::scope(|scope| {
        let shares: Vec<_> = all
            .chunks(all.len().div_ceil(4))
            .map(|share| scope.spawn(move || share.iter().map(effect).collect::<Vec<_>>()))
            .collect();
        shares
            .into_iter()
            .flat_map(|share| share.join().expect("pressed"))
            .collect()
    });
    let idle: Vec<&String> = effects.iter().filter(|line| line.ends_with(": ")).collect();
    assert!(idle.is_empty(), "{idle:#?}");
    insta::assert_snapshot!("keys", effects.join("\n"));
    // A key that means nothing changes nothing, so a change above is the key's doing.
    for place in Place::all().filter(|place| *place != Place::Running) {
        let mut s = prepared(place);
        s.text(60, 24);
        let before = fingerprint(&mut s);
        s.press(KeyCode::F(12));
        assert_eq!(fingerprint(&mut s), before, "{place:?}");
    }
}

#[test]
fn documents_as_rows_outline_text_shape_and_stages() {
    let mut s = Screen::documents();
    s.submit("from landings where number <= 40 and lines.kg > 5;");
    s.press(KeyCode::Esc).holds("documents");
    s.press(KeyCode::Down).press(KeyCode::F(4)).holds("outline");
    // What is closed stays closed in the next document.
    for _ in 0..4 {
        s.press(KeyCode::Down);
    }
    s.press(KeyCode::Left);
    assert!(!s.text(142, 42).contains("call_sign"));
    s.press(KeyCode::PageDown);
    assert!(!s.text(142, 42).contains("call_sign"));
    s.types("t").holds("document_text");
    s.press(KeyCode::Esc).press(KeyCode::Esc);
    s.submit("/shape surveys")
        .press(KeyCode::Esc)
        .holds("shape");
    s.press(KeyCode::Esc);
    s.submit("/stages from landings where port = 'Brackwater' unnest lines group by species: lines.species { landings: count(), kg: sum(lines.kg) } where kg > 9000 order by kg desc");
    s.press(KeyCode::Esc).press(KeyCode::Up).holds("stages");
    // A stage that is left out changes what comes after it.
    for _ in 0..3 {
        s.press(KeyCode::Up);
    }
    s.press(KeyCode::Char(' '));
    s.until("counted again", |app| app.desk.running().is_none());
    let text = s.text(142, 42);
    assert!(
        text.contains("left out") && text.contains("4 000"),
        "{text}"
    );
    s.types("c");
    assert!(s.text(142, 42).contains("$match"));
}

#[test]
fn what_is_proposed_for_a_file_is_changed_cell_by_cell() {
    let mut s = Screen::memory();
    s.submit("/load - --into levels\nid;level;note;password\n1;2,5;low;heron\n2;13,0;high;kelp\n");
    s.holds("proposal");
    let text = s.text(142, 42);
    assert!(text.contains("covered · covered"), "{text}");
    // A type: an option is begun, its end is completed.
    s.press(KeyCode::Down).press(KeyCode::Enter);
    let typed = |s: &Screen| s.app.composer.text().lines().next().map(str::to_string);
    assert_eq!(
        typed(&s).as_deref(),
        Some("/load - --into levels --type level=")
    );
    assert!(s.app.choices.open && s.app.choices.len() == 12);
    s.types("te")
        .press(KeyCode::Tab)
        .press(KeyCode::F(5))
        .idle();
    // Where the cell was changed reading goes on; what there are two of changes at once, and back.
    assert_eq!(s.app.focus, Focus::Read);
    assert_eq!(
        s.app.grid().map(|grid| (grid.row, grid.column)),
        Some((1, 2))
    );
    s.press(KeyCode::Down)
        .press(KeyCode::Left)
        .press(KeyCode::Left);
    let more = " --leave-out note";
    for left_out in [more, "", more] {
        s.press(KeyCode::Enter).idle();
        let line = format!("/load - --into levels --type level=text{left_out} --go");
        assert_eq!(typed(&s), Some(line));
    }
    assert!(s.text(142, 42).contains("left out"));
    // The one that is shown is loaded, and no other.
    s.types(",").press(KeyCode::F(5)).idle();
    assert!(s.app.composer.is_blank() && s.app.focus == Focus::Write);
    s.submit("select * from levels order by id desc;");
    let text = s.text(142, 42);
    assert!(text.contains("13,0") && text.contains("note"), "{text}");
}

#[test]
fn how_a_file_is_read_is_changed_on_its_proposal() {
    let mut s = Screen::memory();
    s.submit("/load - --into levels\nid|level\n1|'2;5\n2|13;0\n");
    let first = |s: &Screen| s.app.composer.text().lines().next().map(str::to_string);
    let loads = |options: &str| Some(format!("/load - --into levels{options} --go"));
    let row = |s: &mut Screen, words: &str| {
        let text = s.text(142, 42);
        assert!(text.contains(words), "{words}: {text}");
    };
    assert_eq!(first(&s), loads(""));
    row(&mut s, "| between values, names in the first line");
    // What there are two of changes at once, and back.
    for (key, option, words) in [
        ("h", " --no-header", "no names in it"),
        ("h", " --header", "names in the first line"),
        ("q", " --header --no-quotes", "signs like any others"),
        ("q", " --header", "| between values"),
    ] {
        s.types(key).idle();
        assert_eq!(first(&s), loads(option), "{key}");
        row(&mut s, words);
    }
    // What there are many of is chosen from a list, or typed.
    for (key, begun, count, typed, option) in [
        (
            "s",
            " --header --separator ",
            4,
            "','",
            " --header --separator ','",
        ),
        (
            "y",
            " --header --separator , --encoding ",
            3,
            "lat\t",
            " --header --separator , --encoding latin1",
        ),
    ] {
        s.types(key);
        assert_eq!(first(&s), Some(format!("/load - --into levels{begun}")));
        assert!(s.app.choices.open && s.app.choices.len() == count, "{key}");
        for letter in typed.chars() {
            match letter {
                '\t' => s.press(KeyCode::Tab),
                letter => s.press(KeyCode::Char(letter)),
            };
        }
        s.press(KeyCode::F(5)).idle();
        assert_eq!(s.app.focus, Focus::Read);
        assert_eq!(first(&s), loads(option));
    }
    row(&mut s, "id|level");
    row(&mut s, "latin1");
    // Documents are read in one way only.
    s.types("/").press(KeyCode::Esc);
    s.app.composer.set("");
    s.submit("/load - --into notes\n{\"a\": 1}\n");
    let before = s.app.desk.entries().len();
    s.types("s");
    row(&mut s, "there is one way to read it");
    assert_eq!(s.app.desk.entries().len(), before);
}

#[test]
fn the_guide_opens_at_what_helps() {
    // What is submitted, what is typed, what is pressed then.
    let none = KeyCode::Null;
    for (submitted, typed, pressed, heading) in [
        ("selct 2;", "", none, "Errors"),
        ("= nothing + 1", "", none, "Scripts"),
        ("insert into dues (id) values (1);", "", none, "Change"),
        ("", "", KeyCode::F(2), "Look around"),
        ("", "", KeyCode::F(9), "Arrive"),
        ("/links visits", "", KeyCode::Esc, "Links"),
        ("", "= 1 +", none, "Scripts"),
        ("", "", none, "First steps"),
    ] {
        let mut s = Screen::harbour();
        if !submitted.is_empty() {
            s.submit(submitted);
        }
        s.types(typed).press(pressed).press(KeyCode::F(1));
        let text = s.text(142, 42);
        let found = text.lines().any(|line| line.trim_end().ends_with(heading));
        assert!(found, "{submitted}{typed}: {heading}: {text}");
    }
}

#[test]
fn values_are_copied_from_a_record_and_a_document() {
    let mut s = Screen::harbour();
    s.submit("select id, name from vessels order by id limit 2;");
    s.press(KeyCode::Esc)
        .press(KeyCode::Enter)
        .press(KeyCode::Right)
        .types("c");
    let name = s.app.copied().map(|(text, _)| text.clone());
    assert!(name.is_some_and(|name| name.contains(char::is_alphabetic)));
    let mut s = Screen::documents();
    s.submit("from landings where number = 5 pick { port, lines };");
    s.press(KeyCode::Esc).press(KeyCode::F(4));
    s.text(142, 42);
    let mut copied = Vec::new();
    for _ in 0..4 {
        s.types("c");
        copied.extend(s.app.copied().map(|(text, _)| text.clone()));
        s.press(KeyCode::Down);
        s.text(142, 42);
    }
    assert!(
        copied.iter().any(|text| text.starts_with("[{\"species\"")),
        "{copied:?}"
    );
    assert!(
        copied
            .iter()
            .any(|text| text == "Brackwater" || text == "Merrow"),
        "{copied:?}"
    );
    s.types("tc");
    let whole = s.app.copied().map(|(text, _)| text.clone());
    assert!(whole.is_some_and(|text| text.starts_with("{\n  \"")));
}

#[test]
fn pictures_of_a_result() {
    let mut s = Screen::harbour();
    s.submit("select rig, count(*) as vessels from vessels group by rig order by rig;");
    s.press(KeyCode::F(8)).idle();
    s.press(KeyCode::Down).holds("bars");
    s.submit("select date(at) as day, 'gauge ' || gauge_id as gauge, avg(level_m) as level_m from readings group by 1, 2;");
    s.press(KeyCode::F(8)).idle();
    s.holds("lines");
    s.types("k").idle();
    s.types("s").idle();
    s.holds("areas");
    // Back to the rows, and to the picture of another result.
    s.press(KeyCode::F(8));
    assert!(s.app.desk.entry().is_some_and(|entry| entry.number == 4));
}

#[test]
fn sources_and_their_form() {
    let mut s = Screen::with_sources();
    insta::assert_snapshot!(s.text(142, 30));
    s.press(KeyCode::Down).types("e");
    insta::assert_snapshot!(s.text(80, 24));
    // What is not right stays on the screen with its reason.
    s.press(KeyCode::Down).types("x").press(KeyCode::Up);
    for _ in 0..5 {
        s.press(KeyCode::Backspace);
    }
    s.press(KeyCode::Enter);
    assert!(s.text(142, 30).contains("The name is one word"));
    s.types("ledger").press(KeyCode::Enter);
    assert!(s.app.desk.settings().sources.contains_key("ledger"));
    assert!(!s.app.desk.settings().sources.contains_key("books"));
    s.types("xy");
    assert_eq!(s.app.desk.settings().sources.len(), 1);
}

#[test]
fn a_secret_is_asked_for_and_shows_nowhere() {
    let mut s = Screen::memory();
    s.app.submit("select 'x' || :?word as w;");
    s.types("low water");
    let text = s.text(142, 30);
    assert!(
        text.contains("Value of :?word") && text.contains("shows nowhere"),
        "{text}"
    );
    assert!(!text.contains("low water"));
    s.app.key(KeyEvent::new(KeyCode::Enter, KeyModifiers::NONE));
    s.idle();
    assert!(
        s.text(142, 30).contains("xlow water"),
        "the statement had it"
    );
    assert!(
        s.app
            .desk
            .history()
            .items()
            .iter()
            .all(|item| !item.text.contains("low water"))
    );
    // A password that was typed is covered; what comes back asks for it anew.
    s.submit("create table keepers (id integer, pass_hash text);");
    s.submit("insert into keepers (id, pass_hash) values (1, 'spring tide'), (2);");
    let text = s.text(142, 30);
    assert!(
        !text.contains("spring tide") && s.app.composer.text().contains(":?secret"),
        "{text}"
    );
    assert!(
        s.app
            .desk
            .history()
            .items()
            .iter()
            .all(|item| !item.text.contains("spring tide"))
    );
}

#[test]
fn every_topic_theme_and_depth_is_drawn() {
    let mut s = Screen::harbour();
    s.submit(JOIN);
    for name in [ThemeName::Deep, ThemeName::Shoal, ThemeName::Plain] {
        for depth in [Depth::True, Depth::Indexed, Depth::Sixteen] {
            s.app.theme = Theme { name, depth };
            for topic in idle_tide::guide::TOPICS {
                s.app.open_guide(topic);
                assert!(s.text(80, 24).contains("Guide"));
            }
            s.press(KeyCode::Esc);
            assert!(s.text(142, 42).contains("row 1 of"));
        }
    }
}

#[test]
fn bearings_keep_what_matters_at_any_width() {
    let mut s = Screen::harbour();
    s.submit("/writes free").submit("begin;");
    for width in [70, 80, 100, 142] {
        let top = s
            .text(width, 24)
            .lines()
            .next()
            .expect("a line")
            .to_string();
        for words in [
            "Brackwater Haven",
            "harbour.db",
            "transaction open",
            "writes free",
        ] {
            assert!(top.contains(words), "{width}: {top}");
        }
        assert_eq!(
            top.contains("SQLite V"),
            width >= 100,
            "the version gives way first: {top}"
        );
    }
    s.submit("rollback;");
    let top = s.text(60, 24).lines().next().expect("a line").to_string();
    assert!(
        top.contains("writes free") && !top.contains("no transaction"),
        "{top}"
    );
    let top = s.text(30, 24).lines().next().expect("a line").to_string();
    assert!(top.contains("harbour.db"), "{top}");
}

#[test]
fn the_catalog_in_columns() {
    let mut s = Screen::harbour();
    s.types("select * from ");
    s.press(KeyCode::Esc);
    s.press(KeyCode::F(2));
    s.types("vi")
        .press(KeyCode::Right)
        .press(KeyCode::Down)
        .press(KeyCode::Down);
    s.press(KeyCode::Char(' '))
        .press(KeyCode::Down)
        .press(KeyCode::Enter);
    s.idle();
    assert_eq!(
        s.app.in_front(),
        Some(Place::Catalog),
        "figures are shown where they were asked for"
    );
    s.holds("catalog");
    // Where it was left it opens again.
    s.press(KeyCode::Esc).press(KeyCode::F(2));
    assert!(s.text(142, 42).contains("visits › berth_id"));
    s.press(KeyCode::Left).press(KeyCode::Char(' '));
    s.holds("actions");
    // The last of them copies what is marked as it is written: here and of a column.
    s.press(KeyCode::End);
    for _ in 0..9 {
        s.press(KeyCode::Down);
    }
    s.press(KeyCode::Enter);
    let copied = |s: &Screen| s.app.copied().map(|(text, _)| text.clone());
    assert_eq!(copied(&s).as_deref(), Some("visits"));
    s.press(KeyCode::Right).press(KeyCode::Char(' '));
    for _ in 0..9 {
        s.press(KeyCode::Down);
    }
    assert!(s.text(142, 42).contains("berth_id"));
    s.press(KeyCode::Enter);
    assert_eq!(copied(&s).as_deref(), Some("berth_id"));
    s.press(KeyCode::Left).press(KeyCode::Enter);
    assert_eq!(s.app.composer.text(), "select * from visits");
    assert_eq!(s.app.focus, Focus::Write);
    // Letters in their order are enough; what does not fit is said.
    s.press(KeyCode::F(2)).press(KeyCode::Esc);
    s.types("hlsv").press(KeyCode::Enter);
    assert!(
        s.app.composer.text().ends_with("visits hull_surveys"),
        "{}",
        s.app.composer.text()
    );
    s.press(KeyCode::F(2));
    s.types("nowhere");
    assert!(s.text(142, 42).contains("Nothing fits."));
}

#[test]
fn tables_and_links_drawn() {
    let mut s = Screen::harbour();
    s.press(KeyCode::F(6));
    s.idle();
    s.holds("links");
    let number = s.app.desk.entry().expect("entry").number;
    for name in ["owners", "services"] {
        let place = s.plate(name);
        s.app.drawings.entry(number).or_default().at = place;
        s.press(KeyCode::Char(' '));
    }
    s.holds("route");
    s.types("j");
    assert!(
        s.app
            .composer
            .text()
            .contains("join visit_services vs on vs.visit_id = vi.id")
    );
    s.holds("join");
    // A click is as good as the arrows.
    s.control('c').press(KeyCode::Esc);
    s.text(142, 42);
    let (area, x, y) = s.app.spots.drawing.expect("drawn");
    let place = s.plate("vessels");
    let plate = s
        .app
        .desk
        .entry()
        .and_then(|e| e.links())
        .expect("a drawing")
        .drawing
        .layout
        .plates[place];
    s.app.mouse(MouseEvent {
        kind: MouseEventKind::Down(MouseButton::Left),
        column: area.x + (plate.x - x) as u16 + 1,
        row: area.y + (plate.y - y) as u16,
        modifiers: KeyModifiers::NONE,
    });
    assert_eq!(s.app.drawings[&number].at, place);
    s.press(KeyCode::Enter);
    let links = s
        .app
        .desk
        .entry()
        .and_then(|e| e.links())
        .expect("a drawing");
    assert_eq!(links.focus.len(), 1);
    assert!(links.tables.len() < 8, "only what is around it");
}

#[test]
fn a_plan_and_a_step_along_a_link() {
    let mut s = Screen::harbour();
    s.submit("/plan select v.name, count(*) from visits s join vessels v on v.id = s.vessel_id where s.crew > 4 group by v.id");
    s.holds("plan");
    s.submit("select s.id, s.vessel_id, s.arrived from visits s order by id limit 5;");
    s.press(KeyCode::Esc).types("l");
    s.idle();
    s.holds("follow");
    s.press(KeyCode::Backspace);
    assert!(s.text(142, 42).contains("select s.id, s.vessel_id"));
    // A line of a long text is found.
    s.submit("/about hull_surveys");
    s.control('f').types("plate_50").press(KeyCode::Enter);
    let text = s.text(80, 24);
    assert!(text.contains("plate_50_mm"), "{text}");
}

#[test]
fn hostile_names_stay_names() {
    let mut s = Screen::memory();
    s.submit("create table \"a\u{1b}[31m\" (id integer primary key, \"c\u{7}\n\" text, \"wide ⛵⛵\" integer references \"a\u{1b}[31m\");
        create table \"from\" (\"x.y\" integer references \"a\u{1b}[31m\" (id)); create view \"v\u{9b}\" as select * from \"from\";");
    s.press(KeyCode::F(2));
    for _ in 0..4 {
        let text = s.text(142, 42);
        assert!(
            text.chars().all(|c| c == '\n' || !c.is_control()),
            "{text:?}"
        );
        s.press(KeyCode::Down).press(KeyCode::Right);
    }
    s.press(KeyCode::Esc);
    s.submit("/links");
    let text = s.text(142, 42);
    assert!(text.contains("a⟨1b⟩[31m") && text.contains("x.y"), "{text}");
    assert!(
        text.chars().all(|c| c == '\n' || !c.is_control()),
        "{text:?}"
    );
    // Into the statement the name goes in quotes.
    s.press(KeyCode::F(2));
    s.types("fro").press(KeyCode::Enter);
    assert_eq!(s.app.composer.text(), "\"from\"");
    let svg = s
        .app
        .desk
        .entry()
        .and_then(|e| e.links())
        .expect("a drawing")
        .drawing
        .svg("t");
    assert!(svg.chars().all(|c| c == '\n' || !c.is_control()) && svg.contains("a⟨1b⟩[31m"));
}

/// A key of one's own acts, and the hints and the guide show it in the place of the usual one.
#[test]
fn keys_of_ones_own_act_and_are_shown() {
    let mut s = Screen::harbour();
    let own = [("rows-order", "S"), ("everywhere-guide", "F10")];
    let own = own.map(|(name, cap)| (name.to_string(), cap.to_string()));
    let (keymap, troubles) = Keymap::read(&own.into_iter().collect());
    assert_eq!(troubles, Vec::<String>::new());
    s.app.keymap = keymap;
    s.submit("select id from vessels limit 3;")
        .press(KeyCode::Esc);
    let ordered = |s: &Screen| {
        let sheet = s.app.desk.entry().and_then(|e| e.sheet());
        sheet.and_then(|sheet| sheet.view.order)
    };
    s.types("o").idle();
    assert_eq!(ordered(&s), None, "its usual key is none any more");
    s.types("s").idle();
    assert_eq!(ordered(&s), Some((0, false)));
    let text = s.text(142, 42);
    let hints = text.lines().last().expect("hints");
    assert!(
        hints.contains(" S  order") && !hints.contains(" O "),
        "{hints}"
    );
    s.press(KeyCode::F(10)).types("orders by this column");
    assert!(
        s.text(142, 42)
            .contains("S              orders by this column")
    );
}

/// A command that was refused makes room for another; what is typed behind it goes on with it.
#[test]
fn another_command_takes_the_place_of_one_that_was_refused() {
    let mut s = Screen::memory();
    s.submit("/tabels").types("/tables");
    assert_eq!(s.app.composer.text(), "/tables");
    s.control('c').submit("/sample").types(" quays");
    assert_eq!(s.app.composer.text(), "/sample quays");
}

/// Esc and a letter that a terminal sends in one go are no key of their own, but where the table has one.
#[test]
fn escape_and_a_letter_that_came_together_are_two_keys() {
    let mut s = Screen::memory();
    s.types("select 1");
    s.app
        .key(KeyEvent::new(KeyCode::Char('b'), KeyModifiers::ALT));
    assert_eq!(
        (s.app.composer.text(), s.app.composer.cursor()),
        ("select 1", 7)
    );
    s.control('c');
    s.app
        .key(KeyEvent::new(KeyCode::Char('/'), KeyModifiers::ALT));
    assert_eq!((s.app.composer.text(), s.app.focus), ("/", Focus::Write));
}

/// Numbers that look like chance and come again with the same seed (xorshift, Marsaglia 2003).
struct Chance(u64);

impl Chance {
    fn below(&mut self, count: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) as usize % count
    }

    /// A key, a click, a turn of the wheel or a paste.
    fn act(&mut self, s: &mut Screen) -> String {
        use KeyCode as K;
        const KEYS: [KeyCode; 25] = [
            K::Enter,
            K::Esc,
            K::Tab,
            K::Up,
            K::Down,
            K::Left,
            K::Right,
            K::Home,
            K::End,
            K::PageUp,
            K::PageDown,
            K::Backspace,
            K::Delete,
            K::F(1),
            K::F(2),
            K::F(3),
            K::F(4),
            K::F(5),
            K::F(6),
            K::F(7),
            K::F(8),
            K::F(9),
            K::Char(' '),
            K::Char('/'),
            K::Char(';'),
        ];
        // What opens a source, asks a network or starts a server is not pressed.
        let elsewhere = matches!(s.app.in_front(), Some(Place::Sources | Place::Form));
        let mouse = |kind, column, row| MouseEvent {
            kind,
            column,
            row,
            modifiers: KeyModifiers::NONE,
        };
        let (x, y) = (self.below(142) as u16, self.below(42) as u16);
        match self.below(20) {
            0..=7 => {
                let code = KEYS[self.below(KEYS.len())];
                if elsewhere && code == K::Enter {
                    return "nothing".into();
                }
                s.press(code);
                format!("{code:?}")
            }
            8..=12 => {
                let letter = b"abcdefghijklmnopqrstuvwxyz0123456789,.+-[]=*'"[self.below(45)];
                if elsewhere && matches!(letter, b'p' | b't' | b'l') {
                    return "nothing".into();
                }
                s.press(K::Char(char::from(letter)));
                char::from(letter).to_string()
            }
            13 | 14 => {
                let letter = char::from(b"abcefklnpruwyz"[self.below(14)]);
                s.control(letter);
                format!("ctrl {letter}")
            }
            15 | 16 if !elsewhere => {
                s.app
                    .mouse(mouse(MouseEventKind::Down(MouseButton::Left), x, y));
                format!("click {x} {y}")
            }
            17 => {
                let kind = match self.below(2) {
                    0 => MouseEventKind::ScrollDown,
                    _ => MouseEventKind::ScrollUp,
                };
                s.app.mouse(mouse(kind, x, y));
                format!("{kind:?} {x} {y}")
            }
            18 => {
                let pasted = ["berths", "1\t2\n3\t4\n", "\u{1b}[31m\u{202e}x", ""];
                let text = pasted[self.below(pasted.len())];
                s.app.paste(text);
                format!("paste {text:?}")
            }
            _ => "nothing".into(),
        }
    }
}

/// Whatever is pressed, clicked or pasted in whatever view: it is drawn, and the way back to the composer stays open.
#[test]
fn whatever_is_pressed_is_drawn_and_leads_back() {
    let seeds = std::env::var("SEEDS").ok().and_then(|n| n.parse().ok());
    for seed in 1..=seeds.unwrap_or(5_u64) {
        let mut s = match seed % 2 {
            0 => Screen::harbour(),
            _ => Screen::documents(),
        };
        s.submit(match seed % 2 {
            0 => "select * from visits limit 40;",
            _ => "from landings limit 40;",
        });
        let mut chance = Chance(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15));
        let mut acts = Vec::new();
        for _ in 0..120 {
            acts.push(chance.act(&mut s));
            while let Ok(event) = s.inbox.try_recv() {
                s.app.event(timeless(event));
            }
            let (width, height) = [(142, 42), (80, 24), (40, 12), (9, 3)][chance.below(4)];
            let drawn =
                std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| s.text(width, height)));
            let text = drawn.unwrap_or_else(|_| panic!("{seed}: {width}x{height} after {acts:?}"));
            let controls = text
                .chars()
                .filter(|c| c.is_control() && *c != '\n')
                .count();
            assert_eq!(controls, 0, "{seed}: {acts:?}\n{text}");
        }
        // What runs is stopped, what is asked is left, what is open is closed.
        for _ in 0..30 {
            s.control('c');
            s.press(KeyCode::Esc);
            while let Ok(event) = s.inbox.recv_timeout(Duration::from_millis(5)) {
                s.app.event(timeless(event));
            }
        }
        s.idle();
        // A session that ended at last shows the sources.
        s.press(KeyCode::Esc);
        assert!(
            s.app.views().is_empty(),
            "{seed}: {:?} after {acts:?}",
            s.app.views()
        );
        s.app.focus = Focus::Write;
        s.app.composer.set("");
        s.submit("/bearings");
        let text = s.text(142, 42);
        assert!(text.contains("/bearings"), "{seed}: {acts:?}\n{text}");
    }
}
