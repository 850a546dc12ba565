//! Errors of an engine, as far as a person can act on the difference.

use std::error::Error as StdError;
use std::io;

use gubernum_core::host::{LinkFault, LinkProblem};

/// A failure of a call or a stream.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// The engine could not be reached or is not one we can speak with.
    #[error("{}", .0.sentence)]
    Link(LinkProblem),
    /// The engine answered and said no; the message is its own.
    #[error("{}{}", gubernum_core::text::short_ids(message), call(what))]
    Answer {
        /// The call, in words; empty where the message says all.
        what: &'static str,
        /// The HTTP status, evened out over engines (see [`crate::dialect`]).
        status: u16,
        /// The engine's message.
        message: String,
    },
    /// An answer is larger than we take.
    #[error("the engine's answer to '{what}' is larger than {limit} bytes and was not read")]
    TooLarge {
        /// The call.
        what: &'static str,
        /// The limit in bytes.
        limit: usize,
    },
    /// An answer cannot be understood.
    #[error("the engine's answer to '{what}' cannot be understood: {detail}")]
    Unreadable {
        /// The call.
        what: &'static str,
        /// Where reading stopped.
        detail: String,
    },
    /// An id or a name that may not be put into a path.
    #[error("'{0}' is neither a container's id nor its name")]
    BadId(String),
}

fn call(what: &str) -> String {
    if what.is_empty() { String::new() } else { format!(" (the engine's answer to: {what})") }
}

impl EngineError {
    /// A link failure with its advice.
    pub fn link(code: LinkFault, address: &str, detail: &str) -> Self {
        Self::Link(describe(code, address, detail))
    }

    /// The HTTP status when the engine answered and said no.
    pub fn status(&self) -> Option<u16> {
        match self {
            Self::Answer { status, .. } => Some(*status),
            _ => None,
        }
    }

    /// The exit code that shells give for what the engine could not begin: 127 for a program that is not there, 126 for one
    /// that may not or cannot be run.
    pub fn program_fault(&self) -> Option<i64> {
        let Self::Answer { message, .. } = self else { return None };
        let m = message.to_ascii_lowercase();
        // An image, network or mount that is missing is reported in other words.
        let begins = [
            "exec: \"",
            "executable",
            "command that was not found",
            "oci permission denied",
            "exec format error",
        ]
        .iter()
        .any(|w| m.contains(w));
        let missing = [
            "executable file",
            "no such file or directory",
            "command that was not found",
            "not found in $path",
        ];
        let barred = ["permission denied", "is a directory", "exec format error"];
        match begins {
            true if barred.iter().any(|w| m.contains(w)) => Some(126),
            true if missing.iter().any(|w| m.contains(w)) => Some(127),
            _ => None,
        }
    }

    /// Whether the link itself failed, rather than what came over it.
    pub fn is_link(&self) -> bool {
        matches!(self, Self::Link(_))
    }

    /// The failure as the trouble of a link, for the host's record.
    pub fn as_problem(&self, address: &str) -> LinkProblem {
        match self {
            Self::Link(problem) => problem.clone(),
            Self::Unreadable { .. } | Self::TooLarge { .. } => {
                describe(LinkFault::NotAnEngine, address, &self.to_string())
            }
            Self::Answer { status, message, .. } => {
                describe(LinkFault::Failed, address, &format!("status {status}: {message}"))
            }
            Self::BadId(_) => describe(LinkFault::Failed, address, &self.to_string()),
        }
    }
}

/// Puts a fault of the link to `address` into a sentence with advice.
pub fn describe(code: LinkFault, address: &str, detail: &str) -> LinkProblem {
    let detail = gubernum_core::text::shown(detail, 300);
    let because = if detail.is_empty() { String::new() } else { format!(" ({detail})") };
    let (sentence, advice) = match code {
        LinkFault::SocketMissing => (
            format!("There is no socket at {address}."),
            "Check the path, and that the engine is installed and running on this machine.",
        ),
        LinkFault::PermissionDenied => (
            format!("The service cannot open {address}: permission denied."),
            "Add the account that runs Gubernum to the group that owns the socket, or run it as that group.",
        ),
        LinkFault::Refused => (
            format!("Nothing accepts connections at {address}: connection refused."),
            "Check that the engine is running and listens at this address and port.",
        ),
        LinkFault::NameNotFound => (
            format!("The name in {address} cannot be resolved{because}."),
            "Check the spelling, or use the host's IP address.",
        ),
        LinkFault::Unreachable => (
            format!("No route to {address}{because}."),
            "Check the network between this machine and the host, and any firewall.",
        ),
        LinkFault::TlsNotTrusted => (
            format!("The certificate at {address} is not trusted{because}."),
            "Use the certificate of the authority that signed the engine's certificate, and connect by a name or address in it.",
        ),
        LinkFault::TlsExpired => (
            format!("The certificate at {address} has expired or is not valid yet{because}."),
            "Renew the engine's certificate, and check the clocks of both machines.",
        ),
        LinkFault::TlsFailed => (
            format!("TLS with {address} failed{because}."),
            "Check that the port speaks TLS and that the engine's authority signed our client certificate.",
        ),
        LinkFault::TimedOut => (
            format!("{address} did not answer in time{because}."),
            "The host may be off, overloaded or disconnected. The service keeps reconnecting.",
        ),
        LinkFault::ApiTooOld => (
            format!("The API of the engine at {address} is too old{because}."),
            "Update the engine on that host.",
        ),
        LinkFault::NotAnEngine => {
            (format!("No container engine answers at {address}{because}."), "Check the address and the port.")
        }
        LinkFault::Failed => (
            format!("The engine at {address} closed the connection or failed{because}."),
            "See the engine's log on that host. The service keeps reconnecting.",
        ),
    };
    LinkProblem { code, sentence, advice: advice.to_owned() }
}

/// Tells which fault a transport error is, by walking down its causes.
pub(crate) fn classify(error: &(dyn StdError + 'static)) -> (LinkFault, String) {
    let mut next = Some(error);
    let mut last = error.to_string();
    while let Some(cause) = next {
        last = cause.to_string();
        if let Some(io) = cause.downcast_ref::<io::Error>() {
            if let Some(inner) = io.get_ref() {
                if let Some(tls) = inner.downcast_ref::<rustls::Error>() {
                    return (tls_fault(tls), tls.to_string());
                }
                // Our own marker for a failed look-up, set where the look-up is done.
                if inner.is::<LookupFailed>() {
                    return (LinkFault::NameNotFound, inner.to_string());
                }
            }
            if let Some(fault) = io_fault(io) {
                return (fault, io.to_string());
            }
        }
        if let Some(tls) = cause.downcast_ref::<rustls::Error>() {
            return (tls_fault(tls), tls.to_string());
        }
        if let Some(http) = cause.downcast_ref::<hyper::Error>()
            && (http.is_parse() || http.is_parse_status())
        {
            return (LinkFault::NotAnEngine, http.to_string());
        }
        next = cause.source();
    }
    (LinkFault::Failed, last)
}

/// Marks an I/O error as a failed look-up of a name.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub(crate) struct LookupFailed(pub(crate) String);

fn io_fault(error: &io::Error) -> Option<LinkFault> {
    use io::ErrorKind as K;
    Some(match error.kind() {
        K::NotFound => LinkFault::SocketMissing,
        K::PermissionDenied => LinkFault::PermissionDenied,
        K::ConnectionRefused => LinkFault::Refused,
        K::TimedOut => LinkFault::TimedOut,
        K::HostUnreachable | K::NetworkUnreachable | K::NetworkDown | K::AddrNotAvailable => {
            LinkFault::Unreachable
        }
        _ => return None,
    })
}

fn tls_fault(error: &rustls::Error) -> LinkFault {
    use rustls::CertificateError as C;
    match error {
        rustls::Error::InvalidCertificate(
            C::Expired | C::ExpiredContext { .. } | C::NotValidYet | C::NotValidYetContext { .. },
        ) => LinkFault::TlsExpired,
        rustls::Error::InvalidCertificate(_) => LinkFault::TlsNotTrusted,
        _ => LinkFault::TlsFailed,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(r#"failed to create task: OCI runtime create failed: runc create failed: unable to start container process: exec: "frost": executable file not found in $PATH: unknown"#, Some(127))]
    #[case(r#"crun: executable file `frost` not found in $PATH: No such file or directory: OCI runtime attempted to invoke a command that was not found"#, Some(127))]
    #[case(r#"runc create failed: exec: "/frost": stat /frost: no such file or directory"#, Some(127))]
    #[case(r#"exec: "/etc/hosts": permission denied: unknown"#, Some(126))]
    #[case("crun: open executable: Permission denied: OCI permission denied", Some(126))]
    #[case(r#"exec: "/etc": is a directory"#, Some(126))]
    #[case("no such image: base/none:1", None)]
    #[case(r#"runc create failed: error mounting "/srv/none" to rootfs: stat /srv/none: no such file or directory"#, None)]
    #[case("driver failed programming external connectivity: port is already allocated", None)]
    fn programs_that_cannot_begin(#[case] message: &str, #[case] expected: Option<i64>) {
        let error = EngineError::Answer { what: "", status: 400, message: message.to_owned() };
        assert_eq!(error.program_fault(), expected);
    }

    #[rstest]
    #[case(io::ErrorKind::NotFound, LinkFault::SocketMissing)]
    #[case(io::ErrorKind::PermissionDenied, LinkFault::PermissionDenied)]
    #[case(io::ErrorKind::ConnectionRefused, LinkFault::Refused)]
    #[case(io::ErrorKind::TimedOut, LinkFault::TimedOut)]
    #[case(io::ErrorKind::HostUnreachable, LinkFault::Unreachable)]
    #[case(io::ErrorKind::NetworkUnreachable, LinkFault::Unreachable)]
    #[case(io::ErrorKind::NetworkDown, LinkFault::Unreachable)]
    #[case(io::ErrorKind::AddrNotAvailable, LinkFault::Unreachable)]
    #[case(io::ErrorKind::ConnectionReset, LinkFault::Failed)]
    #[case(io::ErrorKind::UnexpectedEof, LinkFault::Failed)]
    fn what_the_system_says_of_a_connection(#[case] kind: io::ErrorKind, #[case] expected: LinkFault) {
        /// Libraries wrap what the system says, more than once.
        #[derive(Debug, thiserror::Error)]
        #[error("sending failed")]
        struct Wrapped(#[source] Box<dyn StdError + Send + Sync>);

        assert_eq!(classify(&io::Error::from(kind)).0, expected);
        let wrapped = Wrapped(Box::new(Wrapped(Box::new(io::Error::new(kind, "the innermost")))));
        assert_eq!(classify(&wrapped), (expected, "the innermost".to_owned()));
    }

    #[rstest]
    #[case(rustls::CertificateError::Expired, LinkFault::TlsExpired)]
    #[case(rustls::CertificateError::NotValidYet, LinkFault::TlsExpired)]
    #[case(rustls::CertificateError::UnknownIssuer, LinkFault::TlsNotTrusted)]
    #[case(rustls::CertificateError::NotValidForName, LinkFault::TlsNotTrusted)]
    #[case(rustls::CertificateError::BadSignature, LinkFault::TlsNotTrusted)]
    fn what_is_wrong_with_a_certificate(
        #[case] certificate: rustls::CertificateError,
        #[case] expected: LinkFault,
    ) {
        let error = rustls::Error::InvalidCertificate(certificate);
        assert_eq!(classify(&error).0, expected);
        assert_eq!(classify(&io::Error::other(error)).0, expected, "as a stream tells it");
    }

    #[test]
    fn tls_that_fails_and_names_that_lead_nowhere() {
        let error = io::Error::other(rustls::Error::HandshakeNotComplete);
        assert_eq!(classify(&error).0, LinkFault::TlsFailed);
        let error = io::Error::other(LookupFailed("no such name".into()));
        assert_eq!(classify(&error), (LinkFault::NameNotFound, "no such name".into()));
    }

    #[rstest]
    fn every_fault_has_a_sentence_with_the_address_and_advice(
        #[values(
            LinkFault::SocketMissing,
            LinkFault::PermissionDenied,
            LinkFault::Refused,
            LinkFault::NameNotFound,
            LinkFault::Unreachable,
            LinkFault::TlsNotTrusted,
            LinkFault::TlsExpired,
            LinkFault::TlsFailed,
            LinkFault::TimedOut,
            LinkFault::ApiTooOld,
            LinkFault::NotAnEngine,
            LinkFault::Failed
        )]
        code: LinkFault,
        #[values("", "in the engine's words", "\u{1b}[31mred")] detail: &str,
    ) {
        let problem = describe(code, "tcp://192.0.2.2:2376", detail);
        assert_eq!(problem.code, code);
        assert!(problem.sentence.contains("tcp://192.0.2.2:2376") && problem.sentence.ends_with('.'));
        assert!(problem.advice.ends_with('.') && !problem.sentence.contains("()"), "{problem:?}");
        assert!(!problem.sentence.contains('\u{1b}'), "{problem:?}");
    }

    #[rstest]
    #[case(EngineError::link(LinkFault::Refused, "unix:///x", ""), LinkFault::Refused, None)]
    #[case(EngineError::TooLarge { what: "list", limit: 9 }, LinkFault::NotAnEngine, None)]
    #[case(EngineError::Unreadable { what: "list", detail: "no JSON".into() }, LinkFault::NotAnEngine, None)]
    #[case(EngineError::Answer { what: "", status: 500, message: "disk".into() }, LinkFault::Failed, Some(500))]
    #[case(EngineError::BadId("a/b".into()), LinkFault::Failed, None)]
    fn a_failure_is_reported_as_the_trouble_of_its_link(
        #[case] error: EngineError,
        #[case] code: LinkFault,
        #[case] status: Option<u16>,
    ) {
        assert_eq!((error.as_problem("unix:///x").code, error.status()), (code, status));
        let called = EngineError::Answer { what: "stop", status: 409, message: "it is paused".into() };
        assert_eq!(called.to_string(), "it is paused (the engine's answer to: stop)");
        let message = format!("container {} is not running", "3f".repeat(32));
        let named = EngineError::Answer { what: "pause", status: 409, message };
        assert_eq!(
            named.to_string(),
            "container 3f3f3f3f3f3f is not running (the engine's answer to: pause)"
        );
    }
}
