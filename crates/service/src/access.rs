//! Who may use the API: tokens, of which only the hashes are kept.

use std::fs::OpenOptions;
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use merismos_core::pins::PinKey;
use merismos_store::Token;
use rand::RngExt;
use sha2::{Digest, Sha256};

use crate::clock::wall;

/// The file with the first token, in the state folder.
const FILE: &str = "first-token";

/// Everyone who may use the API.
#[derive(Clone, Debug)]
pub(crate) struct Access {
    tokens: std::sync::Arc<[Token]>,
}

/// Why a secret of the state folder can't be made or read.
#[derive(Debug, thiserror::Error)]
#[error("the secret file {path} can't be read or written", path = path.display())]
pub(crate) struct AccessError {
    path: PathBuf,
    source: io::Error,
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A token has 256 random bits, so a plain hash of it can't be searched.
fn hash(token: &str) -> String {
    hexadecimal(&Sha256::digest(token.as_bytes()))
}

impl Access {
    /// Knows these tokens.
    pub(crate) fn new(tokens: Vec<Token>) -> Self {
        Self { tokens: tokens.into() }
    }

    /// The name of a token's owner.
    pub(crate) fn who(&self, token: &str) -> Option<String> {
        let hash = hash(token);
        // Comparing hashes tells an attacker nothing about the token.
        self.tokens.iter().find(|known| known.hash == hash).map(|known| known.name.clone())
    }
}

/// The file with the secret that pins are signed with, in the state folder.
const PIN_SECRET: &str = "pin-secret";
/// The file with what this node is known by.
const NODE_ID: &str = "node-id";

/// The secret that pins are signed with: read from its file, or made when there is none, so that clients stay with their
/// servers over a restart. Nodes that share their clients have to share it.
pub(crate) fn pin_key(folder: &Path) -> Result<PinKey, AccessError> {
    drawn_once::<32>(&folder.join(PIN_SECRET)).map(|secret| PinKey::new(&secret))
}

/// What this node is known by among those that share a database.
pub(crate) fn node_id(folder: &Path) -> Result<[u8; 16], AccessError> {
    drawn_once(&folder.join(NODE_ID))
}

/// Random bytes that a file keeps: read from it, or drawn when there is none. Only the file's owner can read it.
fn drawn_once<const LENGTH: usize>(path: &Path) -> Result<[u8; LENGTH], AccessError> {
    let wrong = |source| AccessError { path: path.to_owned(), source };
    let wanted = || io::Error::other(format!("{LENGTH} bytes are wanted"));
    match std::fs::read(path) {
        Ok(bytes) => bytes.try_into().map_err(|_| wrong(wanted())),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let mut bytes = [0; LENGTH];
            rand::rng().fill(&mut bytes[..]);
            let mut file =
                OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).map_err(wrong)?;
            file.write_all(&bytes).and_then(|()| file.sync_all()).map_err(wrong)?;
            Ok(bytes)
        }
        Err(error) => Err(wrong(error)),
    }
}

/// The first token: read from its file, or made when there is none. Only the file's owner can read it.
pub(crate) fn first_token(folder: &Path) -> Result<Token, AccessError> {
    let path = folder.join(FILE);
    let wrong = |source| AccessError { path: path.clone(), source };
    let token = match std::fs::read_to_string(&path) {
        Ok(token) => token.trim().to_owned(),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let token = hexadecimal(&rand::rng().random::<[u8; 32]>());
            let mut file =
                OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path).map_err(wrong)?;
            file.write_all(format!("{token}\n").as_bytes()).and_then(|()| file.sync_all()).map_err(wrong)?;
            tracing::info!(file = %path.display(), "the first token was made");
            token
        }
        Err(error) => return Err(wrong(error)),
    };
    Ok(Token { hash: hash(&token), name: "first".to_owned(), at: wall() })
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn the_first_token_is_made_once_and_is_for_its_owner_alone() {
        let folder = tempfile::tempdir().unwrap();
        let made = first_token(folder.path()).unwrap();
        let again = first_token(folder.path()).unwrap();
        assert_eq!(made.hash, again.hash);
        let path = folder.path().join(FILE);
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let text = std::fs::read_to_string(path).unwrap();
        assert_eq!(text.trim().len(), 64);
        let access = Access::new(vec![made]);
        assert_eq!(access.who(text.trim()).as_deref(), Some("first"));
        assert_eq!(access.who("guess"), None);
        assert_eq!(access.who(""), None);
    }
}
