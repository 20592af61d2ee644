//! What the values of a file say of its columns: every row is read, of a large file in several threads.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;

use idle_tide_core::column_type::{ColumnType, Evidence};

use crate::columnar::columns_of;
use crate::convert::Form;
use crate::file::{Encoding, Kind, Spooled};
use crate::plan::{Proposal, Shape};
use crate::records::fields;
use crate::separated::{Came, Separated};
use crate::{Fields, Mark, Seen, Trouble};

/// Bytes of a file that is read whole to find its types.
const WHOLE: u64 = 4 << 30;
/// Rows that are looked at of a larger one.
const SAMPLE: u64 = 10_000_000;
/// Columns of one file.
const COLUMNS: usize = 20_000;
/// How a large file is cut into parts.
struct Cut {
    /// Rows that are looked at before: what is tried at the beginning of a file is settled then.
    first: u64,
    /// Bytes of a part.
    part: u64,
    /// How many are looked at at once.
    threads: usize,
}
const FIRST: u64 = 2_000;
const PART: u64 = 8 << 20;
/// Bytes of a row of a part, at most: what begins within quotes may look like a row without an end.
const LONGEST: usize = 4 << 20;

/// What was seen of a column.
#[derive(Default)]
pub(crate) struct Column {
    pub name: String,
    pub evidence: Evidence,
    /// The same with numbers and days in the forms of people.
    pub forms: [Evidence; 3],
    pub tries_forms: bool,
    pub examples: Vec<String>,
}

/// What was seen of a file.
#[derive(Default)]
pub(crate) struct Gathered {
    pub columns: Vec<Column>,
    pub not_utf8: bool,
    /// Whether something was none of the rows.
    pub has_bad: bool,
    has_nul: bool,
    rows: u64,
}

pub(crate) const FORMS: [Form; 3] = [Form::CommaDecimal, Form::DayFirst, Form::MonthFirst];

impl Column {
    fn named(name: &str) -> Self {
        Column {
            name: name.to_string(),
            tries_forms: true,
            ..Column::default()
        }
    }

    fn see(&mut self, text: &str, mark: Mark) {
        if mark == Mark::Text {
            self.evidence.said_text(text);
        } else {
            self.evidence.text(text);
        }
        if self.examples.len() < 3 {
            let end = text.char_indices().nth(40).map_or(text.len(), |(at, _)| at);
            self.keep(&text[..end]);
        }
        if self.tries_forms {
            for (form, evidence) in FORMS.iter().zip(&mut self.forms) {
                let plain = form.plain(text);
                evidence.text(&plain);
            }
        }
    }

    fn keep(&mut self, example: &str) {
        if self.examples.len() < 3 && self.examples.iter().all(|other| other != example) {
            self.examples.push(example.to_string());
        }
    }

    /// Goes on trying forms or not: few columns are written in such forms, and it shows at once.
    fn settle_forms(&mut self) {
        let narrow =
            |evidence: &Evidence| evidence.mostly(evidence.values / 50) != ColumnType::Text;
        self.tries_forms = self.tries_forms
            && (self.evidence.values < 50
                || !narrow(&self.evidence) && self.forms.iter().any(narrow));
    }

    /// Adds what was seen of it further on.
    fn merge(&mut self, other: Column) {
        self.evidence.merge(&other.evidence);
        for (own, other) in self.forms.iter_mut().zip(&other.forms) {
            own.merge(other);
        }
        other.examples.iter().for_each(|text| self.keep(text));
    }
}

impl Gathered {
    fn of(names: &[String]) -> Self {
        Gathered {
            columns: names.iter().map(|name| Column::named(name)).collect(),
            ..Gathered::default()
        }
    }

    /// Nothing yet, of columns that try what these try.
    fn fresh(&self) -> Self {
        let column = |own: &Column| Column {
            tries_forms: own.tries_forms,
            ..Column::default()
        };
        Gathered {
            columns: self.columns.iter().map(column).collect(),
            ..Gathered::default()
        }
    }

    /// Sees a line, which may be no row.
    fn line(&mut self, fields: Option<&Fields>, null: Option<&str>) {
        match fields {
            Some(fields) => self.row(fields, null),
            None => self.has_bad = true,
        }
    }

    /// Sees a row.
    fn row(&mut self, fields: &Fields, null: Option<&str>) {
        self.rows += 1;
        if fields.len() != self.columns.len() {
            self.has_bad = true;
            return;
        }
        self.has_nul |= fields.has_nul();
        let whole = fields.text();
        for (at, column) in self.columns.iter_mut().enumerate() {
            let (bytes, mark) = fields.get(at);
            if crate::records::is_null(bytes, mark, ColumnType::Text, null) {
                column.evidence.nulls += 1;
            } else if bytes.is_empty() && mark != Mark::Text {
                // A text, or a null of whoever puts quotes around everything.
            } else {
                match whole.and_then(|text| fields.part(text, at)) {
                    Some(text) => column.see(text, mark),
                    None => match std::str::from_utf8(bytes) {
                        Ok(text) => column.see(text, mark),
                        Err(_) => self.not_utf8 = true,
                    },
                }
            }
        }
    }

    fn settle_forms(&mut self) {
        self.columns.iter_mut().for_each(Column::settle_forms);
    }

    fn merge(&mut self, other: Gathered) {
        self.not_utf8 |= other.not_utf8;
        self.has_bad |= other.has_bad;
        self.has_nul |= other.has_nul;
        self.rows += other.rows;
        for (own, other) in self.columns.iter_mut().zip(other.columns) {
            own.merge(other);
        }
    }
}

/// Sees the rows of a file; the proposal gets their number, and whether these are all.
pub(crate) fn gather(
    file: &Spooled,
    proposal: &mut Proposal,
    names: &[String],
    stopped: &dyn Fn() -> bool,
) -> Result<Gathered, Trouble> {
    let mut seen = Gathered::of(names);
    (proposal.rows, proposal.has_nul) = (0, false);
    let kind = proposal.shape.kind;
    if kind == Kind::Columnar {
        let (_, rows) = columns_of(file.path())?;
        proposal.rows = rows;
        return Ok(seen);
    }
    let whole = file.size <= WHOLE;
    let in_parts = kind == Kind::Separated
        && proposal.shape.encoding == Encoding::Utf8
        && (PART..=WHOLE).contains(&file.size);
    let cut = Cut {
        first: FIRST,
        part: PART,
        threads: std::thread::available_parallelism().map_or(1, usize::from),
    };
    if in_parts && let Some(seen) = gather_in_parts(file, proposal, names, &cut, stopped)? {
        (proposal.rows, proposal.whole) = (seen.rows, true);
        proposal.has_nul = seen.has_nul;
        return Ok(seen);
    }
    let null = proposal.null.clone();
    let mut all = true;
    fields(file.path(), &proposal.shape, names, &mut |came| {
        let Seen::Row(fields, known) = came else {
            seen.has_bad = true;
            return Ok(true);
        };
        if kind == Kind::Documents {
            while seen.columns.len() < known.len() {
                if seen.columns.len() == COLUMNS {
                    return Err(Trouble(format!(
                        "The documents have more than {COLUMNS} different fields. Load them into a collection, which keeps them as they are."
                    )));
                }
                let mut new = Column::named(&known[seen.columns.len()]);
                new.evidence.nulls = seen.rows;
                seen.columns.push(new);
            }
        }
        seen.row(fields, null.as_deref());
        if seen.rows < FIRST || seen.rows.is_multiple_of(4_096) {
            seen.settle_forms();
        }
        if seen.rows.is_multiple_of(4_096) && stopped() {
            return Err(Trouble("It was stopped.".into()));
        }
        all = whole || seen.rows < SAMPLE;
        Ok(all)
    })?;
    seen.settle_forms();
    (proposal.rows, proposal.whole, proposal.has_nul) = (seen.rows, all, seen.has_nul);
    Ok(seen)
}

/// A part of a file that was looked at: where it really ended, which is where the next one must have begun.
struct Part {
    seen: Gathered,
    from: u64,
    to: u64,
}

/// Sees the rows of a large file in several parts at once. A part begins behind some line break, which need not be the end of a row; so what
/// was seen of it counts only if the part before ended there. Nothing where a part cannot be read, so that whoever reads from the
/// beginning says where and why.
fn gather_in_parts(
    file: &Spooled,
    proposal: &Proposal,
    names: &[String],
    cut: &Cut,
    stopped: &dyn Fn() -> bool,
) -> Result<Option<Gathered>, Trouble> {
    let (path, shape) = (file.path(), &proposal.shape);
    let null = proposal.null.as_deref();
    let mut skip = shape.skip + u64::from(shape.header);
    let beginning = |seen: &mut Gathered, fields: Option<&Fields>| {
        if skip > 0 {
            skip -= 1;
            return true;
        }
        seen.line(fields, null);
        seen.settle_forms();
        seen.rows < cut.first
    };
    let Ok(first) = see_part(path, shape, 0, Gathered::of(names), beginning, u64::MAX) else {
        return Ok(None);
    };
    let (mut seen, mut from) = (first.seen, first.to);
    while from < file.size {
        if stopped() {
            return Err(Trouble("It was stopped.".into()));
        }
        let looked = std::thread::scope(|scope| {
            let one = |number: usize| {
                let begins = from + number as u64 * cut.part;
                let fresh = seen.fresh();
                scope.spawn(move || {
                    // A row that begins there ends the one before.
                    let begins = match number {
                        0 => begins,
                        _ => behind_line(path, begins - 1)?,
                    };
                    let each = |seen: &mut Gathered, fields: Option<&Fields>| {
                        seen.line(fields, null);
                        true
                    };
                    see_part(
                        path,
                        shape,
                        begins,
                        fresh,
                        each,
                        from + (number as u64 + 1) * cut.part,
                    )
                })
            };
            let begun: Vec<_> = (0..cut.threads).map(one).collect();
            begun
                .into_iter()
                .map(|part| part.join())
                .collect::<Vec<_>>()
        });
        let began = from;
        for (number, part) in looked.into_iter().enumerate() {
            match part {
                Ok(Ok(part)) if part.from == from => {
                    from = part.to;
                    seen.merge(part.seen);
                }
                // It began within a row: the next round begins where the one before ended.
                _ if number > 0 => break,
                _ => return Ok(None),
            }
        }
        // The file is shorter than it was.
        if from == began {
            return Ok(None);
        }
        seen.settle_forms();
    }
    Ok(Some(seen))
}

/// The place behind the first line break from here on.
fn behind_line(path: &Path, from: u64) -> Result<u64, Trouble> {
    let mut file = File::open(path)?;
    file.seek(SeekFrom::Start(from))?;
    let (mut buffer, mut at) = (vec![0; 64 * 1024], from);
    loop {
        let count = file.read(&mut buffer)?;
        match memchr::memchr(b'\n', &buffer[..count]) {
            Some(found) => return Ok(at + found as u64 + 1),
            None if count == 0 => return Ok(at),
            None => at += count as u64,
        }
    }
}

/// Sees rows from a place on until one begins at another place or behind it, or `each`, which gets nothing for a line that is no row, wants
/// no more.
fn see_part(
    path: &Path,
    shape: &Shape,
    from: u64,
    mut seen: Gathered,
    mut each: impl FnMut(&mut Gathered, Option<&Fields>) -> bool,
    to: u64,
) -> Result<Part, Trouble> {
    let mut file = File::open(path)?;
    let mut mark = [0; 3];
    let marked = from == 0 && file.read(&mut mark)? == 3 && mark == *b"\xef\xbb\xbf";
    let begins = if marked { 3 } else { from };
    file.seek(SeekFrom::Start(begins))?;
    let mut reader = Separated::new(file, shape.separator).with_rows_below(LONGEST);
    if !shape.quotes {
        reader = reader.without_quotes();
    }
    let mut fields = Fields::default();
    while begins + reader.position() < to {
        let row = match reader.next(&mut fields)? {
            Came::End => break,
            Came::Row => Some(&fields),
            Came::Bad(_) => None,
        };
        if !each(&mut seen, row) {
            break;
        }
    }
    Ok(Part {
        seen,
        from,
        to: begins + reader.position(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// What was seen, in words: of each column its types, how many values it has and what they may be.
    fn told(seen: &Gathered) -> String {
        let columns = seen.columns.iter().map(|column| {
            let of = &column.evidence;
            let all = of.column_type();
            let most = of.mostly(1);
            let (values, nulls, longest) = (of.values, of.nulls, of.longest);
            format!(
                "{all} {most} {values} {nulls} {longest} {:?}",
                column.examples
            )
        });
        let columns: Vec<String> = columns.collect();
        let flags = (seen.rows, seen.not_utf8, seen.has_bad, seen.has_nul);
        format!("{columns:?} {flags:?}")
    }

    fn both_ways(text: &[u8], cut: &Cut) -> (Result<String, Trouble>, Option<String>) {
        let mut file = tempfile::NamedTempFile::new().expect("a file");
        std::io::Write::write_all(&mut file, text).expect("written");
        let file = Spooled::own(file, text.len() as u64);
        let shape = Shape {
            kind: Kind::Separated,
            encoding: Encoding::Utf8,
            separator: b',',
            quotes: true,
            header: true,
            skip: 0,
        };
        let mut proposal = Proposal::of(shape, None);
        let names = ["a".to_string(), "b".to_string()];
        let parts = gather_in_parts(&file, &proposal, &names, cut, &|| false).expect("goes on");
        let one = gather(&file, &mut proposal, &names, &|| false);
        (one.map(|seen| told(&seen)), parts.map(|seen| told(&seen)))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        /// What is seen in parts is what is seen from the beginning to the end, wherever they are cut: within quotes, between the
        /// bytes of a line break or of a character, behind quotes that open nothing.
        #[test]
        fn parts_are_the_whole(
            rows in prop::collection::vec("(\"(a|\"\"|,|\n|7){0,5}\"|5\" x|[0-9]{1,3}|é|\u{0}|),(\"[\n,7]{0,3}\"|[0-9.]{0,4}|2031-03-0[1-9])(\n|\r\n|,x\n|\n\n)", 0..40),
            part in 3_u64..60,
            first in 1_u64..4,
            threads in 1_usize..4,
        ) {
            let text = format!("a,b\n{}", rows.concat());
            let (one, parts) = both_ways(text.as_bytes(), &Cut { first, part, threads });
            prop_assert_eq!(one.ok(), parts);
        }
    }

    #[test]
    fn what_cannot_be_read_in_parts_is_read_from_the_beginning() {
        let cut = Cut {
            first: 1,
            part: 8,
            threads: 2,
        };
        let (one, parts) = both_ways(b"a,b\n1,2\n3,4\n5,\"open\n7,8\n9,10\n", &cut);
        assert!(one.expect_err("open").0.contains("opens in line 4"));
        assert_eq!(parts, None);
        let (one, parts) = both_ways(b"\xef\xbb\xbfa,b\n1,\xe9\n3,4\n5,6\n7,8\n", &cut);
        assert_eq!(one.ok(), parts);
        assert!(parts.is_some_and(|told| told.contains("(4, true, false, false)")));
    }
}
