//! Snoozes: one reason on one object is set aside for all, until a time, by whoever may act on the object; and a ranking of usage, which includes
//! what is gone too.

use gubernum_api::Problem;
use gubernum_api::team::{NewSnooze, Snooze};
use gubernum_api::views::AttentionItem;
use gubernum_client::{Client, ClientError};
use rstest::rstest;

use crate::support::Bench;

fn problem<T: std::fmt::Debug>(result: Result<T, ClientError>) -> Problem {
    match result {
        Err(ClientError::Problem(problem)) => *problem,
        other => panic!("a problem was expected: {other:?}"),
    }
}

fn wish(on: &str, code: &str) -> NewSnooze {
    let reason = "the encoder comes on Tuesday".to_owned();
    NewSnooze { on: on.parse().unwrap(), code: code.to_owned(), reason, hours: 2 }
}

async fn snooze(client: &Client, on: &str, code: &str) -> Result<Snooze, ClientError> {
    client.snooze(&wish(on, code)).await
}

async fn of(client: &Client, name: &str) -> Option<AttentionItem> {
    client.attention().await.unwrap().into_iter().find(|item| item.container.as_deref() == Some(name))
}

/// A bench on which `api` was ended by the kernel.
async fn with_trouble(hosts: &[&str]) -> Bench {
    let bench = Bench::with(hosts).await;
    let id = bench.one("packhouse", "api").await.unwrap().id;
    bench.hosts[0].end_container(&id, 137, true);
    bench.until("it needs attention", async |b| of(&b.client, "api").await.is_some()).await;
    bench
}

#[tokio::test]
async fn a_reason_is_set_aside_for_all_until_its_time() {
    let mut bench = with_trouble(&["packhouse"]).await;
    let code = of(&bench.client, "api").await.unwrap().reason.code;
    let jory = bench.member("jory", &["operator@fleet"]).await;
    let tess = bench.member("tess", &["viewer@fleet"]).await;
    let set = snooze(&jory, "container:packhouse/api", &code).await.unwrap();
    for client in [&bench.client, &jory, &tess] {
        let all = client.attention().await.unwrap();
        assert_eq!(all.last().unwrap().snoozed, Some(set.clone()), "it comes last: {all:#?}");
        assert_eq!(client.snoozes().await.unwrap(), std::slice::from_ref(&set));
    }
    // Set aside once more, the later word counts.
    let again = snooze(&bench.client, "container:packhouse/api", &code).await.unwrap();
    assert_eq!(bench.client.snoozes().await.unwrap(), [again]);
    bench.restart().await;
    bench
        .until("it is still set aside", async |b| {
            of(&b.client, "api").await.is_some_and(|item| item.snoozed.is_some())
        })
        .await;
    bench.pass(2 * 3600 + 1);
    assert_eq!(of(&bench.client, "api").await.unwrap().snoozed, None, "its time is over");
    assert!(bench.client.snoozes().await.unwrap().is_empty());
}

#[tokio::test]
async fn it_is_brought_back_and_both_are_in_the_audit_log() {
    let bench = with_trouble(&["packhouse"]).await;
    let code = of(&bench.client, "api").await.unwrap().reason.code;
    // Another reason on the same object, and the same on another, are reported as ever.
    snooze(&bench.client, "container:packhouse/api", "unhealthy").await.unwrap();
    snooze(&bench.client, "container:packhouse/worker", &code).await.unwrap();
    assert_eq!(of(&bench.client, "api").await.unwrap().snoozed, None);
    let set = snooze(&bench.client, "container:packhouse/api", &code).await.unwrap();
    assert!(of(&bench.client, "api").await.unwrap().snoozed.is_some());
    bench.client.lift_snooze(set.id).await.unwrap();
    assert_eq!(of(&bench.client, "api").await.unwrap().snoozed, None);
    assert_eq!(problem(bench.client.lift_snooze(set.id).await).word(), "not-found");
    let audit = bench.client.audit().await.unwrap();
    for action in ["snooze", "lift-snooze"] {
        let told = audit.iter().find(|e| e.action == action).unwrap();
        assert_eq!(told.object, "container:packhouse/api");
        assert!(told.outcome.contains("the encoder comes on Tuesday"), "{told:?}");
    }
}

#[rstest]
#[case::operator("operator@fleet", "container:packhouse/api", None)]
#[case::of_the_host("operator@host:packhouse", "host:packhouse", None)]
#[case::viewer("viewer@fleet", "container:packhouse/api", Some("not-allowed"))]
#[case::elsewhere("operator@host:coldstore", "container:packhouse/api", Some("not-found"))]
#[case::the_service("operator@host:packhouse", "fleet", Some("not-allowed"))]
#[tokio::test]
async fn whoever_may_act_on_it_sets_aside(
    #[case] grant: &str,
    #[case] on: &str,
    #[case] refused: Option<&str>,
) {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let tess = bench.member("tess", &[grant]).await;
    let found = snooze(&tess, on, "out-of-memory").await;
    match refused {
        None => assert_eq!(found.unwrap().member, "tess"),
        Some(word) => assert_eq!(problem(found).word(), word),
    }
    // What is set aside elsewhere is not told.
    snooze(&bench.client, "host:coldstore", "host-lost").await.unwrap();
    let told = tess.snoozes().await.unwrap();
    let sees_coldstore = grant.ends_with("fleet") || grant.ends_with("coldstore");
    assert_eq!(told.iter().any(|s| s.on.to_string() == "host:coldstore"), sees_coldstore, "{told:?}");
}

#[rstest]
#[case::no_reason(NewSnooze { reason: "  ".to_owned(), ..wish("fleet", "audit") }, "/reason", "enter a reason")]
#[case::too_long(NewSnooze { reason: "x".repeat(501), ..wish("fleet", "audit") }, "/reason", "1 to 500")]
#[case::no_time(NewSnooze { hours: 0, ..wish("fleet", "audit") }, "/hours", "1 to 720 hours")]
#[case::too_late(NewSnooze { hours: 721, ..wish("fleet", "audit") }, "/hours", "1 to 720 hours")]
#[case::no_code(wish("fleet", ""), "/code", "by its code")]
#[tokio::test]
async fn what_is_invalid_is_refused_at_its_place(
    #[case] wish: NewSnooze,
    #[case] field: &str,
    #[case] words: &str,
) {
    let bench = Bench::with(&["packhouse"]).await;
    let refused = problem(bench.client.snooze(&wish).await);
    assert_eq!(refused.field.as_deref(), Some(field), "{refused:?}");
    assert!(refused.detail.contains(words), "{refused:?}");
    assert!(bench.client.snoozes().await.unwrap().is_empty());
}

fn asked(fields: &[(&'static str, &str)]) -> Vec<(&'static str, String)> {
    fields.iter().map(|(name, value)| (*name, (*value).to_owned())).collect()
}

#[tokio::test]
async fn a_ranking_names_what_used_most_and_what_is_gone() {
    let bench = Bench::with(&["packhouse", "coldstore"]).await;
    let memory = asked(&[("figure", "memory"), ("since", "1h")]);
    bench
        .until("all were sampled", async |b| b.client.usage_ranking(&memory).await.unwrap().rows.len() == 6)
        .await;
    let id = bench.one("packhouse", "worker").await.unwrap().id;
    bench.hosts[0].remove_container(&id);
    bench.until("removed", async |b| b.one("packhouse", "worker").await.is_none()).await;
    let found = bench.client.usage_ranking(&memory).await.unwrap();
    assert!(found.rows.is_sorted_by(|a, b| a.mean >= b.mean) && found.containers == 6, "{found:#?}");
    assert!(found.rows.iter().all(|row| row.peak >= row.mean && row.mean > 0.0), "{found:#?}");
    let gone: Vec<&str> =
        found.rows.iter().filter(|row| !row.is_there).map(|row| row.name.as_str()).collect();
    assert_eq!(gone, ["worker"], "{found:#?}");
    // One host, and few rows of many.
    let one = asked(&[("figure", "memory"), ("since", "1h"), ("host", "packhouse"), ("limit", "1")]);
    let found = bench.client.usage_ranking(&one).await.unwrap();
    assert_eq!((found.rows.len(), found.containers), (1, 3));
    assert_eq!(found.rows[0].host, "packhouse");
    // Who does not see a host is not told of it.
    let tess = bench.member("tess", &["viewer@host:coldstore"]).await;
    let found = tess.usage_ranking(&memory).await.unwrap();
    assert!(found.containers == 3 && found.rows.iter().all(|row| row.host == "coldstore"), "{found:#?}");
}

#[rstest]
#[case("figure", "weather", "unknown figure")]
#[case("limit", "0", "'limit' must be")]
#[case("since", "yesterday", "is not a time")]
#[case("until", "30d", "swap them")]
#[tokio::test]
async fn a_ranking_that_is_invalid_is_refused(
    #[case] field: &'static str,
    #[case] value: &str,
    #[case] words: &str,
) {
    let bench = Bench::with(&["packhouse"]).await;
    let mut fields = asked(&[("figure", "memory")]);
    fields.retain(|(name, _)| *name != field);
    fields.push((field, value.to_owned()));
    let refused = problem(bench.client.usage_ranking(&fields).await);
    assert!(refused.detail.contains(words), "{refused:?}");
}
