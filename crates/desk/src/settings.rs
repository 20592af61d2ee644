//! What the program remembers between sessions besides statements: settings the user chose, and when each
//! source was last visited.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::replacing::replace;

/// The directories of one user.
#[derive(Debug, Clone)]
pub struct Places {
    /// Settings.
    pub settings: PathBuf,
    /// History of statements.
    pub history: PathBuf,
    /// Last visits.
    pub visits: PathBuf,
}

impl Places {
    /// The places the system names for this user; `None` without a home directory.
    pub fn of_user() -> Option<Self> {
        let dirs = directories::ProjectDirs::from("", "", "idle-tide")?;
        let state = dirs.state_dir().unwrap_or(dirs.data_dir());
        Some(Places {
            settings: dirs.config_dir().join("settings.toml"),
            history: state.join("history.jsonl"),
            visits: state.join("visits.json"),
        })
    }
}

/// How carefully a source is to be treated; it colours the bearings.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Tone {
    /// Nothing hangs on it.
    #[default]
    Calm,
    /// Others work with it.
    Care,
    /// The harbour depends on it.
    Danger,
}

impl Tone {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Tone::Calm => "calm",
            Tone::Care => "care",
            Tone::Danger => "danger",
        }
    }
}

/// How writes are treated.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Writes {
    /// Those that sweep are asked about.
    Ask,
    /// They run.
    Free,
    /// The engine refuses them.
    None,
}

impl Writes {
    /// The way of this name, if there is one.
    pub fn named(word: &str) -> Option<Self> {
        match word.to_ascii_lowercase().as_str() {
            "ask" => Some(Writes::Ask),
            "free" => Some(Writes::Free),
            "none" => Some(Writes::None),
            _ => None,
        }
    }

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Writes::Ask => "ask",
            Writes::Free => "free",
            Writes::None => "none",
        }
    }
}

/// A saved source, `[sources.NAME]` in the settings.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Saved {
    /// Its address, without a password.
    pub address: String,
    /// How carefully it is to be treated.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tone: Option<Tone>,
    /// How writes are treated: `ask`, `free` or `none`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub writes: Option<String>,
    /// A secure-shell host to go through, `user@host:port`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub via: Option<String>,
    /// A command whose standard input and output carry the connection.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub through: Option<String>,
    /// A command that prints the password.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub password_command: Option<String>,
    /// Whether the system's key store has the password.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keyring: Option<bool>,
    /// The password in clear: only what the user wrote into the file; this program never does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
    /// What this version does not know is kept.
    #[serde(flatten)]
    pub rest: BTreeMap<String, toml::Value>,
}

impl Saved {
    /// How writes are treated on it, if it says so. A word that means nothing counts as none, the strictest way; it
    /// is given too, to be told.
    pub fn ways_of_writes(&self) -> (Option<Writes>, Option<&str>) {
        match self.writes.as_deref() {
            None => (None, None),
            Some(word) => match Writes::named(word) {
                Some(writes) => (Some(writes), None),
                None => (Some(Writes::None), Some(word)),
            },
        }
    }

    /// What is wrong with the source `name`, in a whole sentence with the way out.
    pub fn trouble(&self, name: &str) -> Option<String> {
        let word = self.ways_of_writes().1?;
        Some(format!(
            "The settings of {name} say writes = \"{word}\", which is none of ask, free and none: nothing is written until that is mended."
        ))
    }
}

/// Settings in `settings.toml`.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Settings {
    /// The theme's name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub theme: Option<String>,
    /// Saved sources by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub sources: BTreeMap<String, Saved>,
    /// What this version does not know is kept.
    #[serde(flatten)]
    pub rest: BTreeMap<String, toml::Value>,
}

impl Settings {
    /// Reads the settings; a file that is not there gives the defaults.
    ///
    /// # Errors
    /// In words, with the place, if the file is not TOML.
    pub fn read(path: &Path) -> Result<Self, String> {
        if std::fs::metadata(path).is_ok_and(|there| !there.is_file()) {
            return Err(format!(
                "{} is not read: it is no plain file",
                path.display()
            ));
        }
        match std::fs::read_to_string(path) {
            Ok(text) => toml::from_str(&text)
                .map_err(|error| format!("{} is not read: {error}", path.display())),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Settings::default()),
            Err(error) => Err(format!("{} is not read: {error}", path.display())),
        }
    }

    /// Writes the settings.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub fn write(&self, path: &Path) -> io::Result<()> {
        let text = toml::to_string(self).map_err(io::Error::other)?;
        replace(path, text.as_bytes())
    }
}

/// What a source was like when it was last opened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Visit {
    /// When, in seconds since 1970 UTC.
    pub at: u64,
    /// Family and version.
    pub server: String,
    /// Where it lay.
    pub place: String,
    /// Tables it had.
    pub tables: u64,
    /// What tells the server from others.
    #[serde(default)]
    pub identity: String,
    /// Who came.
    #[serde(default)]
    pub user: String,
}

/// The last visit under `source`, and from now on this one.
///
/// # Errors
/// If the file cannot be written.
pub fn visit(path: &Path, source: &str, now: &Visit) -> io::Result<Option<Visit>> {
    let mut visits: BTreeMap<String, Visit> = std::fs::read(path)
        .ok()
        .and_then(|bytes| serde_json::from_slice(&bytes).ok())
        .unwrap_or_default();
    let last = visits.insert(source.to_string(), now.clone());
    replace(path, &serde_json::to_vec_pretty(&visits)?)?;
    Ok(last)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_keep_what_they_do_not_know() {
        let dir = tempfile::tempdir().expect("dir");
        let path = dir.path().join("settings.toml");
        std::fs::write(&path, "later = 3\ntheme = \"shoal\"\n").expect("written");
        let mut settings = Settings::read(&path).expect("read");
        assert_eq!(settings.theme.as_deref(), Some("shoal"));
        settings.theme = Some("deep".into());
        settings.write(&path).expect("written");
        let again = Settings::read(&path).expect("read");
        assert_eq!(again, settings);
        assert!(again.rest.contains_key("later"));
        std::fs::write(&path, "theme = ").expect("written");
        assert!(
            Settings::read(&path)
                .expect_err("no TOML")
                .contains("settings.toml")
        );
    }
}
