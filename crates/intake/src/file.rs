//! What a file is: how it is packed, encoded and written. A file that can be read only once (standard input, a pipe) or is packed
//! is put into a temporary one first, since it is read twice.

use std::fs::File;
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};

use encoding_rs_io::DecodeReaderBytesBuilder;
use flate2::read::MultiGzDecoder;
use tempfile::NamedTempFile;

use crate::Trouble;

/// How rows stand in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Between separators.
    Separated,
    /// Documents of JSON, Extended JSON or BSON.
    Documents,
    /// Columns (Parquet).
    Columnar,
}

/// How the bytes of a text become characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Encoding {
    /// UTF-8, with or without a mark.
    Utf8,
    /// UTF-16, as the mark at its beginning says.
    Utf16,
    /// ISO/IEC 8859-1, with the signs that are usual in the places of its control characters.
    Latin1,
}

impl Encoding {
    /// The encoding of a name.
    pub fn named(name: &str) -> Option<Self> {
        match name.to_ascii_lowercase().as_str() {
            "utf-8" | "utf8" | "utf-8-bom" => Some(Encoding::Utf8),
            "utf-16" | "utf16" => Some(Encoding::Utf16),
            "latin1" | "iso-8859-1" => Some(Encoding::Latin1),
            _ => None,
        }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Encoding::Utf8 => "UTF-8",
            Encoding::Utf16 => "UTF-16",
            Encoding::Latin1 => "latin1",
        }
    }
}

/// A file that can be read as often as is needed.
#[derive(Debug)]
pub struct Spooled {
    path: PathBuf,
    /// Whether it was packed (gzip, RFC 1952).
    pub packed: bool,
    /// Bytes, unpacked.
    pub size: u64,
    // Removed when nobody needs it any more.
    _own: Option<NamedTempFile>,
}

impl Spooled {
    /// A temporary file of so many bytes, which is removed with it.
    pub fn own(file: NamedTempFile, size: u64) -> Self {
        Spooled {
            path: file.path().to_path_buf(),
            packed: false,
            size,
            _own: Some(file),
        }
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

/// Counts the bytes that are read and heeds a stop.
struct Heeding<'a, R>(R, &'a dyn Fn() -> bool);

impl<R: Read> Read for Heeding<'_, R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if (self.1)() {
            return Err(io::Error::other("it was stopped"));
        }
        self.0.read(into)
    }
}

/// Makes a file, or standard input where `path` is `-`, ready to be read twice: unpacked, and beside the others of its kind in
/// the temporary folder where that is needed.
///
/// # Errors
/// In words, if it cannot be read or unpacked.
pub fn spool(path: &Path, stopped: &dyn Fn() -> bool) -> Result<Spooled, Trouble> {
    let name = path.display();
    let failed = |error: io::Error| Trouble(format!("{name} cannot be read: {error}."));
    let input = path.as_os_str() == "-";
    let mut source: Box<dyn Read> = match input {
        true => Box::new(io::stdin()),
        false => {
            let there = std::fs::metadata(path).map_err(failed)?;
            if there.is_dir() {
                return Err(Trouble(format!(
                    "{name} is a folder. Name the file in it that is to be loaded."
                )));
            }
            let mut file = File::open(path).map_err(failed)?;
            let mut magic = [0; 2];
            if there.is_file() {
                let count = file.read(&mut magic).map_err(failed)?;
                file.rewind().map_err(failed)?;
                if magic[..count] != [0x1f, 0x8b] {
                    return Ok(Spooled {
                        path: path.to_path_buf(),
                        packed: false,
                        size: there.len(),
                        _own: None,
                    });
                }
            }
            Box::new(file)
        }
    };
    let mut magic = Vec::new();
    (&mut source)
        .take(2)
        .read_to_end(&mut magic)
        .map_err(failed)?;
    let packed = magic == [0x1f, 0x8b];
    let whole = Heeding(io::Cursor::new(magic).chain(source), stopped);
    // Documents are known by the ending before that of the packing.
    let plain = match path.extension().and_then(|e| e.to_str()) {
        Some(ending) if ending.eq_ignore_ascii_case("gz") => path.with_extension(""),
        _ => path.to_path_buf(),
    };
    let ending = plain.extension().and_then(|e| e.to_str());
    let ending = ending.map_or(String::new(), |e| format!(".{e}"));
    let mut own = tempfile::Builder::new()
        .prefix(".idle-tide-")
        .suffix(&ending)
        .tempfile()
        .map_err(failed)?;
    let copied = match packed {
        true => io::copy(&mut MultiGzDecoder::new(whole), own.as_file_mut()),
        false => io::copy(&mut { whole }, own.as_file_mut()),
    };
    let size = copied.map_err(|error| match packed {
        true => Trouble(format!("{name} cannot be unpacked: {error}.")),
        false => failed(error),
    })?;
    own.flush().map_err(failed)?;
    Ok(Spooled {
        path: own.path().to_path_buf(),
        packed,
        size,
        _own: Some(own),
    })
}

/// The kind of a file, by its first bytes and its ending.
pub(crate) fn kind_of(path: &Path) -> io::Result<Kind> {
    let mut head = [0; 4096];
    let count = File::open(path)?.read(&mut head)?;
    let head = &head[..count];
    if head.starts_with(b"PAR1") {
        return Ok(Kind::Columnar);
    }
    let ending = path
        .extension()
        .and_then(|e| e.to_str())
        .unwrap_or_default();
    let ending = ending.to_ascii_lowercase();
    if matches!(ending.as_str(), "bson" | "json" | "jsonl" | "ndjson") {
        return Ok(Kind::Documents);
    }
    if matches!(ending.as_str(), "csv" | "tsv" | "tab" | "txt") {
        return Ok(Kind::Separated);
    }
    let text = head.strip_prefix(b"\xef\xbb\xbf").unwrap_or(head);
    let first = text.iter().find(|byte| !byte.is_ascii_whitespace());
    Ok(match first {
        Some(b'{' | b'[') => Kind::Documents,
        _ => Kind::Separated,
    })
}

/// The encoding that a mark at the beginning says, or else whether the first part is UTF-8.
pub(crate) fn encoding_of(path: &Path) -> io::Result<Encoding> {
    let mut head = Vec::new();
    File::open(path)?.take(256 * 1024).read_to_end(&mut head)?;
    if head.starts_with(&[0xff, 0xfe]) || head.starts_with(&[0xfe, 0xff]) {
        return Ok(Encoding::Utf16);
    }
    Ok(match std::str::from_utf8(&head) {
        Err(error) if error.error_len().is_some() => Encoding::Latin1,
        _ => Encoding::Utf8,
    })
}

/// The text of a file in UTF-8, without a mark.
pub(crate) fn text_of(path: &Path, encoding: Encoding) -> io::Result<Box<dyn Read>> {
    let mut file = File::open(path)?;
    Ok(match encoding {
        // As it is, so that bytes that are none are found with their place.
        Encoding::Utf8 => {
            let mut mark = [0; 3];
            let count = file.read(&mut mark)?;
            if mark[..count] != *b"\xef\xbb\xbf" {
                file.rewind()?;
            }
            Box::new(file)
        }
        Encoding::Utf16 | Encoding::Latin1 => {
            let label = match encoding {
                Encoding::Latin1 => Some(encoding_rs::WINDOWS_1252),
                _ => Some(encoding_rs::UTF_16LE),
            };
            Box::new(
                DecodeReaderBytesBuilder::new()
                    .encoding(label)
                    .bom_override(encoding == Encoding::Utf16)
                    .build(file),
            )
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(name: &str, bytes: &[u8]) -> (tempfile::TempDir, PathBuf) {
        let dir = tempfile::tempdir().expect("a folder");
        let path = dir.path().join(name);
        std::fs::write(&path, bytes).expect("written");
        (dir, path)
    }

    fn text(path: &Path) -> String {
        let mut text = String::new();
        let encoding = encoding_of(path).expect("read");
        let mut reader = text_of(path, encoding).expect("open");
        reader.read_to_string(&mut text).expect("text");
        text
    }

    #[test]
    fn encodings_are_found_and_marks_are_no_text() {
        for bytes in [
            b"\xef\xbb\xbfgr\xc3\xa9y".to_vec(),
            b"gr\xc3\xa9y".to_vec(),
            b"gr\xe9y".to_vec(),
            vec![0xff, 0xfe, b'g', 0, b'r', 0, 0xe9, 0, b'y', 0],
            vec![0xfe, 0xff, 0, b'g', 0, b'r', 0, 0xe9, 0, b'y'],
        ] {
            let (_dir, path) = file("a.csv", &bytes);
            assert_eq!(text(&path), "gréy", "{bytes:?}");
        }
    }

    #[test]
    fn packed_files_are_unpacked_and_a_cut_one_is_refused() {
        let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packer.write_all(b"{\"a\": 1}\n").expect("packed");
        let packed = packer.finish().expect("packed");
        let (_dir, path) = file("a.jsonl.gz", &packed);
        let spooled = spool(&path, &|| false).expect("unpacked");
        assert!(spooled.packed && spooled.size == 9);
        assert_eq!(kind_of(spooled.path()).expect("read"), Kind::Documents);
        let (_dir, cut) = file("cut.csv.gz", &packed[..packed.len() - 6]);
        let refused = spool(&cut, &|| false).expect_err("cut").0;
        assert!(
            refused.contains("cut.csv.gz cannot be unpacked"),
            "{refused}"
        );
        let (dir, _) = file("a", b"");
        assert!(
            spool(dir.path(), &|| false)
                .expect_err("a folder")
                .0
                .contains("is a folder")
        );
    }
}
