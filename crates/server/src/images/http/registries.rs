//! Registries and their images, through the OCI distribution API.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use futures_util::StreamExt;
use gubernum_api::Problem;
use gubernum_api::images::{FoundImage, NewRegistry, Registry, TagList};
use gubernum_core::image_name::{ImageName, USUAL_REGISTRY};
use gubernum_store::Store;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::access::Identity;
use crate::fleet::View;
use crate::images::ImagesContext;
use crate::images::registry::{Registry as RegistryClient, RegistryError};
use crate::web::extract::{Body, Params};
use crate::web::problem::ApiError;

/// The most registries that are kept.
const MOST_REGISTRIES: usize = 200;
/// Tags that are looked at unless more are asked for, and at most.
const USUAL_TAGS: usize = 25;
pub(crate) const MOST_TAGS: usize = 200;
/// How many tags are looked at at once.
const TAGS_AT_ONCE: usize = 6;
/// The longest text that is searched for.
pub(crate) const LONGEST_SEARCH: usize = 200;
pub(crate) const LONGEST_ADDRESS: usize = 255;
pub(crate) const LONGEST_ACCOUNT: usize = 255;
pub(crate) const LONGEST_SECRET: usize = 16 * 1024;
pub(crate) const LONGEST_CERTIFICATE: usize = 64 * 1024;
/// The most results of a search.
const MOST_FOUND: usize = 100;

impl From<RegistryError> for ApiError {
    fn from(error: RegistryError) -> Self {
        let detail = error.to_string();
        match error {
            RegistryError::Missing { .. } => Self::not_found(detail),
            RegistryError::Denied(_) => Self::new("registry-denied", "The registry refused", 422, detail),
            RegistryError::Certificate(_) => Self::invalid("/ca", detail),
            RegistryError::Delicate(_) => Self::invalid("/address", detail),
            RegistryError::Busy(_, wait) => {
                let mut e = Self::new("registry-busy", "Rate limit reached", 429, detail);
                e.retry_after = wait;
                e
            }
            // It was the caller who named the registry.
            _ => Self::new("registry-unreachable", "The registry failed", 422, detail),
        }
    }
}

/// Configured registries, by address.
#[utoipa::path(get, path = "/api/v1/registries", tag = "registries", responses(
    (status = 200, body = Vec<Registry>),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(context): State<Arc<ImagesContext>>,
    _who: Identity,
) -> Result<Json<Vec<Registry>>, ApiError> {
    let all = context.db.run(Store::registries).await?;
    Ok(Json(all.into_iter().map(|r| r.shown).collect()))
}

/// Configures a registry; replaces the one at its address. Tests it first: a refused account is not saved. A secret
/// or certificate that is left out is kept.
#[utoipa::path(put, path = "/api/v1/registries", tag = "registries", request_body = NewRegistry, responses(
    (status = 200, body = Registry),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn set(
    State(context): State<Arc<ImagesContext>>,
    who: Identity,
    Body(new): Body<NewRegistry>,
) -> Result<Json<Registry>, ApiError> {
    let new = completed(&context, checked(new)?).await?;
    RegistryClient::new(&new, context.allow_link_local)?.test().await?;
    let known = context.db.run(Store::registries).await?;
    if known.len() >= MOST_REGISTRIES && !known.iter().any(|r| r.shown.address == new.address) {
        let text = format!("the limit of {MOST_REGISTRIES} registries is reached; remove one first");
        return Err(ApiError::invalid("/address", text));
    }
    let now = context.clock.now();
    let address = new.address.clone();
    let all = context
        .db
        .run(move |store| {
            store.set_registry(&new, &who.member, now)?;
            store.audit(who.entry("set-registry", &new.address, "succeeded"), now)?;
            store.registries()
        })
        .await?;
    context.registries.forget_all();
    let set = all.into_iter().find(|r| r.shown.address == address);
    set.map(|r| Json(r.shown)).ok_or_else(|| ApiError::not_found("the registry was removed meanwhile"))
}

/// Tests a registry without saving it.
#[utoipa::path(post, path = "/api/v1/registries/test", tag = "registries", request_body = NewRegistry, responses(
    (status = 204),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn test(
    State(context): State<Arc<ImagesContext>>,
    who: Identity,
    Body(new): Body<NewRegistry>,
) -> Result<StatusCode, ApiError> {
    let new = completed(&context, checked(new)?).await?;
    let tested = match RegistryClient::new(&new, context.allow_link_local) {
        Ok(registry) => registry.test().await,
        Err(error) => Err(error),
    };
    let outcome = tested.as_ref().map_or_else(ToString::to_string, |()| "succeeded".to_owned());
    context.audit.record(&who, "test-registry", new.address, outcome).await?;
    tested?;
    Ok(StatusCode::NO_CONTENT)
}

/// Removes a registry and its account. Images stay.
#[utoipa::path(delete, path = "/api/v1/registries/{address}", tag = "registries",
    params(("address" = String, Path)), responses(
    (status = 204),
    (status = "4XX", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(context): State<Arc<ImagesContext>>,
    who: Identity,
    Path(address): Path<String>,
) -> Result<StatusCode, ApiError> {
    let now = context.clock.now();
    let unknown = ApiError::not_found(format!("the registry '{address}' is not configured"));
    let gone = context
        .db
        .run(move |store| {
            let gone = store.remove_registry(&address)?;
            if gone {
                store.audit(who.entry("remove-registry", &address, "succeeded"), now)?;
            }
            Ok(gone)
        })
        .await?;
    context.registries.forget_all();
    if gone { Ok(StatusCode::NO_CONTENT) } else { Err(unknown) }
}

fn checked(mut new: NewRegistry) -> Result<NewRegistry, ApiError> {
    let address = new.address.trim().trim_end_matches('/').to_owned();
    if let Some((scheme, rest)) = address.split_once("://") {
        let text = format!("leave out '{scheme}://' and write '{rest}'; plain HTTP is a separate setting");
        return Err(ApiError::invalid("/address", text));
    }
    let fine = !address.is_empty()
        && address.len() <= LONGEST_ADDRESS
        && address.bytes().all(|b| b.is_ascii_alphanumeric() || b".-:[]_".contains(&b));
    if !fine {
        let text = "the address is a host name, with ':' and a port if needed, for example 'registry.tarnvalley.example:5000'";
        return Err(ApiError::invalid("/address", text));
    }
    new.address = address;
    if new.account.as_deref().is_some_and(|a| a.contains(':') || a.len() > LONGEST_ACCOUNT) {
        return Err(ApiError::invalid("/account", "an account name has no ':' and at most 255 characters"));
    }
    if new.secret.as_deref().is_some_and(|s| s.len() > LONGEST_SECRET) {
        return Err(ApiError::invalid("/secret", "the secret is longer than 16 KiB"));
    }
    if new.ca.as_deref().is_some_and(|s| s.len() > LONGEST_CERTIFICATE) {
        return Err(ApiError::invalid("/ca", "the certificate is longer than 64 KiB"));
    }
    if new.plain_http && new.ca.is_some() {
        return Err(ApiError::invalid("/plain_http", "plain HTTP has no certificate; choose one of the two"));
    }
    Ok(new)
}

/// Fills in the secret that is kept already, as long as it goes to the same account.
async fn completed(context: &ImagesContext, mut new: NewRegistry) -> Result<NewRegistry, ApiError> {
    let known = context.db.run(Store::registries).await?;
    if let Some(known) = known.into_iter().find(|r| r.shown.address == new.address) {
        if new.secret.is_none() && new.account == known.shown.account {
            new.secret = known.secret;
        }
        if new.ca.is_none() && !new.plain_http {
            new.ca = known.ca;
        }
    }
    if new.account.is_some() && new.secret.is_none() {
        return Err(ApiError::invalid("/secret", "an account needs its secret: a password or a token"));
    }
    Ok(new)
}

/// Which tags are wanted.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct WantedTags {
    /// Image, with or without a tag.
    image: String,
    /// Only tags that contain this text.
    text: Option<String>,
    /// Maximum number of tags with details; 25 when absent, at most 200.
    limit: Option<usize>,
}

/// Tags of an image at its registry, newest first, with age, size and platforms.
#[utoipa::path(get, path = "/api/v1/registry-tags", tag = "registries", params(WantedTags), responses(
    (status = 200, body = TagList),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn tags(
    State(context): State<Arc<ImagesContext>>,
    _who: Identity,
    Params(wish): Params<WantedTags>,
) -> Result<Json<TagList>, ApiError> {
    let name: ImageName = wish.image.parse().map_err(|e| ApiError::invalid("?image", format!("{e}")))?;
    let most = wish.limit.unwrap_or(USUAL_TAGS);
    if !(1..=MOST_TAGS).contains(&most) {
        return Err(ApiError::invalid("?limit", format!("'limit' must be from 1 to {MOST_TAGS}")));
    }
    let registry = context.registries.open(&name.registry).await?;
    let mut all = registry.tags(&name.repository).await?;
    if let Some(text) = &wish.text {
        all.retain(|t| t.contains(text.as_str()));
    }
    let total = all.len();
    all.sort_by(|a, b| newest_name_first(a, b));
    all.truncate(most);
    let (registry, repository) = (&registry, name.repository.as_str());
    let mut tags: Vec<_> = futures_util::stream::iter(all)
        .map(|tag| async move { registry.tag(repository, &tag).await })
        .buffered(TAGS_AT_ONCE)
        .collect()
        .await;
    tags.sort_by(|a, b| b.created.cmp(&a.created).then_with(|| newest_name_first(&a.tag, &b.tag)));
    Ok(Json(TagList { repository: name.base(), total, tags }))
}

/// `latest` first, then by the numbers in the names, the highest first.
fn newest_name_first(a: &str, b: &str) -> std::cmp::Ordering {
    let key = |t: &str| -> Vec<u64> {
        t.split(|c: char| !c.is_ascii_digit()).filter_map(|n| n.parse().ok()).collect()
    };
    (b == "latest").cmp(&(a == "latest")).then_with(|| key(b).cmp(&key(a))).then_with(|| a.cmp(b))
}

/// What is searched for.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct WantedImages {
    /// Part of the name.
    text: String,
}

/// Searches images by name, on the hosts and at configured registries that support listing.
#[utoipa::path(get, path = "/api/v1/image-search", tag = "registries", params(WantedImages), responses(
    (status = 200, body = Vec<FoundImage>),
    (status = "default", body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn search(
    State(context): State<Arc<ImagesContext>>,
    view: View,
    Params(wish): Params<WantedImages>,
) -> Result<Json<Vec<FoundImage>>, ApiError> {
    let text = wish.text.trim().to_lowercase();
    if text.is_empty() || text.len() > LONGEST_SEARCH {
        return Err(ApiError::invalid("?text", "give a part of the name, up to 200 characters"));
    }
    let mut found: BTreeMap<String, FoundImage> = BTreeMap::new();
    view.look(|fleet| {
        for host in fleet.hosts() {
            let images = fleet.assets_of(&host.name).map_or(&[][..], |a| &a.images);
            for tag in images.iter().flat_map(|i| &i.tags) {
                let Ok(name) = tag.parse::<ImageName>() else { continue };
                let base = name.base();
                if !base.to_lowercase().contains(&text) {
                    continue;
                }
                let entry = found.entry(base.clone()).or_insert_with(|| FoundImage {
                    name: base,
                    description: String::new(),
                    hosts: Vec::new(),
                });
                if entry.hosts.last() != Some(&host.name) {
                    entry.hosts.push(host.name.clone());
                }
            }
        }
    });
    let set = context.db.run(Store::registries).await?;
    let catalogues = set.into_iter().filter(|r| r.shown.address != USUAL_REGISTRY).map(|r| {
        let (context, address) = (context.clone(), r.shown.address);
        async move {
            let asked = context.registries.open(&address).await;
            let names = match asked {
                Ok(registry) => registry.catalogue().await.unwrap_or_default(),
                Err(_) => Vec::new(),
            };
            names.into_iter().map(|n| format!("{address}/{n}")).collect::<Vec<_>>()
        }
    });
    // A registry that has no catalogue, or does not answer, has nothing to add.
    for name in futures_util::future::join_all(catalogues).await.into_iter().flatten() {
        if name.to_lowercase().contains(&text) {
            found.entry(name.clone()).or_insert_with(|| FoundImage {
                name,
                description: String::new(),
                hosts: Vec::new(),
            });
        }
    }
    let mut found: Vec<FoundImage> = found.into_values().collect();
    found.sort_by_key(|f| (!f.name.to_lowercase().ends_with(&text), f.hosts.is_empty(), f.name.len()));
    found.truncate(MOST_FOUND);
    Ok(Json(found))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tags_are_in_the_order_of_their_numbers() {
        let mut tags = vec!["1.9", "1.10", "latest", "1.10-rc2", "edge"];
        tags.sort_by(|a, b| newest_name_first(a, b));
        assert_eq!(tags, ["latest", "1.10-rc2", "1.10", "1.9", "edge"]);
    }

    #[test]
    fn addresses_are_checked() {
        let new = |address: &str| NewRegistry {
            address: address.into(),
            account: None,
            secret: None,
            ca: None,
            plain_http: false,
        };
        assert_eq!(checked(new(" r.example:5000/ ")).unwrap().address, "r.example:5000");
        let error = checked(new("http://r.example")).unwrap_err();
        assert!(error.problem.detail.contains("write 'r.example'"), "{}", error.problem.detail);
        assert!(checked(new("r.example/some/path")).is_err());
        assert!(checked(new("")).is_err());
    }
}
