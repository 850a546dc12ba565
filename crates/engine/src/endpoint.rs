//! Addresses of engines, parsed and checked.

use std::path::PathBuf;

/// The port that engines use for TLS when the address names none.
pub const DEFAULT_TLS_PORT: u16 = 2376;

/// Certificates and key of a mutual TLS link, as PEM texts.
#[derive(Clone, PartialEq, Eq)]
pub struct TlsMaterial {
    /// The authority that signed the engine's certificate.
    pub ca: String,
    /// Our certificate (chain).
    pub certificate: String,
    /// The key of our certificate.
    pub key: String,
}

impl std::fmt::Debug for TlsMaterial {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("TlsMaterial(…)")
    }
}

/// Where an engine is and how it is reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Endpoint {
    /// A Unix socket on this machine.
    Unix(PathBuf),
    /// TCP with mutual TLS.
    Tls {
        /// A name or an IP address, without brackets.
        host: String,
        /// The port.
        port: u16,
        /// Certificates and key.
        material: TlsMaterial,
        /// Whether link-local and unspecified addresses may be asked, see [`gubernum_core::address_policy`].
        link_local: bool,
    },
}

/// An address that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AddressError {
    /// It is of no known form.
    #[error("'{0}' is not an engine's address; write 'unix:///path/to/socket' or 'tcp://host:port'")]
    Form(String),
    /// A socket's path must be absolute.
    #[error("the socket path '{0}' is not absolute; write 'unix:///path/to/socket' with three slashes")]
    RelativePath(String),
    /// It is in a range that is not asked.
    #[error("{}", gubernum_core::address_policy::refusal(.0))]
    Delicate(String),
    /// The port is not one.
    #[error("'{0}' is not a port; use a number from 1 to 65535")]
    Port(String),
    /// An open TCP port hands the whole machine to whoever reaches it.
    #[error(
        "a tcp:// address needs mutual TLS: give the authority's certificate, a client certificate and its key; \
         an engine that listens without TLS hands its whole machine to anyone who reaches it"
    )]
    NeedsTls,
    /// Certificates are invalid on a socket.
    #[error("certificates do not go with a unix:// address; leave them out")]
    TlsOnSocket,
}

impl Endpoint {
    /// Lets link-local and unspecified addresses be asked, or refuses one that is in the address itself.
    ///
    /// # Errors
    /// [`AddressError::Delicate`].
    pub fn allowing_link_local(mut self, allowed: bool) -> Result<Self, AddressError> {
        if let Self::Tls { host, link_local, .. } = &mut self {
            *link_local = allowed;
            let is_link_local = gubernum_core::address_policy::literal(host)
                .is_some_and(gubernum_core::address_policy::is_link_local);
            if is_link_local && !allowed {
                return Err(AddressError::Delicate(host.clone()));
            }
        }
        Ok(self)
    }

    /// Whether it is a socket of this machine: reconnecting costs next to nothing there.
    pub(crate) fn is_local(&self) -> bool {
        matches!(self, Self::Unix(_))
    }

    /// Reads an address and joins it with its TLS material.
    ///
    /// # Errors
    /// See [`AddressError`].
    ///
    /// ```
    /// use gubernum_engine::Endpoint;
    /// let socket = Endpoint::parse("unix:///run/docker.sock", None).unwrap();
    /// assert_eq!(socket.link(), "socket");
    /// assert!(Endpoint::parse("tcp://192.0.2.7:2376", None).is_err(), "over a network only with certificates");
    /// ```
    pub fn parse(address: &str, tls: Option<TlsMaterial>) -> Result<Self, AddressError> {
        let form = || AddressError::Form(gubernum_core::text::shown(address, 120));
        if let Some(path) = address.strip_prefix("unix://") {
            if tls.is_some() {
                return Err(AddressError::TlsOnSocket);
            }
            if !path.starts_with('/') || path.contains('\0') {
                return Err(AddressError::RelativePath(gubernum_core::text::shown(path, 120)));
            }
            return Ok(Self::Unix(PathBuf::from(path)));
        }
        let rest = address.strip_prefix("tcp://").ok_or_else(form)?;
        let rest = rest.strip_suffix('/').unwrap_or(rest);
        let (host, port) = split_port(rest)?;
        let allowed = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_' | ':');
        if host.is_empty() || host.len() > 253 || !host.chars().all(allowed) {
            return Err(form());
        }
        let material = tls.ok_or(AddressError::NeedsTls)?;
        Ok(Self::Tls { host: host.to_owned(), port, material, link_local: false })
    }

    /// The kind of link: `socket` or `tls`.
    pub fn link(&self) -> &'static str {
        match self {
            Self::Unix(_) => "socket",
            Self::Tls { .. } => "tls",
        }
    }
}

impl std::fmt::Display for Endpoint {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Unix(path) => write!(f, "unix://{}", path.display()),
            Self::Tls { host, port, .. } if host.contains(':') => write!(f, "tcp://[{host}]:{port}"),
            Self::Tls { host, port, .. } => write!(f, "tcp://{host}:{port}"),
        }
    }
}

fn split_port(text: &str) -> Result<(&str, u16), AddressError> {
    let (host, port) = if let Some(inner) = text.strip_prefix('[') {
        let Some((host, after)) = inner.split_once(']') else {
            return Err(AddressError::Form(gubernum_core::text::shown(text, 120)));
        };
        (host, after.strip_prefix(':'))
    } else {
        match text.rsplit_once(':') {
            Some((host, port)) => (host, Some(port)),
            None => (text, None),
        }
    };
    let Some(port) = port else { return Ok((host, DEFAULT_TLS_PORT)) };
    match port.parse() {
        Ok(number) if number > 0 => Ok((host, number)),
        _ => Err(AddressError::Port(gubernum_core::text::shown(port, 20))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn tls() -> TlsMaterial {
        TlsMaterial { ca: "a".into(), certificate: "b".into(), key: "c".into() }
    }

    #[rstest]
    #[case("unix:///run/e.sock", false, "unix:///run/e.sock")]
    #[case("tcp://packhouse.tarn.example:2377", true, "tcp://packhouse.tarn.example:2377")]
    #[case("tcp://192.0.2.5", true, "tcp://192.0.2.5:2376")]
    #[case("tcp://[fd00::5]:2376/", true, "tcp://[fd00::5]:2376")]
    fn reads(#[case] text: &str, #[case] with_tls: bool, #[case] shown: &str) {
        let endpoint = Endpoint::parse(text, with_tls.then(tls)).unwrap();
        assert_eq!(endpoint.to_string(), shown);
    }

    #[rstest]
    #[case("", false)]
    #[case("unix://relative", false)]
    #[case("http://x", true)]
    #[case("tcp://x:0", true)]
    #[case("tcp://x:99999", true)]
    #[case("tcp://:2376", true)]
    #[case("tcp://a b", true)]
    #[case("tcp://[fd00::5", true)]
    #[case("tcp://x:2375", false)]
    #[case("unix:///x", true)]
    fn refuses(#[case] text: &str, #[case] with_tls: bool) {
        assert!(Endpoint::parse(text, with_tls.then(tls)).is_err());
    }

    #[test]
    fn keys_are_not_printed() {
        assert!(
            !format!("{:?}", Endpoint::parse("tcp://x", Some(tls())).unwrap())
                .contains('c'.to_string().repeat(2).as_str())
        );
        assert_eq!(format!("{:?}", tls()), "TlsMaterial(…)");
    }
}
