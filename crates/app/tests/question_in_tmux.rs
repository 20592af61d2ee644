//! A question that somebody new to a database has to answer, in the real program and on every family: find the
//! tables, see how they hang together, get the join, notice that it multiplies, answer. The answer is compared
//! with the generator's rows.

mod terminal;

use std::collections::{HashMap, HashSet};

use idle_tide_core::Value;
use idle_tide_harbour::{Settings, generate};
use idle_tide_standin::{Options, Standin};
use terminal::{OWNER, Tmux, arrive, load, owner, place};

/// How many owners of vessels longer than 12 m have unpaid dues from visits in March at the north quay?
fn answer() -> usize {
    let mut rows: HashMap<&str, Vec<Vec<Value>>> = HashMap::new();
    let settings = Settings {
        readings: 10,
        ..Settings::default()
    };
    let done: Result<(), ()> = generate(&settings, &mut |table, row: &[Value]| {
        rows.entry(table).or_default().push(row.to_vec());
        Ok(())
    });
    done.expect("made");
    let plain = |value: &Value| value.as_ref().plain();
    let quay = rows["quays"]
        .iter()
        .find(|quay| plain(&quay[1]).contains("North"))
        .map(|quay| plain(&quay[0]))
        .expect("a north quay");
    let berths: HashSet<String> = rows["berths"]
        .iter()
        .filter(|berth| plain(&berth[1]) == quay)
        .map(|berth| plain(&berth[0]))
        .collect();
    let owners: HashMap<String, String> = rows["vessels"]
        .iter()
        .filter(|vessel| {
            plain(&vessel[4])
                .parse::<f64>()
                .is_ok_and(|length| length > 12.0)
        })
        .map(|vessel| (plain(&vessel[0]), plain(&vessel[2])))
        .collect();
    let visits: HashMap<String, String> = rows["visits"]
        .iter()
        .filter(|visit| {
            berths.contains(&plain(&visit[2])) && plain(&visit[3]).starts_with("2031-03")
        })
        .map(|visit| (plain(&visit[0]), plain(&visit[1])))
        .collect();
    let owing: HashSet<&String> = rows["dues"]
        .iter()
        .filter(|due| due[4] == Value::Null)
        .filter_map(|due| owners.get(visits.get(&plain(&due[1]))?))
        .collect();
    owing.len()
}

fn ask(t: &Tmux) {
    // Which tables are there? The catalog, narrowed by what the question speaks of.
    t.keys(&["F2"]);
    t.until("Catalog");
    t.types("dues");
    t.until("paid_on");
    t.keys(&["Right", "Down", "Down", "Down", "Down"]);
    t.when("what paid_on is", |screen| {
        screen.contains("null while it is owed")
    });
    t.keys(&["Escape"]);
    t.when("the desk", |screen| !screen.contains("Catalog  "));
    t.line("/find north");
    t.until("found by");
    t.line("/sample quays");
    t.until("North Steps");
    // How do they hang together, and what is the join?
    t.line("/route owners dues quays");
    t.until("→ many");
    t.until("each row of owners comes as often");
    let screen = t.until("join quays q on");
    assert!(screen.contains("join dues d on"), "{screen}");
    // The count that one writes first.
    t.keys(&["C-Home", "C-Right", "Delete", "Delete"]);
    t.types(" count(*)");
    t.until("select count(*)");
    t.keys(&["C-End"]);
    t.types(" where v.length_m > 12 and d.paid_on is null and q.name = 'North Steps' and vi.arrived >= '2031-03-01' and vi.arrived < '2031-04-01'");
    // It says what it counts, and the list has what counts owners.
    t.until("count(*) counts rows of dues here, not owners");
    t.keys(&["Tab"]);
    t.when("the correction in the list", |screen| {
        screen.matches("count(distinct o.id)").count() > 1
    });
    t.keys(&["Tab"]);
    t.until("select count(distinct o.id)");
    t.keys(&["F5"]);
    let expected = answer().to_string();
    assert!(
        expected.len() > 1,
        "the question has an answer worth counting: {expected}"
    );
    t.when(&format!("the answer {expected}"), |screen| {
        let value = |line: &str| line.trim_start_matches(['▌', ' ']).trim() == expected;
        screen.contains("1 row") && screen.lines().any(value)
    });
}

#[test]
fn the_question_on_sqlite() {
    let t = Tmux::open(142, 42);
    t.start("demo");
    ask(&t);
}

#[test]
fn the_question_over_the_tabular_data_stream() {
    let standin = Standin::start(&Options::new("haven", OWNER)).expect("started");
    let address = format!("tds://haven@127.0.0.1:{}/harbour", standin.address.port());
    load(&address);
    ask(&arrive(&address));
}

fn on_server(scheme: &str, port: &str, first: &str) {
    let port = place(port);
    let admin = format!("{scheme}://haven@127.0.0.1:{port}/{first}");
    owner(
        &admin,
        &[
            "drop database if exists question",
            "create database question",
        ],
    );
    let address = format!("{scheme}://haven@127.0.0.1:{port}/question");
    load(&address);
    ask(&arrive(&address));
}

#[test]
fn the_question_on_postgresql() {
    on_server("postgres", "HAVEN_POSTGRES_PORT", "postgres");
}

#[test]
fn the_question_on_mariadb() {
    on_server("mariadb", "HAVEN_MARIADB_PORT", "");
}

#[test]
fn the_question_on_mysql() {
    if terminal::has_mysql() {
        on_server("mysql", "HAVEN_MYSQL_PORT", "");
    }
}
