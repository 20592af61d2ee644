//! What the program remembers between sessions besides statements: settings the user chose, and when each
//! source was last visited.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use toml_edit::{DocumentMut, Item, TableLike};

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
    /// Half-written text.
    pub drafts: PathBuf,
    /// Changes that are held.
    pub holds: PathBuf,
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
            drafts: state.join("drafts"),
            holds: state.join("holds"),
        })
    }
}

/// A file of so many bytes holds no settings.
const LARGEST: u64 = 4 << 20;

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
    /// A file in which what happens is written down.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub log: Option<PathBuf>,
    /// Patterns of the names of columns whose values are covered, in the place of the usual ones.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub covered: Option<Vec<String>>,
    /// Changes that name rows by their key are looked at before they are kept from so many rows on.
    #[serde(rename = "look-from", skip_serializing_if = "Option::is_none")]
    pub look_from: Option<usize>,
    /// How long a change is held before it is taken back by itself, in minutes; none is held when it is 0.
    #[serde(rename = "hold-minutes", skip_serializing_if = "Option::is_none")]
    pub hold_minutes: Option<f64>,
    /// Limits by their names ([`idle_tide_core::limits`]), where they are not the usual ones.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub limits: BTreeMap<String, i64>,
    /// Keys by the names of their rows, where they are not the usual ones.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub keys: BTreeMap<String, String>,
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
        if let Ok(there) = std::fs::metadata(path) {
            let why = match there.len() {
                _ if !there.is_file() => Some("it is no plain file"),
                LARGEST.. => Some("settings do not have 4 MB"),
                _ => None,
            };
            if let Some(why) = why {
                return Err(format!("{} is not read: {why}", path.display()));
            }
        }
        match std::fs::read_to_string(path) {
            Ok(text) => toml::from_str(&text)
                .map_err(|error| format!("{} is not read: {error}", path.display())),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Settings::default()),
            Err(error) => Err(format!("{} is not read: {error}", path.display())),
        }
    }

    /// Makes the limits those of these settings; answers what is wrong with them, a sentence each.
    pub fn set_limits(&self) -> Vec<String> {
        let set = |(name, value): (&String, &i64)| idle_tide_core::limits::set(name, *value).err();
        self.limits.iter().filter_map(set).collect()
    }

    /// Changes the settings file as it is now: what is not changed keeps its place, its comments and its spelling.
    /// Answers the settings as they are then.
    ///
    /// # Errors
    /// In words, if the file cannot be read or written; it is as it was then.
    pub fn change(path: &Path, change: impl FnOnce(&mut Self)) -> Result<Self, String> {
        let mut settings = Self::read(path)?;
        let text = match std::fs::read_to_string(path) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound => String::new(),
            Err(error) => return Err(format!("{} is not read: {error}", path.display())),
        };
        let mut document: DocumentMut = text
            .parse()
            .map_err(|error| format!("{} is not read: {error}", path.display()))?;
        let as_written = |settings: &Settings| {
            toml_edit::ser::to_document(settings)
                .map_err(|error| format!("The settings cannot be written: {error}."))
        };
        let before = as_written(&settings)?;
        change(&mut settings);
        let after = as_written(&settings)?;
        merge(document.as_table_mut(), before.as_table(), after.as_table());
        replace(path, document.to_string().as_bytes())
            .map_err(|error| format!("{} cannot be written: {error}.", path.display()))?;
        Ok(settings)
    }
}

/// Makes in `there` the changes that lead from `before` to `after`.
fn merge(there: &mut dyn TableLike, before: &dyn TableLike, after: &dyn TableLike) {
    for (name, _) in before.iter().filter(|(name, _)| !after.contains_key(name)) {
        there.remove(name);
    }
    for (name, new) in after.iter() {
        let old = before.get(name);
        if old.is_some_and(|old| old.to_string().trim() == new.to_string().trim()) {
            continue;
        }
        match (there.get_mut(name), new) {
            (Some(Item::Value(value)), Item::Value(new)) if !value.is_inline_table() => {
                // A comment behind the value stays.
                let decor = value.decor().clone();
                *value = new.clone();
                *value.decor_mut() = decor;
            }
            (Some(item), new) if item.is_table_like() && new.as_table_like().is_some() => {
                let none = toml_edit::Table::new();
                let old = old.and_then(Item::as_table_like).unwrap_or(&none);
                if let (Some(there), Some(new)) = (item.as_table_like_mut(), new.as_table_like()) {
                    merge(there, old, new);
                }
            }
            (_, new) => {
                there.insert(name, shaped(new));
            }
        }
    }
}

/// A new part as it is usually written: tables under their own headings.
fn shaped(item: &Item) -> Item {
    match item.clone().into_table() {
        Ok(mut table) => {
            let parts: Vec<(String, Item)> = table
                .iter()
                .map(|(name, part)| (name.to_string(), shaped(part)))
                .collect();
            table.set_implicit(parts.iter().all(|(_, part)| part.is_table()) && !parts.is_empty());
            for (name, part) in parts {
                table.insert(&name, part);
            }
            Item::Table(table)
        }
        Err(other) => other,
    }
}

/// What is said of settings that cannot be read, for the reason `words`.
pub fn unreadable(words: &str) -> String {
    format!(
        "{words}. Until that is mended nothing is written, whatever they say of it; /writes ask allows it here."
    )
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
    fn a_change_keeps_comments_order_and_what_is_not_known() {
        let dir = tempfile::tempdir().expect("dir");
        let path = dir.path().join("settings.toml");
        let text = "# mine, by hand\nlater = 3\n\ntheme = \"shoal\"   # light\n\n# the shed\n[sources.shed]\nvia = 'gate' # over the gate\naddress   = 'postgres://mate@shed/books'\nunknown = [1, 2]\n\n[sources.mill] # the mill\naddress = \"mariadb://mill\"\n";
        std::fs::write(&path, text).expect("written");
        // What is not changed is not touched, to the last byte.
        Settings::change(&path, |_| {}).expect("changed");
        assert_eq!(std::fs::read_to_string(&path).expect("read"), text);
        let changed = Settings::change(&path, |settings| {
            settings.theme = Some("deep".into());
            let shed = settings.sources.get_mut("shed").expect("there");
            shed.tone = Some(Tone::Danger);
            shed.via = None;
            settings.sources.remove("mill");
            let quay = Saved {
                address: "mongodb://quay".into(),
                ..Saved::default()
            };
            settings.sources.insert("quay".into(), quay);
        })
        .expect("changed");
        let now = std::fs::read_to_string(&path).expect("read");
        assert_eq!(
            now,
            "# mine, by hand\nlater = 3\n\ntheme = \"deep\"   # light\n\n# the shed\n[sources.shed]\naddress   = 'postgres://mate@shed/books'\nunknown = [1, 2]\ntone = \"danger\"\n\n[sources.quay]\naddress = \"mongodb://quay\"\n"
        );
        assert_eq!(Settings::read(&path).expect("read"), changed);
        // What cannot be read is not written over.
        std::fs::write(&path, "theme = ").expect("written");
        let error = Settings::change(&path, |_| {}).expect_err("no TOML");
        assert!(error.contains("settings.toml"), "{error}");
        assert_eq!(std::fs::read_to_string(&path).expect("read"), "theme = ");
        // Where there is nothing yet it is made.
        let new = dir.path().join("new/settings.toml");
        Settings::change(&new, |settings| settings.theme = Some("plain".into())).expect("made");
        assert_eq!(
            std::fs::read_to_string(&new).expect("read"),
            "theme = \"plain\"\n"
        );
    }
}
