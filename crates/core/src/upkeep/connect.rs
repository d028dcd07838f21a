//! Where the service may connect to.

use std::net::{IpAddr, SocketAddr};

use ipnet::IpNet;

/// One network and the ports that may be reached in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ConnectRule {
    network: IpNet,
    ports: Vec<(u16, u16)>,
}

/// Where the service may connect to for one organisation.
///
/// Without a rule, everywhere but to the machine itself (loopback, unspecified), to link-local and
/// to multicast addresses. With rules, only where one of them allows it. Never to the service's own
/// database.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ConnectRules {
    rules: Vec<ConnectRule>,
    never: Vec<SocketAddr>,
}

impl std::str::FromStr for ConnectRule {
    type Err = String;

    /// Reads `NETWORK [PORTS]`: an address or a network in CIDR form, then ports and ranges of
    /// ports separated by commas, such as `10.20.0.0/16 22,2200-2299`.
    fn from_str(text: &str) -> Result<Self, String> {
        let mut words = text.split_whitespace();
        let network = words.next().ok_or("a rule names a network")?;
        let network = network
            .parse::<IpNet>()
            .or_else(|_| network.parse::<IpAddr>().map(IpNet::from))
            .map_err(|_| {
                format!("`{network}` is not an address or a network such as 10.20.0.0/16")
            })?;
        let ports = words
            .next()
            .unwrap_or("1-65535")
            .split(',')
            .map(parse_ports)
            .collect::<Result<_, _>>()?;
        if words.next().is_some() {
            return Err("a rule is a network and its ports, separated by a space".to_owned());
        }
        Ok(Self {
            network: network.trunc(),
            ports,
        })
    }
}

fn parse_ports(text: &str) -> Result<(u16, u16), String> {
    let problem = || format!("`{text}` is not a port or a range of ports such as 2200-2299");
    let (from, to) = text.split_once('-').unwrap_or((text, text));
    let (from, to): (u16, u16) = (
        from.parse().map_err(|_| problem())?,
        to.parse().map_err(|_| problem())?,
    );
    if from == 0 || from > to {
        Err(problem())
    } else {
        Ok((from, to))
    }
}

impl ConnectRules {
    /// The rules of an organisation, and the addresses that no rule can open.
    ///
    /// # Errors
    /// A sentence about the first rule that cannot be read.
    pub fn new(rules: &[String], never: Vec<SocketAddr>) -> Result<Self, String> {
        Ok(Self {
            rules: rules
                .iter()
                .map(|rule| rule.parse())
                .collect::<Result<_, _>>()?,
            never,
        })
    }

    /// Whether the service may connect there.
    #[must_use]
    pub fn allow(&self, address: SocketAddr) -> bool {
        let ip = address.ip().to_canonical();
        // All of loopback leads to the same machine.
        let same = |never: IpAddr| {
            never == ip || never.is_loopback() && (ip.is_loopback() || ip.is_unspecified())
        };
        if self
            .never
            .iter()
            .any(|never| same(never.ip().to_canonical()) && never.port() == address.port())
        {
            return false;
        }
        if self.rules.is_empty() {
            return !is_local(ip);
        }
        self.rules.iter().any(|rule| {
            rule.network.contains(&ip)
                && rule
                    .ports
                    .iter()
                    .any(|(from, to)| (*from..=*to).contains(&address.port()))
        })
    }
}

fn is_local(ip: IpAddr) -> bool {
    ip.is_loopback()
        || ip.is_unspecified()
        || ip.is_multicast()
        || match ip {
            IpAddr::V4(ip) => ip.is_link_local() || ip.is_broadcast() || ip.octets()[0] == 0,
            IpAddr::V6(ip) => ip.is_unicast_link_local(),
        }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn allows(rules: &[&str], address: &str) -> bool {
        let rules: Vec<String> = rules.iter().map(|rule| (*rule).to_owned()).collect();
        ConnectRules::new(
            &rules,
            vec![
                "127.0.0.1:5432".parse().unwrap(),
                "10.1.1.1:5432".parse().unwrap(),
            ],
        )
        .unwrap()
        .allow(address.parse().unwrap())
    }

    #[test]
    fn without_rules_the_machine_itself_and_link_local_are_closed() {
        for closed in [
            "127.0.0.1:22",
            "127.0.10.5:22",
            "0.0.0.0:22",
            "0.1.2.3:22",
            "[::1]:22",
            "[::ffff:127.0.0.1]:22",
            "169.254.169.254:80",
            "[fe80::1]:22",
            "224.0.0.1:22",
        ] {
            assert!(!allows(&[], closed), "{closed}");
        }
        for open in ["10.1.2.3:22", "192.0.2.7:22", "[2001:db8::1]:22"] {
            assert!(allows(&[], open), "{open}");
        }
    }

    #[test]
    fn with_rules_only_what_they_name_is_open_and_never_the_database() {
        let rules = [
            "127.0.10.0/24 22,5432",
            "10.0.0.0/8 22,2200-2299",
            "10.1.1.1 5432",
        ];
        for (address, open) in [
            ("127.0.10.5:22", true),
            ("127.0.10.5:23", false),
            ("127.0.0.1:22", false),
            ("10.2.3.4:2250", true),
            ("10.2.3.4:2300", false),
            ("192.0.2.7:22", false),
            ("10.1.1.1:5432", false),
            ("127.0.10.9:5432", false),
            ("[::ffff:10.1.1.1]:5432", false),
        ] {
            assert_eq!(allows(&rules, address), open, "{address}");
        }
    }

    #[test]
    fn a_rule_that_cannot_be_read_is_refused_in_words() {
        for text in [
            "",
            "ten.0.0.0/8",
            "10.0.0.0/99",
            "10.0.0.0/8 ssh",
            "10.0.0.0/8 0",
            "10.0.0.0/8 30-20",
            "10.0.0.0/8 22 23",
        ] {
            assert!(text.parse::<ConnectRule>().is_err(), "{text}");
        }
    }
}
