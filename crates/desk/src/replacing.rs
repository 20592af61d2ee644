//! Files that are written whole or not at all. What stands at a path decides how: a plain file is written
//! beside its place and moved there, keeping its owner and mode; a link is followed; what is no plain file (a
//! device, a pipe, a standard stream) is written through, since there is nothing to replace. It knows no rows.

use std::fs::{File, Metadata, OpenOptions};
use std::io::{self, BufWriter, Write};
use std::os::fd::AsFd;
use std::os::unix::fs::{FileTypeExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use idle_tide_core::unfinished;
use parking_lot::Mutex;
use tempfile::NamedTempFile;

/// Links that are followed from one to the next before it counts as a circle.
const LINKS: usize = 40;

/// Files that are being written beside their places.
static UNFINISHED: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

/// Removes files that are being written, for a program that ends at once.
pub fn leave_nothing_unfinished() {
    for path in UNFINISHED.lock().drain(..) {
        // The program ends; nobody is there to hear why one stays.
        let _ = std::fs::remove_file(path);
    }
}

/// A file that takes its place only when it is whole. Dropped before, it leaves what was there.
pub struct Replacing {
    out: Out,
    path: PathBuf,
    _unfinished: Unfinished,
}

/// Marks a file as unfinished as long as it is held.
struct Unfinished(Option<PathBuf>);

impl Drop for Unfinished {
    fn drop(&mut self) {
        if let Some(path) = &self.0 {
            UNFINISHED.lock().retain(|other| other != path);
        }
    }
}

enum Out {
    /// Written beside its place.
    Beside(BufWriter<NamedTempFile>, Option<Metadata>),
    /// Written through to what is no plain file; so many bytes so far.
    Through(BufWriter<File>, u64),
}

impl Replacing {
    /// Begins a file that will stand at `path`: a new one readable by its owner only, another in the place of one
    /// that is there with the same owner and mode. A device, a pipe or a standard stream is written as it comes.
    ///
    /// # Errors
    /// If it is a directory or a socket, its links go round in a circle, or its directory cannot be written.
    pub fn begin(path: &Path) -> io::Result<Self> {
        let kind = |kind, words: &str| Err(io::Error::new(kind, words.to_string()));
        if let Some(stream) = standard_stream(path)? {
            return Ok(Self::through(stream, path));
        }
        let place = followed(path)?;
        let there = match std::fs::metadata(&place) {
            Ok(there) => Some(there),
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            Err(error) => return Err(error),
        };
        if let Some(there) = &there {
            if there.is_dir() {
                return kind(io::ErrorKind::IsADirectory, "that is a directory");
            }
            if there.file_type().is_socket() {
                return kind(io::ErrorKind::InvalidInput, "that is a socket");
            }
            if !there.is_file() {
                let file = OpenOptions::new().write(true).open(&place)?;
                return Ok(Self::through(file, path));
            }
        }
        let dir = match place.parent() {
            Some(dir) if !dir.as_os_str().is_empty() => dir,
            _ => Path::new("."),
        };
        let file = unfinished::file_in(dir)?;
        UNFINISHED.lock().push(file.path().to_path_buf());
        Ok(Replacing {
            _unfinished: Unfinished(Some(file.path().to_path_buf())),
            out: Out::Beside(BufWriter::new(file), there),
            path: place,
        })
    }

    fn through(file: File, path: &Path) -> Self {
        Replacing {
            out: Out::Through(BufWriter::new(file), 0),
            path: path.to_path_buf(),
            _unfinished: Unfinished(None),
        }
    }

    /// Whether what is written is there at once, and cannot be taken back.
    pub fn writes_through(&self) -> bool {
        matches!(self.out, Out::Through(..))
    }

    /// Puts the file in its place; answers its size in bytes.
    ///
    /// # Errors
    /// If the rest cannot be written. What was there is unchanged then, unless it could only be written in its
    /// place (it has several names, or another owner): then the error says where the whole new content is.
    pub fn commit(self) -> io::Result<u64> {
        let (file, there) = match self.out {
            Out::Through(mut file, size) => {
                file.flush()?;
                return Ok(size);
            }
            Out::Beside(file, there) => (file, there),
        };
        let file = file.into_inner().map_err(io::IntoInnerError::into_error)?;
        let size = file.as_file().metadata()?.len();
        let movable = match &there {
            Some(there) => there.nlink() == 1 && like(file.as_file(), there).is_ok(),
            None => true,
        };
        if movable {
            file.persist(&self.path).map_err(|error| error.error)?;
            return Ok(size);
        }
        // Its other names, or its owner, would be lost by moving another file there.
        let copied = File::open(file.path()).and_then(|mut from| {
            let mut to = OpenOptions::new()
                .write(true)
                .truncate(true)
                .open(&self.path)?;
            io::copy(&mut from, &mut to)
        });
        if let Err(error) = copied {
            let (_, kept) = file.keep().map_err(|error| error.error)?;
            let words = format!("{error}; the whole content is in {}", kept.display());
            return Err(io::Error::new(error.kind(), words));
        }
        Ok(size)
    }
}

impl Write for Replacing {
    fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
        match &mut self.out {
            Out::Beside(file, _) => file.write(buffer),
            Out::Through(file, size) => {
                let count = file.write(buffer)?;
                *size += count as u64;
                Ok(count)
            }
        }
    }
    fn flush(&mut self) -> io::Result<()> {
        match &mut self.out {
            Out::Beside(file, _) => file.flush(),
            Out::Through(file, _) => file.flush(),
        }
    }
}

/// Writes a file of our own so that a crash at any moment leaves the old or the new one. A new one is readable by
/// its owner only, and so is its directory if that has to be made.
///
/// # Errors
/// If the directory cannot be made or the file not written.
pub fn replace(path: &Path, bytes: &[u8]) -> io::Result<()> {
    if let Some(dir) = path.parent() {
        private(dir);
    }
    let mut file = Replacing::begin(path)?;
    file.write_all(bytes)?;
    if let Out::Beside(file, _) = &mut file.out {
        file.flush()?;
        file.get_ref().as_file().sync_all()?;
    }
    file.commit().map(drop)
}

/// Makes a directory that only its owner can read, where it is not there.
pub fn private(dir: &Path) {
    use std::os::unix::fs::DirBuilderExt;
    // If it fails, opening the file in it says why.
    let _ = std::fs::DirBuilder::new()
        .recursive(true)
        .mode(0o700)
        .create(dir);
}

/// Whether two paths lead to the same file.
pub fn same_file(a: &Path, b: &Path) -> bool {
    let of = |path: &Path| std::fs::metadata(path).map(|m| (m.dev(), m.ino())).ok();
    of(a).is_some_and(|a| Some(a) == of(b))
}

/// Gives a file the mode and the owner of another.
fn like(file: &File, other: &Metadata) -> io::Result<()> {
    let own = file.metadata()?;
    if (own.uid(), own.gid()) != (other.uid(), other.gid()) {
        std::os::unix::fs::fchown(file, Some(other.uid()), Some(other.gid()))?;
    }
    file.set_permissions(PermissionsExt::from_mode(other.mode() & 0o7777))
}

/// Where a path leads when its links are followed, also when nothing is there yet.
fn followed(path: &Path) -> io::Result<PathBuf> {
    let mut place = path.to_path_buf();
    for _ in 0..LINKS {
        match std::fs::read_link(&place) {
            Ok(to) => {
                place = match place.parent() {
                    Some(dir) => dir.join(to),
                    None => to,
                }
            }
            Err(_) => return Ok(place),
        }
    }
    Err(io::Error::other("its links lead round in a circle"))
}

/// The stream that a path like `/dev/stdout` or `/dev/fd/3` stands for: its file must not be replaced, and is
/// gone on with where it is.
fn standard_stream(path: &Path) -> io::Result<Option<File>> {
    let owned = match path.to_str() {
        Some("/dev/stdout" | "/dev/fd/1" | "/proc/self/fd/1") => {
            io::stdout().as_fd().try_clone_to_owned()
        }
        Some("/dev/stderr" | "/dev/fd/2" | "/proc/self/fd/2") => {
            io::stderr().as_fd().try_clone_to_owned()
        }
        Some(other) if other.starts_with("/dev/fd/") || other.starts_with("/proc/self/fd/") => {
            return OpenOptions::new().append(true).open(path).map(Some);
        }
        _ => return Ok(None),
    };
    owned.map(|owned| Some(File::from(owned)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;

    fn write(path: &Path, text: &str) -> io::Result<u64> {
        let mut file = Replacing::begin(path)?;
        file.write_all(text.as_bytes())?;
        file.commit()
    }

    #[test]
    fn links_are_followed_and_modes_kept() {
        let dir = tempfile::tempdir().expect("dir");
        let at = |name: &str| dir.path().join(name);
        fs::write(at("real"), "old").expect("made");
        fs::set_permissions(at("real"), PermissionsExt::from_mode(0o640)).expect("set");
        std::os::unix::fs::symlink("real", at("link")).expect("linked");
        assert_eq!(write(&at("link"), "new").expect("written"), 3);
        assert!(
            fs::symlink_metadata(at("link"))
                .expect("there")
                .is_symlink()
        );
        assert_eq!(fs::read_to_string(at("real")).expect("read"), "new");
        let mode = |name: &str| fs::metadata(at(name)).expect("there").mode() & 0o777;
        assert_eq!(mode("real"), 0o640);
        // A link to what is not there yet makes it there.
        std::os::unix::fs::symlink("later", at("ahead")).expect("linked");
        write(&at("ahead"), "x").expect("written");
        assert_eq!(mode("later"), 0o600);
        // A second name stays a name of the same file.
        fs::hard_link(at("real"), at("second")).expect("linked");
        write(&at("second"), "both").expect("written");
        assert_eq!(fs::read_to_string(at("real")).expect("read"), "both");
        assert!(same_file(&at("real"), &at("second")) && !same_file(&at("real"), &at("later")));
        std::os::unix::fs::symlink("round", at("round")).expect("linked");
        assert!(Replacing::begin(&at("round")).is_err());
        assert!(Replacing::begin(dir.path()).is_err());
    }

    #[test]
    fn what_is_no_plain_file_is_written_through() {
        assert_eq!(write(Path::new("/dev/null"), "gone").expect("written"), 4);
        let kind = fs::metadata("/dev/null").expect("there").file_type();
        assert!(kind.is_char_device());
        // An open file by its number is gone on with and not replaced.
        let mut file = tempfile::tempfile().expect("a file");
        file.write_all(b"before ").expect("written");
        use std::os::fd::AsRawFd;
        write(Path::new(&format!("/dev/fd/{}", file.as_raw_fd())), "after").expect("written");
        use std::io::{Read, Seek};
        file.rewind().expect("rewound");
        let mut text = String::new();
        file.read_to_string(&mut text).expect("read");
        assert_eq!(text, "before after");
    }
}
