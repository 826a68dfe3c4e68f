//! Who is at the other end of a connection, and how much of the server they may hold.

use std::collections::{HashMap, VecDeque};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, Shutdown, SocketAddr, TcpStream};
use std::os::fd::AsFd;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::Duration;

use actix_web::body::MessageBody;
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::error::PayloadError;
use actix_web::http::Method;
use actix_web::middleware::Next;
use actix_web::web::{self, Bytes};
use actix_web::{HttpMessage, HttpRequest};
use futures_util::Stream;
use tokio::time::{Instant, Sleep};

use crate::{App, Config};

/// Connections of one address at a time; of more, those that are open for longest are closed.
const MOST_OF_ADDRESS: usize = 256;

/// Connections of all addresses at a time.
const MOST_IN_ALL: usize = 2_000;

/// Files that the process needs besides its connections, each of which takes two.
const OTHER_FILES: u64 = 256;

/// Bytes a second that a body has to come with, on the whole, beyond the patience with it.
const SLOWEST: f64 = 16_384.0;

/// The addresses of proxies that say whom they speak for.
#[derive(Debug, Clone, Default)]
pub struct TrustedProxies(Vec<IpAddr>);

impl TrustedProxies {
    /// Those that whoever runs the server names; where TLS is spoken in front and nobody is named, what runs on this
    /// machine.
    pub fn of(named: &[IpAddr], behind_tls: bool) -> Self {
        match named {
            [] if behind_tls => Self(vec![Ipv4Addr::LOCALHOST.into(), Ipv6Addr::LOCALHOST.into()]),
            named => Self(named.iter().map(IpAddr::to_canonical).collect()),
        }
    }

    fn trusts(&self, address: IpAddr) -> bool {
        self.0.contains(&address.to_canonical())
    }

    /// Whom a peer speaks for: the last address of `forwarded` that is no proxy of ours; what stands before was said by
    /// whoever asked.
    fn client(&self, peer: IpAddr, forwarded: Option<&str>) -> IpAddr {
        if !self.trusts(peer) {
            return peer;
        }
        let hops = forwarded.unwrap_or_default().rsplit(',').map(|hop| hop.trim().parse::<IpAddr>());
        let mut client = peer;
        for hop in hops {
            // Beyond something that is no address nothing is believed.
            let Ok(hop) = hop else { break };
            client = hop;
            if !self.trusts(hop) {
                break;
            }
        }
        client
    }
}

/// The network address of whoever asks.
pub fn address_of(request: &HttpRequest) -> String {
    let Some(peer) = request.peer_addr() else { return String::new() };
    let forwarded = request.headers().get("x-forwarded-for").and_then(|f| f.to_str().ok());
    let trusted = request.app_data::<web::Data<Config>>().map(|config| config.trusted_proxies.clone());
    trusted.unwrap_or_default().client(peer.ip(), forwarded).to_string()
}

/// The connections that are open.
#[derive(Debug, Clone)]
pub struct Connections {
    open: Arc<Mutex<Open>>,
    most: usize,
    trusted: TrustedProxies,
}

#[derive(Debug, Default)]
struct Open {
    next: u64,
    total: usize,
    /// By address, those that are open for longest first.
    by_address: HashMap<IpAddr, VecDeque<(u64, Arc<TcpStream>)>>,
}

/// A connection, for as long as it is open.
#[derive(Debug)]
pub struct CountedConnection {
    stream: Arc<TcpStream>,
    number: u64,
    address: IpAddr,
    connections: Connections,
}

impl Connections {
    /// As many as the system lets the process have.
    pub fn new(trusted: TrustedProxies) -> Self {
        use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
        let limit = getrlimit(Resource::Nofile);
        // The system lets it have more than it gives by itself.
        let raised = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, maximum: limit.maximum });
        let files = if raised.is_ok() { limit.maximum } else { limit.current };
        let files = files.unwrap_or(u64::MAX).saturating_sub(OTHER_FILES) / 2;
        let most = usize::try_from(files).unwrap_or(MOST_IN_ALL).clamp(64, MOST_IN_ALL);
        Self { open: Arc::default(), most, trusted }
    }

    /// Counts a connection. Where an address has too many, or all together, those that are open for longest are closed
    /// for it: of whom there are most.
    pub fn admit(&self, stream: &impl AsFd, peer: SocketAddr) -> Option<CountedConnection> {
        let address = peer.ip().to_canonical();
        let own = stream.as_fd().try_clone_to_owned().map(|own| Arc::new(TcpStream::from(own)));
        let own = own.inspect_err(|e| tracing::warn!("a connection could not be counted: {e}")).ok()?;
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let number = open.next;
        open.next += 1;
        open.total += 1;
        open.by_address.entry(address).or_default().push_back((number, Arc::clone(&own)));
        let of_address = open.by_address.get(&address).map_or(0, VecDeque::len);
        if of_address > MOST_OF_ADDRESS && !self.trusted.trusts(address) {
            open.close_oldest(address);
        } else if open.total > self.most {
            let most = open.by_address.iter().max_by_key(|(_, of)| of.len()).map(|(address, _)| *address);
            open.close_oldest(most.unwrap_or(address));
        }
        Some(CountedConnection { stream: own, number, address, connections: self.clone() })
    }
}

impl Open {
    fn close_oldest(&mut self, address: IpAddr) {
        let oldest = self.by_address.get_mut(&address).and_then(VecDeque::pop_front);
        if let Some((_, stream)) = oldest {
            self.total -= 1;
            // One that the other side closed already needs no closing.
            let _ = stream.shutdown(Shutdown::Both);
        }
    }
}

/// Whether the other side has closed a connection.
fn is_closed(stream: &TcpStream) -> bool {
    // It does not block: without anything to read it says so at once.
    matches!(stream.peek(&mut [0]), Ok(0))
}

impl Drop for CountedConnection {
    fn drop(&mut self) {
        let mut open = self.connections.open.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(of_address) = open.by_address.get_mut(&self.address) else { return };
        let before = of_address.len();
        of_address.retain(|(number, _)| *number != self.number);
        let (gone, is_empty) = (before - of_address.len(), of_address.is_empty());
        if is_empty {
            open.by_address.remove(&self.address);
        }
        open.total -= gone;
    }
}

/// A body that has to come within its time, on the whole: somebody who sends a byte now and then does not hold a
/// connection for ever.
struct Timed {
    body: Payload,
    begun: Instant,
    patience: Duration,
    received: usize,
    over: Pin<Box<Sleep>>,
}

impl Stream for Timed {
    type Item = Result<Bytes, PayloadError>;

    fn poll_next(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let this = &mut *self;
        match Pin::new(&mut this.body).poll_next(context) {
            Poll::Ready(Some(Ok(bytes))) => {
                this.received += bytes.len();
                let time = this.patience + Duration::from_secs_f64(this.received as f64 / SLOWEST);
                this.over.as_mut().reset(this.begun + time);
                Poll::Ready(Some(Ok(bytes)))
            }
            Poll::Pending => match this.over.as_mut().poll(context) {
                Poll::Ready(()) => {
                    Poll::Ready(Some(Err(PayloadError::Io(std::io::Error::from(std::io::ErrorKind::TimedOut)))))
                }
                Poll::Pending => Poll::Pending,
            },
            other => other,
        }
    }
}

/// Gives every body its time.
pub async fn whole_bodies(
    mut request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let patience = request.app_data::<web::Data<App>>().map(|app| app.files.patience);
    if let Some(patience) = patience.filter(|_| request.method() != Method::GET) {
        let (begun, body) = (Instant::now(), request.take_payload());
        // Twice the patience with silence, so that whoever falls silent is told that first.
        let patience = 2 * patience;
        let over = Box::pin(tokio::time::sleep_until(begun + patience));
        let timed = Timed { body, begun, patience, received: 0, over };
        request.set_payload(Payload::Stream { payload: Box::pin(timed) });
    }
    next.call(request).await
}

/// How often it is looked whether somebody still waits.
const GLANCE: Duration = Duration::from_millis(250);

/// Ends what is worked out for a page once whoever asked for it has left. What changes something is done to its end.
pub async fn while_asked(
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let stream = request.conn_data::<CountedConnection>().map(|held| Arc::clone(&held.stream));
    let stream = stream.filter(|_| request.method() == Method::GET);
    let answering = next.call(request);
    tokio::pin!(answering);
    loop {
        tokio::select! {
            answer = &mut answering => return answer,
            () = tokio::time::sleep(GLANCE) => {
                if stream.as_ref().is_some_and(|stream| is_closed(stream)) {
                    return Err(actix_web::error::ErrorRequestTimeout("whoever asked has left"));
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn client(trusted: &TrustedProxies, peer: &str, forwarded: &str) -> String {
        trusted.client(peer.parse().expect(peer), Some(forwarded)).to_string()
    }

    #[test]
    fn only_proxies_that_are_trusted_say_whom_they_speak_for() {
        let none = TrustedProxies::of(&[], false);
        assert_eq!(client(&none, "127.0.0.1", "203.0.113.9"), "127.0.0.1");
        let local = TrustedProxies::of(&[], true);
        assert_eq!(
            client(&local, "127.0.0.1", "198.51.100.1, 203.0.113.9"),
            "203.0.113.9",
            "the rest was said by them"
        );
        assert_eq!(client(&local, "::ffff:127.0.0.1", "203.0.113.9"), "203.0.113.9");
        assert_eq!(client(&local, "192.0.2.1", "203.0.113.9"), "192.0.2.1");
        let two = TrustedProxies::of(&["192.0.2.1".parse().expect("one"), "192.0.2.2".parse().expect("one")], true);
        assert_eq!(client(&two, "192.0.2.1", "198.51.100.1, 203.0.113.9, 192.0.2.2"), "203.0.113.9");
        assert_eq!(client(&two, "127.0.0.1", "203.0.113.9"), "127.0.0.1", "named ones only");
        assert_eq!(client(&two, "192.0.2.1", "203.0.113.9, nonsense"), "192.0.2.1");
        assert_eq!(client(&two, "192.0.2.1", ""), "192.0.2.1");
    }

    #[test]
    fn the_oldest_connections_of_an_address_make_room() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
        let address = listener.local_addr().expect("an address");
        let connections = Connections { open: Arc::default(), most: 3, trusted: TrustedProxies::default() };
        let mut held = Vec::new();
        let mut ends = Vec::new();
        for at in 0..5 {
            ends.push(TcpStream::connect(address).expect("connected"));
            let (stream, peer) = listener.accept().expect("accepted");
            held.push((connections.admit(&stream, peer).expect("counted"), stream));
            let total = connections.open.lock().expect("open").total;
            assert_eq!(total, 3.min(at + 1));
        }
        let mut byte = [0];
        assert_eq!(std::io::Read::read(&mut ends[0], &mut byte).expect("closed"), 0, "the oldest was closed");
        drop(held);
        let open = connections.open.lock().expect("open");
        assert_eq!((open.total, open.by_address.len()), (0, 0));
    }
}
