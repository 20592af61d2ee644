//! Results into files: written beside their place and moved there whole, so that a failure leaves the
//! old file; and rows streamed to an output while they are read.

use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::JoinHandle;

use idle_tide_core::order::each_row;
use idle_tide_core::{Column, RowBatch, ValueRef};
use idle_tide_draw::export::{Layout, writer};
use idle_tide_draw::picture::{bytes, counted, grouped};
use idle_tide_engines::{Outcome, Sink};

use crate::covering::WORD;
use crate::links::Links;
pub use crate::replacing::Replacing;
use crate::sheet::{Sheet, read};

/// Rows whose values are looked at for secrets before the result is written.
const LOOKED_AT: u64 = 200;

/// `~/` at the start of a path stands for the home directory.
pub fn expand(path: &str) -> PathBuf {
    match (path.strip_prefix("~/"), std::env::var_os("HOME")) {
        (Some(rest), Some(home)) => Path::new(&home).join(rest),
        _ => PathBuf::from(path),
    }
}

/// Writes the shown rows and columns of a sheet to a file, until it is `stopped`; answers in words what was written,
/// or why not.
///
/// # Errors
/// In words; the file that was there before stays.
pub fn export(
    sheet: &Sheet,
    path: &Path,
    layout: Layout,
    stopped: &dyn Fn() -> bool,
) -> Result<String, String> {
    let existed = path.exists();
    let failed = |error: io::Error| {
        let stays = if existed {
            " The file that was there is unchanged."
        } else {
            ""
        };
        format!("{} was not written: {error}.{stays}", path.display())
    };
    let mut file = Replacing::begin(path).map_err(failed)?;
    let rows = write_sheet(sheet, layout, &mut file, stopped).map_err(failed)?;
    let size = file.commit().map_err(failed)?;
    let all = read(&sheet.set).len();
    let part = if rows < all {
        format!(" of {}", grouped(all))
    } else {
        String::new()
    };
    let replaced = if existed {
        ", replacing the file that was there"
    } else {
        ""
    };
    let covered = covered_names(sheet);
    let covered = match covered.is_empty() {
        true => String::new(),
        false => format!(
            "; {} is covered in it, --revealed writes it",
            covered.join(", ")
        ),
    };
    Ok(format!(
        "{}{part} as {}, {}, in {}{replaced}{covered}",
        counted(rows, "row"),
        layout.format.label,
        bytes(size),
        path.display()
    ))
}

/// The columns whose values are covered: by their names, and those of which one of the first values has the look.
fn covered_in(sheet: &Sheet) -> Vec<usize> {
    let mut covered = sheet.covered_columns();
    let set = read(&sheet.set);
    for row in 0..set.len().min(LOOKED_AT) {
        let Ok((batch, within)) = set.locate(row) else {
            break;
        };
        for (column, value) in batch.row(within).values().enumerate() {
            if sheet.covers(column, value) && !covered.contains(&column) {
                covered.push(column);
            }
        }
    }
    covered
}

/// The shown columns whose values are covered.
fn covered_names(sheet: &Sheet) -> Vec<String> {
    let covered = covered_in(sheet);
    let shown = sheet.view.columns.iter().filter(|at| covered.contains(at));
    shown.map(|at| sheet.labels[*at].clone()).collect()
}

/// The names and endings under which a drawing is written.
pub const DRAWINGS: &[&str] = &["svg", "pdf", "text", "txt"];

/// Writes a drawing to a file in one of the formats of [`DRAWINGS`]; answers in words what was written.
///
/// # Errors
/// In words; the file that was there before stays.
pub fn export_drawing(links: &Links, path: &Path, format: &str) -> Result<String, String> {
    let title = links.title();
    let (name, content) = match format {
        "svg" => ("SVG", links.drawing.svg(&title).into_bytes()),
        "pdf" => {
            let svg = links.drawing.svg(&title);
            let made = idle_tide_draw::pdf::of_svg(&svg).map_err(|error| error.to_string())?;
            ("PDF", made)
        }
        _ => ("text", links.page().text().into_bytes()),
    };
    let failed = |error: io::Error| format!("{} was not written: {error}.", path.display());
    let mut file = Replacing::begin(path).map_err(failed)?;
    file.write_all(&content).map_err(failed)?;
    let size = file.commit().map_err(failed)?;
    Ok(format!(
        "The drawing as {name}, {}, in {}",
        bytes(size),
        path.display()
    ))
}

/// Writes the shown rows and columns of a sheet, until it is `stopped`; answers the number of rows.
///
/// # Errors
/// Those of the output and of the spill file, and that it was stopped.
pub fn write_sheet(
    sheet: &Sheet,
    layout: Layout,
    out: &mut dyn Write,
    stopped: &dyn Fn() -> bool,
) -> io::Result<u64> {
    let set = read(&sheet.set);
    let columns: Vec<Column> = sheet
        .view
        .columns
        .iter()
        .map(|at| set.columns()[*at].clone())
        .collect();
    let mut writer = writer(layout, out);
    writer.columns(&columns)?;
    let covered = covered_in(sheet);
    let natural = covered.is_empty()
        && sheet
            .view
            .columns
            .iter()
            .copied()
            .eq(0..set.columns().len());
    let mut count = 0;
    if natural && sheet.view.rows.is_none() {
        for at in 0..set.batches() {
            if stopped() {
                return Err(io::Error::other("it was stopped"));
            }
            let (_, batch) = set.batch(at)?;
            writer.rows(&batch)?;
            count += batch.len() as u64;
        }
    } else {
        let rows = sheet.view.rows.as_ref().map(|rows| rows.as_slice());
        let mut failed = Ok(());
        each_row(&set, rows, stopped, &mut |_, row| {
            let values: Vec<_> = row.values().collect();
            let mut chosen = RowBatch::new();
            let value = |at: &usize| match covered.contains(at) && !values[*at].is_null() {
                true => ValueRef::Text(WORD),
                false => values[*at],
            };
            chosen.push_row(sheet.view.columns.iter().map(value));
            failed = writer.row(chosen.row(0));
            count += 1;
            failed.is_ok()
        })?;
        failed?;
    }
    writer.finish()?;
    Ok(count)
}

enum Message {
    /// Another result begins.
    Another,
    Columns(Vec<Column>),
    More(Vec<Column>),
    Rows(RowBatch),
    /// Bytes that are written as they are.
    Bytes(Vec<u8>),
}

/// A sink that formats and writes in a thread of its own while the engine reads on.
pub struct Streaming {
    sender: Option<SyncSender<Message>>,
    thread: Option<JoinHandle<io::Result<u64>>>,
    /// Whether bytes that a server copies out are written as they are: where no format for programs was asked for.
    as_sent: bool,
    /// Rows written, once it ended.
    pub rows: u64,
}

impl Streaming {
    /// Writes in `layout` to `out`.
    pub fn new(layout: Layout, out: impl Write + Send + 'static) -> Self {
        // Few batches wait between the two threads: memory stays small.
        let (sender, receiver) = sync_channel(8);
        Streaming {
            sender: Some(sender),
            thread: Some(std::thread::spawn(move || {
                write_all(layout, out, &receiver)
            })),
            rows: 0,
            as_sent: layout.format.for_people,
        }
    }

    fn send(&mut self, message: Message) -> io::Result<()> {
        let sent = match &self.sender {
            Some(sender) => sender.send(message),
            None => return Err(io::ErrorKind::BrokenPipe.into()),
        };
        match sent {
            Ok(()) => Ok(()),
            // The writer ended early: its error says why.
            Err(_) => self.finish(),
        }
    }

    fn finish(&mut self) -> io::Result<()> {
        self.sender = None;
        if let Some(thread) = self.thread.take() {
            self.rows = thread
                .join()
                .map_err(|_| io::Error::other("the writing thread failed"))??;
        }
        Ok(())
    }
}

fn write_all(layout: Layout, mut out: impl Write, inbox: &Receiver<Message>) -> io::Result<u64> {
    let mut made = writer(layout, &mut out);
    let mut columns = false;
    let mut rows = 0;
    for message in inbox {
        match message {
            Message::Another => {
                made.finish()?;
                drop(made);
                if layout.format.for_people {
                    out.write_all(b"\n")?;
                }
                made = writer(layout, &mut out);
            }
            Message::Columns(list) => {
                made.columns(&list)?;
                columns = true;
            }
            Message::More(list) => made.more_columns(&list),
            Message::Bytes(bytes) => {
                drop(made);
                out.write_all(&bytes)?;
                made = writer(layout, &mut out);
            }
            Message::Rows(batch) => {
                rows += batch.len() as u64;
                made.rows(&batch)?;
            }
        }
    }
    if columns {
        made.finish()?;
    }
    Ok(rows)
}

impl Sink for Streaming {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.send(Message::Columns(columns))
    }

    fn bytes(&mut self, part: &[u8]) -> io::Result<bool> {
        if self.as_sent && !part.is_empty() {
            self.send(Message::Bytes(part.to_vec()))?;
        }
        Ok(self.as_sent)
    }

    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.send(Message::More(columns))
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        self.send(Message::Rows(batch))
    }

    fn another(&mut self, _: Outcome) -> io::Result<()> {
        self.send(Message::Another)
    }

    fn end(&mut self) -> io::Result<()> {
        self.finish()
    }
}
