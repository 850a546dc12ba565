//! Runs the hooks of a service: before its container starts, after that, and before it is stopped.
//!
//! They are in the container's labels ([`gubernum_core::stack::hooks`]). One that fails ends the step it belongs to: nothing is
//! stopped whose `pre_stop` failed, and what does not come up goes again.

use std::time::Duration;

use gubernum_core::compose::model::Hook;
use gubernum_core::definition::{EnvironmentEntry, RestartRule};
use gubernum_core::journal::Progress;
use gubernum_core::stack::hooks::{Hooks, words};
use gubernum_core::text::shown;
use gubernum_engine::exec::ExecWish;

use crate::exec::{RUN_ONCE_LABEL, RUN_ONCE_NAME};
use crate::operations::target_run::{Stopped, TargetRun};

/// How long one hook may take.
const LONGEST: Duration = Duration::from_secs(300);
/// How much is read of what one says.
const MOST_SAID: usize = 64 * 1024;

impl TargetRun<'_> {
    /// The hooks of a container that is there, and whether it runs.
    fn hooks_of(&self, id: &str) -> (Hooks, bool) {
        self.executor.hub.look(|fleet| {
            let found = fleet.container(&self.host, id);
            found.map(|c| (Hooks::of(&c.labels), c.state.is_alive())).unwrap_or_default()
        })
    }

    /// The hooks of what is made, or of what is there.
    fn hooks_now(&self, id: &str) -> Hooks {
        match &self.inputs.definition {
            Some(next) if self.made.as_deref() == Some(id) => Hooks::of(&next.labels),
            _ => self.hooks_of(id).0,
        }
    }

    /// Runs what is to be run in it before it is stopped.
    pub(super) async fn before_stop(&self, id: &str) -> Result<(), Stopped> {
        let (hooks, runs) = self.hooks_of(id);
        for hook in hooks.pre_stop.iter().filter(|_| runs) {
            self.run_hook(id, hook, "pre_stop", "it was not stopped ('kill' skips the hook)").await?;
        }
        Ok(())
    }

    /// Runs what is to be run in it once it is started.
    pub(super) async fn after_start(&self, id: &str) -> Result<(), Stopped> {
        for hook in &self.hooks_now(id).post_start {
            self.run_hook(id, hook, "post_start", "the start failed").await?;
        }
        Ok(())
    }

    /// Runs what is to be run before it starts, each in a container of its own that is like it.
    pub(super) async fn before_start(&self) -> Result<(), Stopped> {
        let Some(definition) = &self.inputs.definition else { return Ok(()) };
        for (n, hook) in Hooks::of(&definition.labels).pre_start.iter().enumerate() {
            let mut of_hook = definition.clone();
            of_hook.name = format!("{RUN_ONCE_NAME}pre-start-{}-{}-{n}", self.name, self.operation);
            // Without what the image begins with, as in a container that runs.
            of_hook.entrypoint = Some(hook.command.clone());
            of_hook.command = None;
            of_hook.user = hook.user.clone().or(of_hook.user);
            of_hook.working_folder = hook.working_folder.clone().or(of_hook.working_folder);
            of_hook.rights.privileged |= hook.privileged;
            of_hook.ports.clear();
            of_hook.health = None;
            of_hook.restart = RestartRule { policy: String::new(), most_tries: None };
            // It is not one of the stack's: nobody looks for it there.
            of_hook.labels.clear();
            // Should the service end in the middle, it is removed once its time is over.
            let until = self.executor.clock.now().as_second() + LONGEST.as_secs() as i64;
            of_hook.labels.insert(RUN_ONCE_LABEL.to_owned(), until.to_string());
            for joined in &mut of_hook.network.networks {
                (joined.aliases, joined.address, joined.ipv6) = (Vec::new(), None, None);
            }
            for (name, value) in &hook.environment {
                of_hook.environment.retain(|entry| entry.name != *name);
                let (name, value) = (name.clone(), value.clone());
                of_hook.environment.push(EnvironmentEntry { name, value, hidden: false });
            }
            let image = self.inputs.image_id.as_deref();
            let id = self.engine.make(&of_hook.name.clone(), &of_hook, None, image).await?;
            self.tell_hook("pre_start", hook);
            let ran = async {
                if !self.inputs.files.is_empty() {
                    self.engine.put_files(&id, &self.inputs.files).await?;
                }
                self.engine.start(&id).await?;
                self.wait_for_end(&id).await
            };
            let ran = tokio::time::timeout(LONGEST, ran).await;
            let _ = self.engine.remove(&id, true, true).await;
            match ran {
                Ok(Ok(())) => {}
                Ok(Err(Stopped::Failed(why))) => {
                    return Err(Stopped::Failed(format!("its pre_start '{}' failed: {why}", words(hook))));
                }
                Ok(Err(other)) => return Err(other),
                Err(_) => return Err(too_long("pre_start", hook)),
            }
        }
        Ok(())
    }

    fn tell_hook(&self, moment: &str, hook: &Hook) {
        let progress = Progress { doing: format!("{moment}: {}", words(hook)), ..Progress::default() };
        self.active.operation.lock().targets[self.position].progress = Some(progress);
    }

    async fn run_hook(&self, id: &str, hook: &Hook, moment: &str, end: &str) -> Result<(), Stopped> {
        self.tell_hook(moment, hook);
        let wish = ExecWish {
            command: hook.command.clone(),
            user: hook.user.clone(),
            folder: hook.working_folder.clone(),
            environment: hook.environment.iter().map(|(name, value)| format!("{name}={value}")).collect(),
            privileged: hook.privileged,
            ..ExecWish::default()
        };
        let ran = tokio::select! {
            ran = tokio::time::timeout(LONGEST, self.engine.run_to_end(id, &wish, MOST_SAID)) => ran,
            () = self.active.cancel.cancelled(), if self.stopped.is_none() => return Err(Stopped::CalledOff),
        };
        self.active.operation.lock().targets[self.position].progress = None;
        let why = match ran {
            Ok(Ok((Some(0), _))) => return Ok(()),
            Ok(Ok((code, said))) => {
                let said = String::from_utf8_lossy(&said);
                let last = said.lines().rev().find(|line| !line.trim().is_empty());
                let said =
                    last.map_or_else(String::new, |line| format!("; last output: {}", shown(line, 200)));
                let code =
                    code.map_or_else(|| "without an exit code".to_owned(), |c| format!("with code {c}"));
                format!("exited {code}{said}")
            }
            Ok(Err(error)) => error.to_string(),
            Err(_) => return Err(too_long(moment, hook)),
        };
        Err(Stopped::Failed(format!("its {moment} '{}' failed, so {end}: {why}", words(hook))))
    }
}

fn too_long(moment: &str, hook: &Hook) -> Stopped {
    let most = LONGEST.as_secs() / 60;
    Stopped::Failed(format!("its {moment} '{}' took longer than {most} min", words(hook)))
}
