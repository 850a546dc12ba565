//! Signing in through real directories: an LDAP server and a provider of OpenID Connect. Groups change, rights follow at the next request;
//! what is wrong is refused alike.

use std::time::Duration;

use gubernum_api::Problem;
use gubernum_api::directories::{
    DirectoryKind, DirectorySettings, FinishOpenid, GroupGrant, LdapGroups, LdapSettings, OpenidSettings,
    SetDirectory,
};
use gubernum_api::members::{Grant, Right, SetMember};
use gubernum_api::requests::{NewToken, SignIn};
use gubernum_api::views::Me;
use gubernum_client::{Client, ClientError, Trust};
use gubernum_testbed::ldap::{self, GROUPS, LdapPeer, PEOPLE};
use gubernum_testbed::openid::{self, OpenidPeer};
use reqwest::header::{COOKIE, LOCATION, SET_COOKIE};
use reqwest::{Method, StatusCode};
use rstest::rstest;

use crate::support::{Bench, PASSWORD, until};

fn line(group: &str, grant: &str) -> GroupGrant {
    let (role, scope) = grant.split_once('@').unwrap();
    GroupGrant { group: group.to_owned(), role: role.to_owned(), scope: scope.parse().unwrap() }
}

fn ldap_directory(peer: &LdapPeer, recheck_seconds: u32) -> SetDirectory {
    let groups = LdapGroups::Search {
        base: GROUPS.to_owned(),
        filter: "(&(objectClass=groupOfNames)(member={dn}))".to_owned(),
        name: "cn".to_owned(),
    };
    SetDirectory {
        settings: DirectorySettings::Ldap(LdapSettings {
            address: peer.address(),
            bind_name: ldap::SERVICE.0.to_owned(),
            base: PEOPLE.to_owned(),
            filter: "(uid={name})".to_owned(),
            name_attribute: "uid".to_owned(),
            groups,
            ca: Some(peer.ca().to_owned()),
        }),
        mapping: vec![line("harvest", "viewer@fleet"), line("night", "operator@host:packhouse")],
        recheck_seconds,
        secret: Some(ldap::SERVICE.1.to_owned()),
    }
}

fn anonymous(bench: &Bench) -> Client {
    Client::new(&bench.service.url(), None, Trust::System).unwrap()
}

async fn sign_in(bench: &Bench, member: &str, password: &str) -> Result<Client, ClientError> {
    let wish = SignIn { member: member.to_owned(), password: password.to_owned(), code: None };
    anonymous(bench).sign_in(&wish).await
}

fn problem<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Problem {
    match result {
        Err(ClientError::Problem(problem)) => *problem,
        other => panic!("a problem was expected: {other:?}"),
    }
}

async fn refused(bench: &Bench, member: &str, password: &str) -> Problem {
    match sign_in(bench, member, password).await {
        Err(ClientError::Problem(problem)) => *problem,
        Err(other) => panic!("a problem was expected: {other:?}"),
        Ok(_) => panic!("{member} must not get in"),
    }
}

async fn may(client: &Client) -> Vec<Right> {
    client.own_rights().await.unwrap().somewhere
}

#[rstest]
#[case::start_tls(false)]
#[case::private_from_the_first_byte(true)]
#[tokio::test]
async fn members_of_an_ldap_directory_sign_in_and_their_groups_are_their_rights(#[case] private: bool) {
    let bench = Bench::with(&["packhouse"]).await;
    let peer = LdapPeer::start(&["tess", "wim"]).unwrap();
    peer.set_group("harvest", &["tess"]).await.unwrap();
    let mut directory = ldap_directory(&peer, 0);
    if let (true, DirectorySettings::Ldap(settings)) = (private, &mut directory.settings) {
        settings.address = peer.private_address();
    }
    let test = bench.client.test_directory(&directory).await.unwrap();
    assert_eq!((test.failure, test.steps.len()), (None, 4));
    bench.client.set_directory(&directory).await.unwrap();

    let tess = sign_in(&bench, "tess", ldap::PASSWORD).await.unwrap();
    assert_eq!(may(&tess).await, [Right::See, Right::ReadLogs]);
    assert_eq!(tess.containers(&[]).await.unwrap().len(), 3);
    let member = bench.client.members().await.unwrap().into_iter().find(|m| m.name == "tess").unwrap();
    assert_eq!(member.directory, Some(DirectoryKind::Ldap));
    let rights = tess.own_rights().await.unwrap().rights;
    assert_eq!(rights[0].by[0].from, "group:harvest", "where a right comes from is told");

    // Groups change; the next request has other rights.
    peer.set_group("night", &["tess"]).await.unwrap();
    assert!(may(&tess).await.contains(&Right::Deploy));
    peer.set_group("night", &[]).await.unwrap();
    peer.set_group("harvest", &[]).await.unwrap();
    assert!(may(&tess).await.is_empty());
    assert_eq!(problem(tess.containers(&[]).await).status, 403);
    peer.set_group("harvest", &["tess"]).await.unwrap();
    assert_eq!(tess.containers(&[]).await.unwrap().len(), 3);

    // Gone there, gone here; a token that is left is told so each time, and the log once.
    let wish = NewToken { name: "t".into(), expires_in_days: None, bounds: None, networks: Vec::new() };
    let left = tess.make_token(&wish).await.unwrap().secret;
    let left = Client::new(&bench.service.url(), Some(left), Trust::System).unwrap();
    peer.remove("tess").await.unwrap();
    for _ in 0..3 {
        assert_eq!(problem(left.containers(&[]).await).status, 403);
    }
    assert_eq!(problem(tess.containers(&[]).await).status, 401);
    let audit = bench.client.audit().await.unwrap();
    let told = audit.iter().filter(|e| e.action == "groups-changed" && e.outcome.contains("sessions ended"));
    assert_eq!(told.count(), 1);
}

#[tokio::test]
async fn groups_may_be_attributes_of_the_person() {
    let bench = Bench::with(&[]).await;
    let peer = LdapPeer::start(&["tess"]).unwrap();
    peer.set_group("harvest", &["tess"]).await.unwrap();
    let mut directory = ldap_directory(&peer, 0);
    if let DirectorySettings::Ldap(settings) = &mut directory.settings {
        settings.groups = LdapGroups::default();
    }
    directory.mapping = vec![line(&format!("cn=harvest,{GROUPS}"), "viewer@fleet")];
    bench.client.set_directory(&directory).await.unwrap();
    let tess = sign_in(&bench, "tess", ldap::PASSWORD).await.unwrap();
    assert_eq!(may(&tess).await, [Right::See, Right::ReadLogs]);
}

/// The answer is the same word for word, whatever is wrong.
#[rstest]
#[case::a_wrong_password("tess", "damp cellar")]
#[case::no_password("tess", "")]
#[case::nobody_of_this_name("nobody", ldap::PASSWORD)]
#[case::anybody("*", ldap::PASSWORD)]
#[case::the_beginning_of_a_name("te*", ldap::PASSWORD)]
#[case::the_end_of_the_filter("tess)(objectClass=*", ldap::PASSWORD)]
#[case::another_filter("*)(uid=*))(|(uid=*", ldap::PASSWORD)]
#[case::an_escape("te\\73s", ldap::PASSWORD)]
#[case::nothing("", ldap::PASSWORD)]
#[case::in_no_group("wim", ldap::PASSWORD)]
#[tokio::test]
async fn who_is_not_let_in_learns_nothing(#[case] name: &str, #[case] password: &str) {
    let bench = Bench::with(&[]).await;
    let peer = LdapPeer::start(&["tess", "wim"]).unwrap();
    peer.set_group("harvest", &["tess"]).await.unwrap();
    let without = refused(&bench, "nobody-at-all", "damp cellar").await;
    bench.client.set_directory(&ldap_directory(&peer, 0)).await.unwrap();
    assert_eq!(refused(&bench, name, password).await, without);
    let audit = bench.client.audit().await.unwrap();
    assert!(audit[0].action == "sign-in" && audit[0].outcome.starts_with("refused"), "{:?}", audit[0]);
    assert!(bench.client.members().await.unwrap().iter().all(|m| m.name == "mara"));
}

#[tokio::test]
async fn a_local_member_stays_local_and_the_last_local_admin_stays() {
    let bench = Bench::with(&[]).await;
    let peer = LdapPeer::start(&["mara", "tess"]).unwrap();
    peer.set_group("harvest", &["mara", "tess"]).await.unwrap();
    let mut directory = ldap_directory(&peer, 0);
    directory.mapping = vec![line("harvest", "admin@fleet")];
    bench.client.set_directory(&directory).await.unwrap();
    assert_eq!(refused(&bench, "mara", ldap::PASSWORD).await.status, 401, "her password here counts");
    assert!(sign_in(&bench, "mara", PASSWORD).await.is_ok());
    let tess = sign_in(&bench, "tess", ldap::PASSWORD).await.unwrap();
    assert!(may(&tess).await.contains(&Right::Settings));
    let mara = bench.client.members().await.unwrap().into_iter().find(|m| m.name == "mara").unwrap();
    let nothing = SetMember { grants: Some(Vec::new()), ..SetMember::default() };
    assert_eq!(problem(tess.set_member(mara.id, &nothing).await).word(), "last-admin");
    // A grant made here to somebody of the directory does not count as a way in.
    let her = bench.client.members().await.unwrap().into_iter().find(|m| m.name == "tess").unwrap();
    let admin = Grant { role: "admin".into(), scope: "fleet".parse().unwrap() };
    let wish = SetMember { grants: Some(vec![admin]), ..SetMember::default() };
    bench.client.set_member(her.id, &wish).await.unwrap();
    assert_eq!(problem(tess.set_member(mara.id, &nothing).await).word(), "last-admin");
    assert_eq!(problem(bench.client.reset_member(her.id).await).status, 409, "she has no password here");
}

#[tokio::test]
async fn a_directory_that_does_not_answer_takes_nothing_away_for_an_hour() {
    let bench = Bench::with(&["packhouse"]).await;
    let mut peer = LdapPeer::start(&["tess"]).unwrap();
    peer.set_group("harvest", &["tess"]).await.unwrap();
    bench.client.set_directory(&ldap_directory(&peer, 30)).await.unwrap();
    let tess = sign_in(&bench, "tess", ldap::PASSWORD).await.unwrap();
    peer.stop();
    bench.pass(1800);
    assert_eq!(tess.containers(&[]).await.unwrap().len(), 3);
    assert!(bench.client.directories().await.unwrap()[0].failure.is_some());
    assert_eq!(refused(&bench, "tess", ldap::PASSWORD).await.status, 401);
    bench.pass(1801);
    let silent = problem(tess.containers(&[]).await);
    assert_eq!((silent.status, silent.word()), (503, "directory-silent"));
    assert!(bench.client.containers(&[]).await.is_ok(), "local members go on");
    peer.run().unwrap();
    until("the directory is asked again", Duration::from_secs(20), async || {
        tess.containers(&[]).await.is_ok()
    })
    .await;
}

#[tokio::test]
async fn a_member_of_a_directory_sets_a_second_factor_up_with_the_password_there() {
    let bench = Bench::with(&[]).await;
    let peer = LdapPeer::start(&["tess"]).unwrap();
    peer.set_group("harvest", &["tess"]).await.unwrap();
    bench.client.set_directory(&ldap_directory(&peer, 60)).await.unwrap();
    let tess = sign_in(&bench, "tess", ldap::PASSWORD).await.unwrap();
    let preferences = serde_json::json!({"second_factor_for_all": true}).to_string().into_bytes();
    let (status, told) =
        tess.raw(Method::PUT, "/api/v1/preferences", Some(preferences.clone())).await.unwrap();
    assert_eq!(status, StatusCode::FORBIDDEN);
    assert!(String::from_utf8_lossy(&told).contains("not-allowed"), "it is the right that is missing");
    let (status, text) =
        bench.client.raw(Method::PUT, "/api/v1/preferences", Some(preferences.clone())).await.unwrap();
    assert!(status.is_success(), "{}", String::from_utf8_lossy(&text));
    let (status, told) =
        tess.raw(Method::PUT, "/api/v1/preferences", Some(preferences.clone())).await.unwrap();
    assert_eq!(status, StatusCode::FORBIDDEN);
    assert!(String::from_utf8_lossy(&told).contains("second-factor-required"), "told what to do");
    let rights = tess.own_rights().await.unwrap();
    assert!(rights.needs_second_factor && rights.somewhere.is_empty(), "nothing until there is one");
    let begin = async |password: &str| {
        let body = serde_json::json!({"password": password}).to_string().into_bytes();
        tess.raw(Method::POST, "/api/v1/second-factor", Some(body)).await.unwrap().0
    };
    assert_eq!(begin("damp cellar").await, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(begin(ldap::PASSWORD).await, StatusCode::CREATED);
    let change = serde_json::json!({"current": ldap::PASSWORD, "new": PASSWORD}).to_string().into_bytes();
    let (status, _) = tess.raw(Method::POST, "/api/v1/password", Some(change)).await.unwrap();
    assert_eq!(status, StatusCode::CONFLICT);
}

#[tokio::test]
async fn settings_of_a_directory_are_checked_and_never_give_more_than_ones_own() {
    let bench = Bench::with(&[]).await;
    let peer = LdapPeer::start(&["tess"]).unwrap();
    let good = ldap_directory(&peer, 0);
    let with = |change: &dyn Fn(&mut SetDirectory)| {
        let mut wish = good.clone();
        change(&mut wish);
        wish
    };
    let field = async |wish: SetDirectory| problem(bench.client.set_directory(&wish).await).field.unwrap();
    assert_eq!(field(with(&|d| d.recheck_seconds = 3601)).await, "/recheck_seconds");
    assert_eq!(field(with(&|d| d.mapping[1].role = "king".into())).await, "/mapping/1/role");
    assert_eq!(field(with(&|d| d.mapping[0].group = " ".into())).await, "/mapping/0/group");
    let address = with(&|d| {
        if let DirectorySettings::Ldap(s) = &mut d.settings {
            s.address = "http://127.0.0.1".into();
        }
    });
    assert_eq!(field(address).await, "/settings/ldap/address");
    // A server that nobody trusts is not told the password.
    let untrusted = with(&|d| {
        if let DirectorySettings::Ldap(s) = &mut d.settings {
            s.ca = None;
        }
    });
    let test = bench.client.test_directory(&untrusted).await.unwrap();
    assert!(test.steps.is_empty() && test.failure.unwrap().contains("certificate"));
    let wrong = with(&|d| d.secret = Some("another".into()));
    let test = bench.client.test_directory(&wrong).await.unwrap();
    assert!(test.failure.unwrap().contains("refused"));

    bench.client.set_directory(&good).await.unwrap();
    let shown = bench.client.directories().await.unwrap();
    assert!(shown[0].has_secret && !format!("{shown:?}").contains(ldap::SERVICE.1));
    // Elsewhere the kept secret is not sent.
    let elsewhere = with(&|d| {
        d.secret = None;
        if let DirectorySettings::Ldap(s) = &mut d.settings {
            s.bind_name = "cn=other,dc=orchard,dc=example".into();
        }
    });
    bench.client.set_directory(&elsewhere).await.unwrap();
    assert!(!bench.client.directories().await.unwrap()[0].has_secret);
    bench.client.remove_directory(DirectoryKind::Ldap).await.unwrap();
    assert_eq!(problem(bench.client.remove_directory(DirectoryKind::Ldap).await).status, 404);
}

// --- OpenID Connect ---

fn openid_directory(bench: &Bench, issuer: &str, recheck_seconds: u32) -> SetDirectory {
    SetDirectory {
        settings: DirectorySettings::Openid(OpenidSettings {
            issuer: issuer.to_owned(),
            client_id: openid::CLIENT.0.to_owned(),
            service_address: bench.service.url(),
            label: "the valley's sign-in".to_owned(),
            scopes: ["profile", "groups", "offline_access"].map(str::to_owned).to_vec(),
            name_claim: "preferred_username".to_owned(),
            groups_claim: "groups".to_owned(),
            ca: None,
        }),
        mapping: vec![line("harvest", "viewer@fleet"), line("night", "operator@host:packhouse")],
        recheck_seconds,
        secret: Some(openid::CLIENT.1.to_owned()),
    }
}

/// A browser as far as it matters here: it keeps cookies and follows nothing by itself.
pub(crate) struct Walker {
    http: reqwest::Client,
    cookies: Vec<(String, String, String)>,
}

pub(crate) struct Answer {
    pub(crate) status: StatusCode,
    pub(crate) location: Option<String>,
    pub(crate) text: String,
}

fn origin_of(address: &str) -> String {
    address.splitn(4, '/').take(3).collect::<Vec<_>>().join("/")
}

impl Walker {
    pub(crate) fn new() -> Self {
        let http = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().unwrap();
        Self { http, cookies: Vec::new() }
    }

    async fn send(&mut self, method: Method, address: &str, body: Option<(&str, String)>) -> Answer {
        let origin = origin_of(address);
        let mine = self.cookies.iter().filter(|(of, ..)| *of == origin);
        let cookies: Vec<String> = mine.map(|(_, name, value)| format!("{name}={value}")).collect();
        let mut request = self.http.request(method.clone(), address).header(COOKIE, cookies.join("; "));
        if method != Method::GET {
            request = request.header("origin", &origin);
        }
        if let Some((kind, body)) = body {
            request = request.header("content-type", kind).body(body);
        }
        let answer = request.send().await.unwrap();
        for set in answer.headers().get_all(SET_COOKIE) {
            let text = set.to_str().unwrap();
            let (name, value) = text.split(';').next().unwrap().split_once('=').unwrap();
            self.cookies.retain(|(of, known, _)| *of != origin || known != name);
            self.cookies.push((origin.clone(), name.to_owned(), value.to_owned()));
        }
        let location = answer.headers().get(LOCATION).map(|l| l.to_str().unwrap().to_owned());
        let location = location.map(|l| if l.starts_with('/') { format!("{origin}{l}") } else { l });
        Answer { status: answer.status(), location, text: answer.text().await.unwrap() }
    }

    pub(crate) async fn get(&mut self, address: &str) -> Answer {
        self.send(Method::GET, address, None).await
    }

    async fn post_form(&mut self, address: &str, form: String) -> Answer {
        self.send(Method::POST, address, Some(("application/x-www-form-urlencoded", form))).await
    }

    async fn post_json(&mut self, address: &str, body: &impl serde::Serialize) -> Answer {
        self.send(Method::POST, address, Some(("application/json", serde_json::to_string(body).unwrap())))
            .await
    }

    /// Goes to the provider, signs in there, and comes back: the address at which the service let go.
    async fn through(&mut self, service: &str, name: &str, password: &str) -> String {
        let mut at = format!("{service}/api/v1/openid/begin");
        for _ in 0..12 {
            let answer = self.get(&at).await;
            at = match answer.location {
                Some(next) if next.starts_with(service) && next.contains("/#") => return next,
                Some(next) => next,
                None => {
                    assert!(answer.text.contains("<form"), "{}: {}", answer.status, answer.text);
                    let form = format!("name={name}&password={}", password.replace(' ', "+"));
                    let answer = self.post_form(&at, form).await;
                    answer.location.unwrap_or_else(|| panic!("not let in: {}", answer.text))
                }
            };
        }
        panic!("it leads nowhere: {at}");
    }

    /// Shows the ticket that is in the address; gives who came in.
    async fn finish(&mut self, service: &str, back: &str, code: Option<&str>) -> Result<Me, Problem> {
        let ticket = back.rsplit_once("signed-in=").expect("a ticket").1.to_owned();
        let wish = FinishOpenid { ticket, code: code.map(str::to_owned) };
        let answer = self.post_json(&format!("{service}/api/v1/openid/sessions"), &wish).await;
        if answer.status == StatusCode::CREATED {
            Ok(serde_json::from_str(&answer.text).unwrap())
        } else {
            Err(serde_json::from_str(&answer.text).unwrap())
        }
    }

    /// Asks the service with the session.
    async fn ask(&mut self, address: &str, key: &str) -> (StatusCode, serde_json::Value) {
        let origin = origin_of(address);
        let mine = self.cookies.iter().filter(|(of, ..)| *of == origin);
        let cookies: Vec<String> = mine.map(|(_, name, value)| format!("{name}={value}")).collect();
        let request = self.http.get(address).header(COOKIE, cookies.join("; ")).header("gubernum-key", key);
        let answer = request.send().await.unwrap();
        (answer.status(), answer.json().await.unwrap_or_default())
    }
}

async fn rights(walker: &mut Walker, service: &str, key: &str) -> Vec<String> {
    let (status, told) = walker.ask(&format!("{service}/api/v1/rights"), key).await;
    assert_eq!(status, StatusCode::OK);
    serde_json::from_value(told["somewhere"].clone()).unwrap()
}

#[tokio::test]
async fn members_sign_in_at_a_provider_of_openid_connect() {
    let bench = Bench::with(&["packhouse"]).await;
    let service = bench.service.url().trim_end_matches('/').to_owned();
    let peer = OpenidPeer::start(&service, &[("tess", &["harvest"]), ("wim", &["cellar"])]).unwrap();
    let directory = openid_directory(&bench, &peer.issuer(), 0);
    let test = bench.client.test_directory(&directory).await.unwrap();
    assert_eq!((test.failure, test.steps.len()), (None, 3));
    bench.client.set_directory(&directory).await.unwrap();
    let state: serde_json::Value =
        serde_json::from_str(&Walker::new().get(&format!("{service}/api/v1/service")).await.text).unwrap();
    assert_eq!(state["openid"], "the valley's sign-in");

    let mut walker = Walker::new();
    let back = walker.through(&service, "tess", openid::PASSWORD).await;
    let mut thief = Walker::new();
    let stolen = thief.finish(&service, &back, None).await.unwrap_err();
    assert_eq!(stolen.status, 401, "a ticket is good for its browser only");
    let me = walker.finish(&service, &back, None).await.unwrap();
    assert_eq!(me.member, "tess");
    assert_eq!(walker.finish(&service, &back, None).await.unwrap_err().status, 401, "and once");
    let key = me.key.unwrap();
    assert_eq!(rights(&mut walker, &service, &key).await, ["see", "read-logs"]);

    // Groups change; the next request has other rights.
    peer.set_people(&[("tess", &["harvest", "night"]), ("wim", &["cellar"])]).unwrap();
    assert!(rights(&mut walker, &service, &key).await.contains(&"deploy".to_owned()));
    peer.set_people(&[("tess", &[]), ("wim", &["cellar"])]).unwrap();
    assert!(rights(&mut walker, &service, &key).await.is_empty());
    peer.set_people(&[("tess", &["harvest"]), ("wim", &["cellar"])]).unwrap();
    assert_eq!(rights(&mut walker, &service, &key).await, ["see", "read-logs"]);

    // Whoever is in no group that is granted anything does not come in.
    let back = Walker::new().through(&service, "wim", openid::PASSWORD).await;
    assert!(back.ends_with("#refused=no-grants"), "{back}");

    // Signing out there ends the session here.
    let (_, end) = walker.ask(&format!("{service}/api/v1/openid/end"), &key).await;
    let at = end["address"].as_str().unwrap().to_owned();
    let page = walker.get(&at).await;
    let xsrf =
        page.text.split("name=\"xsrf\" value=\"").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let confirm = format!("{}/session/end/confirm", peer.issuer());
    let over = walker.post_form(&confirm, format!("xsrf={xsrf}&logout=yes")).await;
    assert!(over.location.is_some_and(|to| to.starts_with(&service)), "{}", over.text);
    let told = async || {
        let audit = bench.client.audit().await.unwrap();
        let told =
            audit.into_iter().find(|e| e.object == "by the provider" || e.outcome.contains("sign-out"));
        told.map(|e| e.outcome)
    };
    until("the provider has told", Duration::from_secs(10), async || told().await.is_some()).await;
    assert_eq!(told().await.unwrap(), "1 sessions ended");
    assert_eq!(walker.ask(&format!("{service}/api/v1/hosts"), &key).await.0, StatusCode::UNAUTHORIZED);
}

#[rstest]
#[case::of_nobody("state=none&code=x", "stale")]
#[case::without_a_state("code=x", "stale")]
#[case::without_anything("", "stale")]
#[tokio::test]
async fn what_was_not_begun_here_is_not_finished_here(#[case] query: &str, #[case] word: &str) {
    let bench = Bench::with(&[]).await;
    let service = bench.service.url().trim_end_matches('/').to_owned();
    bench.client.set_directory(&openid_directory(&bench, "http://127.0.0.1:9", 0)).await.unwrap();
    let mut walker = Walker::new();
    let answer = walker.get(&format!("{service}/api/v1/openid/callback?{query}")).await;
    assert_eq!(answer.location.unwrap(), format!("{service}/#refused={word}"));
    let begun = walker.get(&format!("{service}/api/v1/openid/begin")).await;
    assert_eq!(begun.location.unwrap(), format!("{service}/#refused=unavailable"), "nobody answers there");
}

#[tokio::test]
async fn another_browser_cannot_finish_a_sign_in_and_a_state_is_good_once() {
    let bench = Bench::with(&[]).await;
    let service = bench.service.url().trim_end_matches('/').to_owned();
    let peer = OpenidPeer::start(&service, &[("tess", &["harvest"])]).unwrap();
    bench.client.set_directory(&openid_directory(&bench, &peer.issuer(), 0)).await.unwrap();
    let mut walker = Walker::new();
    let to = walker.get(&format!("{service}/api/v1/openid/begin")).await.location.unwrap();
    assert!(to.contains("code_challenge_method=S256") && to.contains("nonce="), "{to}");
    let state = to.split("state=").nth(1).unwrap().split('&').next().unwrap();
    let callback = format!("{service}/api/v1/openid/callback?state={state}&error=access_denied");
    let stolen = Walker::new().get(&callback).await;
    assert!(stolen.location.unwrap().ends_with("#refused=stale"));
    assert!(walker.get(&callback).await.location.unwrap().ends_with("#refused=denied"));
    assert!(walker.get(&callback).await.location.unwrap().ends_with("#refused=stale"));
    let other = walker.get(&format!("{service}/api/v1/openid/begin")).await.location.unwrap();
    let state = other.split("state=").nth(1).unwrap().split('&').next().unwrap();
    let mixed =
        format!("{service}/api/v1/openid/callback?state={state}&code=x&iss=https%3A%2F%2Felsewhere.example");
    assert!(walker.get(&mixed).await.location.unwrap().ends_with("#refused=failed"));
}
