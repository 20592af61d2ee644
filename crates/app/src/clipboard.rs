//! Text on its way to a clipboard: the terminal's, over the sequence that terminals take for it (OSC 52), which works from far
//! away too; and the system's, where this program runs beside it.

use std::io::{self, Write};
use std::sync::mpsc::channel;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use arboard::Clipboard;
use crossterm::clipboard::CopyToClipboard;
use crossterm::execute;
use idle_tide_draw::picture::bytes;

/// Bytes that terminals take; of a longer text many take nothing, and say nothing.
const MOST: usize = 74_000;

/// How long the system may take.
const PATIENCE: Duration = Duration::from_secs(1);

/// The system's clipboard, which on some systems has the text only as long as somebody holds it.
static SYSTEM: Mutex<Option<Clipboard>> = Mutex::new(None);

/// Puts a text there; `what` it is. Answers in words what became of it.
///
/// # Errors
/// In words, if it got nowhere.
pub fn put(text: &str, what: &str) -> Result<String, String> {
    let size = bytes(text.len() as u64);
    let in_system = to_system(text);
    if text.len() > MOST {
        return match in_system {
            true => Ok(format!("Copied {what}, {size}.")),
            false => Err(format!(
                "Not copied: {what} is {size}, and terminals take 74 kB at most. /export writes it to a file."
            )),
        };
    }
    let mut out = io::stdout();
    let sent = execute!(out, CopyToClipboard::to_clipboard_from(text)).and_then(|()| out.flush());
    match (in_system, sent) {
        (true, _) => Ok(format!("Copied {what}, {size}.")),
        (false, Ok(())) => Ok(format!("Sent {what}, {size}, to the terminal's clipboard.")),
        (false, Err(error)) => Err(format!(
            "Not copied: the terminal cannot be written: {error}."
        )),
    }
}

/// Whether the system took it. Far away its clipboard is not the one of whoever looks at the screen.
fn to_system(text: &str) -> bool {
    let has = |name: &str| std::env::var_os(name).is_some_and(|value| !value.is_empty());
    let here = has("DISPLAY") || has("WAYLAND_DISPLAY") || cfg!(target_os = "macos");
    if !here || has("SSH_CONNECTION") {
        return false;
    }
    let (sender, done) = channel();
    let text = text.to_string();
    std::thread::spawn(move || {
        let mut system = SYSTEM.lock().unwrap_or_else(PoisonError::into_inner);
        if system.is_none() {
            *system = Clipboard::new().ok();
        }
        let taken = system
            .as_mut()
            .is_some_and(|system| system.set_text(text).is_ok());
        // Nobody may be waiting any more.
        let _ = sender.send(taken);
    });
    done.recv_timeout(PATIENCE).unwrap_or(false)
}
