//! Values between separators (RFC 4180), read so that nothing is lost: whether a value stood in quotes, where its line is, a
//! quote that is never closed. A quote within a value without quotes is a sign like any other.

use std::io::{self, Read};

use crate::{Bad, Fields, Mark};

/// Bytes that are read at once.
const CHUNK: usize = 256 * 1024;
/// Bytes of one row, at most.
const LARGEST: usize = 512 << 20;

/// Reads rows of values between separators.
pub struct Separated<R> {
    input: R,
    separator: u8,
    /// Whether quotes hold values together.
    quotes: bool,
    buffer: Vec<u8>,
    /// What of the buffer is read, and how much of it there is.
    at: usize,
    filled: usize,
    /// Bytes that were in the buffer before these.
    before: u64,
    ended: bool,
    line: u64,
    /// Bytes of one row, at most.
    longest: usize,
}

/// What came.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Came {
    /// A row.
    Row,
    /// A line that is none.
    Bad(Bad),
    /// Nothing more.
    End,
}

impl<R: Read> Separated<R> {
    /// Reads `input`, which is UTF-8 or at least has its ASCII characters where UTF-8 has them.
    pub fn new(input: R, separator: u8) -> Self {
        Separated {
            input,
            separator,
            quotes: true,
            buffer: vec![0; CHUNK],
            at: 0,
            filled: 0,
            before: 0,
            ended: false,
            line: 1,
            longest: LARGEST,
        }
    }

    /// The same, where quotes are signs like any others.
    #[must_use]
    pub fn without_quotes(mut self) -> Self {
        self.quotes = false;
        self
    }

    /// Bytes of the input that are taken: where the next row, or an empty line before it, begins.
    pub fn position(&self) -> u64 {
        self.before + self.at as u64
    }

    /// The same, where no row has so many bytes.
    #[must_use]
    pub(crate) fn with_rows_below(mut self, bytes: usize) -> Self {
        self.longest = bytes;
        self
    }

    /// Reads on, keeping what was not taken yet; whether there is more.
    fn fill(&mut self) -> io::Result<bool> {
        if self.ended {
            return Ok(false);
        }
        self.buffer.copy_within(self.at..self.filled, 0);
        self.filled -= self.at;
        self.before += self.at as u64;
        self.at = 0;
        if self.buffer.len() - self.filled < CHUNK / 2 {
            self.buffer.resize(self.buffer.len() * 2, 0);
        }
        if self.filled > self.longest {
            return Err(io::Error::other(format!(
                "line {} is longer than {} MB",
                self.line,
                self.longest >> 20
            )));
        }
        loop {
            match self.input.read(&mut self.buffer[self.filled..]) {
                Ok(0) => {
                    self.ended = true;
                    return Ok(false);
                }
                Ok(count) => {
                    self.filled += count;
                    return Ok(true);
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
    }

    /// The next row, without empty lines.
    ///
    /// # Errors
    /// Those of the input, and that a row is longer than 512 MB.
    pub fn next(&mut self, fields: &mut Fields) -> io::Result<Came> {
        loop {
            fields.clear();
            fields.line = self.line;
            match self.row(fields)? {
                Some(came) => return Ok(came),
                // More input is needed to see the end of the row; what was taken of it is read again.
                None => {
                    self.fill()?;
                }
            }
        }
    }

    /// A row of what is in the buffer; `None` if its end is not there yet.
    fn row(&mut self, fields: &mut Fields) -> io::Result<Option<Came>> {
        let input = &self.buffer[..self.filled];
        let mut at = self.at;
        // Empty lines are none.
        loop {
            match input.get(at) {
                Some(b'\n') => {
                    self.line += 1;
                    fields.line = self.line;
                    at += 1;
                }
                Some(b'\r') if input.get(at + 1) == Some(&b'\n') => {
                    self.line += 1;
                    fields.line = self.line;
                    at += 2;
                }
                Some(b'\r') if input.get(at + 1).is_none() && !self.ended => return Ok(None),
                _ => break,
            }
        }
        self.at = at;
        if at == input.len() {
            return Ok(self.ended.then_some(Came::End));
        }
        let mut lines = 0;
        loop {
            if self.quotes && input.get(at) == Some(&b'"') {
                let mut from = at + 1;
                loop {
                    let Some(found) = memchr::memchr(b'"', &input[from..]) else {
                        if !self.ended {
                            return Ok(None);
                        }
                        // What was opened and never closed takes the rest of the file with it.
                        return Err(io::Error::other(format!(
                            "the quote that opens in line {} before {} is never closed; mend it, or say --no-quotes if quotes are signs like any others in this file",
                            fields.line + lines,
                            shortened(&input[at + 1..])
                        )));
                    };
                    let end = from + found;
                    fields.bytes.extend_from_slice(&input[from..end]);
                    lines += memchr::memchr_iter(b'\n', &input[from..end]).count() as u64;
                    match input.get(end + 1) {
                        Some(b'"') => {
                            fields.bytes.push(b'"');
                            from = end + 2;
                        }
                        None if !self.ended => return Ok(None),
                        _ => {
                            at = end + 1;
                            break;
                        }
                    }
                }
                match input.get(at) {
                    None | Some(b'\n') => fields.end(Mark::Quoted),
                    Some(b'\r') if matches!(input.get(at + 1), None | Some(b'\n')) => {
                        if input.get(at + 1).is_none() && !self.ended {
                            return Ok(None);
                        }
                        fields.end(Mark::Quoted);
                        at += 1;
                    }
                    Some(byte) if *byte == self.separator => fields.end(Mark::Quoted),
                    Some(_) => {
                        let Some(end) = memchr::memchr(b'\n', &input[at..]) else {
                            if !self.ended {
                                return Ok(None);
                            }
                            let bad = behind_quote(fields.line, &input[self.at..], &input[at..]);
                            self.at = input.len();
                            return Ok(Some(bad));
                        };
                        let end = at + end;
                        let bad = behind_quote(fields.line, &input[self.at..end], &input[at..end]);
                        self.at = end + 1;
                        self.line += lines + 1;
                        return Ok(Some(bad));
                    }
                }
            } else {
                let rest = &input[at..];
                let end = match memchr::memchr2(self.separator, b'\n', rest) {
                    Some(end) => at + end,
                    None if !self.ended => return Ok(None),
                    None => input.len(),
                };
                let mut value = &input[at..end];
                if input.get(end) != Some(&self.separator) {
                    value = value.strip_suffix(b"\r").unwrap_or(value);
                }
                fields.bytes.extend_from_slice(value);
                fields.end(Mark::Plain);
                at = end;
            }
            match input.get(at) {
                Some(byte) if *byte == self.separator => at += 1,
                Some(_) => {
                    at += 1;
                    lines += 1;
                    break;
                }
                None => break,
            }
        }
        self.at = at;
        self.line += lines;
        Ok(Some(Came::Row))
    }
}

fn behind_quote(line: u64, raw: &[u8], rest: &[u8]) -> Came {
    let rest = rest.strip_suffix(b"\r").unwrap_or(rest);
    Came::Bad(Bad {
        text: shortened(rest),
        raw: raw.to_vec(),
        ..Bad::row(line, "stands behind a closing quote".into())
    })
}

/// The beginning of a text, for a message.
pub(crate) fn shortened(bytes: &[u8]) -> String {
    let text = String::from_utf8_lossy(&bytes[..bytes.len().min(400)]);
    let on_one_line = |c: char| if matches!(c, '\n' | '\r') { '¶' } else { c };
    let mut short: String = text.chars().map(on_one_line).take(60).collect();
    if text.chars().nth(60).is_some() || bytes.len() > 400 {
        short.push('…');
    }
    format!("'{short}'")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Gives a byte or two at a time.
    struct Drip<'a>(&'a [u8], usize);

    impl Read for Drip<'_> {
        fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
            let count = self.1.min(self.0.len()).min(into.len());
            into[..count].copy_from_slice(&self.0[..count]);
            self.0 = &self.0[count..];
            Ok(count)
        }
    }

    fn all(text: &str, step: usize) -> Vec<(u64, Vec<String>)> {
        let mut reader = Separated::new(Drip(text.as_bytes(), step), b',');
        let (mut fields, mut list) = (Fields::default(), Vec::new());
        loop {
            match reader.next(&mut fields).expect("input") {
                Came::Row => {
                    let one = |at| match fields.get(at) {
                        (text, Mark::Quoted) => format!("\"{}\"", String::from_utf8_lossy(text)),
                        (text, _) => String::from_utf8_lossy(text).into_owned(),
                    };
                    list.push((fields.line, (0..fields.len()).map(one).collect()));
                }
                Came::Bad(bad) => {
                    list.push((bad.line, vec![format!("! {} {}", bad.text, bad.why)]))
                }
                Came::End => return list,
            }
        }
    }

    #[test]
    fn quotes_lines_and_what_is_wrong_are_told_with_their_places() {
        let text = "a,\"\",\r\n\n\"x\"\"\n,y\",2\r\n5\" pipe,\"b\" c\n";
        for step in [1, 2, 3, 1_000] {
            let got = all(text, step);
            let of =
                |line: u64, fields: &[&str]| (line, fields.iter().map(|f| f.to_string()).collect());
            assert_eq!(
                got,
                vec![
                    of(1, &["a", "\"\"", ""]),
                    of(3, &["\"x\"\n,y\"", "2"]),
                    of(5, &["! ' c' stands behind a closing quote"]),
                ],
                "{step}"
            );
        }
        let mut open = Separated::new(Drip(b"a\nlast,\"open,\n1", 3), b',');
        let mut fields = Fields::default();
        assert_eq!(open.next(&mut fields).expect("a row"), Came::Row);
        let error = open
            .next(&mut fields)
            .expect_err("never closed")
            .to_string();
        assert!(error.contains("opens in line 2 before 'open,"), "{error}");
        let mut plain = Separated::new(Drip(b"\"a,b\"", 3), b',').without_quotes();
        assert_eq!(plain.next(&mut fields).expect("a row"), Came::Row);
        assert_eq!(fields.get(0), (&b"\"a"[..], Mark::Plain));
        assert_eq!(all("", 1), vec![]);
        assert_eq!(all("\n\r\n", 1), vec![]);
        assert_eq!(all("a", 1).len(), 1);
    }

    proptest! {
        /// What a reader of others reads of what a writer of others wrote.
        #[test]
        fn it_reads_what_others_read(rows in prop::collection::vec(prop::collection::vec("[a\",\n\r é0]{0,6}", 3), 1..6), step in 1_usize..9) {
            let mut writer = csv::WriterBuilder::new().from_writer(Vec::new());
            rows.iter().for_each(|row| writer.write_record(row).expect("written"));
            let text = writer.into_inner().expect("bytes");
            let mut reader = Separated::new(Drip(&text, step), b',');
            let mut fields = Fields::default();
            for row in &rows {
                prop_assert_eq!(reader.next(&mut fields).expect("input"), Came::Row);
                let got: Vec<_> = (0..fields.len()).map(|at| String::from_utf8_lossy(fields.get(at).0).into_owned()).collect();
                prop_assert_eq!(&got, row);
            }
            prop_assert_eq!(reader.next(&mut fields).expect("input"), Came::End);
        }
    }
}
