//! A session with one router, over and over (RFC 4271, 8).

use std::collections::BTreeMap;
use std::io;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use futures_util::{SinkExt, StreamExt};
use merismos_core::announcement::{RouteAttributes, SessionState};
use netgauze_bgp_pkt::BgpMessage;
use netgauze_bgp_pkt::capabilities::BgpCapability;
use netgauze_bgp_pkt::notification::{
    BgpNotificationMessage, FiniteStateMachineError, HoldTimerExpiredError, MessageHeaderError,
    OpenMessageError,
};
use netgauze_bgp_pkt::open::BgpOpenMessage;
use netgauze_bgp_pkt::update::BgpUpdateMessage;
use tokio::net::TcpStream;
use tokio::sync::watch;
use tokio::time::{Instant, timeout};
use tokio_util::codec::Framed;

use super::PeerPlan;
use super::codec::{MessageCodec, MessageError};
use super::connect::connect;
use super::messages::{
    RouteForm, announcement, cease, end_of_routes, family, notification_in_words, open, withdrawal,
};
use super::view::{SessionView, SpeakerView};

/// How long a router has to say what it is, and to take that of this node.
const OPENS_WITHIN: Duration = Duration::from_secs(10);
/// How long a router has to take a message when it is never taken for gone.
const TAKES_WITHIN: Duration = Duration::from_secs(30);
/// How long a session is waited for before it is tried again: at first, and at most.
const RETRIES: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(15));
/// How long the router has to take the last message.
const PARTS_WITHIN: Duration = Duration::from_millis(500);

/// What a session does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum SessionOrder {
    Run(PeerPlan),
    /// Withdraws the routes, and ends in order.
    Leave,
    /// Ends so that the router keeps the routes where it was asked to.
    HandOver,
}

/// Why a connection ended.
enum SessionEnd {
    /// By this node: another order is there.
    Ordered,
    /// Not by this node, or for what the router did.
    Failed(String),
}

type PeerConnection = Framed<TcpStream, MessageCodec>;

pub(super) struct PeerSession {
    peer: IpAddr,
    /// Whether a process before this one may have had the session a moment ago.
    restarts: bool,
    shows: watch::Sender<Arc<SpeakerView>>,
}

impl PeerSession {
    pub(super) fn new(peer: IpAddr, restarts: bool, shows: watch::Sender<Arc<SpeakerView>>) -> Self {
        Self { peer, restarts, shows }
    }

    /// Has sessions until it is to leave; gives the router then.
    pub(super) async fn run(mut self, mut orders: watch::Receiver<SessionOrder>) -> IpAddr {
        let mut wait = RETRIES.0;
        self.show(|_| {});
        loop {
            let SessionOrder::Run(plan) = orders.borrow_and_update().clone() else { return self.peer };
            self.stand(SessionState::Connect, None);
            let before = self.shows.borrow().sessions.get(&self.peer).map(|view| view.counted.established);
            let end = self.attempt(plan, &mut orders).await;
            let was_established =
                self.shows.borrow().sessions.get(&self.peer).map(|view| view.counted.established) != before;
            self.restarts = false;
            let SessionEnd::Failed(why) = end else { continue };
            tracing::info!(peer = %self.peer, why, "a session with a router ended, or was not had");
            self.show(|view| match was_established {
                true => view.counted.lost += 1,
                false => view.counted.failed += 1,
            });
            self.stand(SessionState::Idle, Some(why));
            if was_established {
                wait = RETRIES.0;
            }
            // With another order it tries again at once.
            let _ = timeout(wait, orders.changed()).await;
            wait = (wait * 2).min(RETRIES.1);
            if orders.has_changed().is_err() {
                return self.peer;
            }
        }
    }

    async fn attempt(&self, mut plan: PeerPlan, orders: &mut watch::Receiver<SessionOrder>) -> SessionEnd {
        let connected = tokio::select! {
            connected = connect(self.peer, plan.hops, plan.password.as_deref()) => connected,
            () = other_settings(orders, &plan) => return SessionEnd::Ordered,
        };
        let stream = match connected {
            Ok(stream) => stream,
            Err(error) => {
                let why = connection_in_words(&error);
                return SessionEnd::Failed(format!("no connection to {} port 179: {why}", self.peer));
            }
        };
        let Ok(local) = stream.local_addr().map(|local| local.ip()) else {
            return SessionEnd::Failed("the connection ended at once".to_owned());
        };
        let mut connection = Framed::new(stream, MessageCodec::default());
        self.stand(SessionState::OpenSent, None);
        let opened = tokio::select! {
            opened = timeout(OPENS_WITHIN, self.open(&mut connection, &plan, local)) => opened,
            () = other_settings(orders, &plan) => {
                part(&mut connection, cease()).await;
                return SessionEnd::Ordered;
            }
        };
        let opened = match opened {
            Ok(Ok(opened)) => opened,
            Ok(Err(why)) => return SessionEnd::Failed(why),
            Err(_) => {
                let expired = HoldTimerExpiredError::Unspecific { sub_code: 0, value: [].into() };
                part(&mut connection, notification(BgpNotificationMessage::HoldTimerExpiredError(expired)))
                    .await;
                return SessionEnd::Failed(
                    "it took the connection, and did not open the session within 10 s".to_owned(),
                );
            }
        };
        if let SessionOrder::Run(latest) = &*orders.borrow() {
            plan.routes.clone_from(&latest.routes);
        }
        let form = RouteForm {
            as_number: plan.as_number,
            is_internal: plan.as_number == plan.peer_as,
            takes_four_octets: opened
                .capabilities()
                .iter()
                .any(|one| matches!(one, BgpCapability::FourOctetAs(_))),
            next_hop: local,
        };
        let hold_time = plan.hold_time.min(Duration::from_secs(u64::from(opened.hold_time())));
        let identifier = opened.bgp_id();
        self.show(|view| {
            view.counted.established += 1;
            (view.local, view.identifier, view.hold_time) = (Some(local), Some(identifier), Some(hold_time));
        });
        self.stand(SessionState::Established, None);
        let end = Established { session: self, connection: &mut connection, form, hold_time }
            .run(plan, orders)
            .await;
        self.show(|view| {
            (view.local, view.identifier, view.hold_time) = (None, None, None);
            view.announced.clear();
        });
        end
    }

    /// Exchanges what both are; gives what the router is.
    async fn open(
        &self,
        connection: &mut PeerConnection,
        plan: &PeerPlan,
        local: IpAddr,
    ) -> Result<BgpOpenMessage, String> {
        send(connection, open(plan, local, self.restarts)).await?;
        let opened = match receive(connection).await? {
            BgpMessage::Open(opened) => opened,
            BgpMessage::Notification(said) => return Err(notification_in_words(&said)),
            _ => {
                let wrong =
                    FiniteStateMachineError::ReceiveUnexpectedMessageInOpenSentState { value: [].into() };
                part(connection, notification(BgpNotificationMessage::FiniteStateMachineError(wrong))).await;
                return Err("it did not begin with an OPEN message".to_owned());
            }
        };
        if let Err((said, why)) = judge(plan, &opened) {
            part(connection, notification(BgpNotificationMessage::OpenMessageError(said))).await;
            return Err(why);
        }
        send(connection, BgpMessage::KeepAlive).await?;
        self.stand(SessionState::OpenConfirm, None);
        match receive(connection).await? {
            BgpMessage::KeepAlive => Ok(opened),
            BgpMessage::Notification(said) => Err(notification_in_words(&said)),
            _ => {
                let wrong =
                    FiniteStateMachineError::ReceiveUnexpectedMessageInOpenConfirmState { value: [].into() };
                part(connection, notification(BgpNotificationMessage::FiniteStateMachineError(wrong))).await;
                Err("it did not confirm the session".to_owned())
            }
        }
    }

    fn stand(&self, state: SessionState, trouble: Option<String>) {
        self.show(|view| {
            if view.state != state {
                view.since = SystemTime::now();
            }
            // Why there is none stays to be seen while it is tried again.
            if trouble.is_some() || state == SessionState::Established {
                view.trouble = trouble;
            }
            view.state = state;
        });
    }

    fn show(&self, change: impl FnOnce(&mut SessionView)) {
        self.shows.send_modify(|view| {
            let sessions = &mut Arc::make_mut(view).sessions;
            change(sessions.entry(self.peer).or_insert_with(|| SessionView {
                state: SessionState::Idle,
                since: SystemTime::now(),
                trouble: None,
                local: None,
                identifier: None,
                hold_time: None,
                announced: BTreeMap::new(),
                counted: super::SessionCounts::default(),
            }));
        });
    }
}

/// A session that is established.
struct Established<'a> {
    session: &'a PeerSession,
    connection: &'a mut PeerConnection,
    form: RouteForm,
    /// Zero when neither is ever taken for gone.
    hold_time: Duration,
}

impl Established<'_> {
    async fn run(mut self, plan: PeerPlan, orders: &mut watch::Receiver<SessionOrder>) -> SessionEnd {
        match self.talk(plan, orders).await {
            Ok(()) => SessionEnd::Ordered,
            Err(why) => SessionEnd::Failed(why),
        }
    }

    /// Keeps the router's knowledge in line with the orders, until another session is wanted.
    async fn talk(
        &mut self,
        plan: PeerPlan,
        orders: &mut watch::Receiver<SessionOrder>,
    ) -> Result<(), String> {
        let mut sent = BTreeMap::new();
        self.bring_in_line(&mut sent, &plan.routes).await?;
        self.send(end_of_routes(self.form.next_hop.is_ipv6())).await?;
        let keeps = !self.hold_time.is_zero();
        let period = if keeps { self.hold_time / 3 } else { TAKES_WITHIN };
        let mut keepalives = tokio::time::interval_at(Instant::now() + period, period);
        let mut gone_at = Instant::now() + self.hold_time;
        loop {
            tokio::select! {
                received = self.connection.next() => {
                    gone_at = Instant::now() + self.hold_time;
                    match read(self.connection, received).await? {
                        BgpMessage::Notification(said) => return Err(notification_in_words(&said)),
                        BgpMessage::RouteRefresh(asked) => {
                            if asked.address_type() == family(self.form.next_hop.is_ipv6()) {
                                let again = std::mem::take(&mut sent);
                                self.bring_in_line(&mut sent, &again).await?;
                            }
                        }
                        BgpMessage::Update(update) => {
                            if is_of_routes(&update) {
                                self.session.show(|view| view.counted.ignored += 1);
                            }
                        }
                        BgpMessage::KeepAlive => {}
                        BgpMessage::Open(_) => {
                            let wrong = FiniteStateMachineError::ReceiveUnexpectedMessageInEstablishedState { value: [].into() };
                            part(self.connection, notification(BgpNotificationMessage::FiniteStateMachineError(wrong))).await;
                            return Err("it opened the session a second time".to_owned());
                        }
                    }
                }
                _ = keepalives.tick(), if keeps => self.send(BgpMessage::KeepAlive).await?,
                () = tokio::time::sleep_until(gone_at), if keeps => {
                    let expired = HoldTimerExpiredError::Unspecific { sub_code: 0, value: [].into() };
                    part(self.connection, notification(BgpNotificationMessage::HoldTimerExpiredError(expired))).await;
                    return Err(format!("nothing was heard of it for {} s", self.hold_time.as_secs()));
                }
                changed = orders.changed() => {
                    let order = if changed.is_err() { SessionOrder::HandOver } else { orders.borrow_and_update().clone() };
                    match order {
                        SessionOrder::Run(next) if next.is_same_session(&plan) => {
                            self.bring_in_line(&mut sent, &next.routes).await?;
                        }
                        SessionOrder::HandOver if plan.restart_time.is_some() => return Ok(()),
                        SessionOrder::Run(_) | SessionOrder::Leave | SessionOrder::HandOver => {
                            self.bring_in_line(&mut sent, &BTreeMap::new()).await?;
                            part(self.connection, cease()).await;
                            // The order itself is followed where orders are read.
                            orders.mark_changed();
                            return Ok(());
                        }
                    }
                }
            }
        }
    }

    /// Sends what the router does not know yet, and takes back what is not so any more.
    async fn bring_in_line(
        &mut self,
        sent: &mut BTreeMap<IpAddr, RouteAttributes>,
        wanted: &BTreeMap<IpAddr, RouteAttributes>,
    ) -> Result<(), String> {
        let gone: Vec<IpAddr> = sent.keys().filter(|ip| !wanted.contains_key(*ip)).copied().collect();
        for ip in gone {
            self.send(withdrawal(ip)).await?;
            sent.remove(&ip);
            self.session.show(|view| {
                view.announced.remove(&ip);
                view.counted.withdrawn += 1;
            });
        }
        for (ip, route) in wanted {
            if sent.get(ip) == Some(route) {
                continue;
            }
            self.send(announcement(&self.form, *ip, route)).await?;
            sent.insert(*ip, route.clone());
            self.session.show(|view| {
                view.announced.insert(*ip, route.clone());
                view.counted.announced += 1;
            });
        }
        Ok(())
    }

    async fn send(&mut self, message: BgpMessage) -> Result<(), String> {
        let within = if self.hold_time.is_zero() { TAKES_WITHIN } else { self.hold_time };
        match timeout(within, send(self.connection, message)).await {
            Ok(sent) => sent,
            Err(_) => Err(format!("it took no message for {} s", within.as_secs())),
        }
    }
}

/// Why no connection was made, and what that means of a router.
fn connection_in_words(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::ConnectionRefused => {
            "connection refused: it runs no BGP, or does not know this node as a neighbour".to_owned()
        }
        io::ErrorKind::TimedOut => {
            format!("{error}: it is not there, a packet filter drops what comes, or the passwords differ")
        }
        _ => error.to_string(),
    }
}

/// Waits until there is an order that this session is not for.
async fn other_settings(orders: &mut watch::Receiver<SessionOrder>, plan: &PeerPlan) {
    let is_other =
        |order: &SessionOrder| !matches!(order, SessionOrder::Run(next) if next.is_same_session(plan));
    let _ = orders.wait_for(is_other).await;
    orders.mark_changed();
}

/// Whether the router is the one that is expected.
fn judge(plan: &PeerPlan, opened: &BgpOpenMessage) -> Result<(), (OpenMessageError, String)> {
    let found = opened.my_asn4();
    if found != plan.peer_as {
        let said = OpenMessageError::BadPeerAs { value: [].into() };
        return Err((said, format!("its AS number is {found}, and `peer_as` is {}", plan.peer_as)));
    }
    if (1..3).contains(&opened.hold_time()) {
        let said = OpenMessageError::UnacceptableHoldTime { value: [].into() };
        return Err((
            said,
            format!("it asks for a hold time of {} s, and the least is 3 s", opened.hold_time()),
        ));
    }
    let four_octets = opened.capabilities().iter().any(|one| matches!(one, BgpCapability::FourOctetAs(_)));
    if !four_octets && u16::try_from(plan.as_number).is_err() {
        let said = OpenMessageError::UnsupportedCapability { value: [].into() };
        let why = format!(
            "it does not know AS numbers of 4 octets (RFC 6793), and `as_number` is {}",
            plan.as_number
        );
        return Err((said, why));
    }
    Ok(())
}

fn is_of_routes(update: &BgpUpdateMessage) -> bool {
    update.end_of_rib().is_none()
}

fn notification(says: BgpNotificationMessage) -> BgpMessage {
    BgpMessage::Notification(says)
}

async fn send(connection: &mut PeerConnection, message: BgpMessage) -> Result<(), String> {
    connection.send(message).await.map_err(|error| error.to_string())
}

async fn receive(connection: &mut PeerConnection) -> Result<BgpMessage, String> {
    let received = connection.next().await;
    read(connection, received).await
}

/// What came, or why nothing can come any more.
async fn read(
    connection: &mut PeerConnection,
    received: Option<Result<BgpMessage, MessageError>>,
) -> Result<BgpMessage, String> {
    match received {
        Some(Ok(message)) => Ok(message),
        None => Err("the router closed the connection".to_owned()),
        Some(Err(error)) => {
            let value = [].into();
            let said = match error {
                MessageError::Marker => MessageHeaderError::ConnectionNotSynchronized { value },
                MessageError::Length(_) => MessageHeaderError::BadMessageLength { value },
                _ => MessageHeaderError::Unspecific { value },
            };
            if !matches!(error, MessageError::Io(_)) {
                part(connection, notification(BgpNotificationMessage::MessageHeaderError(said))).await;
            }
            Err(error.to_string())
        }
    }
}

/// Sends the last message, as far as the router takes it.
async fn part(connection: &mut PeerConnection, last: BgpMessage) {
    let parts = async {
        let _ = connection.send(last).await;
        let _ = connection.close().await;
        // Not before the router has read it: what it sent meanwhile would otherwise be answered with a reset.
        while let Some(Ok(_)) = connection.next().await {}
    };
    let _ = timeout(PARTS_WITHIN, parts).await;
}
