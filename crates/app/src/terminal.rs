//! The terminal: taken for the full screen and always given back as it was, also after a panic or a
//! signal; its input, paused while an editor has it; and the loop that draws.

use std::io::{self, Write};
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crossterm::event::{
    DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture,
    Event as Input, poll, read,
};
use crossterm::terminal::{
    Clear, ClearType, EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode,
};
use crossterm::{cursor, execute};
use idle_tide_desk::{Event, Tone};
use ratatui::Terminal;
use ratatui::backend::CrosstermBackend;
use signal_hook::consts::SIGTSTP;

use crate::app::App;
use crate::views::draw;

/// What the loop waits for.
pub enum Happening {
    /// A key, the mouse, a paste, a new size.
    Input(Input),
    /// Something in the session.
    Desk(Box<Event>),
    /// A signal asks to end, by its number.
    Signal(i32),
    /// A signal asks to stop until another lets it go on.
    Stop,
    /// The input ended.
    NoInput,
}

/// Time between frames while something moves.
const MOVING: Duration = Duration::from_millis(60);

/// Gives the terminal back. Safe to call more than once.
pub fn give_back() {
    let mut out = io::stdout();
    let _ = execute!(
        out,
        DisableMouseCapture,
        DisableBracketedPaste,
        LeaveAlternateScreen,
        cursor::Show,
        cursor::SetCursorStyle::DefaultUserShape
    );
    let _ = disable_raw_mode();
    let _ = out.flush();
}

fn take() -> io::Result<()> {
    enable_raw_mode()?;
    execute!(
        io::stdout(),
        EnterAlternateScreen,
        EnableBracketedPaste,
        EnableMouseCapture,
        cursor::SetCursorStyle::SteadyBar
    )
}

/// Keeps the input from being read while an editor has the terminal to itself.
#[derive(Default)]
struct Gate {
    closed: AtomicBool,
    /// Held while input is read.
    reading: Mutex<()>,
}

fn listen(sender: Sender<Happening>, gate: Arc<Gate>) {
    std::thread::spawn(move || {
        loop {
            if gate.closed.load(Ordering::SeqCst) {
                std::thread::sleep(Duration::from_millis(20));
                continue;
            }
            let held = gate.reading.lock().unwrap_or_else(PoisonError::into_inner);
            let input = match poll(Duration::from_millis(50)) {
                Ok(true) => read().map(Some),
                Ok(false) => Ok(None),
                Err(error) => Err(error),
            };
            drop(held);
            let sent = match input {
                Ok(Some(input)) => sender.send(Happening::Input(input)),
                Ok(None) => Ok(()),
                Err(_) => {
                    let _ = sender.send(Happening::NoInput);
                    return;
                }
            };
            if sent.is_err() {
                return;
            }
        }
    });
}

fn watch_signals(sender: Sender<Happening>) -> io::Result<()> {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
    let ends = [SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGTSTP];
    let mut signals = signal_hook::iterator::Signals::new(ends)?;
    std::thread::spawn(move || {
        for signal in signals.forever() {
            if signal == SIGTSTP {
                let _ = sender.send(Happening::Stop);
                continue;
            }
            let _ = sender.send(Happening::Signal(signal));
            // The loop ends by itself; if it cannot, the terminal is given back all the same.
            std::thread::sleep(Duration::from_secs(2));
            // Nobody may be reading what is written there: the way it is set comes first, and is not waited for.
            let _ = disable_raw_mode();
            let (sender, given) = std::sync::mpsc::channel();
            std::thread::spawn(move || {
                give_back();
                let _ = sender.send(());
            });
            let _ = given.recv_timeout(Duration::from_millis(500));
            std::process::exit(128 + signal);
        }
    });
    Ok(())
}

/// Runs the full screen until the user leaves; answers the exit code.
///
/// # Errors
/// If the terminal cannot be taken or drawn on.
pub fn run(
    mut app: App,
    sender: Sender<Happening>,
    inbox: &Receiver<Happening>,
) -> io::Result<i32> {
    let hook = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        // A fault in another thread ends that thread's work, and the screen says so; its words would only
        // scatter over the screen.
        if std::thread::current().name() == Some("main") {
            give_back();
            hook(info);
        }
    }));
    let gate = Arc::new(Gate::default());
    watch_signals(sender.clone())?;
    take()?;
    let mut terminal = Terminal::new(CrosstermBackend::new(io::stdout()))?;
    listen(sender, Arc::clone(&gate));
    let result = turn(&mut app, &mut terminal, inbox, &gate);
    give_back();
    result
}

fn turn(
    app: &mut App,
    terminal: &mut Terminal<CrosstermBackend<io::Stdout>>,
    inbox: &Receiver<Happening>,
    gate: &Gate,
) -> io::Result<i32> {
    let mut drawn = Instant::now();
    let mut waiting_desk = false;
    terminal.draw(|frame| draw(app, frame))?;
    loop {
        let moving = app.is_moving();
        let first = if moving || waiting_desk {
            match inbox.recv_timeout(MOVING.saturating_sub(drawn.elapsed())) {
                Ok(happening) => Some(happening),
                Err(RecvTimeoutError::Timeout) => None,
                Err(RecvTimeoutError::Disconnected) => return Ok(1),
            }
        } else {
            // The age of a transaction is shown in minutes.
            let idle = if app.desk.is_live() {
                1
            } else if app.desk.bearings().transaction.is_some() {
                10
            } else {
                3_600
            };
            match inbox.recv_timeout(Duration::from_secs(idle)) {
                Ok(happening) => Some(happening),
                Err(RecvTimeoutError::Timeout) => {
                    waiting_desk = true;
                    None
                }
                Err(RecvTimeoutError::Disconnected) => return Ok(1),
            }
        };
        // Everything that has come in meanwhile is taken before the next frame.
        let mut pressed = false;
        let mut next = first;
        while let Some(happening) = next {
            match happening {
                Happening::Input(input) => {
                    pressed = true;
                    take_input(app, input);
                }
                Happening::Desk(event) => {
                    waiting_desk = true;
                    app.event(*event);
                }
                Happening::Signal(signal) => return Ok(128 + signal),
                Happening::Stop => {
                    give_back();
                    // It stops here, and goes on here.
                    signal_hook::low_level::emulate_default_handler(SIGTSTP)?;
                    take()?;
                    forget(terminal)?;
                    pressed = true;
                }
                Happening::NoInput => return Ok(1),
            }
            if app.leaving {
                // Whoever leaves has nothing half-written.
                app.desk.keep_draft("");
                return Ok(0);
            }
            if std::mem::take(&mut app.rings) {
                // BEL, ECMA-48.
                let mut out = io::stdout();
                let _ = out.write_all(b"\x07").and_then(|()| out.flush());
            }
            if let Some((text, what)) = app.copied.take() {
                match crate::clipboard::put(&text, &what) {
                    Ok(words) => app.desk.say(words, Tone::Active),
                    Err(words) => app.desk.say(words, Tone::Care),
                }
            }
            if let Some(text) = app.edit.take() {
                edit(app, &text, gate)?;
                forget(terminal)?;
                pressed = true;
            }
            next = inbox.try_recv().ok();
        }
        if pressed {
            app.desk.keep_draft(app.composer.text());
        }
        // A key is answered at once; arriving rows at the pace of the eye.
        if pressed
            || (drawn.elapsed() >= MOVING && (waiting_desk || moving))
            || (waiting_desk && !app.is_moving())
        {
            if std::mem::take(&mut app.redraw) {
                forget(terminal)?;
            }
            if drawn.elapsed() >= MOVING {
                app.frame += 1;
            }
            terminal.draw(|frame| draw(app, frame))?;
            drawn = Instant::now();
            waiting_desk = false;
        }
    }
}

/// Forgets what is on the screen, so that all of it is drawn anew. The terminal is asked nothing, since a slow one
/// may not answer in time.
fn forget(terminal: &mut Terminal<CrosstermBackend<io::Stdout>>) -> io::Result<()> {
    execute!(io::stdout(), Clear(ClearType::All))?;
    *terminal = Terminal::new(CrosstermBackend::new(io::stdout()))?;
    Ok(())
}

fn take_input(app: &mut App, input: Input) {
    match input {
        Input::Key(key) => app.key(key),
        Input::Mouse(mouse) => app.mouse(mouse),
        Input::Paste(text) => app.paste(&text),
        Input::Resize(..) | Input::FocusGained | Input::FocusLost => {}
    }
}

/// Opens a text in the user's editor and takes back what was saved. The text is kept if the editor fails.
fn edit(app: &mut App, text: &str, gate: &Gate) -> io::Result<()> {
    gate.closed.store(true, Ordering::SeqCst);
    let held = gate.reading.lock().unwrap_or_else(PoisonError::into_inner);
    give_back();
    let edited = in_editor(text);
    take()?;
    drop(held);
    gate.closed.store(false, Ordering::SeqCst);
    match edited {
        Ok(text) => {
            app.composer.set(text.trim_end_matches('\n'));
            app.focus = crate::app::Focus::Write;
        }
        Err(words) => {
            if app.composer.is_blank() {
                app.composer.set(text);
            }
            app.desk.say(words, Tone::Danger);
        }
    }
    Ok(())
}

fn in_editor(text: &str) -> Result<String, String> {
    let variable = |name: &str| {
        std::env::var(name)
            .ok()
            .filter(|value| !value.trim().is_empty())
    };
    let editor = variable("VISUAL")
        .or_else(|| variable("EDITOR"))
        .unwrap_or_else(|| "vi".into());
    let words =
        |error: io::Error| format!("The editor could not be used: {error}. The text is as it was.");
    // Only its owner can read the file, and it is gone afterwards.
    let mut file = idle_tide_core::unfinished::file_ending(".sql").map_err(words)?;
    file.write_all(text.as_bytes()).map_err(words)?;
    file.flush().map_err(words)?;
    let status = Command::new("sh")
        .arg("-c")
        .arg(format!("{editor} \"$1\""))
        .arg("sh")
        .arg(file.path())
        .status()
        .map_err(words)?;
    if !status.success() {
        return Err(format!(
            "The editor {editor} ended with {status}. Set VISUAL or EDITOR to another. The text is as it was."
        ));
    }
    std::fs::read_to_string(file.path()).map_err(words)
}
