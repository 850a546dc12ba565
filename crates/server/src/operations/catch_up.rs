//! Waits at the end of an operation until the fleet has observed what it changed, before the outcome is reported.

use std::time::Duration;

use gubernum_engine::Engine;

use crate::fleet::Hub;

/// How long the fleet may take; what it shows is right a little later in any case.
const LONGEST: Duration = Duration::from_secs(5);
const LOOK_EVERY: Duration = Duration::from_millis(50);

/// Waits until the fleet shows under a name what the engine has there: whoever hears that an operation is over
/// continues from what it came to.
pub(super) async fn wait_until_seen(hub: &Hub, engine: &Engine, host: &str, name: &str) {
    let Ok(now) = engine.inspect(name).await else { return };
    let until = tokio::time::Instant::now() + LONGEST;
    while tokio::time::Instant::now() < until {
        let shown = hub.look(|fleet| {
            let found = fleet.container(host, &now.container.id);
            let shows = found.is_some_and(|c| c.name == now.container.name && c.state == now.container.state);
            // What was removed has left the operation too.
            let mut aside = fleet.aside_of(host);
            shows && !aside.any(|c| c.role.as_ref().is_some_and(|role| role.of == name))
        });
        if shown {
            return;
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
}
