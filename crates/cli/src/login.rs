//! Where the service is and which token it wants: from flags, environment, or the log-in kept on disk.

use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;

use merismos_client::Client;
use serde::{Deserialize, Serialize};

use crate::exit::CliError;

/// The address of the service when none is given.
const DEFAULT_URL: &str = "http://127.0.0.1:7480";

/// What the flags of every command stand under in its help.
pub(crate) const EVERYWHERE: &str = "With every command";

/// A log-in as it is kept.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(crate) struct Login {
    pub(crate) url: String,
    pub(crate) token: String,
}

/// The service to talk to
#[derive(Clone, Debug, clap::Args)]
pub(crate) struct ServiceTarget {
    /// URL of the service [default: that of the last log-in, or http://127.0.0.1:7480]
    #[arg(long, global = true, env = "MERISMOS_URL", value_name = "URL", help_heading = EVERYWHERE)]
    pub(crate) url: Option<String>,
    /// Token of the API [default: that of the last log-in]
    #[arg(long, global = true, env = "MERISMOS_TOKEN", value_name = "TOKEN", hide_env_values = true, help_heading = EVERYWHERE)]
    pub(crate) token: Option<String>,
    /// Whether what is answered is shown to people.
    #[arg(skip)]
    pub(crate) for_people: bool,
}

impl ServiceTarget {
    /// A client for the service.
    pub(crate) fn client(&self) -> Result<Client, CliError> {
        let kept = if self.url.is_some() && self.token.is_some() { None } else { read()? };
        let kept = kept.unwrap_or_default();
        let url = match &self.url {
            Some(url) => url.clone(),
            None if kept.url.is_empty() => DEFAULT_URL.to_owned(),
            None => kept.url,
        };
        let token = self.token.clone().unwrap_or(kept.token);
        let client = Client::new(&url, &token)?;
        Ok(if self.for_people { client.for_people() } else { client })
    }
}

/// The file with the log-in: in the user's configuration folder (XDG Base Directory Specification).
pub(crate) fn path() -> Result<PathBuf, CliError> {
    let folder = |name| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let config = folder("XDG_CONFIG_HOME").or_else(|| folder("HOME").map(|home| home.join(".config")));
    let config =
        config.ok_or_else(|| CliError::Call("neither XDG_CONFIG_HOME nor HOME is set".to_owned()))?;
    Ok(config.join("merismos").join("login.toml"))
}

fn read() -> Result<Option<Login>, CliError> {
    // Without a home there is no kept log-in, and none is needed when the defaults do.
    let Ok(path) = path() else { return Ok(None) };
    match std::fs::read_to_string(&path) {
        Ok(text) => toml::from_str(&text).map(Some).map_err(|source| CliError::Login { path, source }),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(source) => Err(CliError::File { path, source }),
    }
}

/// Keeps a log-in; only its owner can read it.
pub(crate) fn write(login: &Login) -> Result<PathBuf, CliError> {
    let path = path()?;
    let wrong = |source| CliError::File { path: path.clone(), source };
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder).map_err(wrong)?;
    }
    let text = toml::to_string(login).map_err(|error| wrong(std::io::Error::other(error)))?;
    // A new file with its mode, renamed over the old one: never readable by others, not even for a moment.
    let new = path.with_extension("new");
    let _ = std::fs::remove_file(&new);
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&new).map_err(wrong)?;
    file.write_all(text.as_bytes()).map_err(wrong)?;
    std::fs::rename(&new, &path).map_err(wrong)?;
    Ok(path)
}
