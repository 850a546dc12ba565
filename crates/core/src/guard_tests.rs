//! What counts as dangerous, and when settings ask for less.

use rstest::rstest;

use super::*;
use crate::definition::MountRule;
use crate::plan::VolumeSettings;

#[rstest]
#[case(None, None, true)]
#[case(Some(""), Some("1000"), false)]
#[case(Some("root"), Some("1000"), true)]
#[case(Some("0"), Some("1000"), true)]
#[case(Some("00:100"), None, true)]
#[case(Some("+0"), None, true)]
#[case(Some("0:0"), None, true)]
#[case(None, Some("grower"), false)]
#[case(None, Some("root:staff"), true)]
#[case(Some("1000:0"), None, false)]
fn who_is_root(#[case] user: Option<&str>, #[case] default: Option<&str>, #[case] root: bool) {
    assert_eq!(is_root(user, default), root);
}

fn plan(steps: Vec<Step>) -> TargetPlan {
    TargetPlan { steps, ..TargetPlan::default() }
}

#[rstest]
#[case(Kind::Remove, Step::Remove { force: false, volumes: true }, true)]
#[case(Kind::Remove, Step::Remove { force: false, volumes: false }, false)]
#[case(Kind::RemoveVolume, Step::RemoveVolume { force: false }, true)]
#[case(Kind::Tidy, Step::RemoveVolume { force: false }, true)]
#[case(Kind::Run, Step::Remove { force: true, volumes: true }, false)]
fn volumes_that_go(#[case] kind: Kind, #[case] step: Step, #[case] removes: bool) {
    assert_eq!(removes_volumes(kind, &plan(vec![step])), removes);
}

fn reaching() -> Definition {
    let mut definition = Definition::default();
    definition.rights.privileged = true;
    definition.mounts = vec![MountRule {
        kind: MountKind::Bind,
        source: Some("/srv/cellar".to_owned()),
        target: "/cellar".to_owned(),
        ..MountRule::default()
    }];
    definition
}

#[test]
fn only_what_is_new_counts() {
    let nothing = plan(Vec::new());
    let found = new_reach(&nothing, Some(&reaching()), None);
    assert_eq!(found, ["privileged mode", "the folder /srv/cellar of the host"]);
    assert!(new_reach(&nothing, Some(&reaching()), Some(&reaching())).is_empty());
    let before = Definition { mounts: Vec::new(), ..reaching() };
    assert_eq!(new_reach(&nothing, Some(&reaching()), Some(&before)), ["the folder /srv/cellar of the host"]);
    assert!(new_reach(&nothing, Some(&Definition::default()), None).is_empty());
}

#[test]
fn a_volume_that_is_a_folder_of_the_host_counts() {
    let options = [("device".to_owned(), "/etc".to_owned()), ("o".to_owned(), "bind".to_owned())].into();
    let wish = VolumeSettings { options, ..VolumeSettings::default() };
    let step = Step::CreateVolume { name: "cellar".to_owned(), wish };
    assert_eq!(new_reach(&plan(vec![step]), None, None), ["options of the volume cellar"]);
}

#[test]
fn asking_for_less_shows() {
    let weak = Preferences::default();
    let strong = Preferences { guard_members: Guard::Approval, guard_root_shell: Guard::StepUp, ..weak };
    assert_eq!(weakened(&strong, &weak), [GuardedChange::RootShell, GuardedChange::Members]);
    assert!(weakened(&weak, &strong).is_empty() && weakened(&strong, &strong).is_empty());
    let middle = Preferences { guard_members: Guard::StepUp, ..strong };
    assert_eq!(weakened(&strong, &middle), [GuardedChange::Members]);
}

#[test]
fn each_danger_has_its_setting() {
    for danger in GuardedChange::ALL {
        assert_eq!(danger.guard(&Preferences::default()), Guard::None);
    }
    let all = Preferences {
        guard_remove_volumes: Guard::StepUp,
        guard_root_shell: Guard::StepUp,
        guard_host_reach: Guard::StepUp,
        guard_members: Guard::StepUp,
        ..Preferences::default()
    };
    assert!(GuardedChange::ALL.iter().all(|danger| danger.guard(&all) == Guard::StepUp));
}
