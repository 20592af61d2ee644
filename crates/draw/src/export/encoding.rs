//! How the characters of a text file become bytes.

use std::io::{self, Write};

/// An encoding of characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Encoding {
    /// UTF-8 (RFC 3629).
    Utf8,
    /// The same, begun with the mark that some programs need to know it by.
    Utf8Marked,
    /// UTF-16 (RFC 2781), the small byte first, begun with a mark.
    Utf16,
    /// ISO/IEC 8859-1.
    Latin1,
}

impl Encoding {
    /// The encoding of a name.
    pub fn named(name: &str) -> Option<Self> {
        match name.to_ascii_lowercase().as_str() {
            "utf-8" | "utf8" => Some(Encoding::Utf8),
            "utf-8-bom" => Some(Encoding::Utf8Marked),
            "utf-16" | "utf16" => Some(Encoding::Utf16),
            "latin1" | "iso-8859-1" => Some(Encoding::Latin1),
            _ => None,
        }
    }

    /// What takes UTF-8 and writes this encoding.
    pub(super) fn writer<'a>(self, out: Box<dyn Write + Send + 'a>) -> Box<dyn Write + Send + 'a> {
        match self {
            Encoding::Utf8 => out,
            encoding => Box::new(Encoded {
                out,
                encoding,
                begun: false,
                rest: Vec::new(),
            }),
        }
    }
}

struct Encoded<'a> {
    out: Box<dyn Write + Send + 'a>,
    encoding: Encoding,
    begun: bool,
    /// The first bytes of a character whose others are to come.
    rest: Vec<u8>,
}

impl Write for Encoded<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut made = Vec::with_capacity(bytes.len() * 2);
        if !std::mem::replace(&mut self.begun, true) {
            match self.encoding {
                Encoding::Utf8Marked => made.extend_from_slice(b"\xef\xbb\xbf"),
                Encoding::Utf16 => made.extend_from_slice(&[0xff, 0xfe]),
                Encoding::Utf8 | Encoding::Latin1 => {}
            }
        }
        if self.encoding == Encoding::Utf8Marked {
            made.extend_from_slice(bytes);
            self.out.write_all(&made)?;
            return Ok(bytes.len());
        }
        self.rest.extend_from_slice(bytes);
        let whole = match std::str::from_utf8(&self.rest) {
            Ok(text) => text.len(),
            // The end may be a part of a character.
            Err(error) if error.error_len().is_none() => error.valid_up_to(),
            Err(_) => {
                return Err(io::Error::other(
                    "a text is no UTF-8, so that it has no characters to encode; utf-8 writes it as it is",
                ));
            }
        };
        let part: Vec<u8> = self.rest.drain(..whole).collect();
        for character in String::from_utf8_lossy(&part).chars() {
            match (self.encoding, u8::try_from(u32::from(character))) {
                (Encoding::Latin1, Ok(byte)) => made.push(byte),
                (Encoding::Latin1, Err(_)) => {
                    return Err(io::Error::other(format!(
                        "latin1 has no {character:?}; utf-8 and utf-16 have every character"
                    )));
                }
                _ => {
                    let mut units = [0; 2];
                    for unit in character.encode_utf16(&mut units) {
                        made.extend_from_slice(&unit.to_le_bytes());
                    }
                }
            }
        }
        self.out.write_all(&made)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn encoded(encoding: Encoding, parts: &[&[u8]]) -> io::Result<Vec<u8>> {
        let mut out = Vec::new();
        {
            let mut writer = encoding.writer(Box::new(&mut out));
            for part in parts {
                writer.write_all(part)?;
            }
        }
        Ok(out)
    }

    #[test]
    fn characters_that_are_cut_anywhere_are_whole_again() {
        let parts: &[&[u8]] = &[b"a\xc3", b"\xa9"];
        assert_eq!(encoded(Encoding::Latin1, parts).expect("é"), b"a\xe9");
        assert_eq!(
            encoded(Encoding::Utf16, parts).expect("é"),
            [0xff, 0xfe, b'a', 0, 0xe9, 0]
        );
        assert_eq!(
            encoded(Encoding::Utf8Marked, &[b"a", b"b"]).expect("a mark"),
            b"\xef\xbb\xbfab"
        );
        let none = encoded(Encoding::Latin1, &["\u{20ac}".as_bytes()]).expect_err("no euro");
        assert!(none.to_string().contains("latin1 has no '€'"), "{none}");
        assert!(encoded(Encoding::Utf16, &[b"\xff"]).is_err());
    }
}
