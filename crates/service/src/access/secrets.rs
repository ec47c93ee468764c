//! The secrets of the state folder: written whole, read only when they are whole, and set aside when they are not.

use std::io;
use std::path::{Path, PathBuf};

use merismos_core::pins::PinKey;
use merismos_core::time::Wall;
use merismos_store::Token;
use merismos_store::files::{set_aside, write_whole};
use rand::RngExt;

use super::{TOKEN_LENGTH, hash, hexadecimal, is_token};
use crate::certificates::SealingKey;
use crate::clock::wall;
use crate::troubles::{TroubleKind, Troubles};

/// The file with the first token.
const FIRST_TOKEN: &str = "first-token";
/// The file with the secret that pins are signed with.
const PIN_SECRET: &str = "pin-secret";
/// The file with the secret before it.
const FORMER_PIN_SECRET: &str = "pin-secret-before";
/// The file with the secret that seals what the database keeps.
const STORE_SECRET: &str = "store-secret";
/// The file with what this node is known by.
const NODE_ID: &str = "node-id";

/// Why a secret of the state folder can't be made or read.
#[derive(Debug, thiserror::Error)]
#[error("the secret file {path} can't be read or written: see to the disk and to who owns the folder", path = path.display())]
pub(crate) struct SecretError {
    path: PathBuf,
    source: io::Error,
}

/// The secret that pins are signed with: read from its file, or made when there is none, so that clients stay with their
/// servers over a restart. Nodes that share their clients have to share it.
pub(crate) fn pin_key(folder: &Path, troubles: &Troubles) -> Result<PinKey, SecretError> {
    let secret = drawn_once::<32>(&folder.join(PIN_SECRET), |aside| {
        troubles.set(
            TroubleKind::PinSecret,
            format!(
                "pin-secret was broken and is kept as {aside}; a new one was made. Clients with a pin get a server anew once. \
                 If other nodes share these clients, copy their pin-secret here and restart"
            ),
        );
    })?;
    // One that is broken ties nobody any more, which is what would come with the next secret anyway.
    let former = std::fs::read(folder.join(FORMER_PIN_SECRET)).ok();
    let former: Option<[u8; 32]> = former.and_then(|bytes| bytes.try_into().ok());
    let key = PinKey::new(&secret);
    Ok(former.iter().fold(key, |key, former| key.after(former)))
}

/// Draws a new secret that pins are signed with. What the last one signed holds until the next is drawn.
pub(crate) fn renew_pin_key(folder: &Path, troubles: &Troubles) -> Result<PinKey, SecretError> {
    let (path, former) = (folder.join(PIN_SECRET), folder.join(FORMER_PIN_SECRET));
    let of = |path: &Path| {
        let path = path.to_owned();
        move |source| SecretError { path, source }
    };
    let current = std::fs::read(&path).map_err(of(&path))?;
    write_whole(&former, &current).map_err(of(&former))?;
    let mut bytes = [0; 32];
    rand::rng().fill(&mut bytes[..]);
    write_whole(&path, &bytes).map_err(of(&path))?;
    pin_key(folder, troubles)
}

/// The secret that pins are signed with and the one before it, as nodes share them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct PinSecrets {
    current: [u8; 32],
    former: Option<[u8; 32]>,
}

impl PinSecrets {
    /// As the files hold them.
    pub(crate) fn read(folder: &Path) -> Result<Self, SecretError> {
        let read = |name: &str| {
            let path = folder.join(name);
            let bytes = std::fs::read(&path).and_then(|bytes| {
                let wrong = |_| io::Error::new(io::ErrorKind::InvalidData, "it is not 32 bytes long");
                <[u8; 32]>::try_from(bytes).map_err(wrong)
            });
            bytes.map_err(|source| SecretError { path, source })
        };
        Ok(Self { current: read(PIN_SECRET)?, former: read(FORMER_PIN_SECRET).ok() })
    }

    /// Writes them to the files.
    pub(crate) fn write(&self, folder: &Path) -> Result<(), SecretError> {
        let put = |name: &str, secret: &[u8; 32]| {
            let path = folder.join(name);
            write_whole(&path, secret).map_err(|source| SecretError { path, source })
        };
        // The former one first: what is there after a crash in between is the old secret twice.
        if let Some(former) = &self.former {
            put(FORMER_PIN_SECRET, former)?;
        }
        put(PIN_SECRET, &self.current)
    }

    /// Whether the current one was drawn when the other's current one was in use.
    pub(crate) fn follows(&self, other: &Self) -> bool {
        self.former == Some(other.current)
    }

    pub(crate) fn to_bytes(&self) -> Vec<u8> {
        [&self.current[..], self.former.as_ref().map_or(&[], |former| &former[..])].concat()
    }

    /// `None` when they are not one or two secrets.
    pub(crate) fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let (current, rest) = bytes.split_first_chunk::<32>()?;
        let former = match rest {
            [] => None,
            rest => Some(rest.try_into().ok()?),
        };
        Some(Self { current: *current, former })
    }
}

/// When the secret that pins are signed with was drawn, and the one before it.
pub(crate) fn pin_key_times(folder: &Path) -> Result<(Wall, Option<Wall>), SecretError> {
    let drawn = |name: &str| {
        let path = folder.join(name);
        let at = std::fs::metadata(&path).and_then(|file| file.modified());
        let at = at.map_err(|source| SecretError { path, source })?;
        let since = at.duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        Ok(Wall(i64::try_from(since.as_millis()).unwrap_or(i64::MAX)))
    };
    Ok((drawn(PIN_SECRET)?, drawn(FORMER_PIN_SECRET).ok()))
}

/// The key that seals secrets which the database keeps: accounts at authorities, and keys of certificates. Nodes that share a database have to
/// share it.
pub(crate) fn sealing_key(folder: &Path, troubles: &Troubles) -> Result<SealingKey, SecretError> {
    let secret = drawn_once::<32>(&folder.join(STORE_SECRET), |aside| {
        troubles.set(
            TroubleKind::StoreSecret,
            format!(
                "store-secret was broken and is kept as {aside}; a new one was made. Accounts at authorities are made anew, and certificates \
                 that other nodes ordered can't be used here until their store-secret is copied here and this service is restarted"
            ),
        );
    })?;
    Ok(SealingKey::new(&secret))
}

/// What this node is known by among those that share a database.
pub(crate) fn node_id(folder: &Path, troubles: &Troubles) -> Result<[u8; 16], SecretError> {
    drawn_once(&folder.join(NODE_ID), |aside| {
        troubles.set(
            TroubleKind::NodeId,
            format!(
                "node-id was broken and is kept as {aside}; a new one was made. The database counts one node too many for a minute"
            ),
        );
    })
}

/// Random bytes that a file keeps: read from it, or drawn when there is none or it is broken.
fn drawn_once<const LENGTH: usize>(
    path: &Path,
    on_broken: impl FnOnce(String),
) -> Result<[u8; LENGTH], SecretError> {
    let wrong = |source| SecretError { path: path.to_owned(), source };
    match std::fs::read(path) {
        Ok(bytes) => {
            if let Ok(bytes) = bytes.try_into() {
                return Ok(bytes);
            }
            on_broken(set_aside(path).map_err(wrong)?.display().to_string());
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => {}
        Err(error) => return Err(wrong(error)),
    }
    let mut bytes = [0; LENGTH];
    rand::rng().fill(&mut bytes[..]);
    write_whole(path, &bytes).map_err(wrong)?;
    Ok(bytes)
}

/// The first token: read from its file, or made when there is none or it is broken.
pub(crate) fn first_token(folder: &Path, known: &[Token], troubles: &Troubles) -> Result<Token, SecretError> {
    let path = folder.join(FIRST_TOKEN);
    let wrong = |source| SecretError { path: path.clone(), source };
    match std::fs::read_to_string(&path) {
        Ok(text) if is_token(text.trim()) => {
            let hash = hash(text.trim());
            let known = known.iter().find(|token| token.hash == hash).cloned();
            return Ok(known.unwrap_or_else(|| new(hash, "admin".to_owned())));
        }
        Ok(_) => {
            let aside = set_aside(&path).map_err(wrong)?;
            troubles.set(
                TroubleKind::FirstToken,
                format!(
                    "first-token did not hold a token ({TOKEN_LENGTH} hexadecimal digits) and is kept as {}; a new one was made",
                    aside.display()
                ),
            );
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => {}
        Err(error) => return Err(wrong(error)),
    }
    let token = draw_token();
    write_whole(&path, format!("{token}\n").as_bytes()).map_err(wrong)?;
    tracing::info!(file = %path.display(), "the first token was made");
    let is_taken = |name: &str| known.iter().any(|token| token.name == name && token.revoked.is_none());
    let names = std::iter::once("admin".to_owned()).chain((2..).map(|number| format!("admin-{number}")));
    let name = names.into_iter().find(|name| !is_taken(name)).unwrap_or_default();
    Ok(new(hash(&token), name))
}

fn new(hash: String, name: String) -> Token {
    Token { hash, name, at: wall(), used: None, revoked: None }
}

/// A new token, or a new secret of a session.
pub(super) fn draw_token() -> String {
    hexadecimal(&rand::rng().random::<[u8; TOKEN_LENGTH / 2]>())
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use rstest::rstest;

    use super::*;

    #[test]
    fn the_first_token_is_made_once_and_is_for_its_owner_alone() {
        let folder = tempfile::tempdir().unwrap();
        let troubles = Troubles::default();
        let made = first_token(folder.path(), &[], &troubles).unwrap();
        let again = first_token(folder.path(), &[], &troubles).unwrap();
        assert_eq!((made.hash.as_str(), made.name.as_str()), (again.hash.as_str(), "admin"));
        let path = folder.path().join(FIRST_TOKEN);
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        assert_eq!(std::fs::read_to_string(path).unwrap().trim().len(), TOKEN_LENGTH);
        assert_eq!(troubles.messages(), Vec::<String>::new());
    }

    #[rstest]
    #[case::empty("")]
    #[case::a_line_end("\n")]
    #[case::a_part("0123456789abcdef\n")]
    #[case::no_hexadecimal("xyz")]
    fn a_broken_first_token_is_kept_aside_and_a_new_one_is_made(#[case] broken: &str) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(FIRST_TOKEN);
        std::fs::write(&path, broken).unwrap();
        let troubles = Troubles::default();
        let known = [new("ab".repeat(32), "admin".to_owned())];
        let made = first_token(folder.path(), &known, &troubles).unwrap();
        assert_eq!(made.name, "admin-2", "the old one still works, so it keeps its name");
        assert_eq!(made.hash, hash(std::fs::read_to_string(&path).unwrap().trim()));
        assert!(troubles.messages()[0].contains("first-token"), "{:?}", troubles.messages());
    }

    #[test]
    fn a_broken_secret_is_kept_aside_and_a_new_one_is_drawn_once() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join(NODE_ID), "short").unwrap();
        let troubles = Troubles::default();
        let drawn = node_id(folder.path(), &troubles).unwrap();
        assert_eq!(node_id(folder.path(), &Troubles::default()).unwrap(), drawn);
        assert_eq!(troubles.messages().len(), 1);
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 2, "the broken one is kept");
    }
}
