//! Names of hosts, and what a host is before anything is known of it.

use rstest::rstest;

use super::*;

#[rstest]
#[case("packhouse")]
#[case("a")]
#[case("7")]
#[case("Shed-12.north_side")]
#[case("x-")]
fn names_that_are_fine(#[case] name: &str) {
    assert_eq!(check_host_name(name), Ok(()));
}

#[rstest]
#[case("", HostNameError::Empty)]
#[case("-shed", HostNameError::Character('-'))]
#[case(".shed", HostNameError::Character('.'))]
#[case("_shed", HostNameError::Character('_'))]
#[case("a/b", HostNameError::Character('/'))]
#[case("a b", HostNameError::Character(' '))]
#[case("*", HostNameError::Character('*'))]
#[case("größe", HostNameError::Character('ö'))]
#[case("a:1", HostNameError::Character(':'))]
fn names_that_are_refused(#[case] name: &str, #[case] error: HostNameError) {
    assert_eq!(check_host_name(name), Err(error.clone()));
    assert!(!error.to_string().is_empty());
}

#[test]
fn a_name_is_as_long_as_it_may_be_and_no_longer() {
    assert_eq!(check_host_name(&"a".repeat(MAX_HOST_NAME)), Ok(()));
    let longer = "a".repeat(MAX_HOST_NAME + 1);
    assert_eq!(check_host_name(&longer), Err(HostNameError::TooLong(MAX_HOST_NAME + 1)));
    // Letters are counted, not bytes.
    assert_eq!(check_host_name(&"ö".repeat(MAX_HOST_NAME)), Err(HostNameError::Character('ö')));
}

#[test]
fn a_host_of_which_nothing_is_known_tells_nothing() {
    let json = serde_json::to_value(Host::blank("packhouse")).unwrap();
    let object = json.as_object().unwrap();
    assert_eq!(json["name"], "packhouse");
    assert!(object.values().all(|value| !value.is_null()), "{json}");
    for absent in ["engine", "problem", "last_seen", "attention"] {
        assert!(!object.contains_key(absent), "{absent}");
    }
    let again: Host = serde_json::from_value(json).unwrap();
    assert_eq!(again, Host::blank("packhouse"));
}
