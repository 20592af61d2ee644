//! Views that lie over the desk. Each is a file with its state, its drawing and what its keys do; its hints come
//! from its rows in the table of keys. They stand on a stack, the one in front last.

use std::fmt::Debug;

use crossterm::event::KeyCode;
use ratatui::Frame;
use ratatui::layout::{Position, Rect};

use crate::app::App;
use crate::keys::Place;

/// What becomes of a view after a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Act {
    /// It stays.
    Stay,
    /// It goes; what was behind it is in front.
    Close,
}

/// A view that lies over the desk.
pub trait View: Debug {
    /// Which rows of the table of keys are its.
    fn place(&self, app: &App) -> Place;

    /// Draws it. One that is about the entry has the entry line above it.
    fn draw(&mut self, app: &mut App, frame: &mut Frame<'_>, area: Rect);

    /// Takes a key.
    fn key(&mut self, app: &mut App, code: KeyCode, control: bool) -> Act;

    /// Scrolls by so many lines.
    fn scroll(&mut self, app: &mut App, by: isize);

    /// Takes a click of the mouse.
    fn click(&mut self, _app: &mut App, _at: Position) -> Act {
        Act::Stay
    }

    /// Takes the first line of what was pasted, if something can be typed here; answers whether it did.
    fn paste(&mut self, _app: &mut App, _line: &str) -> bool {
        false
    }

    /// Whether it shows a part of the current entry.
    fn is_about_entry(&self) -> bool {
        false
    }

    /// Whether it goes when another entry comes.
    fn goes_with_entry(&self) -> bool {
        self.is_about_entry()
    }

    /// Something happened in the session.
    fn refresh(&mut self, _app: &mut App) {}
}

/// The views over the desk, the one in front last.
#[derive(Debug, Default)]
pub struct Stack {
    list: Vec<Box<dyn View>>,
    /// Whether all were closed while the one in front was at work.
    closed: bool,
}

impl App {
    /// The views over the desk, the one in front last.
    pub fn views(&self) -> &[Box<dyn View>] {
        &self.stack.list
    }

    /// Where the keys of the view in front act; `None` where nothing lies over the desk.
    pub fn in_front(&self) -> Option<Place> {
        self.stack.list.last().map(|view| view.place(self))
    }

    /// Whether nothing lies over the desk.
    pub fn is_bare(&self) -> bool {
        self.stack.list.is_empty()
    }

    /// Puts a view in front.
    pub fn open(&mut self, view: impl View + 'static) {
        let place = view.place(self);
        let mut others = std::mem::take(&mut self.stack.list);
        others.retain(|other| other.place(self) != place);
        others.push(Box::new(view));
        self.stack.list = others;
    }

    /// Closes the view in front.
    pub(crate) fn close_view(&mut self) {
        self.stack.list.pop();
    }

    /// Closes every view.
    pub(crate) fn close_views(&mut self) {
        self.stack.list.clear();
        self.stack.closed = true;
    }

    /// Closes those views that show something of an entry that is current no more.
    pub(crate) fn close_views_of_entry(&mut self) {
        self.stack.list.retain(|view| !view.goes_with_entry());
    }

    /// Lets the view in front do something; `None` if there is none.
    pub(crate) fn with_view<R>(
        &mut self,
        work: impl FnOnce(&mut dyn View, &mut App) -> (R, Act),
    ) -> Option<R> {
        let mut view = self.stack.list.pop()?;
        let depth = self.stack.list.len();
        self.stack.closed = false;
        let (result, act) = work(&mut *view, self);
        if act == Act::Stay && !self.stack.closed {
            let depth = depth.min(self.stack.list.len());
            self.stack.list.insert(depth, view);
        }
        Some(result)
    }
}

/// A key that opens a view wherever one is, and closes it again.
pub(crate) struct Opens {
    /// The function key.
    pub(crate) key: u8,
    /// The places that it closes.
    pub(crate) closes: &'static [Place],
    /// What it does elsewhere.
    pub(crate) open: fn(&mut App),
}

/// Every view has a row here, and its keys in the table of keys.
pub(crate) static VIEWS: &[Opens] = &[
    Opens {
        key: 1,
        closes: &[Place::Guide],
        open: App::help,
    },
    Opens {
        key: 2,
        closes: &[Place::Catalog, Place::Actions],
        open: App::open_catalog,
    },
    Opens {
        key: 3,
        closes: &[Place::Entries],
        open: |app| app.open_entries(false),
    },
    Opens {
        key: 4,
        closes: &[Place::Record, Place::Document],
        open: App::open_record,
    },
    Opens {
        key: 6,
        closes: &[],
        open: App::links_view,
    },
    Opens {
        key: 7,
        closes: &[],
        open: App::stages_view,
    },
    Opens {
        key: 8,
        closes: &[],
        open: App::chart_view,
    },
    Opens {
        key: 9,
        closes: &[Place::Sources, Place::Form],
        open: App::open_sources,
    },
];
