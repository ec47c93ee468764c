//! Stand-ins for where messages go: a mail server (SMTP, RFC 5321) and a webhook. They keep what came.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::body::Incoming;
use hyper::{Request, Response, StatusCode};
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::TcpStream;
use tokio::sync::watch;

use crate::stand_in::{Fault, pause};

/// How much is kept of what came.
const KEPT: usize = 100;

/// One message that came: the fields before it, and what it says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReceivedMail {
    /// Fields of HTTP, or the envelope of a mail, by their names in lower case.
    pub fields: Vec<(String, String)>,
    /// The body of the request, or the whole mail.
    pub text: String,
}

/// What came to a stand-in, the oldest first.
#[derive(Clone, Debug, Default)]
pub(crate) struct Inbox(Arc<Mutex<VecDeque<ReceivedMail>>>);

impl Inbox {
    fn put(&self, mail: ReceivedMail) {
        let mut messages = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if messages.len() == KEPT {
            messages.pop_front();
        }
        messages.push_back(mail);
    }

    pub(crate) fn messages(&self) -> Vec<ReceivedMail> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).iter().cloned().collect()
    }
}

/// Takes a post and keeps it.
pub(crate) async fn take_post(
    request: Request<Incoming>,
    inbox: &Inbox,
    mut faults: watch::Receiver<Fault>,
) -> Response<Full<Bytes>> {
    let mut fields = vec![("path".to_owned(), request.uri().path().to_owned())];
    let all = request.headers().iter();
    fields.extend(
        all.map(|(name, value)| (name.to_string(), String::from_utf8_lossy(value.as_bytes()).into_owned())),
    );
    let body = request.into_body().collect().await.map(|body| body.to_bytes()).unwrap_or_default();
    pause(&mut faults).await;
    let mut response = Response::new(Full::default());
    let fault = *faults.borrow();
    if let Fault::Error { status } = fault {
        *response.status_mut() = StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        return response;
    }
    inbox.put(ReceivedMail { fields, text: String::from_utf8_lossy(&body).into_owned() });
    *response.status_mut() = StatusCode::NO_CONTENT;
    response
}

/// Takes mail on one connection. Faults: late, silent, or 451 to every mail.
pub(crate) async fn take_mail(
    stream: TcpStream,
    name: Arc<str>,
    inbox: Inbox,
    mut faults: watch::Receiver<Fault>,
) {
    let (read, mut write) = stream.into_split();
    let mut lines = BufReader::new(read).lines();
    let mut mail = ReceivedMail { fields: Vec::new(), text: String::new() };
    let mut is_data = false;
    pause(&mut faults).await;
    let mut answer = format!("220 {name} takes mail\r\n");
    loop {
        if write.write_all(answer.as_bytes()).await.is_err() {
            return;
        }
        let Ok(Some(line)) = lines.next_line().await else { return };
        answer = if is_data {
            match line.as_str() {
                "." => {
                    is_data = false;
                    let done = std::mem::replace(
                        &mut mail,
                        ReceivedMail { fields: Vec::new(), text: String::new() },
                    );
                    inbox.put(done);
                    "250 kept\r\n".to_owned()
                }
                // A line that begins with a dot has one more (RFC 5321, 4.5.2).
                line => {
                    mail.text += line.strip_prefix('.').unwrap_or(line);
                    mail.text.push('\n');
                    String::new()
                }
            }
        } else {
            pause(&mut faults).await;
            let fault = *faults.borrow();
            let verb = line.split([' ', ':']).next().unwrap_or_default().to_ascii_uppercase();
            match verb.as_str() {
                "EHLO" | "HELO" => format!("250 {name}\r\n"),
                "MAIL" if matches!(fault, Fault::Error { .. }) => "451 not now\r\n".to_owned(),
                "MAIL" | "RCPT" => {
                    mail.fields
                        .push((verb.to_lowercase(), line.split_once(':').unwrap_or_default().1.to_owned()));
                    "250 well\r\n".to_owned()
                }
                "DATA" => {
                    is_data = true;
                    "354 until a dot alone\r\n".to_owned()
                }
                "RSET" | "NOOP" => "250 well\r\n".to_owned(),
                "QUIT" => {
                    let _ = write.write_all(b"221 goodbye\r\n").await;
                    return;
                }
                _ => "502 not known here\r\n".to_owned(),
            }
        };
    }
}
