//! Pictures without a screen: a sink that keeps the rows of a result and draws them when the last is there.

use std::io;

use idle_tide_core::{Column, RowBatch};
use idle_tide_desk::across::Keep;
use idle_tide_desk::chart::PAPER;
use idle_tide_desk::drawing::{Told, as_asked};
use idle_tide_desk::export::Results;
use idle_tide_engines::{Outcome, Sink};

/// How a picture is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// As lines of text.
    Text,
    /// As an SVG document.
    Svg,
    /// As a PDF document.
    Pdf,
}

impl Form {
    /// The form that the name of a file asks for.
    pub fn of_file(name: &str) -> Option<Self> {
        let (_, ending) = name.rsplit_once('.')?;
        match ending.to_ascii_lowercase().as_str() {
            "svg" => Some(Form::Svg),
            "pdf" => Some(Form::Pdf),
            "txt" | "text" => Some(Form::Text),
            _ => None,
        }
    }

    /// Whether a file holds no more than one picture.
    pub fn is_a_document(self) -> bool {
        self != Form::Text
    }
}

/// Draws each result.
pub struct Picture<R: Results> {
    /// What was asked for: the arguments of `/chart`.
    asked: String,
    told: Told,
    form: Form,
    out: R,
    rows: Keep,
}

impl<R: Results> Picture<R> {
    /// Draws what comes from there to `out`.
    pub fn new(asked: &str, told: Told, form: Form, out: R) -> Self {
        Picture {
            asked: asked.to_string(),
            told,
            form,
            out,
            rows: Keep::default(),
        }
    }

    fn draw(&mut self) -> io::Result<()> {
        if !std::mem::take(&mut self.rows.begun) {
            return Ok(());
        }
        let failed = |words: String| io::Error::new(io::ErrorKind::InvalidInput, words);
        let scene = as_asked(&self.rows.set, &self.told, &self.asked, PAPER).map_err(failed)?;
        self.out.another()?;
        match self.form {
            Form::Text => self.out.write_all(scene.text().as_bytes()),
            Form::Svg => self.out.write_all(scene.svg().as_bytes()),
            Form::Pdf => {
                let pdf = idle_tide_draw::pdf::of_svg(&scene.svg());
                let pdf = pdf.map_err(|error| io::Error::other(error.to_string()))?;
                self.out.write_all(&pdf)
            }
        }
    }
}

impl<R: Results> Sink for Picture<R> {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.rows.columns(columns)
    }

    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.rows.more_columns(columns)
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        self.rows.rows(batch)
    }

    fn another(&mut self, _: Outcome) -> io::Result<()> {
        self.draw()
    }

    fn end(&mut self) -> io::Result<()> {
        self.draw()?;
        self.out.flush()
    }
}
