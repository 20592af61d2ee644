//! The sources: open sessions, saved ones, servers found on this machine.

mod draw;
pub mod form;

use crossterm::event::KeyCode;
use idle_tide_desk::Tone;
use idle_tide_desk::settings::{Saved, Settings};
use idle_tide_engines::Source;
use ratatui::Frame;
use ratatui::layout::{Position, Rect};
use secrecy::ExposeSecret;

use super::view::{Act, View};
use crate::app::{App, Focus};
use crate::keys::Place;
use form::{FIELDS, Form};

/// A line of the view.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SourceLine {
    /// An open session, by its number.
    Open(u32),
    /// A saved source, by its name.
    Saved(String),
    /// A server found on this machine, by its place in the list.
    Found(usize),
    /// The practice harbour: its tables, or its documents.
    Demo(&'static str),
}

impl SourceLine {
    /// The heading it stands under.
    pub fn group(&self) -> &'static str {
        match self {
            SourceLine::Open(_) => "Open",
            SourceLine::Saved(_) => "Saved",
            SourceLine::Found(_) => "Found on this machine",
            SourceLine::Demo(_) => "To try things on",
        }
    }
}

/// The view.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Sources {
    /// The marked line.
    pub at: usize,
    /// The form, while it is open.
    pub form: Option<Form>,
    /// Whether removing the marked line is asked about.
    pub removing: bool,
    /// The settings as they were read when the view was opened or changed.
    pub settings: Settings,
}

impl App {
    /// Opens the sources and looks at this machine.
    pub fn open_sources(&mut self) {
        self.open(Sources {
            settings: self.desk.settings(),
            ..Sources::default()
        });
        self.desk.look_for_servers();
    }
}

impl View for Sources {
    fn place(&self, _: &App) -> Place {
        match self.form {
            Some(_) => Place::Form,
            None => Place::Sources,
        }
    }

    fn draw(&mut self, app: &mut App, frame: &mut Frame<'_>, area: Rect) {
        draw::draw(app, frame, area, self);
    }

    fn key(&mut self, app: &mut App, code: KeyCode, control: bool) -> Act {
        let lines = self.lines(app);
        if self.form.is_some() {
            self.form_key(app, code, control);
            return Act::Stay;
        }
        let line = lines.get(self.at).cloned();
        if std::mem::take(&mut self.removing) {
            if matches!(code, KeyCode::Char('y' | 'Y'))
                && let Some(SourceLine::Saved(name)) = line
            {
                let words = format!("{name} is removed from the saved sources.");
                self.change_settings(app, &words, |settings| {
                    settings.sources.remove(&name);
                });
            }
            return Act::Stay;
        }
        match code {
            KeyCode::Esc => return Act::Close,
            KeyCode::Up => self.at = self.at.saturating_sub(1),
            KeyCode::Down => self.at = (self.at + 1).min(lines.len().saturating_sub(1)),
            KeyCode::Home => self.at = 0,
            KeyCode::End => self.at = lines.len().saturating_sub(1),
            KeyCode::Char('n' | 'N') => self.form = Some(Form::of(None, &Saved::default())),
            KeyCode::Char('l' | 'L') => app.desk.look_for_servers(),
            KeyCode::Char('p' | 'P') => {
                let word = if app.desk.practises() {
                    "stop"
                } else {
                    "start"
                };
                app.desk
                    .submit_piece(&format!("/practice {word}"), true, Vec::new());
                app.desk.look_for_servers();
            }
            KeyCode::Enter => return open_line(app, line),
            KeyCode::Char('e' | 'E') => self.change(app, line),
            KeyCode::Char('t' | 'T') => match line {
                Some(SourceLine::Saved(name)) => app.desk.test_source(&name),
                _ => app.desk.say(
                    "T tests a saved source: it logs in and leaves again.",
                    Tone::Plain,
                ),
            },
            KeyCode::Char('x' | 'X') => match line {
                Some(SourceLine::Saved(name)) => {
                    self.removing = true;
                    app.desk.say(
                        format!("Y removes {name} from the saved sources; any other key keeps it."),
                        Tone::Care,
                    );
                }
                Some(SourceLine::Open(number)) => {
                    app.desk.go_to(number);
                    app.close_views();
                    app.submit("/close");
                    return Act::Close;
                }
                _ => app.desk.say(
                    "Only a saved or an open source can be taken away.",
                    Tone::Plain,
                ),
            },
            _ => {}
        }
        Act::Stay
    }

    fn scroll(&mut self, app: &mut App, by: isize) {
        let code = if by > 0 { KeyCode::Down } else { KeyCode::Up };
        self.key(app, code, false);
    }

    fn click(&mut self, app: &mut App, at: Position) -> Act {
        match app.spots.line(at.y).filter(|_| self.form.is_none()) {
            Some(place) if place == self.at => return self.key(app, KeyCode::Enter, false),
            Some(place) => self.at = place,
            None => {}
        }
        Act::Stay
    }

    fn paste(&mut self, _: &mut App, line: &str) -> bool {
        let Some(form) = &mut self.form else {
            return false;
        };
        if FIELDS[form.at].words.is_empty() {
            form.values[form.at].push_str(line);
        }
        true
    }
}

impl Sources {
    /// The lines of the view.
    pub fn lines(&self, app: &App) -> Vec<SourceLine> {
        let mut lines: Vec<SourceLine> = app
            .desk
            .sessions()
            .map(|s| SourceLine::Open(s.number()))
            .collect();
        let saved = self.settings.sources.keys();
        lines.extend(saved.map(|name| SourceLine::Saved(name.clone())));
        lines.extend((0..app.desk.found().0.len()).map(SourceLine::Found));
        lines.extend(["demo", "demo-docs"].map(SourceLine::Demo));
        lines
    }

    /// Opens the form of a saved source, or of one that was found.
    fn change(&mut self, app: &mut App, line: Option<SourceLine>) {
        match line {
            Some(SourceLine::Saved(name)) => {
                let saved = self
                    .settings
                    .sources
                    .get(&name)
                    .cloned()
                    .unwrap_or_default();
                self.form = Some(Form::of(Some(&name), &saved));
            }
            Some(SourceLine::Found(at)) => {
                let address = app.desk.found().0.get(at).map(|f| f.address.clone());
                let saved = Saved {
                    address: address.unwrap_or_default(),
                    ..Saved::default()
                };
                self.form = Some(Form::of(None, &saved));
            }
            _ => app.desk.say(
                "Only a saved source can be changed; N makes a new one.",
                Tone::Plain,
            ),
        }
    }

    fn form_key(&mut self, app: &mut App, code: KeyCode, control: bool) {
        let Some(form) = &mut self.form else {
            return;
        };
        let free = FIELDS[form.at].words.is_empty();
        match code {
            KeyCode::Esc => self.form = None,
            KeyCode::Up | KeyCode::BackTab => form.at = form.at.saturating_sub(1),
            KeyCode::Down | KeyCode::Tab => form.at = (form.at + 1).min(FIELDS.len() - 1),
            KeyCode::Left => form.turn(false),
            KeyCode::Right => form.turn(true),
            KeyCode::Char(' ') if !free => form.turn(true),
            KeyCode::Backspace if free => drop(form.values[form.at].pop()),
            KeyCode::Char('u') if control && free => form.values[form.at].clear(),
            KeyCode::Char(character) if !control && free => {
                form.values[form.at].push(character);
                form.wrong.clear();
            }
            KeyCode::Enter => self.save_form(app),
            _ => {}
        }
    }

    fn save_form(&mut self, app: &mut App) {
        let Some(form) = &mut self.form else {
            return;
        };
        let (name, saved) = match form.saved(&self.settings) {
            Ok(saved) => saved,
            Err(words) => {
                form.wrong = words;
                return;
            }
        };
        let mut words = format!("{name} is saved; Enter opens it.");
        // A password that stood in the address goes into the key store, or nowhere.
        if let Ok(source) = Source::parse(form.values[1].trim())
            && form.shown(1) != form.values[1]
            && let Some(password) = source.password()
        {
            words = match saved.keyring {
                Some(true) => match idle_tide_desk::sources::into_keyring(
                    &source.address(),
                    password.expose_secret(),
                ) {
                    Ok(()) => format!("{name} is saved, its password in the system's key store."),
                    Err(error) => format!(
                        "{name} is saved without its password: {error}. It is asked for when you open it."
                    ),
                },
                _ => format!(
                    "{name} is saved without its password; it is asked for when you open it."
                ),
            };
        }
        let before = form.before.clone();
        self.change_settings(app, &words, |settings| {
            if let Some(before) = &before {
                settings.sources.remove(before);
            }
            settings.sources.insert(name.clone(), saved.clone());
        });
        self.form = None;
        let marked = SourceLine::Saved(name);
        let place = self.lines(app).iter().position(|line| *line == marked);
        self.at = place.unwrap_or(0);
    }

    /// Changes the settings file as it is now, and says so.
    fn change_settings(&mut self, app: &mut App, words: &str, change: impl Fn(&mut Settings)) {
        let Some(path) = app.settings.clone() else {
            app.desk.say(
                "There is no home directory to keep sources in. Set HOME.",
                Tone::Danger,
            );
            return;
        };
        match Settings::change(&path, change) {
            Ok(settings) => {
                self.settings = settings;
                app.desk.say(words, Tone::Active);
                app.desk.look_for_servers();
            }
            Err(words) => app.desk.say(words, Tone::Danger),
        }
    }
}

/// Opens a source, or goes to it.
fn open_line(app: &mut App, line: Option<SourceLine>) -> Act {
    let Some(line) = line else {
        return Act::Stay;
    };
    app.close_views();
    match line {
        SourceLine::Open(number) => {
            app.desk.go_to(number);
            app.desk
                .say(format!("This is {}.", app.desk.source()), Tone::Plain);
        }
        SourceLine::Saved(name) => app.submit(&format!("/open {name}")),
        SourceLine::Demo(name) => app.submit(&format!("/open {name}")),
        SourceLine::Found(at) => {
            // The user's name has to be said; the system's is a first guess.
            if let Some(found) = app.desk.found().0.get(at) {
                let user = idle_tide_engines::address::system_user();
                let text = found.address.replacen("://", &format!("://{user}@"), 1);
                app.composer.set(&format!("/open {text}"));
                app.focus = Focus::Write;
                app.desk.say(
                    "Enter opens it; change the user first if you are another one there.",
                    Tone::Plain,
                );
            }
        }
    }
    Act::Close
}
