//! The catalog in columns: move, narrow, open to the right, act. Where it was left it opens again.

mod draw;
pub mod state;

use crossterm::event::KeyCode;
use idle_tide_desk::Tone;
use idle_tide_lang::command::quoted;
use idle_tide_lang::join;
use ratatui::Frame;
use ratatui::layout::{Position, Rect};

use super::view::{Act, View};
use crate::app::{App, Focus};
use crate::keys::Place;
use state::{Action, Entry, Part, Shelf};

/// The view; its state is kept while it is closed.
#[derive(Debug, Clone, Copy)]
pub struct Columns;

impl View for Columns {
    fn place(&self, app: &App) -> Place {
        match app.catalog.actions {
            Some(_) => Place::Actions,
            None => Place::Catalog,
        }
    }

    fn draw(&mut self, app: &mut App, frame: &mut Frame<'_>, area: Rect) {
        draw::draw(app, frame, area);
    }

    fn key(&mut self, app: &mut App, code: KeyCode, control: bool) -> Act {
        app.catalog_key(code, control)
    }

    fn scroll(&mut self, app: &mut App, by: isize) {
        app.catalog.step(by);
    }

    fn click(&mut self, app: &mut App, at: Position) -> Act {
        let spot = app
            .spots
            .catalog
            .iter()
            .find(|(_, area, _)| area.contains(at));
        let Some((column, _, at)) = spot.copied() else {
            return Act::Stay;
        };
        let marked = match column {
            0 => app.catalog.shelves.at,
            1 => app.catalog.objects.at,
            _ => app.catalog.parts.at,
        };
        let again = app.catalog.focus == column && marked == at;
        app.catalog.focus = column;
        app.catalog.step(at as isize - marked as isize);
        match again {
            true => app.catalog_key(KeyCode::Enter, false),
            false => Act::Stay,
        }
    }

    fn paste(&mut self, app: &mut App, line: &str) -> bool {
        let column = app.catalog.focus;
        app.catalog.typed().push_str(line);
        app.catalog.changed(column);
        true
    }

    fn refresh(&mut self, app: &mut App) {
        app.refresh_catalog();
    }
}

impl App {
    /// Opens the catalog view where it was left.
    pub fn open_catalog(&mut self) {
        if self.desk.session().is_nowhere() {
            self.desk
                .say("No source is open. F9 shows which there are.", Tone::Care);
            return;
        }
        self.open(Columns);
        self.refresh_catalog();
    }

    /// Gives the view the catalog as it is now.
    pub(crate) fn refresh_catalog(&mut self) {
        let session = self.desk.session();
        let (number, catalog) = (session.number(), std::sync::Arc::clone(self.desk.catalog()));
        let ties = std::sync::Arc::clone(session.ties());
        self.catalog.take(number, &catalog, &ties);
    }

    fn catalog_key(&mut self, code: KeyCode, control: bool) -> Act {
        if let Some(at) = self.catalog.actions {
            let actions = self.catalog_actions();
            let last = actions.len() - 1;
            match code {
                KeyCode::Up => self.catalog.actions = Some(at.saturating_sub(1)),
                KeyCode::Down => self.catalog.actions = Some((at + 1).min(last)),
                KeyCode::Esc => self.catalog.actions = None,
                KeyCode::Enter | KeyCode::Char(' ') => {
                    self.catalog.actions = None;
                    match actions[at].1 {
                        Action::Run(command) => self.act(command),
                        Action::Copy => self.copy_marked(),
                    }
                }
                _ => {}
            }
            return Act::Stay;
        }
        let column = self.catalog.focus;
        match code {
            KeyCode::Esc if !self.catalog.typed().is_empty() => {
                self.catalog.typed().clear();
                self.catalog.changed(column);
            }
            KeyCode::Esc => return Act::Close,
            KeyCode::Left => self.catalog.focus = column.saturating_sub(1),
            KeyCode::Right => {
                let open = match column {
                    0 => self.catalog.objects.items().next().is_some(),
                    1 => self.catalog.parts.items().next().is_some(),
                    _ => false,
                };
                self.catalog.focus += usize::from(open);
            }
            KeyCode::Up => self.catalog.step(-1),
            KeyCode::Down => self.catalog.step(1),
            KeyCode::PageUp => self.catalog.step(-15),
            KeyCode::PageDown => self.catalog.step(15),
            KeyCode::Home => self.catalog.step(isize::MIN / 2),
            KeyCode::End => self.catalog.step(isize::MAX / 2),
            KeyCode::Backspace => {
                self.catalog.typed().pop();
                self.catalog.changed(column);
            }
            KeyCode::Char('u') if control => {
                self.catalog.typed().clear();
                self.catalog.changed(column);
            }
            KeyCode::Char(' ') if !control => {
                let marked = self.catalog.objects.marked();
                match column > 0 && matches!(marked, Some(Entry::Object(_))) {
                    true => self.catalog.actions = Some(0),
                    false => self.enter_catalog(),
                }
            }
            KeyCode::Enter => self.enter_catalog(),
            KeyCode::F(5) => self.desk.refresh_catalog(),
            KeyCode::Char(character) if !control => {
                self.catalog.typed().push(character);
                match column {
                    0 => self.catalog.shelves.at = 0,
                    1 => self.catalog.objects.at = 0,
                    _ => self.catalog.parts.at = 0,
                }
                self.catalog.changed(column);
            }
            _ => {}
        }
        Act::Stay
    }

    /// What can be done with what is marked.
    fn catalog_actions(&self) -> Vec<(&'static str, Action)> {
        let rows = self
            .catalog
            .object()
            .is_some_and(|object| object.has_rows());
        state::actions(self.desk.dialect(), rows)
    }

    /// What can be done with what is marked, each with its command, or with the text that it copies.
    fn catalog_choices(&self) -> Vec<(&'static str, String)> {
        let actions = self.catalog_actions().into_iter();
        let choices = actions.map(|(name, action)| match action {
            Action::Run(command) => (name, command.to_string()),
            Action::Copy => (name, self.marked_in_catalog().unwrap_or_default()),
        });
        choices.collect()
    }

    /// Copies what is marked as it is written in a statement.
    fn copy_marked(&mut self) {
        let Some(text) = self.marked_in_catalog() else {
            return self.desk.say("There is nothing to copy here.", Tone::Plain);
        };
        let what = match text.chars().count() {
            0..=40 => text.clone(),
            _ => "what is marked".to_string(),
        };
        self.copied = Some((text, what));
    }

    /// Runs the command of an action on the marked object.
    fn act(&mut self, command: &str) {
        let Some(object) = self.catalog.object() else {
            return;
        };
        let name = self.catalog.catalog().shortest_name(object);
        // The figures of a column are shown where it is marked.
        let stays = command == "/figures" && self.catalog.focus == 2;
        if !stays {
            self.close_views();
            self.focus = Focus::Read;
        }
        self.command(&format!("{command} {}", quoted(&name)));
    }

    /// How what is marked is written in a statement: a name quoted and with its schema where that is needed, a join, a condition.
    /// Nothing for what has no such text.
    fn marked_in_catalog(&self) -> Option<String> {
        let view = &self.catalog;
        let dialect = self.desk.dialect();
        let named = |name: &str| dialect.quote_name(name);
        let object = view.object();
        let marked = (
            view.focus,
            view.shelves.marked(),
            view.objects.marked(),
            view.parts.marked(),
        );
        Some(match marked {
            (0, Some(Shelf::Schema(name)), ..) => named(name),
            (0, ..) => return None,
            (2, _, _, Some(part)) => match (part, object) {
                (Part::Field(n), Some(object)) => named(&object.fields[*n].name),
                (Part::Index(n), Some(object)) => named(&object.indexes[*n].name),
                (Part::Trigger(n), _) => named(&view.catalog().objects[*n].name),
                (Part::Referring(n), _) => {
                    let from = &view.catalog().objects[view.ties()[*n].from];
                    join::written(from, view.catalog(), dialect)
                }
                (Part::Check(n), Some(object)) => object.checks[*n].condition.clone(),
                (Part::Fact(n), Some(object)) => object.facts[*n].1.clone(),
                _ => return None,
            },
            _ => match object {
                Some(object) if object.kind.is_routine() => {
                    format!("{}(", join::written(object, view.catalog(), dialect))
                }
                Some(object) => join::written(object, view.catalog(), dialect),
                None => return None,
            },
        })
    }

    /// Enter: the name of what is marked goes into the statement; another database is gone to.
    fn enter_catalog(&mut self) {
        let view = &self.catalog;
        match (view.focus, view.shelves.marked(), view.objects.marked()) {
            (_, Some(Shelf::Other(name)), _) => {
                let command = format!("/use {}", quoted(name));
                self.close_views();
                return self.command(&command);
            }
            (1, _, Some(Entry::Role(at))) => {
                let command = format!("/access {}", quoted(&view.catalog().roles[*at]));
                self.close_views();
                self.focus = Focus::Read;
                return self.command(&command);
            }
            _ => {}
        }
        let Some(text) = self.marked_in_catalog() else {
            if self.catalog.focus == 0 {
                self.catalog.focus = 1;
            }
            return;
        };
        self.close_views();
        self.focus = Focus::Write;
        let before = &self.composer.text()[..self.composer.cursor()];
        let glued = before
            .chars()
            .next_back()
            .is_some_and(|c| c.is_alphanumeric() || c == '_');
        let text = if glued { format!(" {text}") } else { text };
        self.composer.insert(&text);
    }
}
