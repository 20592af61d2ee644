//! What a file holds, found by reading it: how its rows stand in it, its columns and their types, and what does not fit.

use std::path::Path;

use idle_tide_core::column_type::{ColumnType, Evidence};

use crate::columnar::columns_of;
use crate::convert::Form;
use crate::file::{Encoding, Kind, Spooled, encoding_of, kind_of, text_of};
use crate::gather::{FORMS, Gathered, gather};
use crate::plan::{Asked, ColumnPlan, Proposal, Shape};
use crate::records::rows;
use crate::separated::{Came, Separated};
use crate::{Fields, Mark, Trouble};

/// What does not fit is shown up to here.
const SHOWN: usize = 100;

/// Finds what a file holds.
///
/// # Errors
/// In words: it cannot be read, holds nothing, or is none that is known.
pub fn look(
    file: &Spooled,
    asked: &Asked,
    stopped: &dyn Fn() -> bool,
) -> Result<Proposal, Trouble> {
    let path = file.path();
    if file.size == 0 {
        return Err(Trouble("The file is empty.".into()));
    }
    let kind = kind_of(path)?;
    let encoding = match asked.encoding {
        Some(encoding) => encoding,
        None if kind == Kind::Separated => encoding_of(path)?,
        None => Encoding::Utf8,
    };
    let mut shape = Shape {
        kind,
        encoding,
        separator: asked.separator.unwrap_or(b','),
        quotes: !asked.no_quotes,
        header: false,
        skip: asked.skip.unwrap_or(0),
    };
    let mut names = Vec::new();
    if kind == Kind::Separated {
        if asked.separator.is_none() {
            shape.separator = separator_of(path, &shape)?;
        }
        let mut first = first_rows(path, &shape, 200)?;
        if asked.skip.is_none() && asked.header != Some(false) {
            let titles = titles(&first);
            shape.skip = titles as u64;
            first.drain(..titles);
        }
        first.retain(|row| !row.is_empty());
        let Some(head) = first.first() else {
            return Err(Trouble("The file has no rows.".into()));
        };
        shape.header = asked.header.unwrap_or_else(|| has_header(&first));
        names = match shape.header {
            true => head.iter().map(|(text, _)| text.clone()).collect(),
            false => vec![String::new(); head.len()],
        };
    }
    if let Kind::Columnar = kind {
        let (columns, _) = columns_of(path)?;
        names = columns.into_iter().map(|(name, _)| name).collect();
    }
    let mut proposal = Proposal::of(shape, asked.null.clone());
    let mut seen = gather(file, &mut proposal, &names, stopped)?;
    if seen.not_utf8 && asked.encoding.is_none() && proposal.shape.encoding == Encoding::Utf8 {
        // The beginning was UTF-8 and what follows is not.
        proposal.shape.encoding = Encoding::Latin1;
        let names = seen.columns.iter().map(|column| column.name.clone());
        let names: Vec<String> = names.collect();
        seen = gather(file, &mut proposal, &names, stopped)?;
    }
    let in_doubt = settle(&mut proposal, seen, path)?;
    if proposal.columns.is_empty() {
        return Err(Trouble("The file has no columns.".into()));
    }
    // Where every value is known to fit there is nothing to be found.
    if in_doubt || !proposal.whole {
        check(path, &mut proposal, stopped)?;
    }
    Ok(proposal)
}

/// Makes columns of what was seen; answers whether something may not fit.
fn settle(proposal: &mut Proposal, seen: Gathered, path: &Path) -> Result<bool, Trouble> {
    let mut in_doubt = seen.has_bad || seen.not_utf8;
    let told = match proposal.shape.kind {
        Kind::Columnar => columns_of(path)?.0,
        _ => Vec::new(),
    };
    let mut taken: Vec<String> = Vec::new();
    for (at, column) in seen.columns.into_iter().enumerate() {
        let few = column.evidence.values / 1_000;
        let mut column_type = column.evidence.mostly(few);
        let mut form = Form::Plain;
        if column_type == ColumnType::Text && column.tries_forms {
            let found = FORMS
                .iter()
                .zip(&column.forms)
                .find_map(|(form, evidence)| {
                    let of = evidence.mostly(few);
                    let fits = match form {
                        Form::CommaDecimal => of.is_number(),
                        _ => matches!(of, ColumnType::Date | ColumnType::Moment),
                    };
                    fits.then_some((*form, of))
                });
            // Days that can be read in both ways are left to whoever knows.
            let both = [1, 2]
                .iter()
                .all(|at| column.forms[*at].mostly(few) != ColumnType::Text);
            if let Some((found, of)) =
                found.filter(|(form, _)| !both || *form == Form::CommaDecimal)
            {
                (form, column_type) = (found, of);
            }
        }
        match told.get(at) {
            Some((_, of)) => column_type = *of,
            None => {
                let all = match form {
                    Form::Plain => column.evidence.column_type(),
                    form => {
                        let at = FORMS.iter().position(|other| *other == form).unwrap_or(0);
                        column.forms[at].column_type()
                    }
                };
                in_doubt |= all != column_type;
            }
        }
        let from = match column.name.trim() {
            "" => format!("column_{}", at + 1),
            name => name.to_string(),
        };
        let mut name = from.clone();
        let mut count = 1;
        while taken.iter().any(|other| other.eq_ignore_ascii_case(&name)) {
            count += 1;
            name = format!("{from}_{count}");
        }
        taken.push(name.clone());
        proposal.columns.push(ColumnPlan {
            // A name that two have tells neither.
            from: if proposal.shape.kind == Kind::Separated {
                name.clone()
            } else {
                column.name
            },
            name,
            column_type,
            form,
            skip: false,
            key: false,
            evidence: column.evidence,
            examples: column.examples,
        });
    }
    Ok(in_doubt)
}

/// Reads all rows as they would be loaded, and keeps what does not fit.
///
/// # Errors
/// In words, if the file cannot be read or it was stopped.
pub fn check(
    path: &Path,
    proposal: &mut Proposal,
    stopped: &dyn Fn() -> bool,
) -> Result<(), Trouble> {
    let (mut bad, mut bad_count, mut good) = (Vec::new(), 0, 0);
    rows(
        path,
        proposal,
        &mut |batch| {
            good += batch.lines.len() as u64;
            match stopped() {
                true => Err(Trouble("It was stopped.".into())),
                false => Ok(true),
            }
        },
        &mut |one, _| {
            bad_count += 1;
            if bad.len() < SHOWN {
                bad.push(one);
            }
            Ok(())
        },
    )?;
    proposal.rows = good + bad_count;
    proposal.whole = true;
    (proposal.bad, proposal.bad_count) = (bad, bad_count);
    Ok(())
}

/// The first rows of a file, each field with its mark; nothing for a line that is none.
fn first_rows(
    path: &Path,
    shape: &Shape,
    most: usize,
) -> Result<Vec<Vec<(String, Mark)>>, Trouble> {
    let mut reader = Separated::new(text_of(path, shape.encoding)?, shape.separator);
    if !shape.quotes {
        reader = reader.without_quotes();
    }
    let (mut fields, mut list) = (Fields::default(), Vec::new());
    let mut skip = shape.skip;
    while list.len() < most {
        match reader.next(&mut fields)? {
            Came::End => break,
            _ if skip > 0 => skip -= 1,
            Came::Bad(_) => list.push(Vec::new()),
            Came::Row => {
                let one = |at| {
                    let (bytes, mark) = fields.get(at);
                    (String::from_utf8_lossy(bytes).into_owned(), mark)
                };
                list.push((0..fields.len()).map(one).collect());
            }
        }
    }
    Ok(list)
}

/// The sign that cuts the first rows into as many values each, more than one.
fn separator_of(path: &Path, shape: &Shape) -> Result<u8, Trouble> {
    let mut best = (b',', (0, 0));
    for separator in [b',', b';', b'\t', b'|'] {
        let shape = Shape {
            separator,
            ..shape.clone()
        };
        // A sign that leaves a quote open is not the one.
        let Ok(rows) = first_rows(path, &shape, 100) else {
            continue;
        };
        let width = usual_width(&rows);
        let same = rows.iter().filter(|row| row.len() == width).count();
        if width < 2 {
            continue;
        }
        // Titles in front count a little against it, an odd row further down more.
        let front = rows.iter().take_while(|row| row.len() != width).count();
        let of_rows = same * 10_000 / (rows.len() - front) - front.min(1);
        let score = (of_rows, width);
        if score > best.1 {
            best = (separator, score);
        }
    }
    Ok(best.0)
}

/// How many values most rows have.
fn usual_width(rows: &[Vec<(String, Mark)>]) -> usize {
    let mut counts = std::collections::BTreeMap::new();
    for row in rows {
        *counts.entry(row.len()).or_insert(0) += 1;
    }
    counts
        .into_iter()
        .max_by_key(|(width, count)| (*count, *width))
        .map_or(0, |(width, _)| width)
}

/// Rows in front of the names, as reports have them: most of the values that other rows have are not there, and below stands a row of names over
/// columns of which one at least holds something else than texts.
fn titles(rows: &[Vec<(String, Mark)>]) -> usize {
    const MOST: usize = 20;
    let width = usual_width(rows);
    let is_title = |row: &&Vec<(String, Mark)>| {
        let filled = row.iter().filter(|(text, _)| !text.trim().is_empty());
        filled.count() * 2 <= width
    };
    let count = rows.iter().take_while(is_title).count();
    let Some((head, below)) = rows.get(count..).and_then(<[_]>::split_first) else {
        return 0;
    };
    let told = |at: usize| {
        let mut evidence = Evidence::default();
        let values = below.iter().filter_map(|row| row.get(at));
        values
            .filter(|(text, _)| !text.is_empty())
            .for_each(|(text, _)| evidence.text(text));
        evidence.values > 0 && evidence.column_type() != ColumnType::Text
    };
    let fits = count <= MOST && width > 1 && head.len() == width;
    match fits && has_header(&rows[count..]) && (0..width).any(told) {
        true => count,
        false => 0,
    }
}

/// Whether the first row has names: texts that are all there and differ, where below stand numbers, days or the like, or where
/// nothing tells it from the others.
fn has_header(rows: &[Vec<(String, Mark)>]) -> bool {
    let Some((head, below)) = rows.split_first() else {
        return false;
    };
    let mut names: Vec<String> = head
        .iter()
        .map(|(text, _)| text.trim().to_lowercase())
        .collect();
    let are_names = head.iter().all(|(text, _)| {
        let mut evidence = Evidence::default();
        evidence.text(text.trim());
        !text.trim().is_empty() && evidence.column_type() == ColumnType::Text && text.len() <= 200
    });
    names.sort_unstable();
    names.dedup();
    are_names && names.len() == head.len() && (!below.is_empty() || head.len() > 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn looked(
        name: &str,
        text: impl AsRef<[u8]>,
    ) -> (tempfile::TempDir, Spooled, Result<Proposal, Trouble>) {
        with(name, text, &Asked::default())
    }

    fn with(
        name: &str,
        text: impl AsRef<[u8]>,
        asked: &Asked,
    ) -> (tempfile::TempDir, Spooled, Result<Proposal, Trouble>) {
        let dir = tempfile::tempdir().expect("a folder");
        let path = dir.path().join(name);
        std::fs::write(&path, text).expect("written");
        let spooled = crate::spool(&path, &|| false).expect("there");
        let found = look(&spooled, asked, &|| false);
        (dir, spooled, found)
    }

    fn types(proposal: &Proposal) -> String {
        let one = |column: &ColumnPlan| match column.form {
            Form::Plain => format!("{} {}", column.name, column.column_type),
            form => format!("{} {} {}", column.name, column.column_type, form.name()),
        };
        proposal
            .columns
            .iter()
            .map(one)
            .collect::<Vec<_>>()
            .join(", ")
    }

    #[test]
    fn separators_headers_types_and_forms_are_found() {
        for (text, wanted) in [
            ("id,name\n1,Heron\n2,\"Grey, x\"\n", "id integer, name text"),
            (
                "id;dues;day\n1;1.240,50;1.3.2031\n2;7,25;31.12.2030\n",
                "id integer, dues decimal(6,2) comma, day date dmy",
            ),
            ("1\ta\n2\tb\n", "column_1 integer, column_2 text"),
            ("day\n01/02/2031\n03/04/2031\n", "day text"),
            (
                "day|n\n01/22/2031|1\n03/04/2031|2\n",
                "day date mdy, n integer",
            ),
            ("zip,n\n00712,1\n12345,2\n", "zip text, n integer"),
            (
                "a,a,\nx,1,2\ny,3,4\n",
                "column_1 text, column_2 text, column_3 integer",
            ),
            ("a,A\nx,1\n", "column_1 text, column_2 text"),
            ("name,port\nHeron,Old Quay\n", "name text, port text"),
            // What reports have above the names of their columns.
            (
                "Landings, 2031\n\nid;dues;port\n1;2,5;Mole\n2;3,5;Quay\n",
                "id integer, dues decimal(2,1) comma, port text",
            ),
            (
                "Landings,,\nMarch,,\nid,kg,port\n1,2.5,Mole\n2,3.5,Quay\n",
                "id integer, kg decimal(2,1), port text",
            ),
            // A first row that lacks values, and one that has names for fewer columns, are none.
            (
                "Mole,,\nQuay,a,b\nSpit,c,d\n",
                "column_1 text, column_2 text, column_3 text",
            ),
            ("a\n1,2\n3,4\n", "a text"),
        ] {
            let (_dir, _, found) = looked("t.csv", text);
            assert_eq!(types(&found.expect("a proposal")), wanted, "{text}");
        }
    }

    #[test]
    fn a_few_lines_that_do_not_fit_are_told_and_the_rest_is_what_it_is() {
        let mut text = String::from("id,dues,note\n");
        for row in 1..=3_000 {
            text.push_str(&format!("{row},{row}.50,\"n {row}\"\n"));
        }
        text.push_str("3001,n/a,x\n3002,1.5\n3003,2.50,\"y\" z\n");
        let (_dir, spooled, found) = looked("t.csv", &text);
        let proposal = found.expect("a proposal");
        assert_eq!(types(&proposal), "id integer, dues decimal(6,2), note text");
        let bad: Vec<String> = proposal.bad.iter().map(crate::Bad::to_string).collect();
        assert_eq!(
            bad,
            [
                "line 3002, dues: 'n/a' is no decimal(6,2)",
                "line 3003: has 2 values, and the others have 3",
                "line 3004: ' z' stands behind a closing quote"
            ]
        );
        assert_eq!((proposal.rows, proposal.bad_count), (3_003, 3));
        let (mut good, mut refused) = (0, Vec::new());
        rows(
            spooled.path(),
            &proposal,
            &mut |batch| {
                good += batch.rows.len();
                assert_eq!(batch.rows.len(), batch.lines.len());
                Ok(true)
            },
            &mut |bad, _| {
                refused.push(bad.line);
                Ok(())
            },
        )
        .expect("rows");
        assert_eq!((good, refused), (3_000, vec![3_002, 3_003, 3_004]));
    }

    #[test]
    fn nothing_is_null_and_an_empty_text_stays_one() {
        let text = "a,b,c\n,\"\",1\nx,NULL,\"\"\n";
        let values = |asked: &Asked| {
            let (_dir, spooled, found) = with("t.csv", text, asked);
            let proposal = found.expect("a proposal");
            let mut list = Vec::new();
            rows(
                spooled.path(),
                &proposal,
                &mut |batch| {
                    for row in batch.rows.rows() {
                        list.push(
                            row.values()
                                .map(|v| v.plain())
                                .collect::<Vec<_>>()
                                .join("|"),
                        );
                    }
                    Ok(true)
                },
                &mut |bad, _| panic!("{bad}"),
            )
            .expect("rows");
            list
        };
        assert_eq!(values(&Asked::default()), ["null||1", "x|NULL|null"]);
        let asked = Asked {
            null: Some("NULL".into()),
            ..Asked::default()
        };
        assert_eq!(values(&asked), ["||1", "x|null|null"]);
    }

    #[test]
    fn documents_have_columns_and_strings_stay_texts() {
        let text = "{\"_id\": 1, \"code\": \"007\", \"at\": {\"x\": [1]}}\n{\"_id\": 2, \"new\": 2.5}\n{\"_id\": 3, \"new\": 1, \"new\": 2}\n{\"_id\": \n";
        let (_dir, _, found) = looked("t.jsonl", text);
        let proposal = found.expect("a proposal");
        assert_eq!(
            types(&proposal),
            "_id integer, code text, at json, new decimal(2,1)"
        );
        // An empty text is one, and no missing number.
        let (_dir, _, found) = looked("t.jsonl", "{\"n\": 1}\n{\"n\": \"\"}\n");
        assert_eq!(types(&found.expect("a proposal")), "n text");
        let bad: Vec<String> = proposal.bad.iter().map(crate::Bad::to_string).collect();
        assert_eq!(
            bad[0],
            "line 3, new: is a field that the document has twice"
        );
        assert!(bad.len() == 2 && bad[1].starts_with("line 4: "), "{bad:?}");
    }

    /// Columns come in however they were packed.
    #[test]
    fn every_compression_of_columns_is_read() {
        use parquet::basic::{BrotliLevel, Compression, GzipLevel, ZstdLevel};
        use parquet::data_type::{ByteArray, ByteArrayType, Int64Type};
        use parquet::file::properties::WriterProperties;
        use parquet::file::writer::SerializedFileWriter;

        let schema = "message haul { required int64 id; required binary species (utf8); }";
        let schema = parquet::schema::parser::parse_message_type(schema).expect("a schema");
        let schema = std::sync::Arc::new(schema);
        for packed in [
            Compression::UNCOMPRESSED,
            Compression::SNAPPY,
            Compression::GZIP(GzipLevel::default()),
            Compression::ZSTD(ZstdLevel::default()),
            Compression::BROTLI(BrotliLevel::default()),
            Compression::LZ4,
            Compression::LZ4_RAW,
        ] {
            let properties = WriterProperties::builder().set_compression(packed).build();
            let mut written = Vec::new();
            let mut file =
                SerializedFileWriter::new(&mut written, schema.clone(), properties.into())
                    .expect("begins");
            let mut group = file.next_row_group().expect("a group");
            let mut column = group.next_column().expect("goes on").expect("a column");
            let ids: Vec<i64> = (0..500).collect();
            column
                .typed::<Int64Type>()
                .write_batch(&ids, None, None)
                .expect("ids");
            column.close().expect("ends");
            let mut column = group.next_column().expect("goes on").expect("a column");
            let species = vec![ByteArray::from("cod"); 500];
            column
                .typed::<ByteArrayType>()
                .write_batch(&species, None, None)
                .expect("texts");
            column.close().expect("ends");
            group.close().expect("ends");
            file.close().expect("ends");
            let (_dir, path, found) = looked("t.parquet", written);
            let proposal = found.unwrap_or_else(|trouble| panic!("{packed:?}: {}", trouble.0));
            assert_eq!(types(&proposal), "id integer, species text", "{packed:?}");
            let mut read = 0;
            crate::rows(
                path.path(),
                &proposal,
                &mut |batch| {
                    read += batch.rows.len();
                    Ok(true)
                },
                &mut |bad, _| panic!("{packed:?}: {bad}"),
            )
            .expect("reads");
            assert_eq!(read, 500, "{packed:?}");
        }
    }

    #[test]
    fn what_cannot_be_read_says_so() {
        for (name, text, words) in [
            ("t.csv", "", "is empty"),
            ("t.csv", "\n\n", "no rows"),
            ("t.csv", "a,b\n1,\"open", "never closed"),
            ("t.parquet", "PAR1 and nothing", "as Parquet"),
        ] {
            let (_dir, _, found) = looked(name, text);
            let error = found.expect_err(words).0;
            assert!(error.contains(words), "{text:?}: {error}");
        }
    }
}
