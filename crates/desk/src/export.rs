//! Results into files: written beside their place and moved there whole, so that a failure leaves the
//! old file; and rows streamed to an output while they are read.

use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::process::{ChildStdin, Command, Stdio};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::JoinHandle;
use std::time::Instant;

use idle_tide_core::order::each_row;
use idle_tide_core::{Column, RowBatch, ValueRef};
use idle_tide_draw::card::Card;
use idle_tide_draw::chart::Scene;
use idle_tide_draw::export::{Layout, writer};
use idle_tide_draw::picture::{bytes, counted, grouped};
use idle_tide_engines::{Outcome, Sink};

use crate::chart::PAPER;
use crate::covering::WORD;
use crate::entry::Entry;
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

/// Who watches rows being written: they may stop it, and are told how far it is.
pub struct Watch<'a> {
    /// Whether it is to stop.
    pub stopped: &'a dyn Fn() -> bool,
    /// Called now and then with the rows written so far and all of them.
    pub tell: &'a dyn Fn(u64, u64),
}

impl Watch<'_> {
    /// Nobody.
    pub const NOBODY: Watch<'static> = Watch {
        stopped: &|| false,
        tell: &|_, _| (),
    };
}

/// Where rows go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// A file, put in its place when it is whole.
    File(PathBuf),
    /// The standard input of a program that the system's shell starts.
    Program(String),
}

/// What was written.
#[derive(Debug, Default)]
pub struct Written {
    /// Rows.
    pub rows: u64,
    /// What is not in it as it was in the rows.
    pub remarks: Vec<String>,
}

/// Writes the shown rows and columns of a sheet to a file or a program; answers in words what was written, or why not.
///
/// # Errors
/// In words; a file that was there before stays.
pub fn export(
    sheet: &Sheet,
    target: &Target,
    layout: Layout,
    watch: &Watch<'_>,
) -> Result<String, String> {
    let label = layout.format.label;
    let started = Instant::now();
    let (written, size, place, end) = match target {
        Target::File(path) => {
            let existed = path.exists();
            let failed = |error: io::Error| {
                let stays = match existed {
                    true => " The file that was there is unchanged.",
                    false => "",
                };
                format!("{} was not written: {error}.{stays}", path.display())
            };
            let mut file = Replacing::begin(path).map_err(failed)?;
            let written = write_sheet(sheet, layout, &mut file, watch).map_err(failed)?;
            let size = file.commit().map_err(failed)?;
            let end = match existed {
                true => ", replacing the file that was there",
                false => "",
            };
            (written, size, path.display().to_string(), end.to_string())
        }
        Target::Program(command) => to_program(sheet, command, layout, watch)?,
    };
    let all = read(&sheet.set).len();
    let part = if written.rows < all {
        format!(" of {}", grouped(all))
    } else {
        String::new()
    };
    let covered = covered_names(sheet);
    let mut more = written.remarks;
    if !covered.is_empty() {
        more.push(format!(
            "{} is covered in it, --revealed writes it",
            covered.join(", ")
        ));
    }
    let more: String = more.iter().map(|words| format!("; {words}")).collect();
    let took = idle_tide_draw::picture::lasting(started.elapsed());
    Ok(format!(
        "{}{part} as {label}, {}, in {place}{end} ({took}){more}",
        counted(written.rows, "row"),
        bytes(size),
    ))
}

/// Gives rows to a program, and its answer in words.
fn to_program(
    sheet: &Sheet,
    command: &str,
    layout: Layout,
    watch: &Watch<'_>,
) -> Result<(Written, u64, String, String), String> {
    let failed = |error: io::Error| format!("{command} could not be given the rows: {error}.");
    let mut answer = tempfile::tempfile().map_err(failed)?;
    let out = || answer.try_clone().map(Stdio::from);
    let mut child = Command::new("sh")
        .args(["-c", command])
        .stdin(Stdio::piped())
        .stdout(out().map_err(failed)?)
        .stderr(out().map_err(failed)?)
        .spawn()
        .map_err(failed)?;
    let mut counted = Counted(child.stdin.take(), 0);
    let written = write_sheet(sheet, layout, &mut counted, watch);
    counted.0 = None;
    if (watch.stopped)() {
        // It has no more to do; that it is gone already is as well.
        let _ = child.kill();
    }
    let ended = child.wait().map_err(failed)?;
    let mut said = Vec::new();
    answer.rewind().map_err(failed)?;
    answer.take(400).read_to_end(&mut said).map_err(failed)?;
    let said = String::from_utf8_lossy(&said);
    let said = match said.trim() {
        "" => String::new(),
        words => format!(" It said: {words}"),
    };
    let written = match written {
        Ok(written) => written,
        // A program may have had enough before the end, which is its own affair.
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe && ended.success() => {
            return Err(format!("{command} did not read all of the rows.{said}"));
        }
        Err(error) => return Err(format!("{}{said}", failed(error))),
    };
    if !ended.success() {
        return Err(format!("{command} failed ({ended}).{said}"));
    }
    Ok((written, counted.1, format!("{command}'s input"), said))
}

/// Counts the bytes on their way to a program.
struct Counted(Option<ChildStdin>, u64);

impl Write for Counted {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let Some(input) = &mut self.0 else {
            return Err(io::ErrorKind::BrokenPipe.into());
        };
        let count = input.write(bytes)?;
        self.1 += count as u64;
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.as_mut().map_or(Ok(()), Write::flush)
    }
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

/// What can be drawn on paper.
pub trait Drawn: Send + Sync {
    /// As an SVG document.
    fn svg(&self) -> String;

    /// As lines of text.
    fn text(&self) -> String;
}

/// The drawing of an entry, as it goes on paper.
pub(crate) fn drawn(entry: &Entry) -> Option<Box<dyn Drawn>> {
    if let Some(links) = entry.links() {
        return Some(Box::new(links.clone()));
    }
    let scene = entry.chart()?.scene(PAPER.0, PAPER.1)?;
    Some(Box::new(scene))
}

impl Drawn for Links {
    fn svg(&self) -> String {
        self.drawing.svg(&self.title())
    }

    fn text(&self) -> String {
        self.page().text()
    }
}

impl Drawn for Card {
    fn svg(&self) -> String {
        Card::svg(self)
    }

    fn text(&self) -> String {
        Card::text(self)
    }
}

impl Drawn for Scene {
    fn svg(&self) -> String {
        Scene::svg(self)
    }

    fn text(&self) -> String {
        Scene::text(self)
    }
}

/// Writes a drawing to a file in one of the formats of [`DRAWINGS`]; answers in words what was written.
///
/// # Errors
/// In words; the file that was there before stays.
pub fn export_drawing(drawn: &dyn Drawn, path: &Path, format: &str) -> Result<String, String> {
    let (name, content) = match format {
        "svg" => ("SVG", drawn.svg().into_bytes()),
        "pdf" => {
            let made = idle_tide_draw::pdf::of_svg(&drawn.svg());
            ("PDF", made.map_err(|error| error.to_string())?)
        }
        _ => ("text", drawn.text().into_bytes()),
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

/// Rows after which the watcher is asked and told.
const WATCHED: u64 = 10_000;

/// Writes the shown rows and columns of a sheet.
///
/// # Errors
/// Those of the output and of the spill file, and that it was stopped.
pub fn write_sheet(
    sheet: &Sheet,
    layout: Layout,
    out: &mut (dyn Write + Send),
    watch: &Watch<'_>,
) -> io::Result<Written> {
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
    let rows = sheet.view.rows.as_ref().map(|rows| rows.as_slice());
    let all = rows.map_or(set.len(), |rows| rows.len() as u64);
    let mut count = 0;
    if natural && rows.is_none() {
        for at in 0..set.batches() {
            if (watch.stopped)() {
                return Err(io::Error::other("it was stopped"));
            }
            let (_, batch) = set.batch(at)?;
            writer.rows(&batch)?;
            count += batch.len() as u64;
            (watch.tell)(count, all);
        }
    } else {
        let mut failed = Ok(());
        each_row(&set, rows, watch.stopped, &mut |_, row| {
            let values: Vec<_> = row.values().collect();
            let mut chosen = RowBatch::new();
            let value = |at: &usize| match covered.contains(at) && !values[*at].is_null() {
                true => ValueRef::Text(WORD),
                false => values[*at],
            };
            chosen.push_row(sheet.view.columns.iter().map(value));
            failed = writer.row(chosen.row(0));
            count += 1;
            if count % WATCHED == 0 {
                (watch.tell)(count, all);
            }
            failed.is_ok()
        })?;
        failed?;
    }
    writer.finish()?;
    Ok(Written {
        rows: count,
        remarks: writer.remarks(),
    })
}

/// An output of several results one after the other.
pub trait Results: Write + Send {
    /// Another result begins.
    ///
    /// # Errors
    /// If it cannot hold another.
    fn another(&mut self) -> io::Result<()> {
        Ok(())
    }

    /// Sets the next result apart from the one before, where people read them one below the other.
    ///
    /// # Errors
    /// Those of the output.
    fn apart(&mut self) -> io::Result<()> {
        self.write_all(b"\n")
    }
}

impl Results for std::fs::File {}
impl Results for Vec<u8> {}

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
    thread: Option<JoinHandle<io::Result<Written>>>,
    /// Whether bytes that a server copies out are written as they are: where no format for programs was asked for.
    as_sent: bool,
    /// What was written, once it ended.
    pub written: Written,
}

impl Streaming {
    /// Writes in `layout` to `out`.
    pub fn new(layout: Layout, out: impl Results + 'static) -> Self {
        // Few batches wait between the two threads: memory stays small.
        let (sender, receiver) = sync_channel(8);
        let as_sent = layout.format.for_people;
        Streaming {
            sender: Some(sender),
            thread: Some(std::thread::spawn(move || {
                write_all(layout, out, &receiver)
            })),
            written: Written::default(),
            as_sent,
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
            self.written = thread
                .join()
                .map_err(|_| io::Error::other("the writing thread failed"))??;
        }
        Ok(())
    }
}

fn write_all(
    layout: Layout,
    mut out: impl Results,
    inbox: &Receiver<Message>,
) -> io::Result<Written> {
    let for_people = layout.format.for_people;
    let mut made = writer(layout.clone(), &mut out);
    let mut columns = false;
    let mut written = Written::default();
    for message in inbox {
        match message {
            // What gave no rows before it left nothing to set apart.
            Message::Another if !columns => {}
            Message::Another => {
                columns = false;
                made.finish()?;
                written.remarks.extend(made.remarks());
                drop(made);
                if for_people {
                    out.apart()?;
                }
                out.another()?;
                made = writer(layout.clone(), &mut out);
            }
            Message::Columns(list) => {
                made.columns(&list)?;
                columns = true;
            }
            Message::More(list) => made.more_columns(&list),
            Message::Bytes(bytes) => {
                drop(made);
                out.write_all(&bytes)?;
                made = writer(layout.clone(), &mut out);
            }
            Message::Rows(batch) => {
                written.rows += batch.len() as u64;
                made.rows(&batch)?;
            }
        }
    }
    if columns {
        made.finish()?;
        written.remarks.extend(made.remarks());
    }
    Ok(written)
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
