//! Signs a person in at an LDAP server (RFC 4511, 4513): binds as the service, searches for one person, binds as that
//! person with the password entered, and reads the groups. Always over TLS: by StartTLS, or from the first byte.

use std::collections::HashMap;
use std::sync::Arc;

use gubernum_core::directory::{LONGEST_GROUP, LdapGroups, LdapSettings, MOST_GROUPS};
use ldap3::{
    Ldap, LdapConnAsync, LdapConnSettings, LdapError, Scope, SearchEntry, SearchOptions, dn_escape,
    ldap_escape,
};
use rustls::{ClientConfig, RootCertStore};
use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::PemObject;

use super::error::in_words;
use super::{ANSWER_TIMEOUT, DirectoryError, Person};

/// The attribute by which a person stays the same when moved or renamed (RFC 4530).
const ENTRY_UUID: &str = "entryUUID";
/// The result codes that mean that a name or password is not right (RFC 4511, appendix A.1).
const INVALID_CREDENTIALS: u32 = 49;
const INAPPROPRIATE_AUTHENTICATION: u32 = 48;

fn unreachable(error: &LdapError) -> DirectoryError {
    match error {
        LdapError::FilterParsing => DirectoryError::Settings("the filter cannot be read".to_owned()),
        LdapError::LdapResult { result } => DirectoryError::Refused(in_words_of(result)),
        other => DirectoryError::Unreachable(in_words(other)),
    }
}

fn in_words_of(result: &ldap3::LdapResult) -> String {
    gubernum_core::text::shown(&result.to_string(), 200)
}

fn trusted(pem: &str) -> Result<Arc<ClientConfig>, DirectoryError> {
    let wrong = |e: String| DirectoryError::Settings(format!("ca: {e}"));
    let mut roots = RootCertStore::empty();
    for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
        let certificate = certificate.map_err(|e| wrong(e.to_string()))?;
        roots.add(certificate).map_err(|e| wrong(e.to_string()))?;
    }
    Ok(Arc::new(ClientConfig::builder().with_root_certificates(roots).with_no_client_auth()))
}

/// Connects, over TLS, and binds as the service.
async fn connect(settings: &LdapSettings, secret: Option<&str>) -> Result<Ldap, DirectoryError> {
    let mut how = LdapConnSettings::new().set_conn_timeout(ANSWER_TIMEOUT).set_starttls(!settings.is_ldaps());
    if let Some(pem) = &settings.ca {
        how = how.set_config(trusted(pem)?);
    }
    let made = LdapConnAsync::with_settings(how, &settings.address).await;
    let (connection, mut ldap) = made.map_err(|e| unreachable(&e))?;
    ldap3::drive!(connection);
    if !settings.bind_name.is_empty() {
        let bound =
            ldap.with_timeout(ANSWER_TIMEOUT).simple_bind(&settings.bind_name, secret.unwrap_or_default());
        bound.await.and_then(ldap3::LdapResult::success).map_err(|e| unreachable(&e))?;
    }
    Ok(ldap)
}

/// Finds the one entry that a filter means; `None` when it means none, or several.
async fn find(
    ldap: &mut Ldap,
    base: &str,
    scope: Scope,
    filter: &str,
    attributes: &[&str],
) -> Result<Option<SearchEntry>, DirectoryError> {
    let options = SearchOptions::new().sizelimit(2).timelimit(10);
    let searched = ldap.with_search_options(options).with_timeout(ANSWER_TIMEOUT);
    let searched = searched.search(base, scope, filter, attributes.to_vec()).await;
    let ldap3::SearchResult(entries, result) = searched.map_err(|e| unreachable(&e))?;
    // 4 says that there are more than the limit, 32 that the base is not there.
    if !matches!(result.rc, 0 | 4 | 10 | 32) {
        return Err(DirectoryError::Refused(in_words_of(&result)));
    }
    let mut found = entries.into_iter().filter(|e| !e.is_ref()).map(SearchEntry::construct);
    let first = found.next();
    Ok(if found.next().is_some() { None } else { first })
}

fn first<'a>(attributes: &'a HashMap<String, Vec<String>>, name: &str) -> Option<&'a str> {
    let found = attributes.iter().find(|(key, _)| key.eq_ignore_ascii_case(name));
    found.and_then(|(_, values)| values.first()).map(String::as_str)
}

async fn groups(
    ldap: &mut Ldap,
    settings: &LdapSettings,
    entry: &SearchEntry,
    name: &str,
) -> Result<Vec<String>, DirectoryError> {
    let all: Vec<String> = match &settings.groups {
        LdapGroups::Attribute { name } => {
            let found = entry.attrs.iter().find(|(key, _)| key.eq_ignore_ascii_case(name));
            found.map(|(_, values)| values.clone()).unwrap_or_default()
        }
        LdapGroups::Search { base, filter, name: attribute } => {
            let filter =
                filter.replace("{dn}", &ldap_escape(entry.dn.as_str())).replace("{name}", &ldap_escape(name));
            let limit = i32::try_from(MOST_GROUPS).unwrap_or(i32::MAX);
            let options = SearchOptions::new().sizelimit(limit).timelimit(10);
            let searched = ldap.with_search_options(options).with_timeout(ANSWER_TIMEOUT);
            let searched = searched.search(base, Scope::Subtree, &filter, vec![attribute.as_str()]).await;
            let ldap3::SearchResult(entries, result) = searched.map_err(|e| unreachable(&e))?;
            if !matches!(result.rc, 0 | 4 | 10 | 32) {
                return Err(DirectoryError::Refused(in_words_of(&result)));
            }
            let found = entries.into_iter().filter(|e| !e.is_ref()).map(SearchEntry::construct);
            found.filter_map(|group| first(&group.attrs, attribute).map(str::to_owned)).collect()
        }
    };
    Ok(all.into_iter().filter(|g| g.chars().count() <= LONGEST_GROUP).take(MOST_GROUPS).collect())
}

fn wanted(settings: &LdapSettings) -> Vec<&str> {
    let mut wanted = vec![ENTRY_UUID, settings.name_attribute.as_str()];
    if let LdapGroups::Attribute { name } = &settings.groups {
        wanted.push(name);
    }
    wanted
}

fn subject_of(entry: &SearchEntry) -> String {
    match first(&entry.attrs, ENTRY_UUID) {
        Some(uuid) => format!("uuid:{}", uuid.to_lowercase()),
        None => format!("dn:{}", entry.dn.to_lowercase()),
    }
}

/// Who somebody is who typed this name and password; `None` when one of them is not right.
pub(super) async fn sign_in(
    settings: &LdapSettings,
    secret: Option<&str>,
    name: &str,
    password: &str,
) -> Result<Option<Person>, DirectoryError> {
    // A bind with a name and no password succeeds without proving anything (RFC 4513, 5.1.2).
    if password.is_empty() || name.is_empty() {
        return Ok(None);
    }
    let mut ldap = connect(settings, secret).await?;
    let filter = settings.filter.replace("{name}", &ldap_escape(name));
    let found = find(&mut ldap, &settings.base, Scope::Subtree, &filter, &wanted(settings)).await?;
    let Some(entry) = found else { return Ok(None) };
    let bound = ldap
        .with_timeout(ANSWER_TIMEOUT)
        .simple_bind(&entry.dn, password)
        .await
        .map_err(|e| unreachable(&e))?;
    match bound.rc {
        0 => {}
        INVALID_CREDENTIALS | INAPPROPRIATE_AUTHENTICATION => return Ok(None),
        // Locked, expired, unwilling: that person may not sign in there, so not here either.
        _ => {
            tracing::info!("the directory refused the bind of a member: {}", in_words_of(&bound));
            return Ok(None);
        }
    }
    // What people may read of groups is for the directory to say; what the service may read counts.
    if !settings.bind_name.is_empty() {
        let again =
            ldap.with_timeout(ANSWER_TIMEOUT).simple_bind(&settings.bind_name, secret.unwrap_or_default());
        again.await.and_then(ldap3::LdapResult::success).map_err(|e| unreachable(&e))?;
    }
    let groups = groups(&mut ldap, settings, &entry, name).await?;
    let known = first(&entry.attrs, &settings.name_attribute).unwrap_or(name).to_owned();
    // Whether it says goodbye makes no difference.
    let _ = ldap.unbind().await;
    Ok(Some(Person { subject: subject_of(&entry), name: known, groups }))
}

/// The groups that somebody is in now; `None` when they are not there any more.
pub(super) async fn groups_now(
    settings: &LdapSettings,
    secret: Option<&str>,
    subject: &str,
) -> Result<Option<Vec<String>>, DirectoryError> {
    let mut ldap = connect(settings, secret).await?;
    let found = match subject.split_once(':') {
        Some(("uuid", uuid)) => {
            let filter = format!("({ENTRY_UUID}={})", ldap_escape(uuid));
            find(&mut ldap, &settings.base, Scope::Subtree, &filter, &wanted(settings)).await?
        }
        Some((_, dn)) => find(&mut ldap, dn, Scope::Base, "(objectClass=*)", &wanted(settings)).await?,
        None => None,
    };
    let Some(entry) = found else { return Ok(None) };
    let name = first(&entry.attrs, &settings.name_attribute).unwrap_or_default().to_owned();
    let groups = groups(&mut ldap, settings, &entry, &name).await?;
    let _ = ldap.unbind().await;
    Ok(Some(groups))
}

/// Tries the settings: connects, binds, and searches for a name that nobody has.
pub(super) async fn test(
    settings: &LdapSettings,
    secret: Option<&str>,
    steps: &mut Vec<String>,
) -> Result<(), DirectoryError> {
    let mut ldap = connect(settings, secret).await?;
    steps.push(format!("Connected to {} over TLS", settings.address));
    if !settings.bind_name.is_empty() {
        steps.push(format!("Bound as {}", settings.bind_name));
    }
    let nobody = dn_escape("nobody-of-this-name");
    let filter = settings.filter.replace("{name}", &nobody);
    let options = SearchOptions::new().sizelimit(2).timelimit(10);
    let searched = ldap.with_search_options(options).with_timeout(ANSWER_TIMEOUT);
    let searched = searched.search(&settings.base, Scope::Subtree, &filter, vec!["1.1"]).await;
    let ldap3::SearchResult(_, result) = searched.map_err(|e| unreachable(&e))?;
    if result.rc != 0 {
        return Err(DirectoryError::Refused(in_words_of(&result)));
    }
    steps.push(format!("Searched below {}", settings.base));
    if let LdapGroups::Search { base, .. } = &settings.groups {
        let options = SearchOptions::new().sizelimit(1).timelimit(10);
        let searched = ldap.with_search_options(options).with_timeout(ANSWER_TIMEOUT);
        let searched = searched.search(base, Scope::Base, "(objectClass=*)", vec!["1.1"]).await;
        let ldap3::SearchResult(_, result) = searched.map_err(|e| unreachable(&e))?;
        if result.rc != 0 {
            return Err(DirectoryError::Refused(in_words_of(&result)));
        }
        steps.push(format!("Found the groups' base {base}"));
    }
    let _ = ldap.unbind().await;
    Ok(())
}
