//! `merismos service create|remove`: a frontend, its pool, the pool's servers and their check as one change.

use clap::Subcommand;
use merismos_client::Client;
use merismos_core::config::ObjectPath;
use merismos_core::config::edit::Edit;
use merismos_core::name::Name;
use serde_json::{Map, Value, json};

use super::CommandContext;
use super::apply_options::ChangeTargetArgs;
use crate::exit::{CliError, ExitStatus};
use crate::show;

#[derive(Debug, Subcommand)]
pub(super) enum ServiceCommand {
    /// Create a frontend, a pool of the same name, its servers and their check
    Create(Box<CreateServiceArgs>),
    /// Remove a frontend with its pools, servers, checks and reserved address, as far as nothing else uses them
    Remove {
        /// Name of the frontend
        name: Name,
        #[command(flatten)]
        going: ChangeTargetArgs,
    },
}

#[derive(Debug, clap::Args)]
pub(super) struct CreateServiceArgs {
    /// Name of the frontend, the pool and the check
    name: Name,
    /// Protocol that clients speak: http, tcp or udp
    #[arg(long, default_value = "http")]
    protocol: String,
    /// IP address and port to listen on
    #[arg(long, value_name = "ADDRESS:PORT", required_unless_present = "from", conflicts_with = "from")]
    listen: Option<String>,
    /// Reserve the next free address of this range; needs --port
    #[arg(long, value_name = "RANGE", requires = "port")]
    from: Option<Name>,
    /// Port on the address that --from reserves
    #[arg(long, requires = "from")]
    port: Option<u16>,
    /// Server, such as oak=192.0.2.21:80 or "oak=192.0.2.21:80 3" with a weight; the name is optional; may be given
    /// several times
    #[arg(long = "server", value_name = "NAME=ADDRESS:PORT", required = true)]
    servers: Vec<String>,
    /// Algorithm of the pool [default: round-robin]
    #[arg(long)]
    algorithm: Option<String>,
    /// Health check of the servers: http:/PATH, https:/PATH, tcp, tls, icmp, grpc, or the name of an existing check
    #[arg(long, value_name = "HOW")]
    check: Option<String>,
    #[command(flatten)]
    going: ChangeTargetArgs,
}

impl ServiceCommand {
    pub(super) async fn run(self, context: &CommandContext) -> Result<ExitStatus, CliError> {
        match self {
            Self::Create(it) => {
                let CreateServiceArgs {
                    name,
                    protocol,
                    listen,
                    from,
                    port,
                    servers,
                    algorithm,
                    check,
                    going,
                } = *it;
                let mut edits = Vec::new();
                let mut pool = Map::new();
                if let Some(algorithm) = algorithm {
                    pool.insert("algorithm".to_owned(), algorithm.into());
                }
                match check.as_deref().map(|text| asked(text).map_err(CliError::Call)).transpose()? {
                    Some(CheckChoice::New(keys)) => {
                        edits.push(Edit::Add { object: ObjectPath::Check(name.clone()), keys });
                        pool.insert("check".to_owned(), name.as_str().into());
                    }
                    Some(CheckChoice::Known(check)) => {
                        drop(pool.insert("check".to_owned(), check.as_str().into()))
                    }
                    None => {}
                }
                edits.push(Edit::Add { object: ObjectPath::Pool(name.clone()), keys: pool });
                let lines = servers.join("\n");
                edits.push(Edit::AddServers { pool: name.clone(), lines, weight: None, tier: None });
                let listen = match (from, port) {
                    (Some(range), Some(port)) => {
                        let listen = format!("{range}/{name}:{port}");
                        edits.push(Edit::Reserve { range, name: name.clone(), address: None });
                        listen
                    }
                    _ => listen.unwrap_or_default(),
                };
                let keys = json!({ "protocol": protocol, "listen": listen, "pool": name });
                let Value::Object(keys) = keys else { unreachable!("it was written as a table") };
                edits.push(Edit::Add { object: ObjectPath::Frontend(name), keys });
                going.make(context, edits).await
            }
            Self::Remove { name, going } => {
                let client = context.target.client()?;
                let ServiceRemoval { edits, left } = removal(&client, &name, going.draft()).await?;
                let exit = going.make(context, edits).await?;
                if !context.json {
                    for (object, users) in left {
                        show::note(&format!("{object} is left: {} it too", users));
                    }
                }
                Ok(exit)
            }
        }
    }
}

enum CheckChoice {
    /// A check of these keys.
    New(Map<String, Value>),
    /// One that there is.
    Known(Name),
}

fn asked(text: &str) -> Result<CheckChoice, String> {
    let (kind, path) = text.split_once(':').map_or((text, None), |(kind, path)| (kind, Some(path)));
    let keys = match (kind, path) {
        ("http", path) => json!({ "kind": "http", "path": path.unwrap_or("/") }),
        ("https", path) => json!({ "kind": "http", "path": path.unwrap_or("/"), "tls": "verified" }),
        ("tcp" | "tls" | "icmp" | "grpc", None) => json!({ "kind": kind }),
        (name, None) => return name.parse().map(CheckChoice::Known).map_err(|error| error.to_string()),
        _ => {
            return Err(format!(
                "{text:?} is no check: wanted http:/PATH, https:/PATH, tcp, tls, icmp, grpc, or the name of a check that there is"
            ));
        }
    };
    let Value::Object(keys) = keys else { unreachable!("it was written as a table") };
    Ok(CheckChoice::New(keys))
}

/// What goes with a service, in the order in which it can, and what stays because others use it, with their names.
struct ServiceRemoval {
    edits: Vec<Edit>,
    left: Vec<(String, String)>,
}

async fn removal(client: &Client, name: &Name, draft: Option<&Name>) -> Result<ServiceRemoval, CliError> {
    let frontend = ObjectPath::Frontend(name.clone());
    let view = client.object(&frontend, draft).await?;
    let named = |value: &Value| value.as_str().and_then(|text| text.parse::<Name>().ok());
    let list = view.keys["next_pools"].as_array().cloned().unwrap_or_default();
    let pools: Vec<Name> =
        [&view.keys["pool"], &view.keys["last_resort"]].into_iter().chain(&list).filter_map(named).collect();
    let mut going = vec![frontend];
    let mut left = Vec::new();
    // An object goes when all that use it do.
    let mut go = async |object: ObjectPath, going: &mut Vec<ObjectPath>| -> Result<Option<Value>, CliError> {
        let view = client.object(&object, draft).await?;
        let gone: Vec<String> = going.iter().map(ObjectPath::to_string).collect();
        let others: Vec<String> = view
            .used_by
            .iter()
            .filter(|path| !gone.contains(path))
            .map(|path| path.parse::<ObjectPath>().map_or_else(|_| path.clone(), |object| object.words()))
            .collect();
        if others.is_empty() {
            going.push(object);
            return Ok(Some(view.keys));
        }
        let verb = if others.len() == 1 { "uses" } else { "use" };
        left.push((object.words(), format!("{} {verb}", others.join(", "))));
        Ok(None)
    };
    if let Some((range, taken)) =
        view.keys["listen"].as_str().and_then(|endpoint| endpoint.rsplit_once(':')?.0.split_once('/'))
        && let (Ok(range), Ok(taken)) = (range.parse(), taken.parse())
    {
        go(ObjectPath::Reserved(range, taken), &mut going).await?;
    }
    let mut checks: Vec<Name> = Vec::new();
    for pool in pools {
        if let Some(keys) = go(ObjectPath::Pool(pool), &mut going).await? {
            let more = keys["more_checks"].as_array().cloned().unwrap_or_default();
            let its = std::iter::once(&keys["check"]).chain(&more).filter_map(named);
            checks.extend(its.filter(|check| !checks.contains(check)).collect::<Vec<_>>());
        }
    }
    for check in checks {
        go(ObjectPath::Check(check), &mut going).await?;
    }
    let edits = going.into_iter().map(|object| Edit::Remove { object }).collect();
    Ok(ServiceRemoval { edits, left })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_check_is_said_in_a_word() {
        let keys = |text: &str| match asked(text) {
            Ok(CheckChoice::New(keys)) => Value::Object(keys).to_string(),
            Ok(CheckChoice::Known(name)) => name.to_string(),
            Err(error) => error,
        };
        assert_eq!(keys("http:/health"), r#"{"kind":"http","path":"/health"}"#);
        assert_eq!(keys("https:/health"), r#"{"kind":"http","path":"/health","tls":"verified"}"#);
        assert_eq!(keys("tcp"), r#"{"kind":"tcp"}"#);
        assert_eq!(keys("site-answers"), "site-answers");
        assert!(keys("smoke:/x").contains("is no check"));
    }
}
