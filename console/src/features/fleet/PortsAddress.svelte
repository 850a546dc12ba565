<!-- The dialog that sets where a browser reaches the published ports of a host. -->
<script lang="ts">
  import { Modal, TextInput } from "carbon-components-svelte";

  import { call, sentence } from "../../lib/api";
  import type { Host } from "../../lib/types";

  let { host, onclose }: { host: Host; onclose: () => void } = $props();

  // Each host has a dialog of its own.
  // svelte-ignore state_referenced_locally
  let address = $state(host.ports_address ?? "");
  let wrong = $state("");
  let busy = $state(false);

  async function save() {
    [busy, wrong] = [true, ""];
    try {
      await call("PATCH", `/api/v1/hosts/${encodeURIComponent(host.name)}`, {
        ports_address: address.trim(),
      });
      onclose();
    } catch (error) {
      wrong = sentence(error);
    } finally {
      busy = false;
    }
  }
</script>

<Modal
  open
  size="sm"
  modalHeading={`Address for published ports of ${host.name}`}
  primaryButtonText="Save"
  primaryButtonDisabled={busy}
  secondaryButtonText="Cancel"
  selectorPrimaryFocus="#ports-address"
  on:click:button--secondary={onclose}
  on:close={onclose}
  on:submit={() => void save()}
>
  <TextInput
    id="ports-address"
    labelText="Name or address"
    helperText="Where a browser reaches this host's published ports, for example packhouse.example. Empty: ports are not links."
    invalid={wrong !== ""}
    invalidText={wrong}
    bind:value={address}
  />
</Modal>
