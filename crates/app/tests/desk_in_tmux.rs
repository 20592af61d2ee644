//! The real program in a real terminal multiplexer, from the command line a user would type: whole tasks,
//! signals, editors, small windows. Every step waits for text on the screen, never for a time.

mod terminal;

use std::path::PathBuf;
use std::process::Command;

use terminal::Tmux;

/// What a new user does, from the arrival card to leaving.
#[test]
fn a_whole_task() {
    let t = Tmux::open(142, 42);
    t.start("demo");
    t.until("Your first visit");

    // Find the table of visits.
    t.line("/tables vis*");
    t.until("visit_services");
    // Write a join over several lines; the structure of its tables is in sight.
    t.line("select v.name, b.code, s.arrived, s.draught_m");
    t.line("from visits s");
    // A screen may be caught half drawn: each thing is waited for.
    t.until("vessel_id→vessels");
    t.until("berth_id→berths");
    t.line("join vessels v on v.id = s.vessel_id");
    t.line("join berths b on b.id = s.bert_id");
    t.line("order by s.id;");
    // A mistyped column, and the correction.
    t.until("There is no column bert_id in visits.");
    t.keys(&["Tab", "Enter"]);
    t.until("row 1 of 12 000");
    // Read, as a record, in another order.
    t.keys(&["Escape"]);
    t.until("go to row");
    t.keys(&["Enter"]);
    t.until("timestamp");
    t.keys(&["Down"]);
    t.until("row 2 of 12 000");
    t.keys(&["Escape"]);
    t.until("go to row");
    t.keys(&["Right", "Right", "Right", "o"]);
    t.until("draught_m↑");
    // Take it away.
    let file = t.home().join("visits.csv");
    t.keys(&["/"]);
    t.types(&format!("export {}", file.display()));
    t.keys(&["Enter"]);
    t.until("12 000 rows as CSV");
    let csv = std::fs::read_to_string(&file).expect("written");
    assert_eq!(csv.lines().count(), 12_001);
    assert!(csv.starts_with("name,code,arrived,draught_m\n"));
    let draughts: Vec<f64> = csv
        .lines()
        .skip(1)
        .map(|l| l.rsplit(',').next().expect("cell").parse().expect("number"))
        .collect();
    assert!(draughts.is_sorted(), "the order that was seen");
    // Recall the statement, change it, run it.
    t.until("go to row");
    t.keys(&["Escape"]);
    t.until("a statement and");
    t.keys(&["Up", "Up"]);
    t.until("join berths b on b.id = s.berth_id");
    t.keys(&["BSpace"]);
    t.line(" limit 7;");
    t.until("row 1 of 7");
    t.keys(&["C-d"]);
    t.given_back();

    // What was typed is there in the next session.
    t.line("clear");
    t.start("demo");
    t.until("You were here");
    t.keys(&["Up"]);
    t.until("limit 7");
}

#[test]
fn an_endless_query_swells_and_stops() {
    let t = Tmux::open(142, 42);
    t.start("sqlite::memory:");
    t.line("with recursive n (i) as (select 1 union all select i + 1 from n) select i from n;");
    t.when("rows and time on the tide line", |s| {
        s.contains("so far") && s.contains("Ctrl-C stops") && s.contains('▃')
    });
    t.keys(&["C-c"]);
    let screen = t.until("stopped ·");
    assert!(screen.contains("rows ·"), "{screen}");
    t.line("select 'still ' || 'here' as word;");
    t.until("still here");
}

#[test]
fn the_terminal_is_given_back_after_signals() {
    let t = Tmux::open(100, 30);
    for signal in ["TERM", "HUP"] {
        t.start("sqlite::memory:");
        let killed = Command::new("kill")
            .args(["-s", signal, &t.pid()])
            .status()
            .expect("kill runs");
        assert!(killed.success());
        t.given_back();
        t.line("clear");
    }
}

#[test]
fn the_editor_the_paste_and_the_words_for_leaving() {
    let t = Tmux::open(100, 30);
    let editor: PathBuf = t.home().join("editor");
    std::fs::write(&editor, "#!/bin/sh\nsed -i 's/one/two/' \"$1\"\n").expect("written");
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(&editor, mode).expect("mode");
    t.start("sqlite::memory:");
    t.types("select 'one' as word");
    t.keys(&["C-x", "C-e"]);
    t.until("select 'two' as word");
    // A pasted newline runs nothing.
    t.tmux(&["set-buffer", "-b", "p", ", 'three';\nselect 4;\n"]);
    t.tmux(&["paste-buffer", "-p", "-b", "p"]);
    let screen = t.until("select 4;");
    assert!(!screen.contains("1 row"), "{screen}");
    t.keys(&["F5"]);
    t.until("row 1 of 1");
    t.line("exit");
    t.given_back();
}

#[test]
fn a_small_window_a_resize_and_no_colour() {
    let t = Tmux::open(80, 24);
    t.line("export NO_COLOR=1");
    t.start("demo");
    t.line("select id, name, rig from vessels;");
    t.until("row 1 of 480");
    for (width, height) in [("20", "5"), ("142", "42"), ("80", "24")] {
        t.tmux(&["resize-window", "-x", width, "-y", height]);
        t.when("a new size", |s| {
            s.lines().count() <= height.parse().expect("number") && s.contains("Brackwater")
        });
    }
    t.until("row 1 of 480");
    let styled =
        String::from_utf8_lossy(&t.tmux(&["capture-pane", "-p", "-e"]).stdout).into_owned();
    assert!(
        !styled.contains("[38;") && !styled.contains("[48;"),
        "no colours with NO_COLOR"
    );
    t.line("drop table visits;");
    t.until("This removes the table visits with all 12 000 rows.");
    t.keys(&["n"]);
    t.until("Nothing was changed.");
}

#[test]
fn a_lock_is_waited_for_in_sight() {
    let t = Tmux::open(120, 30);
    let file = t.home().join("shared.db");
    t.start(&format!("--new {}", file.display()));
    t.line("create table t (n);");
    t.until("t was made");
    // Another session holds the file.
    let other = Tmux::open(120, 30);
    other.start(&format!("{} --write", file.display()));
    other.line("begin immediate; insert into t values (1);");
    other.until("1 row inserted");
    other.until("transaction open");
    t.line("insert into t values (2);");
    t.until("waits for a lock that another program holds");
    other.line("commit;");
    other.until("is kept");
    t.until("1 row inserted into t");
    t.line("select count(*) as stored from t;");
    t.until("row 1 of 1");
    // A file that is not one, and one that is there already, are refused before the screen is taken.
    t.keys(&["C-d"]);
    t.given_back();
    t.line("clear");
    let program = env!("CARGO_BIN_EXE_idle-tide");
    t.line(&format!("{program} --new {}", file.display()));
    t.until("exists already");
}

#[test]
fn what_is_chosen_is_remembered() {
    let t = Tmux::open(100, 30);
    let program = env!("CARGO_BIN_EXE_idle-tide");
    t.line(&format!(
        "{program} sqlite::memory: --first 'select 40 + 2 as answer'"
    ));
    t.until("row 1 of 1");
    t.line("/theme shoal");
    t.until("shoal from now on");
    t.line("/writes none");
    t.until("reads only");
    t.line("quit");
    t.when("the shell", |screen| screen.trim_end().ends_with("ready>"));
    let settings =
        std::fs::read_to_string(t.home().join("config/idle-tide/settings.toml")).expect("kept");
    assert_eq!(settings, "theme = \"shoal\"\n");
    let history = t.home().join("state/idle-tide/history.jsonl");
    let mode = std::os::unix::fs::PermissionsExt::mode(
        &std::fs::metadata(&history).expect("kept").permissions(),
    );
    assert_eq!(mode & 0o777, 0o600);
    t.line("clear");
    t.start("demo --readings 400");
    t.until("harbour-400.db");
    t.keys(&["C-r"]);
    t.types("answer");
    t.until("Earlier sessions");
    t.keys(&["Enter"]);
    t.until("select 40 + 2 as answer");
    t.keys(&["F5"]);
    t.until("row 1 of 1");
}

/// What was half-written when the program was killed is there at the next start on the same source, and only once.
#[test]
fn half_written_text_survives_a_kill() {
    let t = Tmux::open(142, 42);
    t.start("demo");
    t.types("select name from vessels where rig = 'sloop' and ");
    t.until("rig = 'sloop' and");
    let drafts = t.home().join("state/idle-tide/drafts");
    t.when("it is kept", |_| {
        let files = std::fs::read_dir(&drafts).into_iter().flatten().flatten();
        // One that is still being written has another name.
        files
            .map(|file| file.path())
            .filter(|path| path.extension().is_some_and(|ending| ending == "json"))
            .map(|path| std::fs::read_to_string(path).unwrap_or_default())
            .any(|text| text.contains("sloop' and"))
    });
    Command::new("kill")
        .args(["-KILL", &t.pid()])
        .status()
        .expect("killed");
    t.until("backagain");
    t.line("reset");
    t.line("clear");
    t.start("demo");
    t.until("half-written");
    t.until("rig = 'sloop' and");
    t.keys(&["C-c", "C-d"]);
    t.given_back();
    assert_eq!(std::fs::read_dir(&drafts).expect("a folder").count(), 0);
}

/// Stopped by a signal the shell has the terminal as it was; let go on, the screen is there again.
#[test]
fn stop_and_go_on() {
    let t = Tmux::open(100, 30);
    let program = env!("CARGO_BIN_EXE_idle-tide");
    t.line("set -m");
    t.line(&format!("{program} demo"));
    t.until("Try ");
    Command::new("kill")
        .args(["-TSTP", &t.pid()])
        .status()
        .expect("kill runs");
    t.until("Stopped");
    t.line("stty -a | grep -o -- .icanon; echo modes''above");
    let screen = t.until("modesabove");
    assert!(
        screen.contains(" icanon") && !screen.contains("-icanon\n"),
        "{screen}"
    );
    t.line("fg");
    t.until("Try ");
    t.line("select 40 + 2 as answer;");
    t.until("answer");
    t.keys(&["C-d"]);
    t.until("ready>");
}
