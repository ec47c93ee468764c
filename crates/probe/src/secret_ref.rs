//! Secrets that a document only refers to.
//!
//! The author of a document could otherwise have the service read any file of its machine and send it somewhere: secrets
//! are files of one folder, or environment variables whose names say that they are meant to be read.

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use merismos_core::config::document::SecretRef;

/// How the names of environment variables begin that documents may refer to.
pub const PREFIX: &str = "MERISMOS_SECRET_";

/// The bit of a file's mode by which every user can read it.
const OTHERS_READ: u32 = 0o004;

/// Where secrets may stand.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SecretCache {
    /// The folder whose files may be referred to; none may when it is left out.
    pub folder: Option<PathBuf>,
}

impl SecretCache {
    /// The secret itself.
    ///
    /// # Errors
    /// In words, when it is not where the document says, or may not be read.
    pub fn read(&self, secret: &SecretRef) -> Result<String, String> {
        match secret {
            SecretRef::Environment(name) if !name.starts_with(PREFIX) => Err(format!(
                "a secret can't be had: documents may refer to environment variables that begin with {PREFIX} alone, and {name} \
                 does not"
            )),
            SecretRef::Environment(name) => std::env::var(name).map_err(|_| {
                format!("a secret can't be had: the service has no environment variable {name}")
            }),
            SecretRef::File(path) => self.read_file(Path::new(path)),
        }
    }

    /// The file of a secret that every user of this machine can read.
    #[must_use]
    pub fn exposed(&self, secret: &SecretRef) -> Option<PathBuf> {
        let (SecretRef::File(path), Some(folder)) = (secret, &self.folder) else { return None };
        let path = folder.join(path);
        let mode = std::fs::metadata(&path).ok()?.permissions().mode();
        (mode & OTHERS_READ != 0).then_some(path)
    }

    fn read_file(&self, path: &Path) -> Result<String, String> {
        let Some(folder) = &self.folder else {
            return Err("a secret can't be had: the service was started without --secrets-folder".to_owned());
        };
        let wrong = |error: std::io::Error| format!("a secret can't be had: {}: {error}", path.display());
        // Both are followed to their ends, so that no link and no `..` leads out of the folder.
        let whole = folder.join(path).canonicalize().map_err(wrong)?;
        if !folder.canonicalize().is_ok_and(|folder| whole.starts_with(folder)) {
            return Err(format!(
                "a secret can't be had: {} is not in the folder for secrets, {}",
                path.display(),
                folder.display()
            ));
        }
        let text = std::fs::read_to_string(whole).map_err(wrong)?;
        Ok(text.trim_end_matches(['\r', '\n']).to_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_are_read_from_their_folder_and_from_nowhere_else() {
        let folder = tempfile::tempdir().unwrap();
        let inside = folder.path().join("secrets");
        std::fs::create_dir(&inside).unwrap();
        std::fs::write(inside.join("probe"), "word\n").unwrap();
        std::fs::write(folder.path().join("other"), "not this one").unwrap();
        std::os::unix::fs::symlink(folder.path().join("other"), inside.join("link")).unwrap();
        let secrets = SecretCache { folder: Some(inside.clone()) };
        let read = |path: String| secrets.read(&SecretRef::File(path));
        assert_eq!(read(inside.join("probe").display().to_string()).unwrap(), "word");
        for path in [
            "/etc/hostname".to_owned(),
            format!("{}/../other", inside.display()),
            format!("{}/link", inside.display()),
        ] {
            let error = read(path.clone()).unwrap_err();
            assert!(error.contains("not in the folder for secrets"), "{path}: {error}");
        }
        let without =
            SecretCache::default().read(&SecretRef::File(inside.join("probe").display().to_string()));
        assert!(without.unwrap_err().contains("--secrets-folder"));
        for name in ["PATH", "HOME", "MERISMOSD_DATABASE"] {
            assert!(secrets.read(&SecretRef::Environment(name.to_owned())).unwrap_err().contains(PREFIX));
        }
    }
}
