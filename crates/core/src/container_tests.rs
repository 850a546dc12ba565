//! The words of engines and ours for them.

use rstest::rstest;

use super::*;

#[rstest]
#[case("created", State::Created)]
#[case("configured", State::Created)]
#[case("initialized", State::Created)]
#[case("running", State::Running)]
#[case("Running", State::Running)]
#[case("stopping", State::Running)]
#[case("paused", State::Paused)]
#[case("restarting", State::Restarting)]
#[case("removing", State::Removing)]
#[case("exited", State::Exited)]
#[case("stopped", State::Exited)]
#[case("dead", State::Dead)]
#[case("", State::Unknown)]
#[case("hibernating", State::Unknown)]
fn states_of_engines_are_folded_into_ours(#[case] word: &str, #[case] state: State) {
    assert_eq!(State::from_engine(word), state);
}

#[rstest]
#[case(State::Created, false)]
#[case(State::Running, true)]
#[case(State::Paused, true)]
#[case(State::Restarting, true)]
#[case(State::Removing, false)]
#[case(State::Exited, false)]
#[case(State::Dead, false)]
#[case(State::Unknown, false)]
fn what_holds_a_process_is_alive(#[case] state: State, #[case] alive: bool) {
    assert_eq!(state.is_alive(), alive);
}

#[test]
fn every_word_is_read_as_what_it_says() {
    for &state in State::ALL {
        let json = serde_json::to_value(state).unwrap();
        assert_eq!(json, state.word());
        assert_eq!(serde_json::from_value::<State>(json).unwrap(), state);
        if state != State::Unknown {
            assert_eq!(State::from_engine(state.word()), state, "our words are engines' words too");
        }
    }
    for severity in Severity::ALL {
        assert_eq!(serde_json::to_value(severity).unwrap(), severity.word());
    }
    assert_eq!(Severity::ALL.first(), Some(&Severity::Trouble), "the worst first");
}

#[rstest]
#[case("starting", Health::Starting)]
#[case("healthy", Health::Healthy)]
#[case("HEALTHY", Health::Healthy)]
#[case("unhealthy", Health::Unhealthy)]
#[case("none", Health::None)]
#[case("", Health::None)]
#[case("so-so", Health::None)]
fn health_that_is_not_known_is_no_check(#[case] word: &str, #[case] health: Health) {
    assert_eq!(Health::from_engine(word), health);
    assert_eq!(Health::from_engine(health.word()), health);
}

#[test]
fn a_container_that_stands_for_another_goes_by_its_name() {
    let mut c = Container::blank("packhouse", "frost-api-next-7", "aa");
    assert_eq!((c.reference(), c.lasting_reference()), (c.reference(), "packhouse/frost-api-next-7".into()));
    let role = ContainerRole { kind: RoleKind::Next, operation: Some(7), of: "frost-api".into() };
    c.role = Some(Box::new(role));
    assert_eq!(c.reference(), "packhouse/frost-api-next-7");
    assert_eq!(c.lasting_reference(), "packhouse/frost-api");
}

#[test]
fn what_is_not_known_is_not_told() {
    let json = serde_json::to_value(Container::blank("packhouse", "api", "aa")).unwrap();
    let object = json.as_object().unwrap();
    for absent in ["exit_code", "error", "finished", "attention", "role"] {
        assert!(!object.contains_key(absent), "{absent}");
    }
    let again: Container = serde_json::from_value(json).unwrap();
    assert_eq!(again, Container::blank("packhouse", "api", "aa"));
}
