//! Plans for existing containers: start, stop, restart, kill, pause, resume, remove, connect, disconnect. One
//! function for each kind.
//!
//! Containers that are made or replaced are in [`super::make`].

use super::request::{
    ConnectRequest, DisconnectRequest, KillRequest, Kind, RemoveRequest, RestartRequest, Rolling,
    StartRequest, StopRequest,
};
use super::{DEFAULT_WATCH_SECONDS, Step, TargetPlan, signal_name};
use crate::container::{Container, State};
use crate::text::shown;

/// Signals after which a program is not expected to go on.
const ENDING: [&str; 5] = ["SIGKILL", "SIGTERM", "SIGINT", "SIGQUIT", "SIGABRT"];
const UNTIL_STARTED: &str = "until it is started again";

/// A plan for a container with nothing in it yet.
pub fn blank(c: &Container) -> TargetPlan {
    TargetPlan { host: c.host.clone(), id: c.id.clone(), name: c.name.clone(), ..TargetPlan::default() }
}

/// A plan of one step. Gubernum does not end the container that it runs in itself.
fn one_step(c: &Container, kind: Kind, step: Step, consequence: impl Into<String>) -> TargetPlan {
    let mut plan = TargetPlan { steps: vec![step], consequence: consequence.into(), ..blank(c) };
    if c.is_self && !matches!(kind, Kind::Start | Kind::Connect) {
        plan.refuse(format!(
            "Gubernum runs in this container and does not {kind} itself; use the engine's client for that"
        ));
    }
    plan
}

/// Where containers go one after another, each must be healthy before the next begins.
fn wait_between(mut plan: TargetPlan, rolling: Option<Rolling>) -> TargetPlan {
    if rolling.is_some() && !plan.steps.is_empty() {
        plan.steps_in_words.push("Wait until it is healthy before the next one.".to_owned());
        plan.steps.push(Step::Watch { seconds: DEFAULT_WATCH_SECONDS });
    }
    plan
}

/// How long it may take to end, in words.
fn grace_words(seconds: Option<u32>) -> String {
    seconds.map_or_else(|| "its usual grace period".to_owned(), |s| format!("{s} s of grace"))
}

/// Plans a start.
pub fn plan_start(request: &StartRequest, c: &Container) -> TargetPlan {
    let consequence = if c.state.is_alive() {
        format!("No change: {} already.", c.state.word())
    } else {
        "Starts with its current settings.".to_owned()
    };
    wait_between(one_step(c, Kind::Start, Step::Start, consequence).finished(), request.rolling)
}

/// Plans a stop.
pub fn plan_stop(request: &StopRequest, c: &Container) -> TargetPlan {
    let step = Step::Stop { grace_seconds: request.grace_seconds };
    if !c.state.is_alive() {
        return one_step(c, Kind::Stop, step, "No change: not running.").finished();
    }
    let consequence = format!(
        "Stops it, with {}, then kills it. It stays stopped until it is started.",
        grace_words(request.grace_seconds)
    );
    let mut plan = one_step(c, Kind::Stop, step, consequence);
    plan.downtime = Some(UNTIL_STARTED.to_owned());
    plan.finished()
}

/// Plans a restart.
pub fn plan_restart(request: &RestartRequest, c: &Container) -> TargetPlan {
    let step = Step::Restart { grace_seconds: request.grace_seconds };
    let mut plan = if c.state.is_alive() {
        let grace = grace_words(request.grace_seconds);
        let consequence = format!("Stops it, with {grace}, then starts it.");
        one_step(c, Kind::Restart, step, consequence)
    } else {
        one_step(c, Kind::Restart, step, "Not running: starts it.")
    };
    plan.downtime = c.state.is_alive().then(|| "while it restarts".to_owned());
    wait_between(plan.finished(), request.rolling)
}

/// Plans a signal.
pub fn plan_kill(request: &KillRequest, c: &Container) -> TargetPlan {
    let named = request.signal.as_deref().and_then(signal_name);
    let signal = named.unwrap_or_else(|| "SIGKILL".to_owned());
    let alive = c.state.is_alive();
    let consequence = if !alive {
        "Not running: the signal cannot be sent.".to_owned()
    } else if signal == "SIGKILL" {
        "Kills it at once; unsaved data is lost.".to_owned()
    } else {
        format!("Sends {signal} to its main process.")
    };
    let ends = alive && ENDING.contains(&signal.as_str());
    let mut plan = one_step(c, Kind::Kill, Step::Kill { signal }, consequence);
    plan.downtime = ends.then(|| UNTIL_STARTED.to_owned());
    plan.finished()
}

/// Plans a pause.
pub fn plan_pause(c: &Container) -> TargetPlan {
    let consequence = match c.state {
        State::Paused => "No change: paused already.",
        state if !state.is_alive() => "Not running: it cannot be paused.",
        _ => "Pauses its processes; connections to it hang until it is resumed.",
    };
    let mut plan = one_step(c, Kind::Pause, Step::Pause, consequence);
    let goes_down = c.state.is_alive() && c.state != State::Paused;
    plan.downtime = goes_down.then(|| "until it is resumed".to_owned());
    plan.finished()
}

/// Plans that a paused container goes on.
pub fn plan_resume(c: &Container) -> TargetPlan {
    let consequence = match c.state {
        State::Paused => "Resumes its processes.".to_owned(),
        state => format!("Not paused but {}: nothing to resume.", state.word()),
    };
    one_step(c, Kind::Resume, Step::Resume, consequence).finished()
}

/// Plans a removal.
pub fn plan_remove(request: &RemoveRequest, c: &Container) -> TargetPlan {
    let alive = c.state.is_alive();
    let step = Step::Remove { force: request.force, volumes: request.volumes };
    let mut plan = one_step(c, Kind::Remove, step, removal(request, c, alive));
    if alive && !request.force && plan.refused.is_none() {
        plan.refuse(format!("it is {}; stop it first, or remove it with force", c.state.word()));
    }
    plan.downtime = alive.then(|| "for good".to_owned());
    plan.removes.push(format!("container {}", c.name));
    for m in c.mounts.iter().filter(|m| m.kind == "volume") {
        let what = format!("volume {}", shown(&m.source, 24));
        if m.anonymous && request.volumes {
            plan.data_at_risk.push(format!("the anonymous volume at {}", m.target));
            plan.removes.push(what);
        } else {
            plan.keeps.push(what);
        }
    }
    plan.finished()
}

fn removal(request: &RemoveRequest, c: &Container, alive: bool) -> String {
    let mut text = String::from(if alive && request.force {
        "Kills and removes it with all files written inside it"
    } else {
        "Removes it with all files written inside it"
    });
    let anonymous = c.mounts.iter().filter(|m| m.anonymous).count();
    let named = c.mounts.iter().filter(|m| m.kind == "volume" && !m.anonymous).count();
    if anonymous > 0 {
        let volumes = if anonymous == 1 {
            "1 anonymous volume".to_owned()
        } else {
            format!("{anonymous} anonymous volumes")
        };
        text.push_str(&if request.volumes {
            format!("; its {volumes} and the data in it are lost")
        } else {
            format!("; its {volumes} stays behind, unused")
        });
    }
    if named > 0 {
        text.push_str("; its named volumes stay");
    }
    if matches!(c.state, State::Restarting) {
        text.push_str("; it is not restarted again");
    }
    text.push('.');
    text
}

/// Plans that a container joins a network.
pub fn plan_connect(request: &ConnectRequest, c: &Container) -> TargetPlan {
    let join = &request.join;
    let mut consequence = format!("Connects to the network {} without a restart", join.name);
    let addresses: Vec<&str> =
        [&join.address, &join.ipv6].into_iter().flatten().map(String::as_str).collect();
    if !addresses.is_empty() {
        consequence.push_str(&format!(", with the address {}", addresses.join(" and ")));
    }
    if !join.aliases.is_empty() {
        consequence.push_str(&format!(", as {}", join.aliases.join(", ")));
    }
    consequence.push('.');
    let mut plan = one_step(c, Kind::Connect, Step::Connect { join: join.clone() }, consequence);
    if join.name != "host" && c.networks.iter().any(|n| n == "host") {
        plan.refuse("it uses the host's network and cannot join another");
    } else if c.networks.contains(&join.name) {
        plan.nothing_to_do(format!("No change: connected to {} already.", join.name));
    }
    plan.finished()
}

/// Plans that a container leaves a network.
pub fn plan_disconnect(request: &DisconnectRequest, c: &Container) -> TargetPlan {
    let network = &request.join.name;
    let left = c.networks.iter().filter(|n| *n != network).count();
    let last = if left == 0 { "; it is then in no network" } else { "" };
    let step = Step::Disconnect { network: network.clone(), force: request.force };
    let consequence = format!("Connections over the network {network} are cut{last}.");
    let mut plan = one_step(c, Kind::Disconnect, step, consequence);
    if plan.refused.is_none() && !c.networks.contains(network) {
        plan.refuse(format!("it is not in the network '{}'", shown(network, 60)));
    }
    plan.finished()
}

#[cfg(test)]
#[path = "lifecycle_tests.rs"]
mod tests;
