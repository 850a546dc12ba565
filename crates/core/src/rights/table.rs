//! The one table of required rights: for each API call by its operation id, each topic of the live connection, and
//! each kind of change. The service does not start with a call that has no line here, and a test fails.

use super::Right;
use crate::plan::Kind;

/// What a call of the API needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Need {
    /// Nothing: the caller has not signed in, or shows what they know another way.
    Nothing,
    /// To have signed in; what is asked for or changed is the member's own.
    Own,
    /// The right on something, wherever. What is answered is cut out of what the member sees; what is asked for is judged
    /// where it is known, by the same rights.
    Somewhere(Right),
    /// The right on the whole fleet.
    Fleet(Right),
    /// The right on the whole fleet, or to come from an address that a setting names: the call itself judges that.
    FleetUnlessNamed(Right),
    /// The right on the host that the path names.
    Host(Right),
    /// The right on the container that the path names.
    Container(Right),
    /// The right on the volume that the path names.
    Volume(Right),
    /// The right on the stack that the path names.
    Stack(Right),
}

use Need::{Container, Fleet, FleetUnlessNamed, Host, Nothing, Own, Somewhere, Stack, Volume};
use Right::{
    Audit, Deploy, Files, Hosts, Members, ReadLogs, Registries, See, SeeSecrets, Settings, Shell, Stacks,
    Tidy,
};

/// What each call needs, by its operation id in the description of the API.
pub const CALLS: &[(&str, Need)] = &[
    // The service and signing in.
    ("healthz", Nothing),
    ("readyz", Nothing),
    ("metrics", FleetUnlessNamed(See)),
    ("service", Nothing),
    ("claim", Nothing),
    ("sign_in", Nothing),
    ("current", Own),
    ("sign_out", Own),
    ("begin_openid", Nothing),
    ("openid_callback", Nothing),
    ("finish_openid", Nothing),
    ("openid_logout", Nothing),
    ("openid_end", Own),
    ("list_directories", Fleet(Members)),
    ("set_directory", Fleet(Members)),
    ("remove_directory", Fleet(Members)),
    ("test_directory", Fleet(Members)),
    ("list_sessions", Own),
    ("end", Own),
    ("make_ticket", Own),
    ("list_tokens", Own),
    ("make", Own),
    ("revoke", Own),
    ("profile", Own),
    ("set_profile", Own),
    ("step_up", Own),
    ("step_down", Own),
    ("view_as", Own),
    ("view_as_oneself", Own),
    ("list_approvals", Own),
    ("decide_approval", Own),
    ("withdraw_approval", Own),
    ("show_syslog", Fleet(Settings)),
    ("set_syslog", Fleet(Settings)),
    ("remove_syslog", Fleet(Settings)),
    ("rotate_seal", Fleet(Settings)),
    ("preferences", Own),
    ("set_preferences", Fleet(Settings)),
    ("audit", Fleet(Audit)),
    ("export_audit", Fleet(Audit)),
    // The fleet.
    ("snapshot", Somewhere(See)),
    ("attention", Somewhere(See)),
    ("figures", Somewhere(See)),
    ("ports", Somewhere(See)),
    ("connect", Somewhere(See)),
    ("list_timeline", Somewhere(See)),
    ("history", Somewhere(See)),
    ("ranking", Somewhere(See)),
    ("now", Somewhere(See)),
    ("list_hosts", Somewhere(See)),
    ("add_hosts", Fleet(Hosts)),
    ("test_hosts", Fleet(Hosts)),
    ("set_hosts", Host(Hosts)),
    ("remove_hosts", Host(Hosts)),
    // Containers.
    ("list_containers", Somewhere(See)),
    ("show_containers", Container(See)),
    ("show_containers_definition", Container(See)),
    ("clone_definition", Container(See)),
    ("changes", Container(See)),
    ("processes", Container(See)),
    ("earlier", Container(See)),
    ("reveal", Container(SeeSecrets)),
    ("read_containers_logs", Container(ReadLogs)),
    ("fetch_containers_archive", Container(Files)),
    ("unpack_containers_archive", Container(Files)),
    ("folder_containers", Container(Files)),
    ("read_containers_file", Container(Files)),
    ("write_containers_file", Container(Files)),
    ("change_containers_file_changes", Container(Files)),
    ("received_containers_file_upload", Container(Files)),
    ("run", Container(Shell)),
    ("shells", Container(Shell)),
    ("run_fresh", Somewhere(Shell)),
    ("open", Somewhere(Shell)),
    ("list_terminals", Own),
    ("hold", Own),
    ("close", Own),
    // Logs.
    ("read_merged", Somewhere(ReadLogs)),
    ("list_kept_logs", Fleet(ReadLogs)),
    ("add_kept_logs", Fleet(Settings)),
    ("remove_kept_logs", Fleet(Settings)),
    // Changes.
    ("list_operations", Somewhere(See)),
    ("show_operations", Somewhere(See)),
    ("operation_containers", Somewhere(See)),
    ("preview", Somewhere(See)),
    ("submit", Somewhere(See)),
    ("retry", Somewhere(See)),
    ("cancel", Somewhere(See)),
    ("leftovers", Somewhere(Tidy)),
    ("keep", Somewhere(Tidy)),
    // Images, volumes and networks.
    ("images", Somewhere(See)),
    ("image", Somewhere(See)),
    ("volumes", Somewhere(See)),
    ("networks", Somewhere(See)),
    ("build", Host(Deploy)),
    ("export_image", Host(Deploy)),
    ("import_images", Host(Deploy)),
    ("image_checks", Somewhere(See)),
    ("check_images", Somewhere(Deploy)),
    ("search", Somewhere(Deploy)),
    ("tags", Somewhere(Deploy)),
    ("list_registries", Somewhere(Deploy)),
    ("set_registries", Fleet(Registries)),
    ("test_registries", Fleet(Registries)),
    ("remove_registries", Fleet(Registries)),
    ("data", Volume(Files)),
    ("restore", Volume(Files)),
    ("fetch_volumes_archive", Volume(Files)),
    ("unpack_volumes_archive", Volume(Files)),
    ("folder_volumes", Volume(Files)),
    ("read_volumes_file", Volume(Files)),
    ("write_volumes_file", Volume(Files)),
    ("change_volumes_file_changes", Volume(Files)),
    ("received_volumes_file_upload", Volume(Files)),
    // Definitions and stacks.
    ("translate", Somewhere(See)),
    ("read_variables", Somewhere(See)),
    ("check_stack", Somewhere(See)),
    ("stacks", Somewhere(See)),
    ("drifts", Somewhere(See)),
    ("stack_drift", Stack(See)),
    ("stack_text", Stack(See)),
    ("stack_revisions", Stack(See)),
    ("stack_definition", Stack(See)),
    ("stack_difference", Stack(See)),
    ("adopt_stack", Stack(Stacks)),
    ("stack_source", Stack(See)),
    ("set_stack_source", Stack(Stacks)),
    ("remove_stack_source", Stack(Stacks)),
    ("fresh_hook_secret", Stack(Stacks)),
    ("look_at_stack_source", Stack(Stacks)),
    ("pushed", Nothing),
    ("jobs", Somewhere(See)),
    ("job_runs", Stack(See)),
    ("job_run", Somewhere(See)),
    // The team together.
    ("list_freezes", Somewhere(See)),
    ("freeze", Somewhere(Deploy)),
    ("lift_freeze", Somewhere(See)),
    ("list_snoozes", Somewhere(See)),
    ("snooze", Somewhere(See)),
    ("lift_snooze", Somewhere(See)),
    ("list_notes", Somewhere(See)),
    ("write_note", Somewhere(See)),
    ("change_note", Somewhere(See)),
    ("remove_note", Somewhere(See)),
    ("seen_mentions", Own),
    ("presence", Somewhere(See)),
    // Members.
    ("list_members", Fleet(Members)),
    ("show_member", Fleet(Members)),
    ("set_member", Fleet(Members)),
    ("remove_member", Fleet(Members)),
    ("invite", Fleet(Members)),
    ("reset_member", Fleet(Members)),
    ("list_invitations", Fleet(Members)),
    ("withdraw_invitation", Fleet(Members)),
    ("show_invitation", Nothing),
    ("accept_invitation", Nothing),
    ("end_member_sessions", Fleet(Members)),
    ("list_roles", Own),
    ("set_role", Fleet(Members)),
    ("remove_role", Fleet(Members)),
    ("own_rights", Own),
    ("change_password", Own),
    ("begin_second_factor", Own),
    ("confirm_second_factor", Own),
    ("remove_second_factor", Own),
];

/// What a call needs; `None` when the table has no line for it.
pub fn need(operation_id: &str) -> Option<Need> {
    CALLS.iter().find(|(id, _)| *id == operation_id).map(|(_, need)| *need)
}

/// A topic of the live connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Topic {
    /// Hosts and containers as they change.
    Fleet,
    /// Operations, drift and jobs.
    Operations,
    /// Lines of logs.
    Logs,
    /// Resource use.
    Use,
}

/// The right that a topic needs on each thing that it reports.
pub const fn of_topic(topic: Topic) -> Right {
    match topic {
        Topic::Fleet | Topic::Operations | Topic::Use => See,
        Topic::Logs => ReadLogs,
    }
}

/// The rights that a kind of change needs on each of its targets.
pub const fn of_kind(kind: Kind) -> &'static [Right] {
    match kind {
        Kind::Start | Kind::Stop | Kind::Restart | Kind::Kill | Kind::Pause | Kind::Resume | Kind::Run => {
            &[Right::StartStop]
        }
        Kind::Remove | Kind::RemoveImage | Kind::RemoveVolume | Kind::RemoveNetwork => &[Right::Remove],
        Kind::Deploy
        | Kind::Edit
        | Kind::Update
        | Kind::Rollback
        | Kind::Pull
        | Kind::Push
        | Kind::Tag
        | Kind::CreateVolume
        | Kind::CreateNetwork
        | Kind::Connect
        | Kind::Disconnect => &[Right::Deploy],
        Kind::Tidy => &[Right::Tidy],
        Kind::Apply => &[Right::Stacks],
        Kind::RemoveStack => &[Right::Stacks, Right::Remove],
        Kind::Move | Kind::Clone => &[Right::Move],
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn each_call_is_listed_once() {
        let names: BTreeSet<&str> = CALLS.iter().map(|(id, _)| *id).collect();
        assert_eq!(names.len(), CALLS.len());
    }

    #[test]
    fn nothing_of_the_service_is_asked_on_a_part_of_the_fleet() {
        for (id, need) in CALLS {
            if let Somewhere(right) | Host(right) | Container(right) | Volume(right) | Stack(right) = need {
                assert!(!right.is_of_service(), "{id} needs {right} on the whole fleet");
            }
        }
    }
}
