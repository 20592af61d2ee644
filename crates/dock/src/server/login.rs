//! Logging in by SCRAM-SHA-256 (RFC 5802, RFC 7677). Of a password only the salted keys are kept.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use sha2::{Digest, Sha256};

use super::Failed;

/// How often a password is hashed.
const ROUNDS: u32 = 4_096;

/// A user.
#[derive(Debug, Clone)]
pub struct User {
    /// The database in which the user was made.
    pub database: String,
    /// The name.
    pub name: String,
    /// Roles: name and database.
    pub roles: Vec<(String, String)>,
    salt: [u8; 16],
    stored: [u8; 32],
    server: [u8; 32],
}

/// A login under way.
#[derive(Debug)]
pub struct Exchange {
    user: User,
    nonce: String,
    first: String,
    server_first: String,
    done: bool,
}

fn mac(key: &[u8], text: &[u8]) -> [u8; 32] {
    let mut mac = Hmac::<Sha256>::new_from_slice(key).expect("a key of any length will do");
    mac.update(text);
    mac.finalize().into_bytes().into()
}

/// Sixteen bytes of chance.
fn chance() -> [u8; 16] {
    use std::hash::{BuildHasher, Hasher};
    let one = || {
        std::collections::hash_map::RandomState::new()
            .build_hasher()
            .finish()
    };
    let mut bytes = [0; 16];
    bytes[..8].copy_from_slice(&one().to_le_bytes());
    bytes[8..].copy_from_slice(&one().to_le_bytes());
    bytes
}

impl User {
    /// A user with a password.
    pub fn new(database: &str, name: &str, password: &str, roles: Vec<(String, String)>) -> Self {
        let salt = chance();
        let mut salted = [0; 32];
        pbkdf2::pbkdf2_hmac::<Sha256>(password.as_bytes(), &salt, ROUNDS, &mut salted);
        let client = mac(&salted, b"Client Key");
        User {
            database: database.into(),
            name: name.into(),
            roles,
            salt,
            stored: Sha256::digest(client).into(),
            server: mac(&salted, b"Server Key"),
        }
    }
}

fn refused() -> Failed {
    Failed::new(18, "Authentication failed.")
}

impl Exchange {
    /// Answers the client's first message.
    ///
    /// # Errors
    /// If it is none, or the user is not known.
    pub fn begin(
        payload: &[u8],
        find: &dyn Fn(&str) -> Option<User>,
    ) -> Result<(Self, Vec<u8>), Failed> {
        let text = std::str::from_utf8(payload).map_err(|_| refused())?;
        let bare = text.strip_prefix("n,,").ok_or_else(refused)?;
        let part = |name: &str| {
            bare.split(',')
                .find_map(|p| p.strip_prefix(name))
                .ok_or_else(refused)
        };
        let name = part("n=")?.replace("=2C", ",").replace("=3D", "=");
        let nonce = format!("{}{}", part("r=")?, STANDARD.encode(chance()));
        let user = find(&name).ok_or_else(refused)?;
        let server_first = format!("r={nonce},s={},i={ROUNDS}", STANDARD.encode(user.salt));
        let answer = server_first.clone().into_bytes();
        Ok((
            Exchange {
                user,
                nonce,
                first: bare.to_string(),
                server_first,
                done: false,
            },
            answer,
        ))
    }

    /// Answers the client's proof; who it is, once it is proved and the client has seen the server's own.
    ///
    /// # Errors
    /// If the proof is wrong.
    pub fn go_on(&mut self, payload: &[u8]) -> Result<(Vec<u8>, Option<User>), Failed> {
        if self.done {
            return Ok((Vec::new(), Some(self.user.clone())));
        }
        let text = std::str::from_utf8(payload).map_err(|_| refused())?;
        let (without, proof) = text.rsplit_once(",p=").ok_or_else(refused)?;
        let same =
            without.split(',').find_map(|p| p.strip_prefix("r=")) == Some(self.nonce.as_str());
        let proof = STANDARD.decode(proof).map_err(|_| refused())?;
        let message = format!("{},{},{without}", self.first, self.server_first);
        let signature = mac(&self.user.stored, message.as_bytes());
        let key: Vec<u8> = signature.iter().zip(&proof).map(|(a, b)| a ^ b).collect();
        let stored: [u8; 32] = Sha256::digest(&key).into();
        let differs = stored
            .iter()
            .zip(&self.user.stored)
            .fold(0, |sum, (a, b)| sum | (a ^ b));
        if !same || proof.len() != 32 || differs != 0 {
            return Err(refused());
        }
        self.done = true;
        let answer = format!(
            "v={}",
            STANDARD.encode(mac(&self.user.server, message.as_bytes()))
        );
        Ok((answer.into_bytes(), Some(self.user.clone())))
    }
}
