//! The bare loop that probing is measured against: it makes the same connections at the same pace, and judges nothing.

use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::{Instant, MissedTickBehavior, interval_at};

/// The address of the server with this number: every one in 127.64.0.0/10 is this machine's.
#[must_use]
pub fn address(number: usize, port: u16) -> SocketAddr {
    let part = |value: usize| u8::try_from(value).unwrap_or(u8::MAX);
    let ip = Ipv4Addr::new(127, 64 + part(number / 62_500), part(number / 250 % 250), part(number % 250 + 1));
    (ip, port).into()
}

/// Knocks at so many servers, each once in the interval and evenly spread, until the process ends: by a connection of
/// its own each time, or by a request on one that stays.
pub async fn run(servers: usize, port: u16, interval: Duration, keeps: bool) {
    let start = Instant::now();
    let tasks = (0..servers).map(|number| {
        let first =
            start + interval * u32::try_from(number).unwrap_or(0) / u32::try_from(servers).unwrap_or(1);
        tokio::spawn(async move {
            let mut pace = interval_at(first, interval);
            pace.set_missed_tick_behavior(MissedTickBehavior::Delay);
            let mut kept = None;
            loop {
                pace.tick().await;
                // A server that is away costs what it costs.
                kept = knock(address(number, port), kept.take(), keeps).await.unwrap_or(None);
            }
        })
    });
    for task in tasks.collect::<Vec<_>>() {
        let _ = task.await;
    }
}

async fn knock(to: SocketAddr, kept: Option<TcpStream>, keeps: bool) -> io::Result<Option<TcpStream>> {
    let mut stream = match kept {
        Some(stream) => stream,
        None => TcpStream::connect(to).await?,
    };
    if !keeps {
        return Ok(None);
    }
    stream.write_all(format!("GET /health HTTP/1.1\r\nhost: {to}\r\n\r\n").as_bytes()).await?;
    let mut buffer = [0; 1_024];
    let read = stream.read(&mut buffer).await?;
    Ok((read > 0).then_some(stream))
}
