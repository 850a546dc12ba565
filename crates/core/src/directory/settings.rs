//! Connection settings of a directory, and their validation. Secrets are not among them.

use serde::{Deserialize, Serialize};

/// The longest text of one setting, in bytes.
const LONGEST: usize = 2000;
/// The longest chain of certificates, in bytes.
const LONGEST_PEM: usize = 64 * 1024;

/// A provider of OpenID Connect (OpenID Connect Core 1.0; authorization code with PKCE).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct OpenidSettings {
    /// The issuer URL: `https://` and a host, or `http://` on this machine.
    pub issuer: String,
    /// The client id.
    pub client_id: String,
    /// This service's URL for browsers; the provider redirects to `/api/v1/openid/callback` under it.
    pub service_address: String,
    /// The label of the sign-in button.
    #[serde(default = "usual_label")]
    pub label: String,
    /// Scopes to ask for beside `openid`.
    #[serde(default = "usual_scopes")]
    pub scopes: Vec<String>,
    /// The claim used as the member's name.
    #[serde(default = "usual_name_claim")]
    pub name_claim: String,
    /// The claim that lists the member's groups.
    #[serde(default = "usual_groups_claim")]
    pub groups_claim: String,
    /// CA certificates to trust besides the system's, in PEM.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ca: Option<String>,
}

fn usual_label() -> String {
    "single sign-on".to_owned()
}

fn usual_scopes() -> Vec<String> {
    ["profile", "groups"].map(str::to_owned).to_vec()
}

fn usual_name_claim() -> String {
    "preferred_username".to_owned()
}

fn usual_groups_claim() -> String {
    "groups".to_owned()
}

/// An LDAP server (RFC 4511).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct LdapSettings {
    /// `ldaps://host:636`, or `ldap://host:389`, which uses StartTLS.
    pub address: String,
    /// The DN to bind with; empty for anonymous searches.
    #[serde(default)]
    pub bind_name: String,
    /// The search base for people.
    pub base: String,
    /// The filter for one person; `{name}` is the name entered.
    #[serde(default = "usual_filter")]
    pub filter: String,
    /// The attribute used as the member's name.
    #[serde(default = "usual_name_attribute")]
    pub name_attribute: String,
    /// How a member's groups are found.
    #[serde(default)]
    pub groups: LdapGroups,
    /// CA certificates to trust instead of the system's, in PEM.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ca: Option<String>,
}

fn usual_filter() -> String {
    "(uid={name})".to_owned()
}

fn usual_name_attribute() -> String {
    "uid".to_owned()
}

/// How a member's groups are found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case", tag = "by", deny_unknown_fields)]
pub enum LdapGroups {
    /// An attribute of the person's entry lists their distinguished names.
    Attribute {
        /// Its name, such as `memberOf`.
        name: String,
    },
    /// By a search.
    Search {
        /// The search base.
        base: String,
        /// The filter for groups; `{dn}` is the person's distinguished name, `{name}` the name entered.
        filter: String,
        /// The attribute with the group's name.
        name: String,
    },
}

impl Default for LdapGroups {
    fn default() -> Self {
        Self::Attribute { name: "memberOf".to_owned() }
    }
}

/// A setting that is invalid.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{sentence}")]
pub struct SettingError {
    /// The setting.
    pub field: &'static str,
    /// What is wrong with it, and what to write.
    pub sentence: String,
}

fn wrong(field: &'static str, sentence: impl Into<String>) -> SettingError {
    SettingError { field, sentence: sentence.into() }
}

fn check_length(field: &'static str, text: &str, may_be_empty: bool) -> Result<(), SettingError> {
    if text.len() > LONGEST {
        return Err(wrong(field, format!("a setting has at most {LONGEST} bytes")));
    }
    if text.trim().is_empty() && !may_be_empty {
        return Err(wrong(field, "must not be empty"));
    }
    if text.chars().any(char::is_control) {
        return Err(wrong(field, "must be one line without control characters"));
    }
    Ok(())
}

fn check_pem(ca: Option<&String>) -> Result<(), SettingError> {
    match ca {
        Some(pem) if pem.len() > LONGEST_PEM || !pem.contains("BEGIN CERTIFICATE") => {
            Err(wrong("ca", format!("certificates as PEM, at most {} KiB", LONGEST_PEM / 1024)))
        }
        _ => Ok(()),
    }
}

/// The host of an address, without its port.
fn host_of(address: &str, scheme: &str) -> Option<String> {
    let rest = address.strip_prefix(scheme)?;
    let authority = rest.split(['/', '?', '#']).next()?;
    let host = match authority.strip_prefix('[') {
        Some(six) => six.split(']').next()?,
        None => authority.rsplit_once(':').map_or(authority, |(host, _)| host),
    };
    (!host.is_empty() && !authority.contains('@')).then(|| host.to_owned())
}

fn is_this_machine(host: &str) -> bool {
    let bytes: Vec<Option<u8>> = host.split('.').map(|part| part.parse().ok()).collect();
    let is_loopback = matches!(bytes[..], [Some(127), Some(_), Some(_), Some(_)]);
    is_loopback || matches!(host, "localhost" | "::1")
}

fn check_web_address(field: &'static str, address: &str) -> Result<(), SettingError> {
    check_length(field, address, false)?;
    if address.contains(['?', '#']) {
        return Err(wrong(field, "an address without '?' and '#'"));
    }
    if host_of(address, "https://").is_some() {
        return Ok(());
    }
    match host_of(address, "http://") {
        Some(host) if is_this_machine(&host) => Ok(()),
        Some(_) => Err(wrong(field, "use https://; http:// is good on this machine only")),
        None => Err(wrong(field, "an address such as https://sign-in.example")),
    }
}

impl OpenidSettings {
    /// Whether they make sense.
    ///
    /// # Errors
    /// With the first setting that does not.
    pub fn check(&self) -> Result<(), SettingError> {
        check_web_address("issuer", &self.issuer)?;
        check_web_address("service_address", &self.service_address)?;
        check_length("client_id", &self.client_id, false)?;
        check_length("label", &self.label, false)?;
        check_length("name_claim", &self.name_claim, false)?;
        check_length("groups_claim", &self.groups_claim, false)?;
        if self.scopes.len() > 20 {
            return Err(wrong("scopes", "at most 20 scopes"));
        }
        for scope in &self.scopes {
            check_length("scopes", scope, false)?;
            if scope.contains(' ') {
                return Err(wrong("scopes", "a scope cannot contain spaces; list each scope separately"));
            }
        }
        check_pem(self.ca.as_ref())
    }

    /// Redirect address for the provider.
    pub fn callback(&self) -> String {
        format!("{}/api/v1/openid/callback", self.service_address.trim_end_matches('/'))
    }
}

impl LdapSettings {
    /// Whether they make sense.
    ///
    /// # Errors
    /// With the first setting that does not.
    pub fn check(&self) -> Result<(), SettingError> {
        check_length("address", &self.address, false)?;
        let is_known = ["ldap://", "ldaps://"].iter().any(|scheme| host_of(&self.address, scheme).is_some());
        if !is_known || self.address.contains(['?', '#']) {
            return Err(wrong("address", "an address such as ldaps://directory.example:636"));
        }
        check_length("bind_name", &self.bind_name, true)?;
        check_length("base", &self.base, false)?;
        check_length("name_attribute", &self.name_attribute, false)?;
        check_length("filter", &self.filter, false)?;
        if !self.filter.contains("{name}") {
            return Err(wrong("filter", "the filter needs {name}, for example (uid={name})"));
        }
        match &self.groups {
            LdapGroups::Attribute { name } => check_length("groups", name, false)?,
            LdapGroups::Search { base, filter, name } => {
                check_length("groups", base, false)?;
                check_length("groups", filter, false)?;
                check_length("groups", name, false)?;
                if !filter.contains("{dn}") && !filter.contains("{name}") {
                    return Err(wrong(
                        "groups",
                        "the filter needs {dn} or {name}, for example (member={dn})",
                    ));
                }
            }
        }
        check_pem(self.ca.as_ref())
    }

    /// Whether the connection is private from its first byte.
    pub fn is_ldaps(&self) -> bool {
        self.address.starts_with("ldaps://")
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn openid(issuer: &str) -> OpenidSettings {
        serde_json::from_value(serde_json::json!({
            "issuer": issuer, "client_id": "gubernum", "service_address": "http://127.0.0.1:7310"
        }))
        .unwrap()
    }

    #[rstest]
    #[case::private("https://sign-in.example", true)]
    #[case::with_a_path("https://sign-in.example/realms/orchard", true)]
    #[case::this_machine("http://localhost:9000", true)]
    #[case::this_machine_by_address("http://[::1]:9000/x", true)]
    #[case::this_machine_by_another_address("http://127.0.0.9:9000", true)]
    #[case::a_name_that_begins_so("http://127.0.0.1.sign-in.example", false)]
    #[case::another_in_the_open("http://sign-in.example", false)]
    #[case::a_trick("http://localhost@sign-in.example", false)]
    #[case::a_query("https://sign-in.example?x", false)]
    #[case::no_address("sign-in.example", false)]
    #[case::empty("", false)]
    #[case::two_lines("https://sign-in.example\nHost: x", false)]
    fn issuers_are_private(#[case] issuer: &str, #[case] good: bool) {
        assert_eq!(openid(issuer).check().is_ok(), good, "{:?}", openid(issuer).check());
    }

    #[rstest]
    #[case("ldaps://directory.example", "(uid={name})", None)]
    #[case("ldap://127.0.0.1:3890", "(&(objectClass=person)(uid={name}))", None)]
    #[case("https://directory.example", "(uid={name})", Some("address"))]
    #[case("ldap://", "(uid={name})", Some("address"))]
    #[case("ldap://x", "(uid=mara)", Some("filter"))]
    fn ldap_settings_are_checked(#[case] address: &str, #[case] filter: &str, #[case] wrong: Option<&str>) {
        let settings: LdapSettings = serde_json::from_value(serde_json::json!({
            "address": address, "base": "ou=people,dc=orchard,dc=example", "filter": filter
        }))
        .unwrap();
        assert_eq!(settings.check().err().map(|e| e.field), wrong);
        assert_eq!(settings.groups, LdapGroups::Attribute { name: "memberOf".into() });
    }

    #[test]
    fn the_way_back_is_below_the_services_address() {
        let mut settings = openid("https://sign-in.example");
        settings.service_address = "https://fleet.example/".into();
        assert_eq!(settings.callback(), "https://fleet.example/api/v1/openid/callback");
    }
}
