//! Which address a request really came from.

use std::net::{IpAddr, Ipv6Addr};

/// Which header says for whom a proxy asks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Header {
    /// X-Forwarded-For and X-Forwarded-Proto, as most proxies send them.
    #[default]
    XForwarded,
    /// Forwarded (RFC 7239).
    Forwarded,
}

impl Header {
    /// The one with this name.
    pub fn from_word(word: &str) -> Option<Header> {
        match word.to_ascii_lowercase().as_str() {
            "x-forwarded-for" => Some(Header::XForwarded),
            "forwarded" => Some(Header::Forwarded),
            _ => None,
        }
    }
}

/// One hop, as a proxy tells of it.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Hop {
    address: Option<IpAddr>,
    scheme: Option<String>,
}

/// An address with or without a port: `192.0.2.1`, `192.0.2.1:80`, `2001:db8::1`, `[2001:db8::1]`, `[2001:db8::1]:80`.
fn address_in(text: &str) -> Option<IpAddr> {
    let text = text.trim().trim_matches('"').trim();
    if let Ok(address) = text.parse::<IpAddr>() {
        return Some(address.to_canonical());
    }
    if let Ok(socket) = text.parse::<std::net::SocketAddr>() {
        return Some(socket.ip().to_canonical());
    }
    let inside = text.strip_prefix('[')?.strip_suffix(']')?;
    inside.parse::<IpAddr>().ok().map(|a| a.to_canonical())
}

/// The parts of a list, parted where no quotation mark is open.
fn parts(text: &str, at: char) -> impl Iterator<Item = &str> {
    let mut quoted = false;
    text.split(move |c| {
        quoted ^= c == '"';
        c == at && !quoted
    })
}

/// The hops that the lines of a header tell of, oldest first.
fn hops<'l>(header: Header, lines: impl Iterator<Item = &'l str>) -> Vec<Hop> {
    let mut hops = Vec::new();
    for line in lines {
        for element in parts(line, ',').filter(|e| !e.trim().is_empty()) {
            hops.push(match header {
                Header::XForwarded => Hop { address: address_in(element), scheme: None },
                Header::Forwarded => {
                    let mut hop = Hop { address: None, scheme: None };
                    for pair in parts(element, ';') {
                        let Some((name, value)) = pair.split_once('=') else { continue };
                        match name.trim().to_ascii_lowercase().as_str() {
                            "for" => hop.address = address_in(value),
                            "proto" => {
                                hop.scheme = Some(value.trim().trim_matches('"').to_ascii_lowercase());
                            }
                            _ => {}
                        }
                    }
                    hop
                }
            });
        }
    }
    hops
}

/// From which address a request really came, and by which scheme as far as a proxy says so: the first untrusted hop from
/// the right. `lines`: the values of the header that is believed, in the order in which they came.
pub fn client<'l>(
    peer: IpAddr,
    header: Header,
    lines: impl Iterator<Item = &'l str>,
    trusted: &[IpAddr],
) -> (IpAddr, Option<String>) {
    let mut seen = peer.to_canonical();
    let mut scheme = None;
    if !trusted.contains(&seen) {
        return (seen, scheme);
    }
    for hop in hops(header, lines).into_iter().rev() {
        scheme = hop.scheme.or(scheme);
        // A hop that is no address was invented by whoever sent it: what follows it counts.
        let Some(address) = hop.address else { return (seen, scheme) };
        seen = address;
        if !trusted.contains(&seen) {
            break;
        }
    }
    (seen, scheme)
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
        let from = |peer, lines: &[&'static str]| {
            client(ip(peer), Header::XForwarded, lines.iter().copied(), &trusted).0
        };
        assert_eq!(from("192.0.2.7", &["198.51.100.1"]), ip("192.0.2.7"));
        assert_eq!(from("127.0.0.1", &["198.51.100.1"]), ip("198.51.100.1"));
        assert_eq!(from("127.0.0.1", &["203.0.113.9, 198.51.100.1, 10.0.0.2"]), ip("198.51.100.1"));
        assert_eq!(from("127.0.0.1", &["198.51.100.1, nonsense"]), ip("127.0.0.1"));
        assert_eq!(from("::ffff:127.0.0.1", &[]), ip("127.0.0.1"));
        // A proxy that adds a line of its own: the last one counts, whatever the sender wrote before.
        assert_eq!(from("127.0.0.1", &["203.0.113.9", "198.51.100.1"]), ip("198.51.100.1"));
        assert_eq!(from("127.0.0.1", &["203.0.113.9, 203.0.113.8", "198.51.100.1:4711"]), ip("198.51.100.1"));
        assert_eq!(from("127.0.0.1", &["[2001:db8::1]:80"]), ip("2001:db8::1"));
        assert_eq!(from("127.0.0.1", &["2001:db8::1"]), ip("2001:db8::1"));
    }

    #[test]
    fn the_standard_header_is_read_as_it_is_written() {
        let trusted = [ip("127.0.0.1"), ip("10.0.0.2")];
        let from = |lines: &[&'static str]| {
            client(ip("127.0.0.1"), Header::Forwarded, lines.iter().copied(), &trusted)
        };
        assert_eq!(from(&["for=192.0.2.43;proto=https"]), (ip("192.0.2.43"), Some("https".into())));
        assert_eq!(from(&["For=\"[2001:db8:cafe::17]:4711\""]), (ip("2001:db8:cafe::17"), None));
        assert_eq!(
            from(&["for=203.0.113.5, for=192.0.2.43", "for=10.0.0.2;by=10.0.0.9"]).0,
            ip("192.0.2.43")
        );
        // Names that proxies make up are no addresses, and a comma in quotation marks parts nothing.
        assert_eq!(from(&["for=192.0.2.43, for=_hidden"]).0, ip("127.0.0.1"));
        assert_eq!(from(&["for=\"1,2\", for=192.0.2.43"]).0, ip("192.0.2.43"));
    }

    #[test]
    fn one_line_of_ipv6_counts_as_one() {
        assert_eq!(counted(ip("2001:db8:1:2:3:4:5:6")), ip("2001:db8:1:2::"));
        assert_eq!(counted(ip("::ffff:192.0.2.1")), ip("192.0.2.1"));
    }
}
