//! Exit codes, by what went wrong, and why nothing more is done.

/// A statement was refused, or something else went wrong.
pub const FAILED: i32 = 1;
/// The source cannot be opened.
pub const NOT_OPENED: i32 = 3;
/// It was asked about, and nobody said yes.
pub const NOT_ALLOWED: i32 = 4;
/// The connection was lost.
pub const LOST: i32 = 5;
/// It took longer than it may.
pub const TOO_LONG: i32 = 6;
/// The results cannot be written.
pub const NOT_WRITTEN: i32 = 7;
/// Results are not what was recorded.
pub const DIFFERS: i32 = 8;

/// The codes in words.
pub const WORDS: &str = "Exit codes: 0 all went well; 1 a statement was refused; 2 the command line is wrong; \
3 the source cannot be opened; 4 it was asked about and nobody said yes; 5 the connection was lost; \
6 --timeout was met; 7 the results cannot be written; 8 results are not those of the diary; 128 and more: stopped by that signal.";

/// The code of having written something.
pub fn of_output(done: std::io::Result<()>) -> i32 {
    match done {
        Ok(()) => 0,
        Err(error) => {
            crate::opening::tell(&format!("It cannot be written: {error}."));
            NOT_WRITTEN
        }
    }
}

/// Why nothing more is done, and the exit code of it.
pub(super) struct Stop {
    pub(super) code: i32,
    pub(super) words: String,
}

impl From<String> for Stop {
    fn from(words: String) -> Self {
        Stop {
            code: FAILED,
            words,
        }
    }
}

impl From<&str> for Stop {
    fn from(words: &str) -> Self {
        words.to_string().into()
    }
}

pub(super) fn stop(code: i32, words: impl Into<String>) -> Stop {
    Stop {
        code,
        words: words.into(),
    }
}
