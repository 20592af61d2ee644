//! Collections in files: JSON arrays, JSON lines (one document a line, or documents one after the other), BSON dumps; a folder of them is a
//! database. Files are read as streams. A change writes a new file beside the old one and swaps it in.

use std::fs::{self, File};
use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;

use idle_tide_core::document::extended::{self, Form as JsonForm, Seed};
use idle_tide_core::document::{DEPTH, Datum, Document, bson};
use serde::de::DeserializeSeed;
use tempfile::NamedTempFile;

/// How documents stand in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// One JSON array of documents.
    Array,
    /// Documents in JSON, one a line, or one after the other.
    Lines,
    /// Documents in BSON, one after the other.
    Bson,
}

/// A collection in a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Collection {
    /// Its name: that of the file without its ending.
    pub name: String,
    /// The file.
    pub path: PathBuf,
    /// Bytes of the file.
    pub bytes: u64,
}

/// What files were when their change began: when they were last written, and their length.
type Was = Option<(SystemTime, u64)>;

fn was(path: &Path) -> Was {
    let there = fs::metadata(path).ok()?;
    Some((there.modified().ok()?, there.len()))
}

/// Changed files that wait to be put into their places together.
#[derive(Debug, Default)]
struct Pending(Vec<(PathBuf, NamedTempFile, Was)>);

/// Files as a database.
#[derive(Debug, Clone)]
pub struct Folder {
    path: PathBuf,
    single: bool,
    /// The transaction that is open, if one is.
    pending: Option<Arc<Mutex<Pending>>>,
    /// Whether they may be changed.
    pub writable: bool,
}

/// Something that could not be read, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Broken {
    /// The line, counted from 1; 0 in BSON.
    pub line: u64,
    /// The column in JSON, the byte in BSON.
    pub column: u64,
    /// What is wrong.
    pub message: String,
}

impl std::fmt::Display for Broken {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.line {
            0 => write!(f, "byte {}: {}", self.column, self.message),
            line => write!(f, "line {line}, column {}: {}", self.column, self.message),
        }
    }
}

/// Why reading ended early.
#[derive(Debug)]
pub enum Trouble<E> {
    /// The file cannot be read.
    Io(io::Error),
    /// A document cannot be understood.
    Broken(Broken),
    /// Whoever takes the documents failed.
    Taker(E),
}

/// Endings of files that hold documents.
const ENDINGS: &[&str] = &["json", "jsonl", "ndjson", "bson"];
/// The largest document that is read, in bytes: more than servers take, so that what is too large for them can be looked at.
const LARGEST: usize = 256 << 20;

impl Folder {
    /// A folder of files, or one file as a database of one collection.
    ///
    /// # Errors
    /// If there is no such file or folder.
    pub fn open(path: &Path, writable: bool) -> io::Result<Self> {
        let meta = fs::metadata(path)?;
        if meta.is_file() {
            File::open(path)?;
        }
        Ok(Folder {
            path: path.to_path_buf(),
            single: meta.is_file(),
            pending: None,
            writable,
        })
    }

    /// Begins a transaction: files that are written from now on wait beside their places, and are read there.
    pub fn begin(&mut self) {
        self.pending = Some(Arc::default());
    }

    /// Whether a transaction is open.
    pub fn in_transaction(&self) -> bool {
        self.pending.is_some()
    }

    /// Forgets what was written since [`Folder::begin`].
    pub fn roll_back(&mut self) {
        self.pending = None;
    }

    /// Puts what was written since [`Folder::begin`] into its places.
    ///
    /// # Errors
    /// In words: if another program changed one of the files meanwhile, and then none is changed; if one cannot be
    /// written, with those that were.
    pub fn commit(&mut self) -> Result<(), String> {
        let Some(pending) = self.pending.take() else {
            return Ok(());
        };
        let list = std::mem::take(&mut pending.lock().unwrap_or_else(PoisonError::into_inner).0);
        if let Some((path, ..)) = list.iter().find(|(path, _, before)| was(path) != *before) {
            return Err(format!(
                "{} was changed by another program meanwhile, so nothing of the transaction is kept.",
                path.display()
            ));
        }
        let mut done: Vec<String> = Vec::new();
        for (path, place, _) in list {
            place.persist(&path).map_err(|error| {
                let kept = match done.is_empty() {
                    true => "nothing of the transaction is kept".to_string(),
                    false => format!("only what stands in {} is kept", done.join(", ")),
                };
                format!(
                    "{} cannot be written, and {kept}: {}.",
                    path.display(),
                    error.error
                )
            })?;
            done.push(path.display().to_string());
        }
        Ok(())
    }

    /// Where the documents of a file are now: beside it in a transaction that changed it.
    pub fn now(&self, path: &Path) -> PathBuf {
        let Some(pending) = &self.pending else {
            return path.to_path_buf();
        };
        let own = fs::canonicalize(path).unwrap_or_else(|_| path.to_path_buf());
        let pending = pending.lock().unwrap_or_else(PoisonError::into_inner);
        let found = pending.0.iter().find(|(path, ..)| *path == own);
        found.map_or(own, |(_, place, _)| place.path().to_path_buf())
    }

    /// Files that are not in their places yet.
    fn new_files(&self) -> Vec<(PathBuf, u64)> {
        let Some(pending) = &self.pending else {
            return Vec::new();
        };
        let pending = pending.lock().unwrap_or_else(PoisonError::into_inner);
        let new = pending.0.iter().filter(|(path, ..)| !path.exists());
        new.map(|(path, place, _)| {
            let bytes = place.as_file().metadata().map_or(0, |there| there.len());
            (path.clone(), bytes)
        })
        .collect()
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The name: of the folder, or of the file.
    pub fn name(&self) -> String {
        self.path.file_stem().map_or_else(
            || self.path.display().to_string(),
            |n| n.to_string_lossy().into_owned(),
        )
    }

    /// The collections, by name.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn collections(&self) -> io::Result<Vec<Collection>> {
        if self.single {
            let bytes = fs::metadata(&self.path)?.len();
            return Ok(vec![Collection {
                name: self.name(),
                path: self.path.clone(),
                bytes,
            }]);
        }
        let mut list = Vec::new();
        for entry in fs::read_dir(&self.path)? {
            let entry = entry?;
            let path = entry.path();
            let ending = path
                .extension()
                .and_then(|e| e.to_str())
                .unwrap_or_default()
                .to_ascii_lowercase();
            let stem = path
                .file_stem()
                .and_then(|s| s.to_str())
                .map(str::to_string);
            if let Some(name) =
                stem.filter(|name| ENDINGS.contains(&ending.as_str()) && !name.starts_with('.'))
                && path.is_file()
            {
                list.push(Collection {
                    name,
                    bytes: entry.metadata()?.len(),
                    path,
                });
            }
        }
        for (path, bytes) in self.new_files() {
            let stem = path.file_stem().and_then(|stem| stem.to_str());
            let name = stem.unwrap_or_default().to_string();
            list.push(Collection { name, path, bytes });
        }
        list.sort_by(|a, b| a.name.cmp(&b.name).then(a.path.cmp(&b.path)));
        list.dedup_by(|a, b| a.name == b.name);
        Ok(list)
    }

    /// The collection of a name.
    ///
    /// # Errors
    /// If the folder cannot be read.
    pub fn collection(&self, name: &str) -> io::Result<Option<Collection>> {
        Ok(self.collections()?.into_iter().find(|c| c.name == name))
    }

    /// Where a new collection goes.
    ///
    /// # Errors
    /// If the name cannot be that of a file here, in words.
    pub fn new_path(&self, name: &str) -> Result<PathBuf, String> {
        if self.single {
            return Err(format!(
                "{} is one file and holds one collection. Open a folder to have several.",
                self.path.display()
            ));
        }
        if name.is_empty()
            || name.starts_with('.')
            || name.contains(['/', '\\', '\0'])
            || name.len() > 200
        {
            return Err(format!(
                "{name} cannot be the name of a file, so it cannot be a collection here."
            ));
        }
        Ok(self.path.join(format!("{name}.jsonl")))
    }
}

/// How the documents of a file stand in it, from its ending and its first character.
///
/// # Errors
/// If it cannot be read.
pub fn form_of(path: &Path) -> io::Result<Form> {
    let ending = path
        .extension()
        .and_then(|e| e.to_str())
        .unwrap_or_default()
        .to_ascii_lowercase();
    match ending.as_str() {
        "bson" => return Ok(Form::Bson),
        "jsonl" | "ndjson" => return Ok(Form::Lines),
        _ => {}
    }
    let mut head = [0; 4096];
    let count = File::open(path)?.read(&mut head)?;
    let head = head[..count]
        .strip_prefix(b"\xef\xbb\xbf")
        .unwrap_or(&head[..count]);
    Ok(match head.iter().find(|b| !b.is_ascii_whitespace()) {
        Some(b'[') => Form::Array,
        _ => Form::Lines,
    })
}

/// Reads the documents of a file one after the other, until `take` answers false. With `broken` what cannot be understood is handed there and
/// passed over.
///
/// # Errors
/// [`Trouble`]; the documents before it were taken.
pub fn read<E>(
    path: &Path,
    take: &mut dyn FnMut(Document) -> Result<bool, E>,
    broken: Option<&mut dyn FnMut(Broken)>,
) -> Result<(), Trouble<E>> {
    let form = form_of(path).map_err(Trouble::Io)?;
    let file = BufReader::with_capacity(256 * 1024, File::open(path).map_err(Trouble::Io)?);
    match form {
        Form::Bson => read_bson(file, take, broken),
        Form::Lines => read_lines(file, take, broken),
        Form::Array => read_array(file, take, broken),
    }
}

fn understood(bytes: &[u8]) -> Result<Document, serde_json::Error> {
    let mut reader = serde_json::Deserializer::from_slice(bytes);
    reader.disable_recursion_limit();
    let value = Seed(DEPTH).deserialize(&mut reader)?;
    reader.end()?;
    match value {
        Datum::Object(document) => Ok(document),
        other => Err(extended::not_a_document(&other)),
    }
}

fn broken_at(line: u64, before: u64, error: &serde_json::Error) -> Broken {
    let text = error.to_string();
    let message = text.split(" at line ").next().unwrap_or(&text).to_string();
    let first = error.line() <= 1;
    Broken {
        line: line + (error.line().max(1) as u64 - 1),
        column: error.column() as u64 + if first { before } else { 0 },
        message,
    }
}

fn tell<E>(problem: Broken, broken: &mut Option<&mut dyn FnMut(Broken)>) -> Result<(), Trouble<E>> {
    match broken {
        Some(tell) => {
            tell(problem);
            Ok(())
        }
        None => Err(Trouble::Broken(problem)),
    }
}

/// One document a line. A document that goes over several lines is put together; where that fails, the lines after its first are tried
/// again.
fn read_lines<E>(
    mut file: impl BufRead,
    take: &mut dyn FnMut(Document) -> Result<bool, E>,
    mut broken: Option<&mut dyn FnMut(Broken)>,
) -> Result<(), Trouble<E>> {
    let mut text: Vec<u8> = Vec::with_capacity(64 * 1024);
    let mut line = 0_u64;
    let mut first = 0_u64;
    loop {
        let before = text.len();
        let end = file.read_until(b'\n', &mut text).map_err(Trouble::Io)? == 0;
        line += u64::from(!end);
        if line == 1 && text.starts_with(b"\xef\xbb\xbf") {
            text.drain(..3);
        }
        if before == 0 {
            first = line;
        }
        if text.iter().all(u8::is_ascii_whitespace) {
            if end {
                return Ok(());
            }
            text.clear();
            continue;
        }
        match understood(text.trim_ascii_end()) {
            Ok(document) => {
                text.clear();
                if !take(document).map_err(Trouble::Taker)? || end {
                    return Ok(());
                }
            }
            // It may go on with the next line, unless that begins a document itself.
            Err(error)
                if error.is_eof()
                    && !end
                    && text.len() < LARGEST
                    && !starts_document(&mut file).map_err(Trouble::Io)? => {}
            Err(error) => {
                tell(broken_at(first, 0, &error), &mut broken)?;
                text.clear();
                if end {
                    return Ok(());
                }
            }
        }
    }
}

fn starts_document(file: &mut impl BufRead) -> io::Result<bool> {
    Ok(file.fill_buf()?.first() == Some(&b'{'))
}

/// The elements of one array, cut apart by their brackets and read each by itself.
fn read_array<E>(
    mut file: impl BufRead,
    take: &mut dyn FnMut(Document) -> Result<bool, E>,
    mut broken: Option<&mut dyn FnMut(Broken)>,
) -> Result<(), Trouble<E>> {
    let mut text: Vec<u8> = Vec::with_capacity(64 * 1024);
    let (mut line, mut column) = (1_u64, 0_u64);
    // Where the element began.
    let mut start = (1, 0);
    let (mut depth, mut in_text, mut escaped) = (0_i64, false, false);
    let mut opened = false;
    let mut wants_comma = false;
    loop {
        let chunk = file.fill_buf().map_err(Trouble::Io)?;
        if chunk.is_empty() {
            break;
        }
        let length = chunk.len();
        let chunk = chunk.to_vec();
        file.consume(length);
        let mut from = 0;
        for (at, byte) in chunk.iter().enumerate() {
            column += 1;
            if *byte == b'\n' {
                line += 1;
                column = 0;
            }
            if in_text {
                if escaped {
                    escaped = false;
                } else if *byte == b'\\' {
                    escaped = true;
                } else if *byte == b'"' {
                    in_text = false;
                }
                continue;
            }
            match byte {
                b'"' => in_text = true,
                b'[' | b'{' => {
                    depth += 1;
                    if depth == 1 && !opened {
                        opened = true;
                        from = at + 1;
                        start = (line, column);
                    }
                }
                b']' | b'}' => depth -= 1,
                _ => {}
            }
            let closes = *byte == b']' && depth == 0 && opened;
            if (*byte == b',' && depth == 1) || closes {
                text.extend_from_slice(&chunk[from..at]);
                from = at + 1;
                let blank = text.iter().all(u8::is_ascii_whitespace);
                if !(blank && closes && !wants_comma) {
                    match understood(text.trim_ascii_end()) {
                        Ok(document) => {
                            if !take(document).map_err(Trouble::Taker)? {
                                return Ok(());
                            }
                        }
                        Err(error) => tell(broken_at(start.0, start.1, &error), &mut broken)?,
                    }
                }
                wants_comma = *byte == b',';
                text.clear();
                start = (line, column);
                if closes {
                    return Ok(());
                }
            }
        }
        text.extend_from_slice(&chunk[from..]);
        if text.len() > LARGEST {
            break;
        }
    }
    let message = if text.len() > LARGEST {
        format!("a document of more than {} MB", LARGEST >> 20)
    } else {
        "the file ends within the array".into()
    };
    tell(
        Broken {
            line,
            column,
            message,
        },
        &mut broken,
    )
}

/// Documents in BSON, one after the other.
fn read_bson<E>(
    mut file: impl BufRead,
    take: &mut dyn FnMut(Document) -> Result<bool, E>,
    mut broken: Option<&mut dyn FnMut(Broken)>,
) -> Result<(), Trouble<E>> {
    let mut offset = 0_u64;
    let mut bytes: Vec<u8> = Vec::new();
    loop {
        let mut head = [0; 4];
        let mut got = 0;
        while got < 4 {
            match file.read(&mut head[got..]).map_err(Trouble::Io)? {
                0 => break,
                n => got += n,
            }
        }
        if got == 0 {
            return Ok(());
        }
        let length = i32::from_le_bytes(head);
        let fits = usize::try_from(length)
            .ok()
            .filter(|n| (5..=LARGEST).contains(n));
        let (Some(length), 4) = (fits, got) else {
            // Without a length it is not known where the next one begins.
            let message = if got < 4 {
                "a document's length is cut off".into()
            } else {
                format!("a document says it has {length} bytes")
            };
            return tell(
                Broken {
                    line: 0,
                    column: offset,
                    message,
                },
                &mut broken,
            );
        };
        bytes.clear();
        bytes.extend_from_slice(&head);
        let read = file
            .by_ref()
            .take(length as u64 - 4)
            .read_to_end(&mut bytes)
            .map_err(Trouble::Io)?;
        if read + 4 < length {
            let message = format!(
                "a document says it has {length} bytes, and {} are there",
                read + 4
            );
            return tell(
                Broken {
                    line: 0,
                    column: offset,
                    message,
                },
                &mut broken,
            );
        }
        match bson::decode(&bytes) {
            Ok(document) => {
                if !take(document).map_err(Trouble::Taker)? {
                    return Ok(());
                }
            }
            Err(error) => tell(
                Broken {
                    line: 0,
                    column: offset + error.at as u64,
                    message: error.message,
                },
                &mut broken,
            )?,
        }
        offset += length as u64;
    }
}

/// A file of documents that is being written beside its place, readable by its owner only if it is new. What was there before stays until
/// [`Writing::end`] swaps it in; dropped before, it is gone.
pub struct Writing {
    path: PathBuf,
    form: Form,
    out: BufWriter<tempfile::NamedTempFile>,
    count: u64,
    bytes: Vec<u8>,
    text: Vec<u8>,
}

impl Writing {
    /// Begins one.
    ///
    /// # Errors
    /// If nothing can be written beside `path`.
    pub fn begin(path: &Path, form: Form) -> io::Result<Self> {
        // A link is followed, so that what it leads to is replaced and not the link.
        let path = fs::canonicalize(path).unwrap_or_else(|_| path.to_path_buf());
        let place = idle_tide_core::unfinished::file_beside(&path)?;
        Ok(Writing {
            path,
            form,
            out: BufWriter::with_capacity(256 * 1024, place),
            count: 0,
            bytes: Vec::new(),
            text: Vec::new(),
        })
    }

    /// Writes a document.
    ///
    /// # Errors
    /// If it cannot be written.
    pub fn put(&mut self, document: &Document) -> io::Result<()> {
        self.bytes.clear();
        bson::write(document, &mut self.bytes);
        if self.form == Form::Bson {
            self.out.write_all(&self.bytes)?;
        } else {
            self.text.clear();
            if self.form == Form::Array {
                let before: &[u8] = if self.count == 0 { b"[\n" } else { b",\n" };
                self.text.extend_from_slice(before);
            }
            extended::write(&self.bytes, JsonForm::Lossless, &mut self.text);
            if self.form == Form::Lines {
                self.text.push(b'\n');
            }
            self.out.write_all(&self.text)?;
        }
        self.count += 1;
        Ok(())
    }

    /// Puts it in its place, or keeps it beside in a transaction; gives how many documents it holds.
    ///
    /// # Errors
    /// As [`Writing::end`].
    pub fn end_in(self, folder: &Folder) -> io::Result<u64> {
        let Some(pending) = &folder.pending else {
            return self.end();
        };
        let (path, count) = (self.path.clone(), self.count);
        let place = self.written()?;
        let mut pending = pending.lock().unwrap_or_else(PoisonError::into_inner);
        match pending.0.iter_mut().find(|(known, ..)| *known == path) {
            Some((_, before, _)) => *before = place,
            None => {
                let before = was(&path);
                pending.0.push((path, place, before));
            }
        }
        Ok(count)
    }

    /// Puts it in its place; gives how many documents it holds.
    ///
    /// # Errors
    /// If it cannot be written; what was there before is there still.
    pub fn end(self) -> io::Result<u64> {
        let (path, count) = (self.path.clone(), self.count);
        let place = self.written()?;
        place.persist(path).map_err(|error| error.error)?;
        Ok(count)
    }

    /// Writes it to its end, beside its place.
    fn written(mut self) -> io::Result<NamedTempFile> {
        if self.form == Form::Array {
            let last: &[u8] = if self.count == 0 { b"[]\n" } else { b"\n]\n" };
            self.out.write_all(last)?;
        }
        let place = self
            .out
            .into_inner()
            .map_err(io::IntoInnerError::into_error)?;
        if let Ok(before) = fs::metadata(&self.path) {
            place.as_file().set_permissions(before.permissions())?;
        }
        place.as_file().sync_all()?;
        Ok(place)
    }
}

/// Writes documents as a file, as [`Writing`] does.
///
/// # Errors
/// If it cannot be written; what was there before is there still. Also the first error of `documents`.
pub fn write(
    path: &Path,
    form: Form,
    documents: &mut dyn Iterator<Item = io::Result<Document>>,
) -> io::Result<u64> {
    let mut writing = Writing::begin(path, form)?;
    for document in documents {
        writing.put(&document?)?;
    }
    writing.end()
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::document;

    fn all(path: &Path) -> (Vec<Document>, Vec<String>) {
        let (mut list, mut problems) = (Vec::new(), Vec::new());
        let done = read::<()>(
            path,
            &mut |d| {
                list.push(d);
                Ok(true)
            },
            Some(&mut |b: Broken| problems.push(b.to_string())),
        );
        assert!(done.is_ok());
        (list, problems)
    }

    fn file(ending: &str, bytes: &[u8]) -> (tempfile::TempDir, PathBuf) {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join(format!("c.{ending}"));
        fs::write(&path, bytes).expect("written");
        (folder, path)
    }

    #[test]
    fn every_form_is_read_and_written_without_loss() {
        let documents = vec![
            document! { "a": 1, "b": 2_i64, "c": 1.0, "text": "with \"quotes\"\n" },
            document! { "d": Datum::Date(-5), "id": Datum::Id([3; 12]), "n": Datum::Double(f64::NAN), "l": vec![1, 2] },
            Document::new(),
        ];
        for (ending, form) in [
            ("json", Form::Array),
            ("jsonl", Form::Lines),
            ("bson", Form::Bson),
        ] {
            let (_folder, path) = file(ending, b"old");
            let count =
                write(&path, form, &mut documents.iter().cloned().map(Ok)).expect("written");
            assert_eq!((count, form_of(&path).expect("read")), (3, form));
            let (back, problems) = all(&path);
            let bytes = |list: &[Document]| list.iter().map(bson::encode).collect::<Vec<_>>();
            assert_eq!((bytes(&back), problems), (bytes(&documents), vec![]));
            // Half a change changes nothing.
            let mut half = [Ok(Document::new()), Err(io::Error::other("no"))].into_iter();
            assert!(write(&path, form, &mut half).is_err());
            assert_eq!(all(&path).0.len(), 3);
            let left: Vec<_> = fs::read_dir(path.parent().expect("a folder"))
                .expect("read")
                .collect();
            assert_eq!(left.len(), 1, "nothing is left beside");
        }
    }

    #[test]
    fn what_is_broken_is_named_with_its_place_and_the_rest_is_read() {
        let mut lines = String::new();
        for n in 1..=70_010 {
            lines.push_str(&if n == 70_000 {
                "{\"n\": 7oooo}\n".to_string()
            } else {
                format!("{{\"n\": {n}}}\n")
            });
        }
        let (_folder, path) = file("jsonl", lines.as_bytes());
        let (list, problems) = all(&path);
        assert_eq!(list.len(), 70_009);
        assert_eq!(problems.len(), 1);
        assert!(
            problems[0].starts_with("line 70000, column 8:"),
            "{}",
            problems[0]
        );
        let stopped = read::<()>(&path, &mut |_| Ok(true), None);
        assert!(matches!(
            stopped,
            Err(Trouble::Broken(Broken { line: 70_000, .. }))
        ));

        for (ending, text, good, words) in [
            (
                "json",
                "[\n {\"a\": 1},\n {\"a\": tru},\n {\"a\": 3}\n]",
                2,
                "line 3, column 11:",
            ),
            (
                "json",
                "[{\"a\": \"],}\\\"\"}, 5, {\"b\": [1]}]",
                2,
                "line 1, column",
            ),
            ("json", "[{\"a\": 1}, {\"a\":", 1, "ends within"),
            ("json", "[]", 0, ""),
            ("json", "[{\"a\": 1},]", 1, "EOF"),
            ("json", "{\n \"a\": 1\n}\n{\"a\": 2}", 2, ""),
            (
                "jsonl",
                "\u{feff}{\"a\": 1}\n\n{\"a\": {\n{\"a\": 3}\n[1]\n",
                2,
                "line 3",
            ),
            (
                "jsonl",
                "{\"a\": {\"$oid\": \"xyz\"}}\n{}",
                1,
                "24 hexadecimal",
            ),
        ] {
            let (_folder, path) = file(ending, text.as_bytes());
            let (list, problems) = all(&path);
            assert_eq!(list.len(), good, "{text}: {problems:?}");
            assert_eq!(
                problems.first().is_some_and(|p| p.contains(words)),
                !words.is_empty(),
                "{text}: {problems:?}"
            );
        }
    }

    #[test]
    fn bson_that_is_cut_or_damaged_is_named_with_its_byte() {
        let one = bson::encode(&document! { "a": true });
        let mut bytes = one.repeat(3);
        bytes[one.len() + 7] = 9;
        let (_folder, path) = file("bson", &bytes);
        let (list, problems) = all(&path);
        assert_eq!((list.len(), problems.len()), (2, 1));
        assert_eq!(
            problems[0],
            format!("byte {}: a boolean is 9", one.len() + 7)
        );
        for end in 1..one.len() {
            let (_folder, path) = file("bson", &one[..end]);
            assert_eq!(all(&path).1.len(), 1, "cut at {end}");
        }
    }

    #[test]
    fn a_folder_is_a_database_of_its_files() {
        let folder = tempfile::tempdir().expect("a folder");
        for name in ["b.jsonl", "a.json", ".hidden.json", "notes.txt", "c.BSON"] {
            fs::write(folder.path().join(name), "").expect("written");
        }
        let opened = Folder::open(folder.path(), true).expect("opened");
        let names: Vec<String> = opened
            .collections()
            .expect("read")
            .into_iter()
            .map(|c| c.name)
            .collect();
        assert_eq!(names, ["a", "b", "c"]);
        for bad in ["", "../x", ".x", "a/b"] {
            assert!(opened.new_path(bad).is_err(), "{bad}");
        }
        let one = Folder::open(&folder.path().join("b.jsonl"), false).expect("opened");
        assert_eq!(one.collections().expect("read").len(), 1);
        assert!(one.new_path("x").is_err());
        assert!(Folder::open(Path::new("/nowhere/at/all"), false).is_err());
    }
}
