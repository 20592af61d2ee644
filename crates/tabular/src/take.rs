//! Reading from bytes that may end too early.

/// Why bytes are not what they should be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Malformed {
    /// They end too early: more has to come first.
    #[error("the message ends in the middle")]
    Short,
    /// They cannot be what they claim to be.
    #[error("{0}")]
    Wrong(String),
}

/// Says what is wrong.
pub(crate) fn wrong<T>(words: impl Into<String>) -> Result<T, Malformed> {
    Err(Malformed::Wrong(words.into()))
}

/// A place in bytes, from which numbers and texts are taken. Numbers are little-endian unless said otherwise.
#[derive(Debug, Clone)]
pub struct Take<'a> {
    /// All bytes.
    pub bytes: &'a [u8],
    /// How many were taken.
    pub at: usize,
}

impl<'a> Take<'a> {
    /// Takes from the first byte on.
    pub fn new(bytes: &'a [u8]) -> Self {
        Take { bytes, at: 0 }
    }

    /// How many are left.
    pub fn left(&self) -> usize {
        self.bytes.len() - self.at
    }

    /// So many bytes.
    ///
    /// # Errors
    /// [`Malformed::Short`] if there are fewer; so with everything below.
    #[inline]
    pub fn slice(&mut self, count: usize) -> Result<&'a [u8], Malformed> {
        let end = self.at.checked_add(count).ok_or(Malformed::Short)?;
        let part = self.bytes.get(self.at..end).ok_or(Malformed::Short)?;
        self.at = end;
        Ok(part)
    }

    #[inline]
    fn array<const N: usize>(&mut self) -> Result<[u8; N], Malformed> {
        let part = self.slice(N)?;
        part.try_into().map_err(|_| Malformed::Short)
    }

    /// A byte.
    #[inline]
    pub fn u8(&mut self) -> Result<u8, Malformed> {
        Ok(self.array::<1>()?[0])
    }

    /// Two bytes.
    #[inline]
    pub fn u16(&mut self) -> Result<u16, Malformed> {
        Ok(u16::from_le_bytes(self.array()?))
    }

    /// Two bytes, the higher first.
    pub fn u16_be(&mut self) -> Result<u16, Malformed> {
        Ok(u16::from_be_bytes(self.array()?))
    }

    /// Four bytes.
    #[inline]
    pub fn u32(&mut self) -> Result<u32, Malformed> {
        Ok(u32::from_le_bytes(self.array()?))
    }

    /// Four bytes, the highest first.
    pub fn u32_be(&mut self) -> Result<u32, Malformed> {
        Ok(u32::from_be_bytes(self.array()?))
    }

    /// Four bytes with a sign.
    pub fn i32(&mut self) -> Result<i32, Malformed> {
        Ok(i32::from_le_bytes(self.array()?))
    }

    /// Eight bytes.
    #[inline]
    pub fn u64(&mut self) -> Result<u64, Malformed> {
        Ok(u64::from_le_bytes(self.array()?))
    }

    /// So many characters of two bytes each.
    pub fn wide(&mut self, count: usize) -> Result<String, Malformed> {
        Ok(from_wide(self.slice(count * 2)?))
    }

    /// A text with its length in a byte before it (`B_VARCHAR`).
    pub fn short_text(&mut self) -> Result<String, Malformed> {
        let count = usize::from(self.u8()?);
        self.wide(count)
    }

    /// A text with its length in two bytes before it (`US_VARCHAR`).
    pub fn long_text(&mut self) -> Result<String, Malformed> {
        let count = usize::from(self.u16()?);
        self.wide(count)
    }
}

/// Text of UTF-16LE; what is no text becomes the sign for that.
pub fn from_wide(bytes: &[u8]) -> String {
    let units = bytes
        .chunks_exact(2)
        .map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
    char::decode_utf16(units)
        .map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER))
        .collect()
}

/// UTF-16LE of a text.
pub fn to_wide(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

/// Appends a text with its length in a byte before it; of a longer one the first 255 units.
pub fn put_short_text(text: &str, out: &mut Vec<u8>) {
    let units: Vec<u16> = text.encode_utf16().take(255).collect();
    out.push(units.len() as u8);
    out.extend(units.into_iter().flat_map(u16::to_le_bytes));
}

/// Appends a text with its length in two bytes before it; of a longer one the first 30 000 units.
pub fn put_long_text(text: &str, out: &mut Vec<u8>) {
    let units: Vec<u16> = text.encode_utf16().take(30_000).collect();
    out.extend((units.len() as u16).to_le_bytes());
    out.extend(units.into_iter().flat_map(u16::to_le_bytes));
}
