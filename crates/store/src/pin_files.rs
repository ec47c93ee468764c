//! Files of pins: one for each pool or group that keeps its own over a restart, or hands them to the next service.
//!
//! A file begins with [`BEGINNING`], and pins of [`KeptPin::LENGTH`] bytes follow; of two for one key the later one holds. Pins are added
//! at the end, so what was made since is all that is written; a part of one at the end is left of a crash, and is passed over.

use std::fs::{DirBuilder, File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use merismos_core::name::Name;
use merismos_core::pins::{KeptPin, PinScope};

use crate::files::write_whole;

/// The first bytes of each file.
const BEGINNING: &[u8] = b"merismos-pins-1\n";
const ENDING: &str = ".pins";

/// The folder of the files of pins.
#[derive(Clone, Debug)]
pub struct PinFiles {
    folder: PathBuf,
}

impl PinFiles {
    /// The files in a folder, which is made when the first is written.
    #[must_use]
    pub fn new(folder: PathBuf) -> Self {
        Self { folder }
    }

    /// The file of a pool or group.
    #[must_use]
    pub fn path(&self, scope: &PinScope) -> PathBuf {
        let (of, name) = match scope {
            PinScope::Pool(name) => ("pool", name),
            PinScope::Group(name) => ("group", name),
        };
        self.folder.join(format!("{of}-{name}{ENDING}"))
    }

    /// Whose pins there are.
    ///
    /// # Errors
    /// When the folder can't be read; one that is not there has none.
    pub fn scopes(&self) -> io::Result<Vec<PinScope>> {
        let entries = match std::fs::read_dir(&self.folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(error),
        };
        let names = entries.filter_map(|entry| entry.ok()?.file_name().into_string().ok());
        Ok(names.filter_map(|name| scope(name.strip_suffix(ENDING)?)).collect())
    }

    /// The pins of a pool or group, the oldest first.
    ///
    /// # Errors
    /// When the file can't be read, or is none of ours.
    pub fn read(&self, scope: &PinScope) -> io::Result<Vec<KeptPin>> {
        let mut bytes = Vec::new();
        File::open(self.path(scope))?.read_to_end(&mut bytes)?;
        let pins = bytes.strip_prefix(BEGINNING).ok_or_else(|| {
            io::Error::new(io::ErrorKind::InvalidData, "the file does not begin as a file of pins")
        })?;
        Ok(pins.as_chunks::<{ KeptPin::LENGTH }>().0.iter().map(KeptPin::read).collect())
    }

    /// Writes all pins of a pool or group.
    ///
    /// # Errors
    /// When they can't be written; the old file is untouched then.
    pub fn write(&self, scope: &PinScope, pins: &[KeptPin]) -> io::Result<()> {
        DirBuilder::new().recursive(true).mode(0o700).create(&self.folder)?;
        let mut bytes = Vec::with_capacity(BEGINNING.len() + pins.len() * KeptPin::LENGTH);
        bytes.extend_from_slice(BEGINNING);
        pins.iter().for_each(|pin| pin.write(&mut bytes));
        write_whole(&self.path(scope), &bytes)
    }

    /// Adds pins to a file that was [written](Self::write) before.
    ///
    /// # Errors
    /// When they can't be added; a part of one may be at the end then, so the file has to be written anew.
    pub fn append(&self, scope: &PinScope, pins: &[KeptPin]) -> io::Result<()> {
        let mut bytes = Vec::with_capacity(pins.len() * KeptPin::LENGTH);
        pins.iter().for_each(|pin| pin.write(&mut bytes));
        let mut file = OpenOptions::new().append(true).mode(0o600).open(self.path(scope))?;
        file.write_all(&bytes)
    }

    /// Removes the file of a pool or group.
    ///
    /// # Errors
    /// When there is one, and it can't be removed.
    pub fn remove(&self, scope: &PinScope) -> io::Result<()> {
        match std::fs::remove_file(self.path(scope)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            Ok(()) | Err(_) => Ok(()),
        }
    }

    /// The folder.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }
}

fn scope(stem: &str) -> Option<PinScope> {
    let (of, name) = stem.split_once('-')?;
    let name: Name = name.parse().ok()?;
    match of {
        "pool" => Some(PinScope::Pool(name)),
        "group" => Some(PinScope::Group(name)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use merismos_core::pins::{LearnedPin, PinDigest};

    use super::*;

    fn kept(key: u64, used: u32) -> KeptPin {
        let client = if key.is_multiple_of(2) { "192.0.2.7" } else { "2001:db8::7" };
        let pin = LearnedPin { server: 7, client: client.parse().unwrap(), kind: 1, made: 3, used };
        KeptPin { key: PinDigest(key), pin }
    }

    #[test]
    fn pins_are_written_added_and_read_again() {
        let folder = tempfile::tempdir().unwrap();
        let files = PinFiles::new(folder.path().join("pins"));
        let (pool, group) =
            (PinScope::Pool("quay-a".parse().unwrap()), PinScope::Group("site".parse().unwrap()));
        assert_eq!(files.scopes().unwrap(), []);
        files.write(&pool, &[kept(1, 5)]).unwrap();
        files.append(&pool, &[kept(2, 6), kept(1, 7)]).unwrap();
        files.write(&group, &[]).unwrap();
        assert_eq!(files.read(&pool).unwrap(), [kept(1, 5), kept(2, 6), kept(1, 7)]);
        let mut scopes = files.scopes().unwrap();
        scopes.sort();
        assert_eq!(scopes, [pool.clone(), group.clone()]);
        files.remove(&pool).unwrap();
        files.remove(&pool).unwrap();
        assert_eq!(files.scopes().unwrap(), [group]);
    }

    #[test]
    fn a_part_of_a_pin_at_the_end_is_passed_over_and_another_file_is_none_of_ours() {
        let folder = tempfile::tempdir().unwrap();
        let files = PinFiles::new(folder.path().to_owned());
        let pool = PinScope::Pool("quay".parse().unwrap());
        files.write(&pool, &[kept(1, 5), kept(2, 6)]).unwrap();
        let path = folder.path().join("pool-quay.pins");
        let whole = std::fs::read(&path).unwrap();
        std::fs::write(&path, &whole[..whole.len() - 3]).unwrap();
        assert_eq!(files.read(&pool).unwrap(), [kept(1, 5)]);
        std::fs::write(&path, "something else").unwrap();
        assert_eq!(files.read(&pool).unwrap_err().kind(), io::ErrorKind::InvalidData);
        std::fs::write(folder.path().join("notes.txt"), "").unwrap();
        assert_eq!(files.scopes().unwrap(), [pool]);
    }
}
