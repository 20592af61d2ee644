//! Rows that do not fit, kept beside their file.

use std::io::Write;
use std::path::{Path, PathBuf};

use idle_tide_core::{Column, RowBatch, ValueRef};
use idle_tide_draw::Layout;
use idle_tide_draw::export::{CSV, writer};
use idle_tide_intake::{Bad, Fields, Kind, Mark, Proposal, Trouble};

use crate::export::Replacing;

/// Writes rows that do not fit into a file beside, which can be loaded again.
pub(super) struct Beside {
    path: PathBuf,
    file: Option<Replacing>,
    head: Vec<u8>,
    separator: u8,
    count: u64,
}

impl Beside {
    /// What belongs beside a file.
    pub(super) fn of(path: &Path, proposal: &Proposal) -> Self {
        let name = match path.as_os_str() == "-" {
            true => "standard-input".into(),
            false => path
                .file_stem()
                .unwrap_or_default()
                .to_string_lossy()
                .into_owned(),
        };
        let folder = path.parent().filter(|_| path.as_os_str() != "-");
        let mut beside = Beside {
            path: folder
                .unwrap_or(Path::new(""))
                .join(format!("{name}.refused.csv")),
            file: None,
            head: Vec::new(),
            separator: b',',
            count: 0,
        };
        if proposal.shape.kind == Kind::Separated {
            beside.separator = proposal.shape.separator;
        }
        if proposal.shape.header || proposal.shape.kind != Kind::Separated {
            let names: Vec<_> = proposal.columns.iter().map(|c| c.from.as_str()).collect();
            beside.head =
                beside.line(&names.iter().map(|n| Some(n.as_bytes())).collect::<Vec<_>>());
        }
        beside
    }

    /// A row between separators.
    fn line(&self, values: &[Option<&[u8]>]) -> Vec<u8> {
        let mut out = Vec::new();
        let layout = Layout {
            separator: Some(self.separator),
            header: false,
            ..Layout::of(&CSV)
        };
        let columns: Vec<_> = values.iter().map(|_| Column::default()).collect();
        let mut batch = RowBatch::new();
        batch.push_row(values.iter().map(|value| match value {
            Some(bytes) => ValueRef::RawText(bytes),
            None => ValueRef::Null,
        }));
        let mut made = writer(layout, &mut out);
        // Writing into memory does not fail.
        let _ = made
            .columns(&columns)
            .and_then(|()| made.rows(&batch))
            .and_then(|()| made.finish());
        drop(made);
        out
    }

    /// Keeps a row.
    pub(super) fn put(&mut self, bad: &Bad, fields: Option<&Fields>) -> Result<(), Trouble> {
        self.count += 1;
        let line = match fields {
            Some(fields) => {
                let null = |at: usize| {
                    let (bytes, mark) = fields.get(at);
                    (mark != Mark::Null && mark != Mark::Missing).then_some(bytes)
                };
                self.line(&(0..fields.len()).map(null).collect::<Vec<_>>())
            }
            None if bad.raw.is_empty() => return Ok(()),
            None => [&bad.raw[..], b"\n"].concat(),
        };
        let file = match &mut self.file {
            Some(file) => file,
            None => {
                let mut file = Replacing::begin(&self.path)?;
                file.write_all(&self.head)?;
                self.file.insert(file)
            }
        };
        Ok(file.write_all(&line)?)
    }

    /// Puts the file in its place, if there is one; how many rows did not fit.
    pub(super) fn end(self) -> Result<(u64, Option<PathBuf>), Trouble> {
        match self.file {
            Some(file) => {
                file.commit()?;
                Ok((self.count, Some(self.path)))
            }
            None => Ok((self.count, None)),
        }
    }
}
