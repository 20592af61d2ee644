//! Where results go: standard output, a file, a file for each; and the first rows only, where that was asked for.

use std::io::{self, Write};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use idle_tide_core::{Column, RowBatch};
use idle_tide_desk::export::{Replacing, Results, Streaming};
use idle_tide_engines::{Outcome, Sink};

/// Where results go: shared by the threads that write.
#[derive(Clone)]
pub(super) struct Output(pub(super) Arc<Mutex<Writing>>);

pub(super) struct Writing {
    pub(super) target: Target,
    /// Whether something of the present result was written, and whether another one begins with what is written next.
    pub(super) begun: bool,
    pub(super) another: bool,
    /// Whether one file cannot hold two results.
    pub(super) one_each: bool,
    /// Bytes so far.
    pub(super) bytes: u64,
}

pub(super) enum Target {
    Standard(Box<dyn Write + Send>),
    File(Box<Option<Replacing>>),
    /// A file for each result: how they are named, whether files that are there are replaced, and the one that is written.
    Numbered(Numbered),
}

pub(super) struct Numbered {
    pub(super) pattern: String,
    pub(super) replace: bool,
    pub(super) number: u32,
    pub(super) file: Option<Box<Replacing>>,
}

impl Numbered {
    /// The file of the next result.
    pub(super) fn next(&mut self) -> io::Result<()> {
        self.end()?;
        self.number += 1;
        let name = self.pattern.replace("{n}", &self.number.to_string());
        let path = Path::new(&name);
        if !self.replace && path.is_file() {
            return Err(io::Error::other(format!(
                "{name} is there already; --replace writes it anew"
            )));
        }
        self.file = Some(Box::new(Replacing::begin(path)?));
        Ok(())
    }

    /// Puts the file of a result that is whole in its place.
    pub(super) fn end(&mut self) -> io::Result<()> {
        match self.file.take() {
            Some(file) => file.commit().map(drop),
            None => Ok(()),
        }
    }
}

impl Output {
    pub(super) fn lock(&self) -> std::sync::MutexGuard<'_, Writing> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Writing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let starts = std::mem::take(&mut self.another);
        if starts && self.begun && self.one_each && !matches!(self.target, Target::Numbered(_)) {
            return Err(io::Error::other(
                "a file of this format holds one result; with {n} in the name of --output each gets its own",
            ));
        }
        let count = match &mut self.target {
            Target::Standard(out) => out.write(bytes)?,
            Target::File(file) => match &mut **file {
                Some(file) => file.write(bytes)?,
                None => return Err(io::ErrorKind::BrokenPipe.into()),
            },
            Target::Numbered(files) => {
                if starts || files.file.is_none() {
                    files.next()?;
                }
                match &mut files.file {
                    Some(file) => file.write(bytes)?,
                    None => return Err(io::ErrorKind::BrokenPipe.into()),
                }
            }
        };
        self.begun = true;
        self.bytes += count as u64;
        Ok(count)
    }
}

impl Write for Output {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if bytes.is_empty() {
            return Ok(0);
        }
        self.lock().write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        match &mut self.lock().target {
            Target::Standard(out) => out.flush(),
            Target::File(file) => file.as_mut().as_mut().map_or(Ok(()), Write::flush),
            Target::Numbered(files) => files.file.as_mut().map_or(Ok(()), Write::flush),
        }
    }
}

impl Results for Output {
    fn another(&mut self) -> io::Result<()> {
        self.lock().another = true;
        Ok(())
    }

    fn apart(&mut self) -> io::Result<()> {
        let mut writing = self.lock();
        match writing.target {
            Target::Numbered(_) => Ok(()),
            _ => writing.write(b"\n").map(drop),
        }
    }
}

/// Lets through the first rows only.
pub(super) struct First {
    pub(super) inner: Streaming,
    pub(super) left: Option<u64>,
    pub(super) remarks: Arc<Mutex<Vec<String>>>,
    pub(super) drains: Arc<AtomicBool>,
}

/// The words by which the end of a limited result is known.
pub(super) const LIMITED: &str = "the first rows are enough";

impl Sink for First {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.inner.columns(columns)
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        let Some(left) = &mut self.left else {
            return self.inner.rows(batch);
        };
        let count = batch.len() as u64;
        if count <= *left {
            *left -= count;
            return self.inner.rows(batch);
        }
        let first = usize::try_from(std::mem::take(left)).unwrap_or(usize::MAX);
        if first > 0 {
            let mut some = RowBatch::new();
            for row in batch.rows().take(first) {
                match row.document() {
                    Some(document) => some.push_document(document),
                    None => some.push_row(row.values()),
                }
            }
            self.inner.rows(some)?;
        }
        if self.drains.load(Ordering::Relaxed) {
            return Ok(());
        }
        self.end()?;
        Err(io::Error::other(LIMITED))
    }

    fn bytes(&mut self, part: &[u8]) -> io::Result<bool> {
        self.inner.bytes(part)
    }

    fn another(&mut self, before: Outcome) -> io::Result<()> {
        self.inner.another(before)
    }

    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.inner.more_columns(columns)
    }

    fn end(&mut self) -> io::Result<()> {
        self.inner.end()?;
        let remarks = std::mem::take(&mut self.inner.written.remarks);
        let mut all = self.remarks.lock().unwrap_or_else(PoisonError::into_inner);
        all.extend(remarks);
        Ok(())
    }
}

/// Standard output without the line buffering of [`io::Stdout`], so that exact bytes go out in large parts.
pub(super) struct RawOut;

impl Write for RawOut {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut out = io::stdout().lock();
        out.write_all(bytes)?;
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        io::stdout().flush()
    }
}
