//! Which address a request really came from.

use std::net::{IpAddr, Ipv6Addr};

/// The first untrusted hop from the right: the peer itself unless it is a trusted proxy,
/// else the last address in the forwarded list that is none. `list` is the value of
/// X-Forwarded-For, oldest first.
pub fn client_address(peer: IpAddr, list: Option<&str>, trusted: &[IpAddr]) -> IpAddr {
    let mut seen = peer.to_canonical();
    if !trusted.contains(&seen) {
        return seen;
    }
    for hop in list.unwrap_or("").rsplit(',') {
        // A hop that is no address was invented by whoever sent it: what follows it counts.
        let Ok(hop) = hop.trim().parse::<IpAddr>() else {
            return seen;
        };
        seen = hop.to_canonical();
        if !trusted.contains(&seen) {
            return seen;
        }
    }
    seen
}

/// What limits on guessing count by: the address, or the /64 that one line of IPv6 gets.
pub fn counted(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(v6) => {
            let s = v6.segments();
            IpAddr::V6(Ipv6Addr::new(s[0], s[1], s[2], s[3], 0, 0, 0, 0))
        }
        v4 => v4,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ip(text: &str) -> IpAddr {
        text.parse().unwrap()
    }

    #[test]
    fn only_trusted_hops_are_believed() {
        let trusted = [ip("127.0.0.1"), ip("10.0.0.2")];
        let from = |peer, list| client_address(ip(peer), list, &trusted);
        assert_eq!(from("192.0.2.7", Some("198.51.100.1")), ip("192.0.2.7"));
        assert_eq!(from("127.0.0.1", Some("198.51.100.1")), ip("198.51.100.1"));
        assert_eq!(from("127.0.0.1", Some("203.0.113.9, 198.51.100.1, 10.0.0.2")), ip("198.51.100.1"));
        assert_eq!(from("127.0.0.1", Some("198.51.100.1, nonsense")), ip("127.0.0.1"));
        assert_eq!(from("::ffff:127.0.0.1", None), ip("127.0.0.1"));
    }

    #[test]
    fn one_line_of_ipv6_counts_as_one() {
        assert_eq!(counted(ip("2001:db8:1:2:3:4:5:6")), ip("2001:db8:1:2::"));
        assert_eq!(counted(ip("::ffff:192.0.2.1")), ip("192.0.2.1"));
    }
}
