//! The real program in a real terminal multiplexer, from the command line a user would type: whole tasks,
//! signals, editors, small windows. Every step waits for text on the screen, never for a time.

use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::time::{Duration, Instant};

struct Tmux {
    dir: tempfile::TempDir,
}

impl Tmux {
    /// Opens a shell in a window of this size, with directories of its own.
    fn open(width: u16, height: u16) -> Self {
        let this = Tmux {
            dir: tempfile::tempdir().expect("dir"),
        };
        let (width, height) = (width.to_string(), height.to_string());
        let shell = format!(
            "env -u NO_COLOR HOME={home} XDG_DATA_HOME={home}/data XDG_STATE_HOME={home}/state XDG_CONFIG_HOME={home}/config EDITOR={home}/editor PS1='ready> ' bash --norc --noprofile",
            home = this.home().display()
        );
        this.tmux(&[
            "-f",
            "/dev/null",
            "new-session",
            "-d",
            "-x",
            &width,
            "-y",
            &height,
            &shell,
        ]);
        this.tmux(&["set-option", "-g", "escape-time", "5"]);
        this.until("ready>");
        this
    }

    fn home(&self) -> &Path {
        self.dir.path()
    }

    fn tmux(&self, arguments: &[&str]) -> Output {
        Command::new("tmux")
            .arg("-S")
            .arg(self.home().join("socket"))
            .args(arguments)
            .output()
            .expect("tmux runs; scripts/setup installs it")
    }

    fn keys(&self, keys: &[&str]) {
        for key in keys {
            self.tmux(&["send-keys", key]);
        }
    }

    fn types(&self, text: &str) {
        // A semicolon at the end would be read by tmux itself.
        let text = match text.strip_suffix(';') {
            Some(head) => format!("{head}\\;"),
            None => text.to_string(),
        };
        self.tmux(&["send-keys", "-l", &text]);
    }

    fn line(&self, text: &str) {
        self.types(text);
        self.keys(&["Enter"]);
    }

    fn screen(&self) -> String {
        String::from_utf8_lossy(&self.tmux(&["capture-pane", "-p"]).stdout).into_owned()
    }

    fn when(&self, what: &str, done: impl Fn(&str) -> bool) -> String {
        let start = Instant::now();
        loop {
            let screen = self.screen();
            if done(&screen) {
                return screen;
            }
            assert!(
                start.elapsed() < Duration::from_secs(30),
                "never saw {what}:\n{screen}"
            );
            std::thread::sleep(Duration::from_millis(15));
        }
    }

    fn until(&self, text: &str) -> String {
        self.when(text, |screen| screen.contains(text))
    }

    /// Starts the program and waits for the arrival card.
    fn start(&self, arguments: &str) {
        // Unlike the shell at the prompt, this one leaves the terminal's modes as it finds them.
        let program = env!("CARGO_BIN_EXE_idle-tide");
        self.line(&format!(
            "sh -c '{program} {arguments}; stty -a | grep -o -- .icanon; echo back\"\"again'"
        ));
        self.until("Try ");
    }

    fn pid(&self) -> String {
        let shell =
            String::from_utf8_lossy(&self.tmux(&["display-message", "-p", "#{pane_pid}"]).stdout)
                .trim()
                .to_string();
        let mut pid = shell;
        loop {
            let children = std::fs::read_to_string(format!("/proc/{pid}/task/{pid}/children"))
                .expect("children");
            match children.split_whitespace().next() {
                Some(child) => pid = child.to_string(),
                None => return pid,
            }
        }
    }

    /// Waits for the shell, with the screen and the terminal's modes as they were.
    fn given_back(&self) {
        let screen = self.until("backagain");
        assert!(
            screen.contains(" icanon") && !screen.contains("-icanon\n"),
            "{screen}"
        );
        let flags = self.tmux(&["display-message", "-p", "#{alternate_on}#{mouse_any_flag}"]);
        assert_eq!(
            String::from_utf8_lossy(&flags.stdout).trim(),
            "00",
            "screen and mouse are given back"
        );
    }
}

impl Drop for Tmux {
    fn drop(&mut self) {
        self.tmux(&["kill-server"]);
    }
}

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
    let screen = t.until("vessel_id→vessels");
    assert!(screen.contains("berth_id→berths"), "{screen}");
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
    t.line("delete from visits;");
    t.until("This deletes all 12 000 rows of visits.");
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
