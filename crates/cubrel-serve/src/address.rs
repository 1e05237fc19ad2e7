//! Addresses of other servers.

/// Whether nobody can listen to what goes to an address: it is encrypted, or goes to this machine.
pub fn is_safe(url: &str) -> bool {
    let host = |rest: &str| {
        let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
        let name = authority.rsplit_once(':').filter(|(_, port)| port.bytes().all(|b| b.is_ascii_digit()));
        name.map_or(authority, |(name, _)| name).trim_start_matches('[').trim_end_matches(']').to_string()
    };
    if let Some(rest) = url.strip_prefix("https://") {
        return !host(rest).is_empty();
    }
    url.strip_prefix("http://").is_some_and(|rest| {
        let host = host(rest);
        host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_nobody_can_listen_to_is_safe() {
        for url in [
            "https://a.example",
            "https://a.example:8443/x",
            "http://localhost:9/",
            "http://127.0.0.1",
            "http://[::1]:8",
        ] {
            assert!(is_safe(url), "{url}");
        }
        for url in [
            "",
            "https://",
            "http://a.example",
            "http://localhost.example",
            "http://127.0.0.1.example:80",
            "http://a.example/127.0.0.1",
            "http://a@127.0.0.1.example",
            "ftp://localhost",
            "localhost",
        ] {
            assert!(!is_safe(url), "{url}");
        }
    }
}
