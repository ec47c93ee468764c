//! Passwords of sessions. They are read aside, so that a disk that stalls holds up nothing, and one that was read stands until there is
//! another one: a file that is gone for a moment ends no session.

use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use merismos_core::config::document::SecretRef;
use merismos_probe::secret_ref::SecretCache;

/// How often a password is read again.
pub(super) const READ_EVERY: Duration = Duration::from_secs(2);

/// The passwords that the document refers to, as they were read last.
#[derive(Clone, Debug)]
pub(super) struct SessionPasswords {
    secrets: SecretCache,
    every: Duration,
    known: Arc<Mutex<Vec<ReadPassword>>>,
}

struct ReadPassword {
    secret: SecretRef,
    /// The last that could be read.
    text: Option<String>,
    /// Why it can't be read now.
    trouble: Option<String>,
    /// When it was read last; `None` while that is under way.
    read: Option<Instant>,
}

impl fmt::Debug for ReadPassword {
    /// Without the password itself.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("ReadPassword").field("secret", &self.secret).finish_non_exhaustive()
    }
}

impl SessionPasswords {
    pub(super) fn new(secrets: SecretCache, every: Duration) -> Self {
        Self { secrets, every, known: Arc::default() }
    }

    fn known(&self) -> MutexGuard<'_, Vec<ReadPassword>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The password, if it could ever be read. Has it read again aside, in a runtime, when that was done some time ago.
    pub(super) fn get(&self, secret: &SecretRef) -> Option<String> {
        let mut known = self.known();
        let Some(password) = known.iter_mut().find(|known| known.secret == *secret) else {
            known.push(ReadPassword { secret: secret.clone(), text: None, trouble: None, read: None });
            drop(known);
            self.read_aside(secret.clone());
            return None;
        };
        if password.read.is_some_and(|read| read.elapsed() >= self.every) {
            password.read = None;
            self.read_aside(secret.clone());
        }
        password.text.clone()
    }

    /// Why a password can't be read now.
    pub(super) fn trouble(&self, secret: &SecretRef) -> Option<String> {
        let known = self.known();
        let password = known.iter().find(|known| known.secret == *secret)?;
        let stays = if password.text.is_some() { "; the one that was read before stays" } else { "" };
        password.trouble.as_ref().map(|trouble| format!("{trouble}{stays}"))
    }

    /// Forgets passwords that nothing refers to.
    pub(super) fn retain(&self, is_wanted: impl Fn(&SecretRef) -> bool) {
        self.known().retain(|known| is_wanted(&known.secret));
    }

    fn read_aside(&self, secret: SecretRef) {
        let passwords = self.clone();
        tokio::task::spawn_blocking(move || {
            // A file that is written anew is empty at first.
            let read = passwords.secrets.read(&secret).and_then(|text| match text.as_str() {
                "" => Err(format!("the password in {secret} is empty")),
                _ => Ok(text),
            });
            let mut known = passwords.known();
            let Some(password) = known.iter_mut().find(|known| known.secret == secret) else { return };
            password.read = Some(Instant::now());
            match read {
                Ok(text) => (password.text, password.trouble) = (Some(text), None),
                Err(trouble) => password.trouble = Some(trouble),
            }
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_password_that_was_read_stands_until_there_is_another_one() {
        let folder = tempfile::tempdir().unwrap();
        let secrets = SecretCache { folder: Some(folder.path().to_owned()) };
        let (file, secret) = (folder.path().join("quay"), SecretRef::File("quay".to_owned()));
        let passwords = SessionPasswords::new(secrets, Duration::ZERO);
        let becomes = async |text: Option<&str>, trouble: Option<&str>| {
            let end = Instant::now() + Duration::from_secs(20);
            loop {
                let now = (passwords.get(&secret), passwords.trouble(&secret));
                let is_so = match (&now.1, trouble) {
                    (Some(found), Some(part)) => found.contains(part),
                    (found, part) => found.is_none() && part.is_none(),
                };
                if is_so && now.0.as_deref() == text {
                    return;
                }
                assert!(Instant::now() < end, "{now:?}, and not {text:?} and {trouble:?}");
                tokio::task::yield_now().await;
            }
        };
        becomes(None, Some("a secret can't be had: quay: No such file")).await;
        std::fs::write(&file, "hidden\n").unwrap();
        becomes(Some("hidden"), None).await;
        std::fs::remove_file(&file).unwrap();
        becomes(
            Some("hidden"),
            Some("No such file or directory (os error 2); the one that was read before stays"),
        )
        .await;
        std::fs::write(&file, "").unwrap();
        becomes(Some("hidden"), Some("is empty; the one that was read before stays")).await;
        std::fs::write(&file, "changed").unwrap();
        becomes(Some("changed"), None).await;
        passwords.retain(|_| false);
        assert_eq!(passwords.trouble(&secret), None);
        assert_eq!(passwords.get(&secret), None, "it has to be read anew");
    }
}
