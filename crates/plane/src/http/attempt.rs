//! One attempt at one server: a connection, the request on it, and its response.

use std::future::Future;
use std::hint::cold_path;
use std::time::Duration;

use merismos_connector::proxy_header;
use merismos_core::config::document::{HttpVersion, TlsNameOf};
use merismos_core::routing::{Pool, Server};
use merismos_core::runtime::ServerWorkerCounters;

use super::error_response::RequestError;
use super::failure::{ForwardError, ServerFailure, server_failure};
use super::forward::RequestForwarder;
use super::http2::RequestHead;
use super::request_body::RequestBody;
use super::response::{ResponseDone, ResponseForwarder, Tunnel};
use crate::buffer::Buffer;
use crate::deadline::WakeReason;
use crate::idle::ReusePolicy;
use crate::io::{BodyKind, Transport, write_all};
use crate::pinning::SessionLearner;
use crate::relay::{Relay, RelayEnd};
use crate::select::GaugeGuard;
use crate::tls::ServerProtocol;
use crate::upstream::{ConnectFailure, ServerApproach, ServerConnection, Upstream};

#[derive(Clone, Copy)]
pub(super) struct AttemptTarget<'t> {
    pub(super) server: &'t Server,
    /// A field that ties the client to it.
    pub(super) pin: Option<&'t [u8]>,
    /// Where sessions are learned from responses.
    pub(super) learns: Option<SessionLearner<'t>>,
    /// How long it may take for its first byte before another one gets the request.
    pub(super) hedge_after: Option<Duration>,
}

impl RequestForwarder<'_> {
    /// One server's chance. A kept connection that turns out to be stale is replaced once by a fresh one.
    pub(super) fn try_server(
        &self,
        pool: &Pool,
        stream: &mut impl Transport,
        target: AttemptTarget<'_>,
        sending: &mut RequestBody<'_>,
    ) -> impl Future<Output = Result<ResponseDone, ForwardError>> {
        async move {
            let server = target.server;
            if pool.reaching.http_version == HttpVersion::Two {
                cold_path();
                return Box::pin(self.try_shared_connection(pool, stream, target, sending)).await;
            }
            let resendable = self.request.is_idempotent && sending.follow.is_done();
            let trust = if resendable { ReusePolicy::Any } else { ReusePolicy::Recent };
            let mut upstream = self.kept_connection(pool, server, trust, sending);
            loop {
                let is_fresh = upstream.is_none();
                if is_fresh {
                    cold_path();
                    // Rare beside kept connections; in a box it does not make every request's future larger.
                    let connected = Box::pin(self.connect(pool, server, sending)).await;
                    upstream = Some(connected.map_err(|error| ForwardError::Server(error.into()))?);
                }
                let Some(reached) = &mut upstream else { unreachable!("it was connected to") };
                let was_long = reached.was_long;
                let delivered = match &mut reached.stream {
                    ServerConnection::Plain(upstream) => {
                        self.send_request(stream, upstream, was_long, target, sending).await
                    }
                    ServerConnection::Tls(upstream) => {
                        cold_path();
                        Box::pin(self.send_request(stream, &mut **upstream, was_long, target, sending)).await
                    }
                };
                match delivered {
                    Ok(delivered) => {
                        self.keep_connection(pool, server, upstream, &delivered, sending.follow.is_done());
                        return Ok(delivered);
                    }
                    Err(ForwardError::Server(ServerFailure::Closed)) if resendable && !is_fresh => {
                        upstream = None;
                    }
                    Err(failed) => {
                        cold_path();
                        return Err(failed);
                    }
                }
            }
        }
    }

    /// One server's chance, on a stream of a connection that others share. When that closed before it took the request,
    /// another one is tried once.
    async fn try_shared_connection(
        &self,
        pool: &Pool,
        stream: &mut impl Transport,
        target: AttemptTarget<'_>,
        sending: &mut RequestBody<'_>,
    ) -> Result<ResponseDone, ForwardError> {
        let server = target.server;
        let mut is_second = false;
        loop {
            // What the client asks for in a form that HTTP/2 does not have is the client's doing, not the server's.
            let asked = RequestHead::new(sending.start, self.request)
                .map_err(|what| ForwardError::Refused(RequestError::NoFormInHttp2(what)))?;
            let approach = self.worker.approach(pool, ServerProtocol::Http2, self.watch);
            let upstream = self.worker.shared.stream(server, approach, asked).await;
            let mut upstream = upstream.map_err(|error| ForwardError::Server(error.into()))?;
            let delivered = self.send_request(stream, &mut upstream, false, target, sending).await;
            match delivered {
                Err(ForwardError::Server(ServerFailure::Closed)) if upstream.is_untouched() => {
                    if is_second || sending.begun {
                        return Err(ForwardError::Server(ServerFailure::Untouched));
                    }
                    is_second = true;
                }
                Err(ForwardError::Server(ServerFailure::Late | ServerFailure::Slow)) => {
                    upstream.retire_connection();
                    return delivered;
                }
                _ => return delivered,
            }
        }
    }

    /// Keeps the connection of a delivered answer when it can carry another.
    fn keep_connection(
        &self,
        pool: &Pool,
        server: &Server,
        upstream: Option<Upstream>,
        delivered: &ResponseDone,
        body_sent: bool,
    ) {
        let Some(mut upstream) = upstream else { return };
        upstream.was_long = delivered.was_long;
        if delivered.keep_server && body_sent && pool.proxy_protocol.is_none() {
            self.worker.idle.keep(server.cell.id, upstream, &pool.reaching, self.worker.wheel.now());
        }
    }

    /// A connection that was kept, if there is one that will do.
    fn kept_connection(
        &self,
        pool: &Pool,
        server: &Server,
        trust: ReusePolicy,
        sending: &RequestBody<'_>,
    ) -> Option<Upstream> {
        // With a PROXY protocol header a connection is one client's alone, and none is kept.
        if pool.proxy_protocol.is_some() {
            return None;
        }
        let (idle, now) = (&self.worker.idle, self.worker.wheel.now());
        match asked_host(pool, sending) {
            None => idle.take(server.cell.id, trust, now, pool.trust_id),
            Some(host) => idle.take_for_host(server.cell.id, host, trust, now, pool.trust_id),
        }
    }

    /// Makes a connection, and says on it who the client is where the server wants to know that way.
    async fn connect(
        &self,
        pool: &Pool,
        server: &Server,
        sending: &RequestBody<'_>,
    ) -> Result<Upstream, ConnectFailure> {
        let header = pool
            .proxy_protocol
            .map(|version| proxy_header::header(version, self.who.client, self.who.meant_for));
        let approach = ServerApproach {
            host: asked_host(pool, sending),
            header: header.as_deref(),
            ..self.worker.approach(pool, ServerProtocol::Http1, self.watch)
        };
        self.worker.connect_server(server, pool, approach).await
    }

    /// Sends the request on a connection and brings the answer back. The last one on it may have been long.
    fn send_request(
        &self,
        stream: &mut impl Transport,
        upstream: &mut impl Transport,
        was_long: bool,
        target: AttemptTarget<'_>,
        sending: &mut RequestBody<'_>,
    ) -> impl Future<Output = Result<ResponseDone, ForwardError>> {
        async move {
            let times = &target.server.times;
            if let Err(trouble) = write_all(upstream, sending.start, self.watch, times.idle).await {
                cold_path();
                return Err(ForwardError::Server(server_failure(&trouble)));
            }
            let carried = if sending.follow.is_done() { BodyKind::Answer } else { BodyKind::EarlyAnswer };
            target.server.cell.lane(self.worker.index).bytes_to.add(sending.start.len() as u64);
            let answer = ResponseForwarder::new(*self, target, was_long, carried);
            let delivered = if sending.follow.is_done() {
                self.watch.set_timeout(target.hedge_after.unwrap_or(self.request.first_byte(times)));
                // While nothing of an answer is here another server may have it, should this one go down.
                self.client.may_move.set(self.request.is_idempotent && !sending.begun);
                // One after the other here, for their states lie in the same place then.
                if let Some(long) = answer.forward_long(upstream, stream).await {
                    cold_path();
                    self.client.may_move.set(false);
                    long
                } else {
                    let head = answer.read_final_head(upstream, stream).await;
                    self.client.may_move.set(false);
                    match head {
                        Ok((buffer, response)) => {
                            answer.forward_from_head(upstream, stream, buffer, response).await
                        }
                        Err(ForwardError::Server(ServerFailure::Late)) if target.hedge_after.is_some() => {
                            cold_path();
                            Err(ForwardError::Server(ServerFailure::Slow))
                        }
                        Err(error) => {
                            cold_path();
                            Err(error)
                        }
                    }
                }
            } else {
                cold_path();
                Box::pin(self.duplex(stream, upstream, &answer, times, sending)).await
            };
            let mut delivered = match delivered {
                Ok(delivered) => delivered,
                Err(error) => {
                    cold_path();
                    return Err(error);
                }
            };
            if let Some(tunnel) = delivered.tunnel.take() {
                cold_path();
                let lane = target.server.cell.lane(self.worker.index);
                Box::pin(self.tunnel(stream, upstream, lane, sending.input.take(), *tunnel)).await;
            }
            Ok(delivered)
        }
    }

    /// Goes on with another protocol, until that ends. `first` is what the client has sent of it already.
    async fn tunnel(
        &self,
        stream: &mut impl Transport,
        upstream: &mut impl Transport,
        lane: &ServerWorkerCounters,
        first: Option<Buffer>,
        Tunnel { begun, is_websocket }: Tunnel,
    ) {
        let (Some(stream), Some(upstream)) = (stream.connection(), upstream.connection()) else { return };
        let _open = GaugeGuard::new(&lane.tunnels);
        let mut relay = Relay::new(self.worker, lane, self.watch, self.frontend.tunnel_timeout, first, begun);
        if is_websocket {
            relay = relay.of_websocket();
        }
        match relay.run(stream, upstream).await {
            RelayEnd::Rang(WakeReason::Drained) => {
                lane.cut_tunnels.increment();
                relay.end_in_order(stream, upstream).await;
            }
            RelayEnd::Rang(WakeReason::Cut) => lane.cut_tunnels.increment(),
            RelayEnd::Finished | RelayEnd::Broken | RelayEnd::Rang(_) => {}
        }
    }
}

/// The host that the pool's servers are asked for in their handshake, where that is the request's.
#[inline]
fn asked_host<'b>(pool: &Pool, sending: &RequestBody<'b>) -> Option<&'b str> {
    if pool.reaching.tls_name_of == TlsNameOf::Server {
        return None;
    }
    host_of(sending.start)
}

/// The host of a request, without its port: of a head as it goes to servers, in which there is one at most.
#[cold]
pub(super) fn host_of(head: &[u8]) -> Option<&str> {
    let field = head
        .split(|byte| *byte == b'\n')
        .find(|line| line.get(..5).is_some_and(|name| name.eq_ignore_ascii_case(b"host:")))?;
    let host = str::from_utf8(&field[5..]).ok()?.trim();
    let name = match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|digit| digit.is_ascii_digit()) => name,
        Some(_) | None => host,
    };
    Some(name.trim_start_matches('[').trim_end_matches(']'))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::host_of;

    #[rstest]
    #[case("GET / HTTP/1.1\r\nHost: booking.skerry.example\r\n\r\n", Some("booking.skerry.example"))]
    #[case(
        "GET / HTTP/1.1\r\naccept: a\r\nhost:fares.skerry.example:8443\r\n\r\n",
        Some("fares.skerry.example")
    )]
    #[case("GET / HTTP/1.1\r\nHost: [2001:db8::7]:443\r\n\r\n", Some("2001:db8::7"))]
    #[case("GET / HTTP/1.1\r\nX-Host: a\r\n\r\n", None)]
    fn the_host_of_a_request_is_what_its_server_is_asked_for(#[case] head: &str, #[case] host: Option<&str>) {
        assert_eq!(host_of(head.as_bytes()), host);
    }
}
