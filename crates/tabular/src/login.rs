//! What is said before anything runs: encryption and versions (MS-TDS 2.2.6.5), then the login (2.2.6.4).

use crate::take::{Malformed, Take, from_wide, to_wide, wrong};

/// Version 7.4 of the protocol.
pub const VERSION: u32 = 0x7400_0004;

/// What an end says of encryption.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Encryption {
    /// Only the login is encrypted.
    LoginOnly,
    /// Everything is.
    On,
    /// It cannot.
    None,
    /// It takes nothing else.
    Required,
}

impl Encryption {
    fn byte(self) -> u8 {
        match self {
            Encryption::LoginOnly => 0,
            Encryption::On => 1,
            Encryption::None => 2,
            Encryption::Required => 3,
        }
    }
}

/// The message before the login.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Prelogin {
    /// The version of whoever sends it: two numbers and a build.
    pub version: (u8, u8, u16),
    /// What it says of encryption.
    pub encryption: Encryption,
}

impl Prelogin {
    /// The message as bytes.
    pub fn encode(&self) -> Vec<u8> {
        let (major, minor, build) = self.version;
        let mut version = vec![major, minor];
        version.extend(build.to_be_bytes());
        version.extend([0, 0]);
        // The version, encryption, the instance (any), the thread (none), several results at once (no).
        let options: [(u8, Vec<u8>); 5] = [
            (0, version),
            (1, vec![self.encryption.byte()]),
            (2, vec![0]),
            (3, vec![0; 4]),
            (4, vec![0]),
        ];
        let mut place = options.len() * 5 + 1;
        let (mut out, mut content) = (Vec::new(), Vec::new());
        for (option, bytes) in options {
            out.push(option);
            out.extend((place as u16).to_be_bytes());
            out.extend((bytes.len() as u16).to_be_bytes());
            place += bytes.len();
            content.extend(bytes);
        }
        out.push(0xff);
        out.extend(content);
        out
    }

    /// Reads the message.
    ///
    /// # Errors
    /// If it is none.
    pub fn decode(bytes: &[u8]) -> Result<Self, Malformed> {
        let mut found = Prelogin {
            version: (0, 0, 0),
            encryption: Encryption::None,
        };
        let mut take = Take::new(bytes);
        loop {
            let option = take.u8()?;
            if option == 0xff {
                return Ok(found);
            }
            let (place, length) = (usize::from(take.u16_be()?), usize::from(take.u16_be()?));
            let mut content = Take {
                bytes,
                at: place.min(bytes.len()),
            };
            let content = content.slice(length)?;
            match (option, content) {
                (0, [major, minor, build @ ..]) if build.len() >= 2 => {
                    found.version = (*major, *minor, u16::from_be_bytes([build[0], build[1]]));
                }
                (1, [byte, ..]) => {
                    found.encryption = match byte {
                        0 => Encryption::LoginOnly,
                        1 => Encryption::On,
                        2 => Encryption::None,
                        3 => Encryption::Required,
                        other => return wrong(format!("{other} says nothing of encryption")),
                    }
                }
                _ => {}
            }
        }
    }
}

/// The login.
#[derive(Clone, PartialEq, Eq)]
pub struct Login {
    /// The version of the protocol that is asked for.
    pub version: u32,
    /// The size of packets that is asked for.
    pub packet_size: u32,
    /// The process of the client.
    pub process: u32,
    /// The client's machine.
    pub host: String,
    /// Who logs in.
    pub user: String,
    /// The password. It is hidden from view on its way, not encrypted.
    pub password: String,
    /// The password from now on, where the one above has expired.
    pub new_password: Option<String>,
    /// The program.
    pub program: String,
    /// The server that is meant.
    pub server: String,
    /// The database to begin in; empty for the usual one.
    pub database: String,
    /// Whether it only means to read.
    pub only_reads: bool,
}

impl std::fmt::Debug for Login {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Login of {} to {}", self.user, self.database)
    }
}

const FIXED: usize = 94;

fn hide(text: &str) -> Vec<u8> {
    let hidden = |byte: u8| byte.rotate_left(4) ^ 0xa5;
    to_wide(text).into_iter().map(hidden).collect()
}

fn unhide(bytes: &[u8]) -> String {
    let shown: Vec<u8> = bytes
        .iter()
        .map(|byte| (byte ^ 0xa5).rotate_left(4))
        .collect();
    from_wide(&shown)
}

impl Login {
    /// The message as bytes.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = vec![0; 4];
        let put = |number: u32, out: &mut Vec<u8>| out.extend(number.to_le_bytes());
        put(self.version, &mut out);
        put(self.packet_size, &mut out);
        put(0x0001_0000, &mut out);
        put(self.process, &mut out);
        put(0, &mut out);
        // What the session begins as: changes of the database are told, one that cannot be entered is an error, a language is set
        // with a warning; the options that the standard asks for are set as its own drivers do (fODBC).
        let third = 0x08 | u8::from(self.new_password.is_some());
        out.extend([0xe0, 0x03, if self.only_reads { 0x20 } else { 0 }, third]);
        put(0, &mut out);
        put(0x0409, &mut out);
        let hidden = hide(&self.password);
        let changed = self.new_password.as_deref().map(hide).unwrap_or_default();
        let texts: [Vec<u8>; 9] = [
            to_wide(&self.host),
            to_wide(&self.user),
            hidden,
            to_wide(&self.program),
            to_wide(&self.server),
            // No extensions, and the library, which is this one.
            Vec::new(),
            to_wide("Idle Tide"),
            Vec::new(),
            to_wide(&self.database),
        ];
        let mut place = FIXED;
        let mut content: Vec<u8> = Vec::new();
        let mut point = |bytes: &[u8], units: usize, out: &mut Vec<u8>| {
            out.extend((place as u16).to_le_bytes());
            out.extend((units as u16).to_le_bytes());
            content.extend(bytes);
            place += bytes.len();
        };
        for text in &texts {
            point(text, text.len() / 2, &mut out);
        }
        // The machine's own number, other ways to log in, a file to attach.
        out.extend([0; 6]);
        point(&[], 0, &mut out);
        point(&[], 0, &mut out);
        point(&changed, changed.len() / 2, &mut out);
        out.extend([0; 4]);
        debug_assert_eq!(out.len(), FIXED);
        out.extend(content);
        let length = (out.len() as u32).to_le_bytes();
        out[..4].copy_from_slice(&length);
        out
    }

    /// Reads the message.
    ///
    /// # Errors
    /// If it is none.
    pub fn decode(bytes: &[u8]) -> Result<Self, Malformed> {
        let mut take = Take::new(bytes);
        let length = take.u32()? as usize;
        if length > bytes.len() || length < FIXED - 8 {
            return wrong(format!(
                "a login that says it has {length} bytes has {}",
                bytes.len()
            ));
        }
        let (version, packet_size) = (take.u32()?, take.u32()?);
        let (_, process, _) = (take.u32()?, take.u32()?, take.u32()?);
        let options = take.u32()?.to_le_bytes();
        take.slice(8)?;
        let mut point = |skip: usize| {
            let (place, units) = (usize::from(take.u16()?), usize::from(take.u16()?));
            take.slice(skip)?;
            let mut content = Take {
                bytes,
                at: place.min(bytes.len()),
            };
            content.slice(units * 2)
        };
        let host = from_wide(point(0)?);
        let user = from_wide(point(0)?);
        let password = unhide(point(0)?);
        let (program, server) = (from_wide(point(0)?), from_wide(point(0)?));
        // Extensions, where there are some, count bytes.
        take.slice(4)?;
        let mut point = |skip: usize| {
            let (place, units) = (usize::from(take.u16()?), usize::from(take.u16()?));
            take.slice(skip)?;
            let mut content = Take {
                bytes,
                at: place.min(bytes.len()),
            };
            content.slice(units * 2)
        };
        point(0)?;
        point(0)?;
        let database = from_wide(point(6)?);
        take.slice(8)?;
        let (place, units) = (usize::from(take.u16()?), usize::from(take.u16()?));
        let new_password = match options[3] & 1 {
            0 => None,
            _ => {
                let mut content = Take {
                    bytes,
                    at: place.min(bytes.len()),
                };
                Some(unhide(content.slice(units * 2)?))
            }
        };
        Ok(Login {
            version,
            packet_size,
            process,
            host,
            user,
            password,
            new_password,
            program,
            server,
            database,
            only_reads: options[2] & 0x20 != 0,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_login_is_read_as_it_was_written() {
        let mut login = Login {
            version: VERSION,
            packet_size: 8000,
            process: 12,
            host: "quay".into(),
            user: "haven".into(),
            password: "it's Ω secret".into(),
            new_password: None,
            program: "a program".into(),
            server: "localhost".into(),
            database: "harbour".into(),
            only_reads: true,
        };
        let bytes = login.encode();
        assert_eq!(Login::decode(&bytes), Ok(login.clone()));
        login.new_password = Some("another".into());
        assert_eq!(Login::decode(&login.encode()), Ok(login));
        for end in 0..bytes.len() {
            assert!(Login::decode(&bytes[..end]).is_err(), "{end}");
        }
    }

    #[test]
    fn what_comes_before_the_login_is_read_as_it_was_written() {
        let said = Prelogin {
            version: (16, 0, 4105),
            encryption: Encryption::Required,
        };
        assert_eq!(Prelogin::decode(&said.encode()), Ok(said));
        assert!(Prelogin::decode(&[1, 0, 200, 0, 9]).is_err());
        assert!(Prelogin::decode(b"HTTP/1.1 400 Bad Request").is_err());
    }
}
