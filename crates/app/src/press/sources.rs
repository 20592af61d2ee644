//! What keys do in the sources, and while something is asked with hidden input.

use idle_tide_desk::Wanted;
use idle_tide_desk::settings::{Saved, Settings};
use idle_tide_engines::Source;
use secrecy::{ExposeSecret, SecretString, zeroize::Zeroize};

use super::*;
use crate::sources::{FIELDS, Form, SourceLine, Sources};

impl App {
    fn view(&mut self) -> Option<&mut Sources> {
        match &mut self.over {
            Over::Sources(view) => Some(view),
            _ => None,
        }
    }

    pub(super) fn sources_key(&mut self, code: KeyCode, control: bool) {
        let lines = self.source_lines();
        let Some(view) = self.view() else { return };
        if view.form.is_some() {
            return self.form_key(code, control);
        }
        let line = lines.get(view.at).cloned();
        if std::mem::take(&mut view.removing) {
            if matches!(code, KeyCode::Char('y' | 'Y'))
                && let Some(SourceLine::Saved(name)) = line
            {
                self.change_settings(
                    &format!("{name} is removed from the saved sources."),
                    |settings| {
                        settings.sources.remove(&name);
                    },
                );
            }
            return;
        }
        match code {
            KeyCode::Esc => self.over = Over::Nothing,
            KeyCode::Up => view.at = view.at.saturating_sub(1),
            KeyCode::Down => view.at = (view.at + 1).min(lines.len().saturating_sub(1)),
            KeyCode::Home => view.at = 0,
            KeyCode::End => view.at = lines.len().saturating_sub(1),
            KeyCode::Char('n' | 'N') => view.form = Some(Form::of(None, &Saved::default())),
            KeyCode::Char('l' | 'L') => self.desk.look_for_servers(),
            KeyCode::Enter => self.open_line(line),
            KeyCode::Char('e' | 'E') => match line {
                Some(SourceLine::Saved(name)) => {
                    let saved = view
                        .settings
                        .sources
                        .get(&name)
                        .cloned()
                        .unwrap_or_default();
                    view.form = Some(Form::of(Some(&name), &saved));
                }
                Some(SourceLine::Found(at)) => {
                    let address = self.desk.found().0.get(at).map(|f| f.address.clone());
                    let saved = Saved {
                        address: address.unwrap_or_default(),
                        ..Saved::default()
                    };
                    if let Some(view) = self.view() {
                        view.form = Some(Form::of(None, &saved));
                    }
                }
                _ => self.desk.say(
                    "Only a saved source can be changed; N makes a new one.",
                    Tone::Plain,
                ),
            },
            KeyCode::Char('t' | 'T') => match line {
                Some(SourceLine::Saved(name)) => self.desk.test_source(&name),
                _ => self.desk.say(
                    "T tests a saved source: it logs in and leaves again.",
                    Tone::Plain,
                ),
            },
            KeyCode::Char('x' | 'X') => match line {
                Some(SourceLine::Saved(name)) => {
                    view.removing = true;
                    self.desk.say(
                        format!("Y removes {name} from the saved sources; any other key keeps it."),
                        Tone::Care,
                    );
                }
                Some(SourceLine::Open(number)) => {
                    self.desk.go_to(number);
                    self.over = Over::Nothing;
                    self.submit("/close");
                }
                _ => self.desk.say(
                    "Only a saved or an open source can be taken away.",
                    Tone::Plain,
                ),
            },
            _ => {}
        }
    }

    pub(super) fn open_line(&mut self, line: Option<SourceLine>) {
        let Some(line) = line else { return };
        self.over = Over::Nothing;
        match line {
            SourceLine::Open(number) => {
                self.desk.go_to(number);
                self.desk
                    .say(format!("This is {}.", self.desk.source()), Tone::Plain);
            }
            SourceLine::Saved(name) => self.submit(&format!("/open {name}")),
            SourceLine::Demo(name) => self.submit(&format!("/open {name}")),
            SourceLine::Found(at) => {
                // The user's name has to be said; the system's is a first guess.
                if let Some(found) = self.desk.found().0.get(at) {
                    let user = idle_tide_engines::address::system_user();
                    let text = found.address.replacen("://", &format!("://{user}@"), 1);
                    self.composer.set(&format!("/open {text}"));
                    self.focus = Focus::Write;
                    self.desk.say(
                        "Enter opens it; change the user first if you are another one there.",
                        Tone::Plain,
                    );
                }
            }
        }
    }

    fn form_key(&mut self, code: KeyCode, control: bool) {
        let Some(form) = self.view().and_then(|view| view.form.as_mut()) else {
            return;
        };
        let free = FIELDS[form.at].words.is_empty();
        match code {
            KeyCode::Esc => {
                if let Some(view) = self.view() {
                    view.form = None;
                }
            }
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
            KeyCode::Enter => self.save_form(),
            _ => {}
        }
    }

    fn save_form(&mut self) {
        let Some(view) = self.view() else { return };
        let Some(form) = view.form.clone() else {
            return;
        };
        let (name, saved) = match form.saved(&view.settings) {
            Ok(saved) => saved,
            Err(words) => {
                if let Some(form) = &mut view.form {
                    form.wrong = words;
                }
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
        self.change_settings(&words, |settings| {
            if let Some(before) = &before {
                settings.sources.remove(before);
            }
            settings.sources.insert(name.clone(), saved.clone());
        });
        let lines = self.source_lines();
        if let Some(view) = self.view() {
            view.form = None;
            view.at = lines
                .iter()
                .position(|line| *line == SourceLine::Saved(name.clone()))
                .unwrap_or(0);
        }
    }

    /// Changes the settings file as it is now, and says so.
    fn change_settings(&mut self, words: &str, change: impl Fn(&mut Settings)) {
        let Some(path) = self.settings.clone() else {
            self.desk.say(
                "There is no home directory to keep sources in. Set HOME.",
                Tone::Danger,
            );
            return;
        };
        match Settings::change(&path, change) {
            Ok(settings) => {
                if let Some(view) = self.view() {
                    view.settings = settings;
                }
                self.desk.say(words, Tone::Active);
                self.desk.look_for_servers();
            }
            Err(words) => self.desk.say(words, Tone::Danger),
        }
    }

    /// A key while something is asked with hidden input, or to be allowed.
    pub(super) fn hidden_key(&mut self, code: KeyCode, control: bool) {
        let before = self.desk.entries().len();
        let typed = (self.desk.asking()).is_some_and(|asking| asking.wanted != Wanted::Consent);
        let leaves = code == KeyCode::Esc || control && matches!(code, KeyCode::Char('c' | 'd'));
        match (typed, code) {
            (true, _) if leaves => {
                self.hidden.zeroize();
                self.desk.answer_secret(None);
            }
            (true, KeyCode::Enter) => {
                let given = SecretString::from(std::mem::take(&mut self.hidden));
                self.desk.answer_secret(Some(given));
            }
            (true, KeyCode::Backspace) => drop(self.hidden.pop()),
            (true, KeyCode::Char('u')) if control => self.hidden.zeroize(),
            (true, KeyCode::Char(character)) if !control => self.hidden.push(character),
            (false, KeyCode::Char('y' | 'Y')) if !control => self.desk.answer_allow(true),
            (false, _) if leaves || matches!(code, KeyCode::Char('n' | 'N')) => {
                self.desk.answer_allow(false)
            }
            _ => {}
        }
        self.settle(before);
    }
}
