//! Files of the state folder: written whole or not at all, and set aside when they are broken.

use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

/// Writes a file: after a crash or on a full disk it holds the old content or the new one, whole. Only its owner can read it.
///
/// # Errors
/// When the new content can't be written; the old one is untouched then, and nothing is left beside it.
pub fn write_whole(path: &Path, content: &[u8]) -> io::Result<()> {
    let new = path.with_extension("new");
    let written = write_beside(&new, path, content);
    if written.is_err() {
        // A part of a file is of no use to anyone, and the disk may be full of it.
        let _ = std::fs::remove_file(&new);
    }
    written
}

fn write_beside(new: &Path, path: &Path, content: &[u8]) -> io::Result<()> {
    let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(new)?;
    file.write_all(content)?;
    file.sync_all()?;
    std::fs::rename(new, path)?;
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    File::open(folder)?.sync_all()
}

/// Moves a file that can't be used out of the way, for later inspection; gives its new path.
///
/// # Errors
/// When it can't be moved.
pub fn set_aside(path: &Path) -> io::Result<PathBuf> {
    let seconds = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(format!(".broken-{seconds}"));
    let aside = path.with_file_name(name);
    std::fs::rename(path, &aside)?;
    Ok(aside)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn a_file_is_written_whole_and_for_its_owner_alone() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("secret");
        write_whole(&path, b"one").unwrap();
        write_whole(&path, b"two").unwrap();
        assert_eq!(std::fs::read(&path).unwrap(), b"two");
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "nothing is left beside it");
    }

    #[test]
    fn what_can_not_be_written_leaves_the_old_file_and_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        // A folder in the file's place: renaming fails when everything else has gone well.
        let path = folder.path().join("secret");
        std::fs::create_dir(&path).unwrap();
        assert!(write_whole(&path, b"one").is_err());
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1, "no part of it is left");
    }

    #[test]
    fn a_broken_file_is_kept_under_another_name() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("copy.json");
        std::fs::write(&path, "{").unwrap();
        let aside = set_aside(&path).unwrap();
        assert!(!path.exists());
        assert!(aside.file_name().unwrap().to_str().unwrap().starts_with("copy.json.broken-"));
        assert_eq!(std::fs::read(aside).unwrap(), b"{");
    }
}
