//! The OpenID Connect client: discovery, the redirect with PKCE, the code exchange, and validation of tokens.
//! Signatures are verified by the `openidconnect` library; which algorithms, times and claims are accepted is decided
//! here.

use std::str::FromStr;
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use gubernum_core::directory::{LONGEST_GROUP, MOST_GROUPS, OpenidSettings};
use openidconnect::core::{
    CoreAuthenticationFlow, CoreClient, CoreIdToken, CoreIdTokenVerifier, CoreJwsSigningAlgorithm,
};
use openidconnect::{
    AuthorizationCode, ClientId, ClientSecret, CsrfToken, IssuerUrl, LogoutRequest, Nonce,
    OAuth2TokenResponse, PkceCodeChallenge, PkceCodeVerifier, PostLogoutRedirectUrl,
    ProviderMetadataWithLogout, RedirectUrl, RefreshToken, Scope, TokenResponse,
};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use tokio::time::Instant;

use super::error::{DirectoryError, in_words};
use super::fetch::{client, fetch};
use super::{Directories, Person, SetUp};
use gubernum_api::directories::DirectorySettings;
use gubernum_core::directory::DirectoryKind;

/// How long a provider's discovery document and keys are cached.
const DESCRIPTION_LIFETIME: Duration = Duration::from_secs(600);
/// How far the provider's clock may be ahead, and how old a token may be that has just been made, in seconds.
const CLOCK_AHEAD: i64 = 60;
const FRESH: i64 = 600;
/// The longest time that a browser may spend at the provider.
const SIGN_IN_SECONDS: i64 = 600;
/// The event that a logout token must carry (OpenID Connect Back-Channel Logout 1.0, 2.4).
const LOGOUT_EVENT: &str = "http://schemas.openid.net/event/backchannel-logout";

/// Signatures by the provider's own key only: with a client's secret (HS256) or none at all, whoever knows the secret, or anybody, could
/// make a token.
const ALGORITHMS: [CoreJwsSigningAlgorithm; 9] = [
    CoreJwsSigningAlgorithm::RsaSsaPkcs1V15Sha256,
    CoreJwsSigningAlgorithm::RsaSsaPkcs1V15Sha384,
    CoreJwsSigningAlgorithm::RsaSsaPkcs1V15Sha512,
    CoreJwsSigningAlgorithm::RsaSsaPssSha256,
    CoreJwsSigningAlgorithm::RsaSsaPssSha384,
    CoreJwsSigningAlgorithm::RsaSsaPssSha512,
    CoreJwsSigningAlgorithm::EcdsaP256Sha256,
    CoreJwsSigningAlgorithm::EcdsaP384Sha384,
    CoreJwsSigningAlgorithm::EdDsa,
];

/// What a provider says of itself.
pub(super) struct Provider {
    metadata: ProviderMetadataWithLogout,
    read: Instant,
}

/// The tokens that a provider gave for a member.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Tokens {
    access: String,
    refresh: Option<String>,
    /// The provider's identity token, shown to it again when the member signs out.
    #[serde(skip)]
    pub(crate) id_token: String,
    /// The session there.
    #[serde(skip)]
    pub(crate) session: Option<String>,
    /// Whether groups are in what is asked for with the access token, so that they can be asked for again.
    groups_are_told: bool,
}

/// The provider's answer to a code.
pub(crate) struct Answer {
    pub(crate) person: Person,
    pub(crate) tokens: Tokens,
}

/// Whom a provider signed out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct LogoutClaims {
    pub(crate) subject: Option<String>,
    pub(crate) session: Option<String>,
}

fn unacceptable(why: impl Into<String>) -> DirectoryError {
    DirectoryError::Unacceptable(why.into())
}

async fn discover(settings: &OpenidSettings) -> Result<ProviderMetadataWithLogout, DirectoryError> {
    let http = client(settings)?;
    let issuer =
        IssuerUrl::new(settings.issuer.clone()).map_err(|e| DirectoryError::Settings(in_words(&e)))?;
    let get = |request| fetch(http.clone(), request);
    ProviderMetadataWithLogout::discover_async(issuer, &get)
        .await
        .map_err(|e| DirectoryError::Unreachable(in_words(&e)))
}

/// Tries the settings.
pub(super) async fn test(settings: &OpenidSettings, steps: &mut Vec<String>) -> Result<(), DirectoryError> {
    let metadata = discover(settings).await?;
    steps.push(format!("Read the description of {}", settings.issuer));
    steps.push(format!("Read {} of its keys", metadata.jwks().keys().len()));
    if metadata.token_endpoint().is_none() {
        return Err(unacceptable("the provider names no token endpoint"));
    }
    steps.push(format!("Members sign in at {}", metadata.authorization_endpoint().as_str()));
    Ok(())
}

/// The claims of a token whose signature was verified.
fn claims_of(token: &str) -> Result<Map<String, Value>, DirectoryError> {
    let payload = token.split('.').nth(1).unwrap_or_default();
    let bytes = URL_SAFE_NO_PAD.decode(payload).map_err(|_| unacceptable("the token cannot be read"))?;
    serde_json::from_slice(&bytes).map_err(|_| unacceptable("the token cannot be read"))
}

fn text<'a>(claims: &'a Map<String, Value>, name: &str) -> Option<&'a str> {
    claims.get(name).and_then(Value::as_str).filter(|text| !text.is_empty())
}

/// The groups of a claim: a list of names, or one name.
fn groups_of(claims: &Map<String, Value>, name: &str) -> Option<Vec<String>> {
    let fits = |group: &&str| !group.is_empty() && group.chars().count() <= LONGEST_GROUP;
    match claims.get(name)? {
        Value::String(one) => {
            Some(Some(one.as_str()).filter(|g| fits(g)).map(str::to_owned).into_iter().collect())
        }
        Value::Array(all) => {
            let names = all.iter().filter_map(Value::as_str).filter(fits).map(str::to_owned);
            Some(names.take(MOST_GROUPS).collect())
        }
        _ => None,
    }
}

/// Whether a token was made at a time that makes sense.
fn is_fresh(made: i64, now: i64) -> Result<(), String> {
    if made > now + CLOCK_AHEAD {
        return Err("the token is from the future; check the clocks".to_owned());
    }
    if made < now - FRESH {
        return Err("the token is too old; check the clocks".to_owned());
    }
    Ok(())
}

impl Directories {
    fn openid(&self) -> Result<(SetUp, OpenidSettings), DirectoryError> {
        let set_up = self.get(DirectoryKind::Openid);
        match set_up.map(|s| (s.kept.settings.clone(), s)) {
            Some((DirectorySettings::Openid(settings), set_up)) => Ok((set_up, settings)),
            _ => Err(DirectoryError::Settings("OpenID Connect is not configured".to_owned())),
        }
    }

    async fn metadata(&self, afresh: bool) -> Result<ProviderMetadataWithLogout, DirectoryError> {
        let (_, settings) = self.openid()?;
        let known = self.provider.lock().clone();
        if let Some(known) = known.filter(|p| !afresh && p.read.elapsed() < DESCRIPTION_LIFETIME) {
            return Ok(known.metadata.clone());
        }
        let metadata = discover(&settings).await;
        self.note(DirectoryKind::Openid, metadata.as_ref().map(|_| ()));
        let metadata = metadata?;
        let provider = Provider { metadata: metadata.clone(), read: Instant::now() };
        *self.provider.lock() = Some(std::sync::Arc::new(provider));
        Ok(metadata)
    }

    /// Where a browser goes to sign in, and what must be known when it comes back.
    ///
    /// # Errors
    /// When the provider cannot be asked.
    pub(crate) async fn openid_begin(&self) -> Result<(String, super::Begun), DirectoryError> {
        let (set_up, settings) = self.openid()?;
        let metadata = self.metadata(false).await?;
        let back =
            RedirectUrl::new(settings.callback()).map_err(|e| DirectoryError::Settings(in_words(&e)))?;
        let client = CoreClient::from_provider_metadata(
            metadata,
            ClientId::new(settings.client_id.clone()),
            set_up.secret.map(ClientSecret::new),
        )
        .set_redirect_uri(back);
        let (challenge, verifier) = PkceCodeChallenge::new_random_sha256();
        let (address, state, nonce) = client
            .authorize_url(
                CoreAuthenticationFlow::AuthorizationCode,
                CsrfToken::new_random,
                Nonce::new_random,
            )
            .add_scopes(settings.scopes.iter().cloned().map(Scope::new))
            .set_pkce_challenge(challenge)
            .url();
        let begun = super::Begun {
            state: state.secret().to_owned(),
            nonce: nonce.secret().to_owned(),
            verifier: verifier.secret().to_owned(),
            until: self.clock.now().as_second() + SIGN_IN_SECONDS,
        };
        Ok((String::from(address), begun))
    }

    /// Exchanges the code that a browser came back with, verifies what the provider says, and reads who it is.
    ///
    /// # Errors
    /// When the provider cannot be asked, refuses the code, or its tokens do not hold.
    pub(crate) async fn openid_exchange(
        &self,
        code: String,
        begun: super::Begun,
    ) -> Result<Answer, DirectoryError> {
        let (set_up, settings) = self.openid()?;
        let metadata = self.metadata(false).await?;
        let http = client(&settings)?;
        let get = |request| fetch(http.clone(), request);
        let back =
            RedirectUrl::new(settings.callback()).map_err(|e| DirectoryError::Settings(in_words(&e)))?;
        let oauth = CoreClient::from_provider_metadata(
            metadata,
            ClientId::new(settings.client_id.clone()),
            set_up.secret.map(ClientSecret::new),
        )
        .set_redirect_uri(back);
        let exchange = oauth
            .exchange_code(AuthorizationCode::new(code))
            .map_err(|e| DirectoryError::Settings(in_words(&e)))?;
        let answer = exchange
            .set_pkce_verifier(PkceCodeVerifier::new(begun.verifier))
            .request_async(&get)
            .await
            .map_err(|e| DirectoryError::Refused(in_words(&e)))?;
        let id_token = answer.id_token().ok_or_else(|| unacceptable("it returned no ID token"))?;
        let id_token = id_token.to_string();
        let nonce = Nonce::new(begun.nonce);
        self.verify(&id_token, |given: Option<&Nonce>| match given {
            Some(given) if given.secret() == nonce.secret() => Ok(()),
            _ => Err("the nonce does not match".to_owned()),
        })
        .await?;
        let mut claims = claims_of(&id_token)?;
        let subject =
            text(&claims, "sub").ok_or_else(|| unacceptable("the token has no subject"))?.to_owned();
        let access = answer.access_token().secret().clone();
        let told = self.user_info(&settings, &access, &subject).await?.unwrap_or_default();
        let groups_are_told = told.contains_key(&settings.groups_claim);
        let session = text(&claims, "sid").map(str::to_owned);
        claims.extend(told);
        let name = text(&claims, &settings.name_claim).ok_or_else(|| {
            unacceptable(format!("the claim '{}' for the name is missing", settings.name_claim))
        })?;
        let groups = groups_of(&claims, &settings.groups_claim).unwrap_or_default();
        let refresh = answer.refresh_token().map(|token| token.secret().clone());
        let tokens = Tokens { access, refresh, id_token, session, groups_are_told };
        Ok(Answer { person: Person { subject, name: name.to_owned(), groups }, tokens })
    }

    /// Verifies issuer, audience, signature, algorithm and times of an identity or logout token, and lets `nonce` judge its nonce. Keys that are
    /// not known are asked for once more.
    async fn verify(
        &self,
        token: &str,
        nonce: impl Fn(Option<&Nonce>) -> Result<(), String> + Clone,
    ) -> Result<(), DirectoryError> {
        let parsed = CoreIdToken::from_str(token).map_err(|_| unacceptable("the token cannot be read"))?;
        let (_, settings) = self.openid()?;
        let now = self.clock.now().as_second();
        let mut last = None;
        for afresh in [false, true] {
            let metadata = self.metadata(afresh).await?;
            let verifier = CoreIdTokenVerifier::new_public_client(
                ClientId::new(settings.client_id.clone()),
                metadata.issuer().clone(),
                metadata.jwks().clone(),
            )
            .set_allowed_algs(ALGORITHMS)
            .allow_all_jose_types()
            .set_issue_time_verifier_fn(move |made| is_fresh(made.timestamp(), now));
            match parsed.claims(&verifier, nonce.clone()) {
                Ok(_) => return Ok(()),
                Err(error) => last = Some(error),
            }
            // Another key may have come; nothing else mends by asking again.
            let keys = "signature";
            if !last.as_ref().is_some_and(|e| in_words(e).to_lowercase().contains(keys)) {
                break;
            }
        }
        Err(unacceptable(last.map(|e| in_words(&e)).unwrap_or_default()))
    }

    /// What the provider reports about a member for an access token; `None` when the token is no longer valid, or nothing is reported.
    async fn user_info(
        &self,
        settings: &OpenidSettings,
        access: &str,
        subject: &str,
    ) -> Result<Option<Map<String, Value>>, DirectoryError> {
        let metadata = self.metadata(false).await?;
        let Some(address) = metadata.userinfo_endpoint() else { return Ok(None) };
        let request = http::Request::builder()
            .uri(address.as_str())
            .header(http::header::AUTHORIZATION, format!("Bearer {access}"))
            .header(http::header::ACCEPT, "application/json")
            .body(Vec::new())
            .map_err(|e| DirectoryError::Settings(in_words(&e)))?;
        let answer = fetch(client(settings)?, request).await?;
        if answer.status().as_u16() == 401 {
            return Ok(None);
        }
        if !answer.status().is_success() {
            return Err(DirectoryError::Unreachable(format!("its userinfo answers {}", answer.status())));
        }
        let told: Map<String, Value> = serde_json::from_slice(answer.body())
            .map_err(|_| unacceptable("userinfo is not JSON; signed userinfo is not supported"))?;
        if text(&told, "sub") != Some(subject) {
            return Err(unacceptable("userinfo has another subject"));
        }
        Ok(Some(told))
    }

    /// The groups that a member is in now, with the tokens when they were renewed. `None` when the provider says that they are signed out.
    /// Groups that it tells at sign-in only stay as they were.
    pub(super) async fn openid_groups(
        &self,
        subject: &str,
        tokens: Tokens,
    ) -> Result<Option<(Option<Vec<String>>, Tokens)>, DirectoryError> {
        let (set_up, settings) = self.openid()?;
        if let Some(told) = self.user_info(&settings, &tokens.access, subject).await? {
            let groups = groups_of(&told, &settings.groups_claim);
            let groups = if tokens.groups_are_told { Some(groups.unwrap_or_default()) } else { groups };
            return Ok(Some((groups, tokens)));
        }
        let Some(refresh) = tokens.refresh.clone() else { return Ok(None) };
        let http = client(&settings)?;
        let get = |request| fetch(http.clone(), request);
        let oauth = CoreClient::from_provider_metadata(
            self.metadata(false).await?,
            ClientId::new(settings.client_id.clone()),
            set_up.secret.map(ClientSecret::new),
        );
        let token = RefreshToken::new(refresh.clone());
        let exchange =
            oauth.exchange_refresh_token(&token).map_err(|e| DirectoryError::Settings(in_words(&e)))?;
        let answer = match exchange.request_async(&get).await {
            Ok(answer) => answer,
            Err(openidconnect::RequestTokenError::ServerResponse(_)) => return Ok(None),
            Err(error) => return Err(DirectoryError::Unreachable(in_words(&error))),
        };
        let renewed = Tokens {
            access: answer.access_token().secret().clone(),
            refresh: answer.refresh_token().map(|t| t.secret().clone()).or(Some(refresh)),
            ..tokens
        };
        match self.user_info(&settings, &renewed.access, subject).await? {
            Some(told) => {
                let groups = groups_of(&told, &settings.groups_claim);
                let groups = if renewed.groups_are_told { Some(groups.unwrap_or_default()) } else { groups };
                Ok(Some((groups, renewed)))
            }
            None => Ok(None),
        }
    }

    /// Whom a provider signed out, from the token that it sent (OpenID Connect Back-Channel Logout 1.0).
    ///
    /// # Errors
    /// When the token does not hold, or came before.
    pub(crate) async fn openid_logout(&self, token: &str) -> Result<LogoutClaims, DirectoryError> {
        self.verify(token, |nonce: Option<&Nonce>| match nonce {
            None => Ok(()),
            Some(_) => Err("the logout token must not have a nonce".to_owned()),
        })
        .await?;
        let claims = claims_of(token)?;
        let is_logout =
            claims.get("events").and_then(|events| events.get(LOGOUT_EVENT)).is_some_and(Value::is_object);
        if !is_logout {
            return Err(unacceptable("the token is not a logout token"));
        }
        let id = text(&claims, "jti").ok_or_else(|| unacceptable("the token has no id"))?.to_owned();
        let (subject, session) = (text(&claims, "sub"), text(&claims, "sid"));
        if subject.is_none() && session.is_none() {
            return Err(unacceptable("the token has no subject"));
        }
        let found = LogoutClaims { subject: subject.map(str::to_owned), session: session.map(str::to_owned) };
        if self.logouts.get(&id).is_some() {
            return Err(unacceptable("the token was used before"));
        }
        self.logouts.insert(id, ());
        Ok(found)
    }

    /// Where a browser goes to sign out at the provider too; `None` when it offers no such address.
    ///
    /// # Errors
    /// When the provider cannot be asked.
    pub(crate) async fn openid_end(&self, id_token: &str) -> Result<Option<String>, DirectoryError> {
        let (_, settings) = self.openid()?;
        let metadata = self.metadata(false).await?;
        let Some(end) = metadata.additional_metadata().end_session_endpoint.clone() else { return Ok(None) };
        let back = format!("{}/", settings.service_address.trim_end_matches('/'));
        let back = PostLogoutRedirectUrl::new(back).map_err(|e| DirectoryError::Settings(in_words(&e)))?;
        let token = CoreIdToken::from_str(id_token).map_err(|_| unacceptable("the token cannot be read"))?;
        let request = LogoutRequest::from(end)
            .set_id_token_hint(&token)
            .set_client_id(ClientId::new(settings.client_id.clone()))
            .set_post_logout_redirect_uri(back);
        Ok(Some(request.http_get_url().to_string()))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    #[rstest]
    #[case(json!({"groups": ["harvest", "night"]}), Some(vec!["harvest", "night"]))]
    #[case(json!({"groups": "harvest"}), Some(vec!["harvest"]))]
    #[case(json!({"groups": []}), Some(vec![]))]
    #[case(json!({"groups": ["", 7, "night"]}), Some(vec!["night"]))]
    #[case(json!({"groups": {"admin": true}}), None)]
    #[case(json!({}), None)]
    fn groups_are_read_from_a_claim(#[case] claims: Value, #[case] expected: Option<Vec<&str>>) {
        let found = groups_of(claims.as_object().unwrap(), "groups");
        assert_eq!(found, expected.map(|all| all.into_iter().map(str::to_owned).collect()));
    }

    #[rstest]
    #[case(0, true)]
    #[case(60, true)]
    #[case(61, false)]
    #[case(-600, true)]
    #[case(-601, false)]
    fn a_token_is_of_now(#[case] off: i64, #[case] good: bool) {
        assert_eq!(is_fresh(1_800_000_000 + off, 1_800_000_000).is_ok(), good);
    }
}
