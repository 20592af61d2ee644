//! In the real program: results that answer back. A result becomes a picture, a comparison and a live one, results of three
//! kinds of sources meet in a question, and somebody new calculates.

mod terminal;

use terminal::{OWNER, Tmux, owner, place};

/// A table on a real server, documents in files and a CSV file: watched while another connection writes, compared, drawn, joined.
#[test]
fn results_of_a_server_documents_and_a_file_answer_back() {
    let port = place("HAVEN_POSTGRES_PORT");
    let address = |database: &str| format!("postgres://haven@127.0.0.1:{port}/{database}");
    owner(
        &address("postgres"),
        &[
            "drop database if exists answering",
            "create database answering",
        ],
    );
    let fees = address("answering");
    owner(
        &fees,
        &[
            "create table fees (species text primary key, fee numeric(10,2), since date)",
            "insert into fees values ('cod', 2.50, '2031-01-05'), ('sole', 4.00, '2031-02-10'), ('crab', 1.25, '2031-03-15')",
        ],
    );
    let t = Tmux::open(142, 42);
    let file = |name: &str| t.home().join(name);
    std::fs::write(
        file("names.csv"),
        "species,name\ncod,Codfish\nsole,Flatfish\ncrab,Shellfish\n",
    )
    .expect("written");
    std::fs::write(
        file("catch.jsonl"),
        "{\"species\": \"cod\", \"kg\": 100, \"at\": {\"port\": \"Quay\"}}\n{\"species\": \"crab\", \"kg\": 8, \"at\": {\"port\": \"Cove\"}}\n",
    )
    .expect("written");
    let program = env!("CARGO_BIN_EXE_idle-tide");
    t.line(&format!("PGPASSWORD=\"{OWNER}\" {program} {fees} --write"));
    t.until("Try ");

    // Live: what another connection writes is there, marked, and said.
    t.line("select species, fee, since from fees order by species;");
    t.until("row 1 of 3");
    t.keys(&["Escape"]);
    t.line("/live 1");
    t.until("live every 1.0 s");
    owner(
        &fees,
        &[
            "insert into fees values ('eel', 9.75, '2031-04-01')",
            "update fees set fee = 3 where species = 'cod'",
        ],
    );
    t.when("the new row, marked", |screen| {
        screen
            .lines()
            .any(|line| line.trim_start().starts_with("+") && line.contains("eel"))
            && screen.contains("~")
    });
    t.until("of 4");
    t.keys(&["w"]);
    t.until("was live: it was stopped");

    // Once more: what differs is on its line, and opens.
    owner(
        &fees,
        &[
            "delete from fees where species = 'crab'",
            "update fees set fee = 3.5 where species = 'cod'",
        ],
    );
    t.keys(&["a"]);
    t.until("−1 ~1 since entry 2");
    t.keys(&["d"]);
    let screen = t.until("From entry 2 to entry ");
    for part in [
        "1 removed, 1 changed. 2 rows are the same.",
        "told apart by species",
        "fee in 2",
        "3.50",
    ] {
        assert!(screen.contains(part), "{part}: {screen}");
    }

    // A picture, changed by keys, and on paper as it is here.
    t.keys(&[","]);
    t.until("since entry 2");
    t.keys(&["F8"]);
    t.until("fee by since");
    t.keys(&["k", "k", "k"]);
    t.until("rows by fee");
    t.keys(&["Escape"]);
    t.line("/chart bars --x species --y fee --title 'What a kilogram costs' --ordered");
    let screen = t.until("eel▕█");
    assert!(screen.contains("What a kilogram costs"), "{screen}");
    t.line("/export ~/fees.svg");
    t.until("The drawing as SVG");
    t.line("/export ~/fees.pdf");
    t.until("The drawing as PDF");
    let svg = std::fs::read_to_string(file("fees.svg")).expect("the picture");
    for part in ["What a kilogram costs", ">eel<", ">9.75<", "<rect"] {
        assert!(svg.contains(part), "{part}");
    }
    assert!(
        std::fs::read(file("fees.pdf"))
            .expect("the picture")
            .starts_with(b"%PDF")
    );

    // Results of the server and of documents, and a file, in one question.
    t.line(&format!("/open docs:{}", file("catch.jsonl").display()));
    t.until("Try ");
    t.line("from catch;");
    t.until("of 2");
    t.line("/name 8 catch");
    t.until("is catch in /across");
    t.line("/across select n.name, c.\"at.port\" as port, c.kg * f.fee as worth from catch c join result_3 f on f.species = c.species join '~/names.csv' n using (species)");
    let screen = t.until("350");
    assert!(
        screen.contains("Codfish") && screen.contains("Quay") && !screen.contains("Shellfish"),
        "{screen}"
    );
    t.line("/across select * from cach");
    t.until("There is no result cach; there are");
    t.keys(&["C-c"]);
}

/// Somebody who has never calculated here: twelve lines in six submissions, a loop with parameters, and what goes wrong.
#[test]
fn a_first_session_with_the_calculator() {
    let t = Tmux::open(142, 42);
    std::fs::write(t.home().join("t.db"), "").expect("made");
    t.start("$HOME/t.db --write");
    t.line("= 12 * 3.5");
    t.until("42.0");
    t.line("= date '2031-03-31' - date '2031-03-01'; date '2031-03-01' + 30");
    t.until("2031-03-31");
    t.line("= fees = {tug: 3.5, smack: 10}; w = 'smack'; fees[w] * 2");
    t.until("20");
    t.line("create table stays (berth integer, fee numeric);");
    t.until("stays was made");
    // An open block goes on in the next line, and says that it is open.
    t.line("= for n in 1..5 {");
    t.until("bracket open since line 1");
    t.line("run('insert into stays values (:n, :fees.tug)')");
    t.line("}; def half(x) = x / 2; half(rows('select sum(fee) as s from stays')[0].s)");
    t.until("8.75");
    // The arrow brings a block back whole.
    t.keys(&["Up"]);
    let screen = t.until("def half");
    assert!(screen.contains("= for n in 1..5 {"), "{screen}");
    t.keys(&["C-c"]);
    t.line("select count(*) as n from stays where berth in (:n, 1) and fee < :fees.smack;");
    let screen = t.until("row 1 of 1");
    assert!(
        screen
            .lines()
            .any(|line| line.contains("▌") && line.trim_end().ends_with('2')),
        "{screen}"
    );
    t.line("= fees.smack * boats");
    t.until("There is no variable boats");
    t.keys(&["C-c"]);
    t.line("= for i in 1..1000000000 { n = i }");
    t.until("running");
    t.keys(&["C-c"]);
    t.until("stopped");
    t.line("/variables");
    t.until("half(x)");
}
