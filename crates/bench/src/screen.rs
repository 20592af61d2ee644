//! Times that only make sense as such: a key press to a finished frame, the first frame, completion in a
//! large catalog. Printed beside a calibration loop of the same run.

use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use idle_tide::app::App;

use idle_tide::theme::{Depth, Theme, ThemeName};
use idle_tide::views::catalog::state::CatalogView;
use idle_tide::views::draw;
use idle_tide_core::{Catalog, Database, Field, Kind, Link, Object, links};
use idle_tide_desk::{Desk, Options, Writes};
use idle_tide_draw::links::{Drawing, Plate, Wire};
use idle_tide_engines::sqlite::{Sqlite, make_demo};
use idle_tide_lang::complete::{Sources, complete};
use idle_tide_lang::dialect::SQLITE;
use ratatui::backend::CrosstermBackend;
use ratatui::layout::Rect;
use ratatui::{Terminal, TerminalOptions, Viewport};

pub const THEME: Theme = Theme {
    name: ThemeName::Deep,
    depth: Depth::True,
};

/// A terminal whose bytes go nowhere.
pub fn terminal() -> Terminal<CrosstermBackend<Vec<u8>>> {
    let options = TerminalOptions {
        viewport: Viewport::Fixed(Rect::new(0, 0, 142, 42)),
    };
    Terminal::with_options(CrosstermBackend::new(Vec::new()), options).expect("terminal")
}

fn line(what: &str, mut times: Vec<Duration>, bound: f64) {
    times.sort();
    let ms = |at: usize| times[at.min(times.len() - 1)].as_secs_f64() * 1e3;
    println!(
        "| {what} | {:.2} ms | {:.2} ms | {bound} ms |",
        ms(times.len() / 2),
        ms(times.len() * 99 / 100)
    );
}

/// Prints the table.
pub fn report(dir: &Path, only_catalog: bool) {
    println!("| what | median | 99th percentile | bound on an idle machine |");
    println!("|---|---|---|---|");
    if !only_catalog {
        keys(dir);
        reading(dir);
        first_frame(dir);
    }
    completion();
    let start = Instant::now();
    let mut x = 1_u64;
    for n in 0..100_000_000_u64 {
        x = std::hint::black_box(x.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(n));
    }
    println!(
        "| calibration: 100 M multiplications | {:.0} ms | | |",
        start.elapsed().as_secs_f64() * 1e3
    );
}

fn keys(dir: &Path) {
    let (desk, _inbox) = crate::work::loaded(dir);
    let mut app = App::new(desk, THEME, None);
    let mut text = String::from("select id from big where note in (\n");
    while text.len() < 100_000 {
        text.push_str("  'dries, at low water', 'alongside', \"quay\", 4711, -- a comment\n");
    }
    app.paste(&text);
    let mut terminal = terminal();
    let mut times = Vec::new();
    for character in "'one more', vessel, quay, draught, 12345.678, dues "
        .chars()
        .cycle()
        .take(600)
    {
        let start = Instant::now();
        app.key(KeyEvent::new(KeyCode::Char(character), KeyModifiers::NONE));
        terminal.draw(|frame| draw(&mut app, frame)).expect("drawn");
        times.push(start.elapsed());
    }
    line(
        "a key press to a finished frame, 1 M rows open, 100 kB statement",
        times,
        8.0,
    );
}

fn reading(dir: &Path) {
    let (desk, _inbox) = crate::work::loaded(dir);
    let mut app = App::new(desk, THEME, None);
    app.key(KeyEvent::new(KeyCode::Esc, KeyModifiers::NONE));
    let mut terminal = terminal();
    let mut times = Vec::new();
    for step in 0..600_u64 {
        let start = Instant::now();
        if step % 3 == 0 {
            // A jump to anywhere.
            app.go_to_row(step * 104_729 % 1_000_000);
        } else {
            app.key(KeyEvent::new(KeyCode::PageDown, KeyModifiers::NONE));
        }
        terminal.draw(|frame| draw(&mut app, frame)).expect("drawn");
        times.push(start.elapsed());
    }
    line(
        "a page or a jump to any of 1 M rows to a finished frame",
        times,
        8.0,
    );
}

fn first_frame(dir: &Path) {
    let path = dir.join("harbour.db");
    make_demo(&path, 20_000).expect("made");
    let mut times = Vec::new();
    for _ in 0..40 {
        let start = Instant::now();
        let connection = Sqlite::file(&path, true, &mut || {}).expect("opens");
        let options = Options {
            source: "demo".into(),
            writes: Writes::Ask,
            places: None,
            stream: None,
        };
        let mut app = App::new(
            Desk::new(Box::new(connection), options, Arc::new(|_| {})),
            THEME,
            None,
        );
        app.desk.arrive();
        let mut terminal = terminal();
        terminal.draw(|frame| draw(&mut app, frame)).expect("drawn");
        times.push(start.elapsed());
    }
    line("start to first frame with the demo", times, 50.0);
}

/// 10 000 tables of 50 columns, each with a key and a link to another.
fn large_catalog() -> Catalog {
    let objects = (0..10_000)
        .map(|n| Object {
            fields: (0..50)
                .map(|c| Field {
                    name: if c == 1 {
                        "parent_id".into()
                    } else {
                        format!("column_{c}")
                    },
                    declared: "text".into(),
                    key: (c == 0).then_some(1),
                    ..Field::default()
                })
                .collect(),
            links: vec![Link {
                columns: vec!["parent_id".into()],
                table: format!("table_{:05}", n / 2),
                their_columns: vec!["column_0".into()],
                ..Link::default()
            }],
            ..Object::new("main", format!("table_{n:05}"), Kind::Table)
        })
        .collect();
    Catalog {
        objects,
        path: vec!["main".into()],
        databases: vec![Database {
            name: "main".into(),
            here: true,
            ..Database::default()
        }],
        ..Catalog::default()
    }
}

/// The catalog view over a large catalog: opened, and narrowed key by key.
fn catalog_view() {
    let catalog = Arc::new(large_catalog());
    // Both are done where the catalog is read.
    let start = Instant::now();
    catalog.name_index();
    let mut ties = links::declared(&catalog);
    let guessed = links::likely(&catalog, &ties);
    ties.extend(guessed);
    let ties = Arc::new(ties);
    println!(
        "\nworking out the links of 10 000 tables of 50 columns, once: {:.0} ms",
        start.elapsed().as_secs_f64() * 1e3
    );
    let options = Options {
        source: "large".into(),
        writes: Writes::Ask,
        places: None,
        stream: None,
    };
    let memory = Box::new(Sqlite::memory().expect("opens"));
    let mut app = App::new(Desk::new(memory, options, Arc::new(|_| {})), THEME, None);
    let mut terminal = terminal();
    let session = app.desk.session().number();
    let mut opened = Vec::new();
    for _ in 0..40 {
        app.catalog = CatalogView::default();
        let start = Instant::now();
        app.open_catalog();
        app.catalog.take(session, &catalog, &ties);
        terminal.draw(|frame| draw(&mut app, frame)).expect("drawn");
        opened.push(start.elapsed());
    }
    line("the catalog view opens on 10 000 tables", opened, 16.0);
    let mut times = Vec::new();
    for n in 0..60 {
        let word = format!("tbl{n:03}");
        for character in word.chars() {
            let start = Instant::now();
            app.key(KeyEvent::new(KeyCode::Char(character), KeyModifiers::NONE));
            terminal.draw(|frame| draw(&mut app, frame)).expect("drawn");
            times.push(start.elapsed());
        }
        app.key(KeyEvent::new(KeyCode::Char('u'), KeyModifiers::CONTROL));
    }
    line(
        "a key that narrows 10 000 tables, to a finished frame",
        times,
        8.0,
    );
}

/// The layout of 200 tables with 300 links.
fn link_layout() {
    let mut state = 7_u64;
    let mut random = |most: usize| {
        state = state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) as usize % most
    };
    let plates: Vec<Plate> = (0..200)
        .map(|n| Plate {
            title: format!("table_{n}"),
            note: "12 000".into(),
            lines: (0..4)
                .map(|line| (format!("column_{line}"), String::new()))
                .collect(),
        })
        .collect();
    // As in real schemas most links lead to a few tables.
    let wires: Vec<Wire> = (0..300)
        .map(|_| {
            let from = random(200);
            let to = if random(3) == 0 {
                random(200)
            } else {
                random(20)
            };
            Wire {
                from: (from, 1 + random(3)),
                to: (to, 0),
                declared: true,
                many: true,
                finds_many: false,
                optional: false,
            }
        })
        .collect();
    let mut times = Vec::new();
    for _ in 0..40 {
        let start = Instant::now();
        std::hint::black_box(Drawing::new(plates.clone(), wires.clone(), 130));
        times.push(start.elapsed());
    }
    line("the layout of 200 tables with 300 links", times, 300.0);
}

fn completion() {
    let catalog = large_catalog();
    let from = Sources {
        names: &[],
        catalog: &catalog,
        dialect: &SQLITE,
        columns: &[],
        entries: &[],
        topics: &[],
    };
    let mut times = Vec::new();
    for n in 0..300 {
        let text = match n % 5 {
            3 => format!("select * from table_{n:05} t join "),
            4 => format!(
                "select count(*) from table_{n:05} t join table_{:05} u on ",
                2 * n
            ),
            0 => format!("select * from tab{n}"),
            1 => format!("select col from table_{n:05} t where t.c"),
            _ => format!("select x from table_{n:05} where t{n}"),
        };
        let start = Instant::now();
        std::hint::black_box(complete(&text, text.len(), false, &from));
        times.push(start.elapsed());
    }
    line("completion with 10 000 tables of 50 columns", times, 5.0);
    catalog_view();
    link_layout();
}
