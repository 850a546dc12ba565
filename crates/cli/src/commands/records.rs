//! The service's records: rotation of the seal key, the syslog export of the audit log, and changes that wait for
//! approval.

use std::path::Path;

use gubernum_api::guard::Approval;
use gubernum_api::records::{SyslogSettings, SyslogState, SyslogTransport};
use gubernum_client::Client;

use crate::arguments::Output;
use crate::exit::{FINE, Failure};
use crate::table::{say, say_json, table};

/// What waits for a second member's word, and what was decided lately.
pub(super) async fn approvals(client: &Client, output: Output) -> Result<u8, Failure> {
    let all = client.approvals().await?;
    if output == Output::Json {
        say_json(&all)?;
        return Ok(FINE);
    }
    if all.is_empty() {
        say("Nothing is waiting for approval.")?;
        return Ok(FINE);
    }
    let state = |a: &Approval| match (&a.decided_by, a.approved) {
        (None, _) => "waits".to_owned(),
        (Some(by), true) => format!("approved by {by}"),
        (Some(by), false) => format!("refused by {by}"),
    };
    let row = |a: &Approval| {
        let detail = a.detail.replace('\n', "; ");
        vec![a.id.to_string(), a.member.clone(), a.danger.to_string(), detail, state(a)]
    };
    say(&table(&["NUMBER", "MEMBER", "GUARD", "CHANGE", "STATE"], all.iter().map(row).collect()))?;
    Ok(FINE)
}

fn tell(state: &SyslogState, output: Output) -> Result<u8, Failure> {
    if output == Output::Json {
        say_json(state)?;
        return Ok(FINE);
    }
    let Some(settings) = &state.settings else {
        say("The audit log is not sent anywhere.")?;
        return Ok(FINE);
    };
    let by = match settings.transport {
        SyslogTransport::Tls => "TLS",
        SyslogTransport::Tcp => "TCP",
    };
    let port = settings.port.map(|port| format!(":{port}")).unwrap_or_default();
    say(&format!(
        "The audit log is sent to {}{port} by {by}; {} entries wait.",
        settings.host, state.waiting
    ))?;
    if let Some(why) = &state.failed {
        say(&format!("Not sending: {why}."))?;
    }
    Ok(FINE)
}

/// Where the audit log is sent.
pub(super) async fn syslog(client: &Client, output: Output) -> Result<u8, Failure> {
    tell(&client.syslog().await?, output)
}

/// Sends the audit log somewhere.
pub(super) async fn set_syslog(
    client: &Client,
    host: String,
    port: Option<u16>,
    ca: Option<&Path>,
    tcp: bool,
    output: Output,
) -> Result<u8, Failure> {
    let read = |path: &Path| {
        std::fs::read_to_string(path)
            .map_err(|e| Failure::Said(format!("{} cannot be read: {e}", path.display())))
    };
    let transport = if tcp { SyslogTransport::Tcp } else { SyslogTransport::Tls };
    let settings = SyslogSettings { host, port, transport, ca: ca.map(read).transpose()? };
    tell(&client.set_syslog(&settings).await?, output)
}

/// Seals all secrets with a fresh key.
pub(super) async fn rotate_seal(client: &Client, output: Output) -> Result<u8, Failure> {
    let rotated = client.rotate_seal().await?;
    if output == Output::Json {
        say_json(&rotated)?;
    } else {
        say(&format!(
            "The key was rotated; {} secrets were encrypted again. Earlier backups need the earlier seal.key.",
            rotated.sealed
        ))?;
    }
    Ok(FINE)
}
