//! `gubernum remove`: containers and other objects by an operation, and the service's own records by one call each.
//!
//! Whatever leaves no outcome of its own is confirmed with a sentence.

use gubernum_api::requests::{RemoveImageRequest, RemoveRequest, RemoveVolumeRequest, Request};
use gubernum_client::Client;

use crate::arguments::{Output, Remove, RemoveObject};
use crate::commands::{act, directories, hosts, members, on_containers, stack_changes, stack_sources};
use crate::exit::{FINE, Failure};
use crate::table::say;

pub(super) async fn run(client: &Client, args: Remove, output: Output) -> Result<u8, Failure> {
    let Some(what) = args.object else {
        let args = args.containers;
        let request = Request::Remove(RemoveRequest { force: args.force, volumes: args.volumes });
        return on_containers(client, request, &args.targets, output).await;
    };
    let done = match what {
        RemoveObject::Host { name } => return hosts::remove(client, &name).await,
        RemoveObject::Image(images) => {
            let request = RemoveImageRequest { force: images.force, keep_parents: false };
            let request = Request::RemoveImage(request);
            return act::remove_objects(client, request, images.base, output).await;
        }
        RemoveObject::Volume(volumes) => {
            let request = Request::RemoveVolume(RemoveVolumeRequest { force: volumes.force });
            return act::remove_objects(client, request, volumes.base, output).await;
        }
        RemoveObject::Network(networks) => {
            return act::remove_objects(client, Request::RemoveNetwork, networks, output).await;
        }
        RemoveObject::Stack(args) => return stack_changes::remove(client, args, output).await,
        RemoveObject::Source { stack } => return stack_sources::remove(client, &stack).await,
        RemoveObject::Member { name } => return members::remove(client, &name).await,
        RemoveObject::Directory { kind } => {
            let kind = kind
                .parse()
                .map_err(|_| Failure::Usage(format!("no directory '{kind}'; there are openid and ldap")))?;
            return directories::remove(client, kind).await;
        }
        RemoveObject::KeptLogs { rule } => {
            client.stop_keeping_logs(rule).await?;
            format!("Rule {rule} is removed; lines that were kept expire as before.")
        }
        RemoveObject::Role { name } => {
            client.remove_role(&name).await?;
            format!("The role {name} is removed.")
        }
        RemoveObject::Invitation { number } => {
            client.withdraw_invitation(number).await?;
            format!("Invitation {number} is revoked.")
        }
        RemoveObject::Note { number } => {
            client.remove_note(number).await?;
            format!("Note {number} is removed.")
        }
        RemoveObject::Syslog => {
            client.remove_syslog().await?;
            "The audit log is no longer sent by syslog.".to_owned()
        }
        RemoveObject::Registry { address } => {
            client.remove_registry(&address).await?;
            format!("{address} is removed.")
        }
    };
    say(&done)?;
    Ok(FINE)
}
