//! The tokens that answers are made of (MS-TDS 2.2.7).

use std::sync::Arc;

use crate::take::{Malformed, Take, put_long_text, put_short_text, wrong};
use crate::types::{TypeInfo, id};
use crate::value::{self, Room, Value};

const COLUMNS: u8 = 0x81;
const ROW: u8 = 0xd1;
const ROW_WITH_NULLS: u8 = 0xd2;
const DONE: u8 = 0xfd;
const DONE_PROCEDURE: u8 = 0xfe;
const DONE_WITHIN: u8 = 0xff;
const ERROR: u8 = 0xaa;
const INFO: u8 = 0xab;
const ENVIRONMENT: u8 = 0xe3;
const LOGIN: u8 = 0xad;
const STATUS: u8 = 0x79;
const RETURNED: u8 = 0xac;
const FEATURES: u8 = 0xae;

/// A column of a result.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Field {
    /// Its name.
    pub name: String,
    /// Its type.
    pub info: TypeInfo,
    /// Whether it may hold null.
    pub nullable: bool,
}

/// A message: an error where its class is above 10.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Message {
    /// Its number.
    pub number: i32,
    /// Tells places of the server apart that send the same number.
    pub state: u8,
    /// How severe it is, 0 to 25.
    pub class: u8,
    /// The words.
    pub text: String,
    /// The server.
    pub server: String,
    /// The procedure that it comes from.
    pub procedure: String,
    /// The line of the batch or the procedure, counted from 1.
    pub line: u32,
}

/// The end of a statement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Done {
    /// Whether it is that of a statement in a procedure, or of the procedure.
    pub of: DoneOf,
    /// Bits.
    pub status: u16,
    /// What kind of statement it was.
    pub command: u16,
    /// Rows, where [`Done::counts`].
    pub rows: u64,
}

/// What ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DoneOf {
    /// A statement of a batch.
    Statement,
    /// A procedure.
    Procedure,
    /// A statement in a procedure.
    Within,
}

impl Done {
    /// Something more comes.
    pub const MORE: u16 = 1;
    /// The statement failed.
    pub const ERROR: u16 = 2;
    /// The number of rows is one.
    pub const COUNT: u16 = 0x10;
    /// What was asked to stop has stopped.
    pub const ATTENTION: u16 = 0x20;
    /// The kind of statement that gives rows.
    pub const SELECT: u16 = 0xc1;

    /// An end of which nothing else is known.
    pub fn bare(of: DoneOf, status: u16) -> Self {
        Done {
            of,
            status,
            command: 0,
            rows: 0,
        }
    }

    /// Whether the number of rows says something.
    pub fn counts(&self) -> bool {
        self.status & Self::COUNT != 0
    }
}

/// What changed around the statements.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Environment {
    /// The database.
    Database(String),
    /// The size of packets from now on.
    PacketSize(usize),
    /// The collation of the database.
    Collation([u8; 5]),
    /// A transaction began; its descriptor.
    Begun(u64),
    /// It was kept.
    Committed,
    /// It was taken back.
    RolledBack,
    /// Go to another server.
    Elsewhere(String, u16),
    /// Anything else.
    Other(u8),
}

/// A token.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Token {
    /// The columns of the rows that follow; none where they are not told.
    Columns(Arc<Vec<Field>>),
    /// A row, from and to these bytes of what was read; read it with [`Row`].
    Row {
        /// The first byte.
        start: usize,
        /// One past the last.
        end: usize,
        /// Whether it begins with bits that say which values are null.
        with_nulls: bool,
    },
    /// A statement ended.
    Done(Done),
    /// An error.
    Error(Message),
    /// A notice.
    Info(Message),
    /// Something around the statements changed.
    Environment(Environment),
    /// The login was taken.
    Login {
        /// The version of the protocol.
        version: u32,
        /// The server's program.
        program: String,
        /// Its version: two numbers and a build.
        number: (u8, u8, u16),
    },
    /// What a procedure gave back.
    Status(i32),
    /// Anything else, by its byte.
    Other(u8),
}

/// Where reading a row has come to, from its first byte.
#[derive(Debug, Clone, Copy)]
struct Scan {
    column: usize,
    at: usize,
    in_parts: bool,
}

/// Reads tokens one after another.
#[derive(Debug, Default)]
pub struct Reader {
    fields: Arc<Vec<Field>>,
    scan: Option<Scan>,
}

impl Reader {
    /// The columns of the present rows.
    pub fn fields(&self) -> &Arc<Vec<Field>> {
        &self.fields
    }

    /// The next token.
    ///
    /// # Errors
    /// [`Malformed::Short`] where more has to come; `take` then stands at the token's begin, and reading goes on there
    /// when the same bytes with more behind them are given. Else if it is none.
    pub fn next(&mut self, take: &mut Take<'_>) -> Result<Token, Malformed> {
        let before = take.at;
        let token = self.read(take);
        if token.is_err() {
            take.at = before;
        }
        token
    }

    fn read(&mut self, take: &mut Take<'_>) -> Result<Token, Malformed> {
        match take.u8()? {
            ROW => self.row(take, false),
            ROW_WITH_NULLS => self.row(take, true),
            COLUMNS => {
                let count = take.u16()?;
                let count = if count == 0xffff { 0 } else { count };
                let mut fields = Vec::new();
                for _ in 0..count {
                    fields.push(field(take)?);
                }
                self.fields = Arc::new(fields);
                Ok(Token::Columns(Arc::clone(&self.fields)))
            }
            of @ (DONE | DONE_PROCEDURE | DONE_WITHIN) => Ok(Token::Done(Done {
                of: match of {
                    DONE => DoneOf::Statement,
                    DONE_PROCEDURE => DoneOf::Procedure,
                    _ => DoneOf::Within,
                },
                status: take.u16()?,
                command: take.u16()?,
                rows: take.u64()?,
            })),
            STATUS => Ok(Token::Status(take.i32()?)),
            RETURNED => {
                take.u16()?;
                take.short_text()?;
                take.u8()?;
                take.u32()?;
                take.u16()?;
                let info = TypeInfo::decode(take)?;
                value::pass(&info, take, &mut false)?;
                Ok(Token::Other(RETURNED))
            }
            FEATURES => {
                while take.u8()? != 0xff {
                    let length = take.u32()?;
                    take.slice(length as usize)?;
                }
                Ok(Token::Other(FEATURES))
            }
            of @ (0xe4 | 0xee) => {
                let length = take.u32()?;
                take.slice(length as usize)?;
                Ok(Token::Other(of))
            }
            of @ (ERROR | INFO | ENVIRONMENT | LOGIN | 0xa4 | 0xa5 | 0xa9 | 0xed) => {
                let length = take.u16()?;
                let mut content = Take::new(take.slice(usize::from(length))?);
                let token = with_length(of, &mut content);
                // Inside of its length nothing can be short.
                token.or_else(|_| {
                    wrong(format!(
                        "a token {of:#04x} that is not what its length says"
                    ))
                })
            }
            other => wrong(format!("a token {other:#04x}, which is not known")),
        }
    }

    fn row(&mut self, take: &mut Take<'_>, with_nulls: bool) -> Result<Token, Malformed> {
        let start = take.at;
        let mut scan = self.scan.take().unwrap_or(Scan {
            column: 0,
            at: if with_nulls {
                self.fields.len().div_ceil(8)
            } else {
                0
            },
            in_parts: false,
        });
        let mut inside = Take {
            bytes: take.bytes,
            at: start,
        };
        if inside.slice(scan.at).is_err() {
            return Err(Malformed::Short);
        }
        while let Some(field) = self.fields.get(scan.column) {
            let null =
                with_nulls && take.bytes[start + scan.column / 8] >> (scan.column % 8) & 1 == 1;
            if !null && let Err(error) = value::pass(&field.info, &mut inside, &mut scan.in_parts) {
                scan.at = inside.at - start;
                self.scan = Some(scan);
                return Err(error);
            }
            scan.column += 1;
        }
        take.at = inside.at;
        Ok(Token::Row {
            start,
            end: inside.at,
            with_nulls,
        })
    }
}

fn field(take: &mut Take<'_>) -> Result<Field, Malformed> {
    take.u32()?;
    let flags = take.u16()?;
    let info = TypeInfo::decode(take)?;
    if matches!(info.id, id::TEXT | id::NTEXT | id::IMAGE) {
        for _ in 0..take.u8()? {
            take.long_text()?;
        }
    }
    Ok(Field {
        name: take.short_text()?,
        info,
        nullable: flags & 1 != 0,
    })
}

fn with_length(of: u8, take: &mut Take<'_>) -> Result<Token, Malformed> {
    Ok(match of {
        ERROR | INFO => {
            let message = Message {
                number: take.i32()?,
                state: take.u8()?,
                class: take.u8()?,
                text: take.long_text()?,
                server: take.short_text()?,
                procedure: take.short_text()?,
                line: take.u32()?,
            };
            match of {
                ERROR => Token::Error(message),
                _ => Token::Info(message),
            }
        }
        ENVIRONMENT => Token::Environment(match take.u8()? {
            1 => Environment::Database(take.short_text()?),
            4 => {
                let text = take.short_text()?;
                let Ok(size) = text.parse() else {
                    return wrong("a size of packets that is no number");
                };
                Environment::PacketSize(size)
            }
            7 => match take.u8()? {
                5 => {
                    let bytes = take.slice(5)?;
                    Environment::Collation([bytes[0], bytes[1], bytes[2], bytes[3], bytes[4]])
                }
                _ => Environment::Other(7),
            },
            8 | 11 => match take.u8()? {
                8 => Environment::Begun(take.u64()?),
                _ => Environment::Other(8),
            },
            9 => Environment::Committed,
            10 | 12 | 17 => Environment::RolledBack,
            20 => {
                take.u16()?;
                take.u8()?;
                let port = take.u16()?;
                Environment::Elsewhere(take.long_text()?, port)
            }
            other => Environment::Other(other),
        }),
        LOGIN => {
            take.u8()?;
            let version = take.u32_be()?;
            let program = take.short_text()?;
            let (major, minor) = (take.u8()?, take.u8()?);
            Token::Login {
                version,
                program,
                number: (major, minor, take.u16_be()?),
            }
        }
        other => Token::Other(other),
    })
}

/// The values of a row.
pub struct Row<'a> {
    fields: &'a [Field],
    nulls: &'a [u8],
    take: Take<'a>,
    column: usize,
}

impl<'a> Row<'a> {
    /// A row of [`Token::Row`].
    pub fn new(fields: &'a [Field], bytes: &'a [u8], with_nulls: bool) -> Self {
        let mut take = Take::new(bytes);
        let nulls = match with_nulls {
            true => take.slice(fields.len().div_ceil(8)).unwrap_or_default(),
            false => &[],
        };
        Row {
            fields,
            nulls,
            take,
            column: 0,
        }
    }

    /// The next value; `None` behind the last.
    #[inline]
    pub fn next<'r>(&'r mut self, room: &'r mut Room) -> Option<Result<Value<'r>, Malformed>> {
        let column = self.column;
        let field = self.fields.get(column)?;
        self.column += 1;
        let null = self
            .nulls
            .get(column / 8)
            .is_some_and(|bits| bits >> (column % 8) & 1 == 1);
        Some(match null {
            true => Ok(Value::Null),
            false => value::read(&field.info, &mut self.take, room),
        })
    }
}

/// Appends the columns of a result.
pub fn put_columns(fields: &[Field], out: &mut Vec<u8>) {
    out.push(COLUMNS);
    out.extend((fields.len() as u16).to_le_bytes());
    for field in fields {
        out.extend([0; 4]);
        out.extend((8 | u16::from(field.nullable)).to_le_bytes());
        field.info.encode(out);
        if matches!(field.info.id, id::TEXT | id::NTEXT | id::IMAGE) {
            out.push(1);
            put_long_text("t", out);
        }
        put_short_text(&field.name, out);
    }
}

/// Appends a row.
///
/// # Errors
/// In words, with the column whose value does not fit its type; then nothing is appended.
pub fn put_row<'a>(
    fields: &[Field],
    values: impl IntoIterator<Item = Value<'a>>,
    out: &mut Vec<u8>,
) -> Result<(), String> {
    let before = out.len();
    out.push(ROW);
    for (field, value) in fields.iter().zip(values) {
        if let Err(words) = value::write(&field.info, value, out) {
            out.truncate(before);
            return Err(format!("{}: {words}", field.name));
        }
    }
    Ok(())
}

/// Appends the end of a statement.
pub fn put_done(done: Done, out: &mut Vec<u8>) {
    out.push(match done.of {
        DoneOf::Statement => DONE,
        DoneOf::Procedure => DONE_PROCEDURE,
        DoneOf::Within => DONE_WITHIN,
    });
    out.extend(done.status.to_le_bytes());
    out.extend(done.command.to_le_bytes());
    out.extend(done.rows.to_le_bytes());
}

fn put_with_length(of: u8, content: &[u8], out: &mut Vec<u8>) {
    out.push(of);
    out.extend((content.len() as u16).to_le_bytes());
    out.extend(content);
}

/// Appends a message, as an error where its class is above 10.
pub fn put_message(message: &Message, out: &mut Vec<u8>) {
    let mut content = message.number.to_le_bytes().to_vec();
    content.extend([message.state, message.class]);
    put_long_text(&message.text, &mut content);
    put_short_text(&message.server, &mut content);
    put_short_text(&message.procedure, &mut content);
    content.extend(message.line.to_le_bytes());
    put_with_length(if message.class > 10 { ERROR } else { INFO }, &content, out);
}

/// Appends what changed around the statements; `before` is what it was.
pub fn put_environment(change: &Environment, before: &str, out: &mut Vec<u8>) {
    let mut content = Vec::new();
    match change {
        Environment::Database(name) => {
            content.push(1);
            put_short_text(name, &mut content);
            put_short_text(before, &mut content);
        }
        Environment::PacketSize(size) => {
            content.push(4);
            put_short_text(&size.to_string(), &mut content);
            put_short_text(before, &mut content);
        }
        Environment::Collation(collation) => {
            content.extend([7, 5]);
            content.extend(collation);
            content.push(0);
        }
        Environment::Begun(descriptor) => {
            content.extend([8, 8]);
            content.extend(descriptor.to_le_bytes());
            content.push(0);
        }
        Environment::Committed | Environment::RolledBack => {
            let of = if *change == Environment::Committed {
                9
            } else {
                10
            };
            content.extend([of, 0, 8]);
            content.extend(before.parse::<u64>().unwrap_or(0).to_le_bytes());
        }
        Environment::Elsewhere(host, port) => {
            content.push(20);
            content.extend((5 + host.len() as u16 * 2).to_le_bytes());
            content.push(0);
            content.extend(port.to_le_bytes());
            put_long_text(host, &mut content);
            content.extend([0, 0]);
        }
        Environment::Other(of) => content.extend([*of, 0, 0]),
    }
    put_with_length(ENVIRONMENT, &content, out);
}

/// Appends that the login was taken.
pub fn put_login(version: u32, program: &str, number: (u8, u8, u16), out: &mut Vec<u8>) {
    let mut content = vec![1];
    content.extend(version.to_be_bytes());
    put_short_text(program, &mut content);
    content.extend([number.0, number.1]);
    content.extend(number.2.to_be_bytes());
    put_with_length(LOGIN, &content, out);
}

/// Appends what a procedure gave back.
pub fn put_status(status: i32, out: &mut Vec<u8>) {
    out.push(STATUS);
    out.extend(status.to_le_bytes());
}

/// Appends the value of a parameter that a procedure gives back.
///
/// # Errors
/// In words, if it is not one of its type.
pub fn put_returned(
    ordinal: u16,
    name: &str,
    info: &TypeInfo,
    value: Value<'_>,
    out: &mut Vec<u8>,
) -> Result<(), String> {
    out.push(RETURNED);
    out.extend(ordinal.to_le_bytes());
    put_short_text(name, out);
    out.push(1);
    out.extend([0; 6]);
    info.encode(out);
    value::write(info, value, out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::types::ANY;

    fn answer() -> Vec<u8> {
        let fields = [
            Field {
                name: "berth".into(),
                info: TypeInfo::of(id::NVARCHAR, ANY),
                nullable: true,
            },
            Field {
                name: "depth".into(),
                info: TypeInfo::decimal(9, 2),
                nullable: true,
            },
        ];
        let mut out = Vec::new();
        put_environment(&Environment::Database("harbour".into()), "master", &mut out);
        put_columns(&fields, &mut out);
        put_row(
            &fields,
            [Value::Text("North"), Value::Number("7.25")],
            &mut out,
        )
        .unwrap();
        put_row(&fields, [Value::Null, Value::Null], &mut out).unwrap();
        put_environment(&Environment::Elsewhere("quay".into(), 1433), "", &mut out);
        // A row whose first value is null by its bit.
        out.extend([ROW_WITH_NULLS, 1]);
        value::write(&fields[1].info, Value::Number("1.00"), &mut out).unwrap();
        let message = Message {
            number: 208,
            state: 1,
            class: 16,
            text: "Invalid object name 'quay'.".into(),
            server: "haven".into(),
            procedure: String::new(),
            line: 3,
        };
        put_message(&message, &mut out);
        put_done(
            Done {
                of: DoneOf::Statement,
                status: Done::ERROR,
                command: Done::SELECT,
                rows: 0,
            },
            &mut out,
        );
        out
    }

    /// What the tokens of an answer that comes in parts of so many bytes say.
    fn heard(bytes: &[u8], step: usize) -> Vec<String> {
        let (mut reader, mut at, mut end, mut said) = (Reader::default(), 0, 0, Vec::new());
        while at < bytes.len() {
            let mut take = Take {
                bytes: &bytes[..end],
                at,
            };
            match reader.next(&mut take) {
                Ok(Token::Row {
                    start,
                    end,
                    with_nulls,
                }) => {
                    let fields = Arc::clone(reader.fields());
                    let mut row = Row::new(&fields, &bytes[start..end], with_nulls);
                    let mut room = Room::default();
                    while let Some(value) = row.next(&mut room) {
                        said.push(format!("{:?}", value.unwrap()));
                    }
                    at = take.at;
                }
                Ok(Token::Columns(fields)) => {
                    said.push(
                        fields
                            .iter()
                            .map(|f| f.name.as_str())
                            .collect::<Vec<_>>()
                            .join(","),
                    );
                    at = take.at;
                }
                Ok(other) => {
                    said.push(format!("{other:?}"));
                    at = take.at;
                }
                Err(Malformed::Short) => end = (end + step).min(bytes.len()),
                Err(error) => panic!("{error}"),
            }
        }
        said
    }

    #[test]
    fn an_answer_is_the_same_however_it_is_cut() {
        let bytes = answer();
        let whole = heard(&bytes, bytes.len());
        assert_eq!(
            whole[1..9].join(" "),
            "berth,depth Text(\"North\") Number(\"7.25\") Null Null Environment(Elsewhere(\"quay\", 1433)) Null Number(\"1.00\")"
        );
        assert!(whole[9].contains("number: 208") && whole[9].contains("line: 3"));
        for step in [1, 2, 3, 7, 64] {
            assert_eq!(heard(&bytes, step), whole, "in parts of {step}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_bytes_are_refused_or_read_but_never_run_away(bytes: Vec<u8>, flips in proptest::collection::vec((0_usize..200, 0_u8..=255), 0..4)) {
            let mut good = answer();
            for (at, byte) in flips {
                let at = at % good.len();
                good[at] = byte;
            }
            for bytes in [&bytes, &good] {
                let (mut reader, mut take) = (Reader::default(), Take::new(bytes));
                while let Ok(token) = reader.next(&mut take) {
                    if let Token::Row { start, end, with_nulls } = token {
                        let fields = Arc::clone(reader.fields());
                        let mut row = Row::new(&fields, &bytes[start..end], with_nulls);
                        let mut room = Room::default();
                        while let Some(Ok(_)) = row.next(&mut room) {}
                        // A row without columns takes no bytes.
                        if fields.is_empty() { break; }
                    }
                }
            }
        }
    }
}
