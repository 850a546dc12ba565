<!-- The networks of a container: connect with aliases and an address, and disconnect. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { Container, NetworkRow } from "../../lib/types";
  import InlineAction from "../../ui/InlineAction.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";

  let { container }: { container: Container } = $props();

  const list = new Listing<NetworkRow>("/api/v1/networks");
  let joining = $state(false);
  let network = $state("");
  let aliases = $state("");
  let address = $state("");

  const others = $derived(
    list.rows
      .filter(
        (n) =>
          n.host === container.host &&
          !container.networks.includes(n.name) &&
          !["host", "none"].includes(n.name),
      )
      .map((n) => n.name),
  );
  const can = $derived(!container.networks.includes("host"));

  function ask(kind: "connect" | "disconnect", name: string) {
    const target = `${container.host}/${container.name}`;
    const join = {
      name,
      ...(kind === "connect" && aliases.trim()
        ? {
            aliases: aliases
              .split(",")
              .map((a) => a.trim())
              .filter(Boolean),
          }
        : {}),
      ...(kind === "connect" && address.trim() ? { address: address.trim() } : {}),
    };
    pending.wish = {
      kind,
      containers: [container],
      title: kind === "connect" ? `Connect ${target} to ${name}` : `Disconnect ${target} from ${name}`,
      request: { kind, targets: [target], join },
      asked: () => ([joining, aliases, address] = [false, "", ""]),
    };
  }
</script>

{#if can && !container.is_self}
  <p class="acts">
    {#each container.networks.filter((n) => n !== "none") as name (name)}
      <InlineAction onclick={() => ask("disconnect", name)}>Disconnect from {name}…</InlineAction>
    {/each}
    <InlineAction onclick={() => (joining = !joining)}>Connect to network…</InlineAction>
  </p>
  {#if joining}
    <form
      class="tools"
      onsubmit={(e) => {
        e.preventDefault();
        ask("connect", network);
      }}
    >
      <SelectField
        name="Network to join"
        value={network}
        options={[["", "Choose a network"], ...others.map((name): [string, string] => [name, name])]}
        onchange={(next) => (network = next)}
      />
      <TextField
        name="Aliases"
        placeholder="aliases, separated by commas"
        value={aliases}
        onchange={(text) => (aliases = text ?? "")}
      />
      <TextField
        name="Address"
        placeholder="address"
        value={address}
        onchange={(text) => (address = text ?? "")}
      />
      <Button size="small" type="submit" disabled={!network}>Connect…</Button>
    </form>
  {/if}
{/if}

<style>
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 0.3rem 1rem;
    margin: 0.3rem 0;
  }
  .acts :global(.act + .act) {
    margin-left: 0;
  }
</style>
