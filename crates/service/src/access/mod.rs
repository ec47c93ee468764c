//! Who may use the API: tokens and the console's sessions, of which only the hashes are kept.

mod guesses;
mod secrets;

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use merismos_core::name::Name;
use merismos_core::time::Wall;
use merismos_store::Token;
use merismos_store::state_snapshot::StoredSession;
use sha2::{Digest, Sha256};
use tokio::sync::watch;

use crate::clock::wall;

pub(crate) use guesses::FailedLogins;
pub(crate) use secrets::{
    PinSecrets, SecretError, first_token, node_id, pin_key, pin_key_times, renew_pin_key, sealing_key,
};

/// How many hexadecimal digits a token and a session's secret have: 256 bits.
const TOKEN_LENGTH: usize = 64;
/// The most sessions at once; beyond, the one that was used longest ago ends.
const MOST_SESSIONS: usize = 1_000;
/// A use is noted when the last one is at least so long ago.
const USE_NOTED_EVERY: Duration = Duration::from_secs(60);

/// How long sessions of the console last.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct SessionLimits {
    pub(crate) idle: Duration,
    /// From the log-in on.
    pub(crate) life: Duration,
}

impl Default for SessionLimits {
    fn default() -> Self {
        Self { idle: Duration::from_secs(12 * 3_600), life: Duration::from_secs(7 * 24 * 3_600) }
    }
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A token has 256 random bits, so a plain hash of it can't be searched.
fn hash(token: &str) -> String {
    hexadecimal(&Sha256::digest(token.as_bytes()))
}

/// Whether a text has the form of a token.
fn is_token(text: &str) -> bool {
    text.len() == TOKEN_LENGTH && text.bytes().all(|byte| byte.is_ascii_hexdigit())
}

/// What a caller showed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Credential {
    /// A token, by its hash.
    Token(String),
    /// A session, by its hash.
    Session(String),
}

/// A caller that may use the API.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Caller {
    pub(crate) name: String,
    pub(crate) credential: Credential,
}

/// Why a token is not made or revoked.
#[derive(Debug, thiserror::Error)]
pub(crate) enum TokenError {
    #[error("there is a token {0} already; take that one back first, or choose another name")]
    Exists(Name),
    #[error("there is no token {0}")]
    Unknown(String),
    #[error("{0} is the last token: without it the API could not be used. Create another one first")]
    Last(String),
}

/// Everyone who may use the API.
#[derive(Clone, Debug)]
pub(crate) struct Access {
    limits: SessionLimits,
    /// Held for a look-up or a change, never across a wait.
    known: Arc<Mutex<KnownToken>>,
    /// Notified whenever the state file should be written anew.
    state_is_old: watch::Sender<u64>,
}

#[derive(Debug, Default)]
struct KnownToken {
    tokens: BTreeMap<String, Token>,
    sessions: BTreeMap<String, StoredSession>,
}

impl KnownToken {
    fn live(&self, hash: &str) -> Option<&Token> {
        self.tokens.get(hash).filter(|token| token.revoked.is_none())
    }

    /// Forgets the sessions that are over.
    fn tidy(&mut self, limits: SessionLimits, now: Wall) {
        let tokens = &self.tokens;
        self.sessions.retain(|_, session| {
            let is_live = tokens.get(&session.token).is_some_and(|token| token.revoked.is_none());
            is_live && now.since(session.used) < limits.idle && now.since(session.at) < limits.life
        });
    }
}

impl Access {
    /// Knows these tokens and sessions.
    pub(crate) fn new(
        tokens: Vec<Token>,
        sessions: Vec<StoredSession>,
        limits: SessionLimits,
        state_is_old: watch::Sender<u64>,
    ) -> Self {
        let known = KnownToken {
            tokens: tokens.into_iter().map(|token| (token.hash.clone(), token)).collect(),
            sessions: sessions.into_iter().map(|session| (session.hash.clone(), session)).collect(),
        };
        Self { limits, known: Arc::new(Mutex::new(known)), state_is_old }
    }

    fn known(&self) -> MutexGuard<'_, KnownToken> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn changed(&self) {
        self.state_is_old.send_modify(|changes| *changes += 1);
    }

    /// Whose token this is.
    pub(crate) fn by_token(&self, token: &str) -> Option<Caller> {
        if !is_token(token) {
            return None;
        }
        // Comparing hashes tells an attacker nothing about the token.
        let hash = hash(token);
        let mut known = self.known();
        let now = wall();
        let token = known.tokens.get_mut(&hash).filter(|token| token.revoked.is_none())?;
        if token.used.is_none_or(|used| now.since(used) >= USE_NOTED_EVERY) {
            token.used = Some(now);
        }
        Some(Caller { name: token.name.clone(), credential: Credential::Token(hash) })
    }

    /// Whose session of the console this is.
    pub(crate) fn by_session(&self, secret: &str) -> Option<Caller> {
        if !is_token(secret) {
            return None;
        }
        let (hash, now) = (hash(secret), wall());
        let mut known = self.known();
        known.tidy(self.limits, now);
        let session = known.sessions.get_mut(&hash)?;
        session.used = now;
        let token = session.token.clone();
        let name = known.live(&token)?.name.clone();
        Some(Caller { name, credential: Credential::Session(hash) })
    }

    /// Whether what a caller showed still counts; a stream asks again and again.
    pub(crate) fn still_counts(&self, credential: &Credential) -> bool {
        let mut known = self.known();
        match credential {
            Credential::Token(hash) => known.live(hash).is_some(),
            Credential::Session(hash) => {
                known.tidy(self.limits, wall());
                known.sessions.contains_key(hash)
            }
        }
    }

    /// Begins a session with a token; gives its secret, and how long it may last.
    pub(crate) fn log_in(&self, token: &str) -> Option<(String, Duration)> {
        let Credential::Token(token) = self.by_token(token)?.credential else { return None };
        let (secret, now) = (secrets::draw_token(), wall());
        let mut known = self.known();
        known.tidy(self.limits, now);
        while known.sessions.len() >= MOST_SESSIONS {
            let oldest = known
                .sessions
                .values()
                .min_by_key(|session| session.used)
                .map(|session| session.hash.clone());
            let Some(oldest) = oldest else { break };
            known.sessions.remove(&oldest);
        }
        let hash = hash(&secret);
        known.sessions.insert(hash.clone(), StoredSession { hash, token, at: now, used: now });
        drop(known);
        self.changed();
        Some((secret, self.limits.life))
    }

    pub(crate) fn log_out(&self, secret: &str) {
        if self.known().sessions.remove(&hash(secret)).is_some() {
            self.changed();
        }
    }

    /// Makes a token; gives it, for it can't be had again, beside what is kept of it.
    pub(crate) fn create(&self, name: &Name) -> Result<(String, Token), TokenError> {
        let mut known = self.known();
        let is_taken =
            known.tokens.values().any(|token| token.name == name.as_str() && token.revoked.is_none());
        if is_taken {
            return Err(TokenError::Exists(name.clone()));
        }
        let secret = secrets::draw_token();
        let hash = hash(&secret);
        let token =
            Token { hash: hash.clone(), name: name.to_string(), at: wall(), used: None, revoked: None };
        known.tokens.insert(hash, token.clone());
        drop(known);
        self.changed();
        Ok((secret, token))
    }

    /// Takes a token back, at once, and with it the sessions that were begun with it.
    pub(crate) fn revoke(&self, name: &str) -> Result<Token, TokenError> {
        let mut known = self.known();
        let live = |token: &&mut Token| token.revoked.is_none();
        let count = known.tokens.values_mut().filter(live).count();
        let token = known.tokens.values_mut().filter(live).find(|token| token.name == name);
        let token = token.ok_or_else(|| TokenError::Unknown(name.to_owned()))?;
        if count == 1 {
            return Err(TokenError::Last(name.to_owned()));
        }
        token.revoked = Some(wall());
        let token = token.clone();
        known.tidy(self.limits, wall());
        drop(known);
        self.changed();
        Ok(token)
    }

    /// Every token, also those that were revoked.
    pub(crate) fn tokens(&self) -> Vec<Token> {
        self.known().tokens.values().cloned().collect()
    }

    /// Every session that is not over.
    pub(crate) fn sessions(&self) -> Vec<StoredSession> {
        let mut known = self.known();
        known.tidy(self.limits, wall());
        known.sessions.values().cloned().collect()
    }

    /// Joins what others know of tokens with what is known here.
    pub(crate) fn join(&self, others: &[Token]) {
        let mut known = self.known();
        let before = known.tokens.len();
        let mut is_news = false;
        for other in others {
            let token = known.tokens.entry(other.hash.clone()).or_insert_with(|| other.clone());
            is_news |= token.revoked.is_none() && other.revoked.is_some();
            token.join(other);
        }
        is_news |= known.tokens.len() > before;
        known.tidy(self.limits, wall());
        drop(known);
        if is_news {
            self.changed();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn access(limits: SessionLimits) -> (Access, String) {
        let secret = secrets::draw_token();
        let token =
            Token { hash: hash(&secret), name: "admin".to_owned(), at: wall(), used: None, revoked: None };
        (Access::new(vec![token], Vec::new(), limits, watch::Sender::new(0)), secret)
    }

    #[test]
    fn only_a_whole_token_is_one_and_an_empty_one_never_is() {
        let (access, secret) = access(SessionLimits::default());
        assert_eq!(access.by_token(&secret).unwrap().name, "admin");
        for guess in ["", " ", &secret[1..], &"0".repeat(64)] {
            assert_eq!(access.by_token(guess), None, "{guess:?}");
        }
        let empty = Token { hash: hash(""), name: "empty".to_owned(), at: wall(), used: None, revoked: None };
        access.join(&[empty]);
        assert_eq!(access.by_token(""), None, "whatever is recorded");
    }

    #[test]
    fn a_session_ends_with_the_log_out_and_with_its_token() {
        let (access, _) = access(SessionLimits::default());
        let (second, _) = access.create(&"second".parse().unwrap()).unwrap();
        let (one, _) = access.log_in(&second).unwrap();
        let (other, _) = access.log_in(&second).unwrap();
        let caller = access.by_session(&one).unwrap();
        assert_eq!(caller.name, "second");
        assert_eq!(access.by_token(&one), None, "a session is no token");
        access.log_out(&one);
        assert_eq!((access.by_session(&one), access.still_counts(&caller.credential)), (None, false));
        assert!(access.by_session(&other).is_some());
        access.revoke("second").unwrap();
        assert_eq!((access.by_session(&other), access.by_token(&second)), (None, None));
    }

    #[test]
    fn a_session_ends_by_itself() {
        for limits in [
            SessionLimits { idle: Duration::ZERO, ..SessionLimits::default() },
            SessionLimits { life: Duration::ZERO, ..SessionLimits::default() },
        ] {
            let (access, secret) = access(limits);
            let (session, _) = access.log_in(&secret).unwrap();
            assert_eq!(access.by_session(&session), None, "{limits:?}");
        }
    }

    #[test]
    fn the_last_token_stays_and_one_that_was_taken_back_does_too() {
        let (access, secret) = access(SessionLimits::default());
        assert!(matches!(access.revoke("admin"), Err(TokenError::Last(_))));
        assert!(matches!(access.revoke("unknown"), Err(TokenError::Unknown(_))));
        assert!(matches!(access.create(&"admin".parse().unwrap()), Err(TokenError::Exists(_))));
        access.create(&"second".parse().unwrap()).unwrap();
        let old = access.tokens();
        access.revoke("admin").unwrap();
        // An older record of it does not let it in again.
        access.join(&old);
        assert_eq!(access.by_token(&secret), None);
    }
}
