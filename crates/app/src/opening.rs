//! Sources that are named on the command line: what a name means, what is asked on the controlling terminal, how writes are
//! treated there. It is said on standard error.

use std::io::{BufRead, Write};

use idle_tide_desk::settings::{Places, Settings, unreadable};
use idle_tide_desk::{Origin, Writes};
use idle_tide_draw::marks::show_text;
use idle_tide_engines::address::without_password;
use idle_tide_engines::{Ask, Connection, OpenError, OpenOptions, Overrides, Source};
use secrecy::SecretString;

use crate::arguments::{Server, WritesArgument};

/// Asks on the controlling terminal.
pub struct AtTerminal;

impl AtTerminal {
    /// Asks for a text; `None` without a terminal, which is said.
    pub fn value(&self, what: &str, details: &[String]) -> Option<String> {
        let Ok(terminal) = std::fs::File::open("/dev/tty") else {
            tell(&format!(
                "{what} is needed, and there is no terminal to ask on."
            ));
            return None;
        };
        for detail in details {
            tell(detail);
        }
        eprint!("idle-tide: {}: ", show_text(what, 400).text());
        let mut typed = String::new();
        let read = std::io::BufReader::new(terminal).read_line(&mut typed);
        let given = read.is_ok_and(|count| count > 0);
        given.then(|| typed.trim_end_matches(['\n', '\r']).to_string())
    }
}

impl Ask for AtTerminal {
    fn secret(&self, what: &str) -> Option<SecretString> {
        let typed =
            rpassword::prompt_password(format!("idle-tide: {}: ", show_text(what, 400).text()));
        match typed {
            Ok(secret) => Some(secret.into()),
            Err(_) => {
                tell(&format!(
                    "{what} is needed, and there is no terminal to ask on."
                ));
                None
            }
        }
    }

    fn allow(&self, question: &str, details: &[String]) -> bool {
        tell(question);
        for detail in details {
            tell(detail);
        }
        let Ok(terminal) = std::fs::File::open("/dev/tty") else {
            eprintln!("idle-tide: there is no terminal to answer on; it goes no further.");
            return false;
        };
        eprint!("idle-tide: y goes on; anything else does not: ");
        let mut answer = String::new();
        std::io::BufReader::new(terminal)
            .read_line(&mut answer)
            .is_ok()
            && matches!(answer.trim(), "y" | "Y" | "yes")
    }

    fn tell(&self, word: &str) {
        tell(&format!("{word} …"));
    }
}

/// Opens a source; what has to be asked is asked on the controlling terminal.
///
/// # Errors
/// In whole sentences, with the way out.
pub fn open(source: &Source, options: OpenOptions) -> Result<Box<dyn Connection>, OpenError> {
    idle_tide_engines::open(source, options, &AtTerminal)
}

/// Words on standard error, with marks where a terminal would obey.
pub fn tell(words: &str) {
    for line in words.lines() {
        // If standard error is closed there is nobody to tell.
        let _ = writeln!(
            std::io::stderr(),
            "idle-tide: {}",
            show_text(line, 4_000).text()
        );
    }
}

/// The settings, or what is wrong with them.
pub struct Kept {
    pub(crate) settings: Settings,
    /// Why they could not be read, and what follows.
    pub trouble: Option<String>,
    /// What is wrong in them and was left out.
    pub doubts: Vec<String>,
}

impl Kept {
    /// Reads them, and makes their limits those of the process. What cannot be read is said and stops nothing; nothing is written then.
    pub fn read() -> Self {
        let read = Places::of_user().map(|places| Settings::read(&places.settings));
        match read {
            Some(Err(words)) => Kept {
                settings: Settings::default(),
                trouble: Some(unreadable(&words)),
                doubts: Vec::new(),
            },
            read => {
                let settings = read.and_then(Result::ok).unwrap_or_default();
                Kept {
                    doubts: settings.set_limits(),
                    settings,
                    trouble: None,
                }
            }
        }
    }
}

/// What a name on the command line means: a saved source, an address, a file.
///
/// # Errors
/// If it is damaged, or its password command fails.
pub fn named(name: &str, kept: &Kept, server: &Server, write: bool) -> Result<Origin, OpenError> {
    let more = server.overrides();
    if let Some(saved) = kept.settings.sources.get(name) {
        if more != Overrides::default() {
            return Err(OpenError::plain(format!(
                "{name} is a saved source; change it there (F9) instead of with options."
            )));
        }
        return idle_tide_desk::sources::of_saved(name, saved, None);
    }
    let mut source = Source::parse_with(name, &more)?;
    if let Source::Server(address) = &mut source
        && without_password(name) != name
    {
        address.notes.push("The password stood in the command line, where others on this machine can read it. Leave it out and it is asked for.".into());
    }
    Ok(Origin {
        name: source.name(),
        source,
        options: OpenOptions {
            write,
            ..OpenOptions::default()
        },
        tone: idle_tide_desk::settings::Tone::Calm,
    })
}

/// How writes are treated on a source: as it was saved, else as it is asked for. What was saved as none cannot be
/// made weaker by an option; nor can settings that cannot be read.
///
/// # Errors
/// If it was saved as none and something weaker is asked for.
pub fn writes_of(
    origin: &Origin,
    kept: &Kept,
    asked: Option<WritesArgument>,
) -> Result<Writes, String> {
    if let Some(trouble) = &kept.trouble {
        tell(trouble);
        return Ok(Writes::None);
    }
    for doubt in &kept.doubts {
        tell(doubt);
    }
    let saved = kept.settings.sources.get(&origin.name);
    if let Some(trouble) = saved.and_then(|saved| saved.trouble(&origin.name)) {
        tell(&trouble);
    }
    let saved = saved.and_then(|saved| saved.ways_of_writes().0);
    let asked = asked.map(|asked| match asked {
        WritesArgument::Ask => Writes::Ask,
        WritesArgument::Free => Writes::Free,
        WritesArgument::None => Writes::None,
    });
    match (saved, asked) {
        (Some(Writes::None), Some(asked)) if asked != Writes::None => Err(format!(
            "{} is saved with writes = \"none\": nothing is written to it. F9 changes that.",
            origin.name
        )),
        (saved, asked) => Ok(asked.or(saved).unwrap_or(Writes::Ask)),
    }
}
