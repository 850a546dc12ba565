//! The identity behind a request. Credentials are read in `http::credentials` and looked up in `web::authenticate`.

use std::net::IpAddr;
use std::sync::Arc;

use gubernum_core::rights::Access;
use gubernum_store::audit::NewEntry;
use gubernum_store::credentials::Kind;

use crate::access::guard::{CallerState, GuardedCaller};
use crate::access::leases::Lease;
use crate::operations::Author;

/// A member who is asking.
#[derive(Debug, Clone)]
pub(crate) struct Identity {
    pub(crate) credential: i64,
    pub(crate) kind: Kind,
    pub(crate) member_id: i64,
    pub(crate) member: String,
    pub(crate) address: String,
    pub(crate) hash: Vec<u8>,
    /// What they may.
    pub(crate) access: Arc<Access>,
    /// The session or token, for the audit log.
    pub(crate) via: Arc<str>,
    /// They have no rights until they set up a second factor.
    pub(crate) lacks_second_factor: bool,
    /// Whether they have stepped up.
    pub(crate) standing: CallerState,
    /// The role through which they look at everything for now.
    pub(crate) view_as: Option<String>,
    /// What is kept open in its name ends with it.
    pub(crate) lease: Lease,
}

impl Identity {
    /// An entry of the audit log about what they did.
    pub(crate) fn entry<'a>(&'a self, action: &'a str, object: &'a str, outcome: &'a str) -> NewEntry<'a> {
        NewEntry { member: &self.member, address: &self.address, action, object, outcome, via: &self.via }
    }

    pub(crate) fn author(&self) -> Author {
        Author {
            member: self.member.clone(),
            address: self.address.clone(),
            access: self.access.clone(),
            via: self.via.to_string(),
            standing: self.standing,
        }
    }

    /// Who asks for something dangerous.
    pub(crate) fn asker(&self) -> GuardedCaller {
        self.author().asker()
    }
}

/// The client's address as `web::proxies` found it out.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ClientAddress(pub(crate) IpAddr);
