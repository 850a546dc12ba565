//! Which image is which: by id, by digest, and where the host does not tell.

use rstest::rstest;

use super::*;

const OLD: &str = "sha256:aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa";
const NEW: &str = "sha256:bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb";

fn image(id: &str, digests: &[&str]) -> Image {
    let digests: Vec<String> = digests.iter().map(|d| (*d).to_owned()).collect();
    serde_json::from_value(serde_json::json!({
        "id": id, "tags": [], "digests": digests, "size": 1, "created": "2026-11-20T08:00:00Z", "labels": {},
    }))
    .unwrap()
}

fn at(repository: &str, digest: &str) -> String {
    format!("{repository}@{digest}")
}

/// The image `own` has these digests, `other` those; is `own` what the new digest of `r.example/row` stands for?
#[rstest]
#[case::it_is(&[at("r.example/row", NEW)], &[], Some(true))]
#[case::it_is_the_older(&[at("r.example/row", OLD)], &[], Some(false))]
#[case::it_has_both(&[at("r.example/row", OLD), at("r.example/row", NEW)], &[], Some(true))]
#[case::another_is_it(&[], &[at("r.example/row", NEW)], Some(false))]
#[case::nobody_tells(&[], &[], None)]
#[case::of_another_repository(&[at("r.example/web", NEW)], &[], None)]
#[case::another_of_another_repository(&[], &[at("r.example/web", NEW)], None)]
#[case::of_another_registry(&[at("s.example/row", NEW)], &[], None)]
#[case::not_a_name(&["@".to_owned()], &[], None)]
fn an_image_is_what_a_digest_stands_for(
    #[case] own: &[String],
    #[case] other: &[String],
    #[case] expected: Option<bool>,
) {
    let texts = |all: &[String]| all.to_vec();
    let (own, other) = (texts(own), texts(other));
    let own: Vec<&str> = own.iter().map(String::as_str).collect();
    let other: Vec<&str> = other.iter().map(String::as_str).collect();
    let assets = Assets { images: vec![image("own", &own), image("other", &other)], ..Assets::default() };
    let name: ImageName = "r.example/row:1".parse().unwrap();
    assert_eq!(assets.is_image("own", &name, NEW), expected);
}

#[test]
fn an_image_that_is_gone_is_told_by_the_one_that_took_its_place() {
    let newer = at("r.example/row", NEW);
    let assets = Assets { images: vec![image("newer", &[&newer])], ..Assets::default() };
    let name: ImageName = "r.example/row".parse().unwrap();
    assert_eq!(assets.is_image("gone", &name, NEW), Some(false));
    assert_eq!(assets.is_image("gone", &name, OLD), None);
}

#[rstest]
#[case("bridge", true)]
#[case("host", true)]
#[case("none", true)]
#[case("podman", true)]
#[case("frost", false)]
#[case("Bridge", false)]
fn networks_that_engines_make_by_themselves(#[case] name: &str, #[case] built_in: bool) {
    let network: Network = serde_json::from_value(serde_json::json!({
        "id": "n", "name": name, "driver": "bridge", "subnets": [], "internal": false, "ipv6": false,
        "options": {}, "labels": {},
    }))
    .unwrap();
    assert_eq!(network.is_built_in(), built_in);
}

#[test]
fn an_id_is_bare_without_the_name_of_its_hash() {
    assert_eq!((bare_id("sha256:ab"), bare_id("ab"), bare_id("sha512:ab")), ("ab", "ab", "sha512:ab"));
    for kind in [AssetKind::Image, AssetKind::Volume, AssetKind::Network] {
        assert_eq!(serde_json::to_value(kind).unwrap(), kind.word());
    }
}
