//! Results that answer back: pictures, comparisons, questions across results, scripts. Each is measured against the least
//! that has to be done for it, in turn within one process.

use std::hint::black_box;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Instant;

use idle_tide::app::App;
use idle_tide::views::draw;
use idle_tide_core::chart::{Kind, Spec, gather, propose};
use idle_tide_core::compare::{By, compare, pair};
use idle_tide_core::order::each_row;
use idle_tide_core::result::ResultSet;
use idle_tide_desk::across::{From, Table, Watch, ask, named};
use idle_tide_desk::sheet;
use idle_tide_dock::flow::Context;
use idle_tide_dock::flow::script::{Around, Limits, State, run};
use idle_tide_draw::chart::lay_out;
use idle_tide_engines::Nowhere;

use crate::screen::{THEME, terminal};
use crate::work;

/// Times that each is measured; the middle one counts.
const TIMES: usize = 5;

fn middle(mut list: Vec<f64>) -> f64 {
    list.sort_by(f64::total_cmp);
    list[list.len() / 2]
}

fn seconds(work: impl Fn()) -> f64 {
    let began = Instant::now();
    work();
    began.elapsed().as_secs_f64()
}

/// Both in turn: the middle of the seconds of ours, and of the ratios.
fn against(ours: impl Fn(), bare: impl Fn()) -> (f64, f64) {
    let pairs: Vec<(f64, f64)> = (0..TIMES)
        .map(|_| (seconds(&bare), seconds(&ours)))
        .collect();
    (
        middle(pairs.iter().map(|(_, ours)| *ours).collect()),
        middle(pairs.iter().map(|(bare, ours)| ours / bare).collect()),
    )
}

fn never() -> bool {
    false
}

fn read_all(set: &ResultSet) {
    let mut count = 0_usize;
    each_row(set, None, &never, &mut |_, row| {
        for value in row.values() {
            count += usize::from(!black_box(value).is_null());
        }
        true
    })
    .expect("rows");
    black_box(count);
}

struct Silence;

impl Around for Silence {
    fn call(
        &mut self,
        _: &str,
        _: Vec<idle_tide_core::Datum>,
        _: &idle_tide_core::Document,
    ) -> Result<idle_tide_core::Datum, String> {
        Err("nothing is outside".into())
    }
    fn print(&mut self, _: &idle_tide_core::Datum) {}
    fn show(&mut self, _: idle_tide_core::Datum) {}
    fn stopped(&self) -> bool {
        false
    }
}

/// Prints the table.
pub fn table(dir: &Path) {
    let (desk, _) = work::loaded(dir);
    let set = Arc::clone(
        &desk
            .entry()
            .and_then(|entry| entry.sheet())
            .expect("rows")
            .set,
    );
    let (again, _) = work::loaded(dir);
    let other = Arc::clone(
        &again
            .entry()
            .and_then(|entry| entry.sheet())
            .expect("rows")
            .set,
    );
    println!("| what | seconds | ratio | bound |");
    println!("|---|---|---|---|");
    let row = |what: &str, (seconds, ratio): (f64, f64), bound: f64| {
        println!("| {what} | {seconds:.2} | {ratio:.2} | {bound:.1} |");
    };

    let read = sheet::read(&set);
    let spec = |x: usize| Spec {
        x: Some(x),
        y: vec![5],
        by: None,
        ..propose(&read, Some(Kind::Line)).expect("a line")
    };
    for (what, x) in [
        ("picture of a million points over numbers", 0),
        ("the same over times that are texts", 1),
    ] {
        let spec = spec(x);
        let drawn = || {
            let data = gather(&read, None, &spec, &never).expect("gathers");
            black_box(lay_out(&data, "dues", 134, 36));
        };
        let drawing = middle((0..TIMES).map(|_| seconds(drawn)).collect());
        println!("| {what} | {drawing:.2} | | 0.1 s |");
    }

    let second = sheet::read(&other);
    let pairing = pair(read.columns(), second.columns());
    let compared = || {
        let found =
            compare(&read, &second, &pairing, &By::Key(vec![0]), 0.0, &never).expect("compares");
        assert_eq!(found.same, 1_000_000);
    };
    let both = || {
        read_all(&read);
        read_all(&second);
    };
    row(
        "comparing two results of a million rows, against reading both",
        against(compared, both),
        2.0,
    );
    let (turned, _) = work::asked(dir, "select * from big order by id desc");
    let turned = turned
        .entry()
        .and_then(|entry| entry.sheet())
        .expect("rows");
    let turned = sheet::read(&turned.set);
    let compared = || {
        let found =
            compare(&read, &turned, &pairing, &By::Key(vec![0]), 0.0, &never).expect("compares");
        assert_eq!(found.same, 1_000_000);
    };
    let both = || {
        read_all(&read);
        read_all(&turned);
    };
    let (took, ratio) = against(compared, both);
    println!("| the same, the second in another order | {took:.2} | {ratio:.2} | reported |");
    drop((read, second));

    let stop = Arc::new(AtomicBool::new(false));
    let watch = Watch {
        stop: &stop,
        tell: &|_| {},
    };
    let question = |sql: &str| {
        let tables = [("a", &set), ("b", &other)].map(|(name, set)| Table {
            name: name.into(),
            from: From::Result(Arc::clone(set)),
        });
        ask(sql, &named(sql), &tables, &mut Nowhere, &watch).expect("answers");
    };
    let bare = |tables: &[(&str, &Arc<parking_lot::RwLock<ResultSet>>)], sql: &str| -> f64 {
        let connection = rusqlite::Connection::open("").expect("opens");
        connection
            .execute_batch(
                "pragma journal_mode = off; pragma synchronous = off; pragma cache_size = -131072",
            )
            .expect("set");
        for (name, set) in tables {
            connection
                .execute_batch(&format!("create table {name} (id, quay, dues); begin"))
                .expect("made");
            let mut insert = connection
                .prepare(&format!("insert into {name} values (?, ?, ?)"))
                .expect("understood");
            each_row(&sheet::read(set), None, &never, &mut |_, row| {
                let number = row.get(0).as_number().unwrap_or_default() as i64;
                let text = row.get(3).plain();
                insert
                    .execute(rusqlite::params![number, text, row.get(5).as_number()])
                    .expect("goes in");
                true
            })
            .expect("rows");
            drop(insert);
            connection.execute_batch("commit").expect("kept");
        }
        let began = Instant::now();
        let mut statement = connection.prepare(sql).expect("understood");
        let mut rows = statement.query([]).expect("runs");
        while let Some(row) = rows.next().expect("a row") {
            black_box(row.get_ref(0).expect("a value"));
        }
        began.elapsed().as_secs_f64()
    };
    let moved = "select sum(id), max(quay), sum(dues) from a";
    row(
        "a question over a million rows, against prepared inserts of them and the question",
        against(|| question(moved), || _ = bare(&[("a", &set)], moved)),
        1.3,
    );
    let join =
        "select count(*), sum(a.dues - b.dues), max(a.quay || b.quay) from a join b on a.id = b.id";
    let both = [("a", &set), ("b", &other)];
    row(
        "a join of two such results, against the same",
        against(|| question(join), || _ = bare(&both, join)),
        1.5,
    );

    let lines = idle_tide_lang::flow::script(
        "= n = 0; for i in 1..1000000 { n = n + i }",
        &idle_tide_core::document::time::TimeZone::UTC,
    )
    .expect("understood");
    let looped = || {
        let context = Context {
            script: true,
            ..Context::default()
        };
        let mut state = State::default();
        run(
            &lines,
            &mut state,
            &mut Silence,
            &context,
            &Limits::default(),
        )
        .expect("runs");
        assert_eq!(
            state
                .variables
                .get("n")
                .and_then(idle_tide_core::Datum::as_i64),
            Some(500_000_500_000)
        );
    };
    let took = middle((0..TIMES).map(|_| seconds(looped)).collect());
    println!("| a script's loop of a million steps | {took:.2} | | 1 s |");
    live(dir);
}

/// Processor time of this process, in seconds.
fn processor() -> f64 {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
    time.tv_sec as f64 + time.tv_nsec as f64 * 1e-9
}

/// A live result of many rows: what a reading with its comparison and its frame takes more than the bare query.
fn live(dir: &Path) {
    const ROWS: &str = "select * from big where id <= 10000";
    const READINGS: u64 = 20;
    let bare = middle(
        (0..TIMES)
            .map(|_| {
                let began = processor();
                work::decode(dir, ROWS);
                processor() - began
            })
            .collect(),
    );
    let (desk, inbox) = work::asked(dir, ROWS);
    let mut app = App::new(desk, THEME, None);
    let mut terminal = terminal();
    app.desk.submit("/live 0.2");
    let readings = |app: &App| {
        let live = app.desk.entry().and_then(|entry| entry.live.as_ref());
        live.map_or(0, |live| live.readings)
    };
    let mut until = |wanted: u64| {
        let mut seen = 0;
        while seen < wanted {
            app.event(inbox.recv().expect("an event"));
            if readings(&app) != seen {
                seen = readings(&app);
                terminal.draw(|frame| draw(&mut app, frame)).expect("drawn");
            }
        }
    };
    until(3);
    let began = processor();
    until(3 + READINGS);
    let each = (processor() - began) / READINGS as f64;
    let more = (each - bare) * 1e3;
    println!(
        "| a reading of a live result of 10 000 rows and its frame, processor time; more than the bare query: {more:.1} ms | {each:.3} | | a frame, 16.7 ms |"
    );
}
