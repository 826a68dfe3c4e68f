//! Where a connector may go: not into the machine that Pronoia runs on, unless
//! whoever runs it has said so.

use std::net::{IpAddr, SocketAddr};

use crate::{Result, StoreError};

/// Which addresses may be reached.
#[derive(Debug, Clone, Default)]
pub struct Reach {
    /// Addresses that are allowed though they lie on this machine or beside it.
    allowed: Vec<SocketAddr>,
    /// Where Pronoia keeps its own things, which nobody reads as a source.
    own: Vec<SocketAddr>,
}

impl Reach {
    /// With addresses as the operator writes them, host and port, and the
    /// address of Pronoia's own database.
    ///
    /// # Errors
    /// A sentence if an address is none, or its host is not known.
    pub fn of(allowed: &[String], own: &str) -> std::result::Result<Self, String> {
        let find = |address: &String| {
            let found = std::net::ToSocketAddrs::to_socket_addrs(address.as_str());
            let found = found.map_err(|e| format!("“{address}” is not an address with a port: {e}."))?;
            Ok::<_, String>(found.collect::<Vec<_>>())
        };
        let allowed = allowed.iter().map(find).collect::<std::result::Result<Vec<_>, _>>()?.concat();
        // A database that is reached some other way has no address to keep away from.
        let own = std::net::ToSocketAddrs::to_socket_addrs(own).map(Iterator::collect).unwrap_or_default();
        Ok(Self { allowed, own })
    }

    /// The address to connect to, of those that a host name stands for.
    ///
    /// # Errors
    /// [`StoreError::Refused`] if one of them may not be reached.
    pub(super) fn choose(&self, host: &str, found: &[SocketAddr]) -> Result<SocketAddr> {
        let refused = |why: &str| Err(StoreError::Refused(format!("{host} {why}")));
        for address in found {
            if self.own.iter().any(|own| same(own, address)) {
                return refused("is where Pronoia keeps its own things; it is no source of records.");
            }
            if is_near(address.ip()) && !self.allowed.iter().any(|allowed| same(allowed, address)) {
                return refused(
                    "lies on the machine that Pronoia runs on, or right beside it. Whoever runs this server can allow the address (serve --allow-address).",
                );
            }
        }
        match found.first() {
            Some(first) => Ok(*first),
            None => refused("is not known. Check how it is written."),
        }
    }
}

fn same(a: &SocketAddr, b: &SocketAddr) -> bool {
    a.port() == b.port() && a.ip().to_canonical() == b.ip().to_canonical()
}

/// Whether an address leads to this machine, or to services of the link that
/// nobody outside it is meant to see.
fn is_near(ip: IpAddr) -> bool {
    let ip = ip.to_canonical();
    let linked = match ip {
        IpAddr::V4(v4) => v4.is_link_local() || v4.is_broadcast() || v4.octets()[0] == 0,
        IpAddr::V6(v6) => v6.is_unicast_link_local(),
    };
    linked || ip.is_loopback() || ip.is_unspecified() || ip.is_multicast()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn chosen(reach: &Reach, address: &str) -> Result<SocketAddr> {
        reach.choose("there", &[address.parse().expect(address)])
    }

    #[test]
    fn this_machine_is_out_of_reach_however_it_is_written() {
        let reach = Reach::default();
        for near in [
            "127.0.0.1:5432",
            "127.8.9.1:5432",
            "0.0.0.0:5432",
            "0.1.2.3:5432",
            "169.254.169.254:80",
            "224.0.0.1:5432",
            "255.255.255.255:5432",
            "[::1]:5432",
            "[::]:5432",
            "[::ffff:127.0.0.1]:5432",
            "[fe80::1]:5432",
        ] {
            assert!(matches!(chosen(&reach, near), Err(StoreError::Refused(_))), "{near}");
        }
        for far in ["192.0.2.7:5432", "10.1.2.3:5432", "[2001:db8::1]:5432"] {
            assert!(chosen(&reach, far).is_ok(), "{far}");
        }
        let both = ["192.0.2.7:5432", "127.0.0.1:5432"].map(|a| a.parse().expect("an address"));
        assert!(reach.choose("there", &both).is_err(), "one bad address is enough");
        assert!(reach.choose("nowhere", &[]).is_err());
    }

    #[test]
    fn what_is_allowed_is_allowed_on_its_port_and_never_our_own() {
        let reach =
            Reach::of(&["127.0.0.1:5571".into(), "127.0.0.1:5471".into()], "127.0.0.1:5471").expect("addresses");
        assert!(chosen(&reach, "127.0.0.1:5571").is_ok());
        assert!(chosen(&reach, "[::ffff:127.0.0.1]:5571").is_ok());
        assert!(chosen(&reach, "127.0.0.1:5572").is_err());
        assert!(chosen(&reach, "127.0.0.1:5471").expect_err("own").to_string().contains("its own things"));
        assert!(Reach::of(&["127.0.0.1".into()], "").is_err());
    }
}
