<!-- The networks of a container: joined with aliases and an address, and left. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { Container, NetworkRow } from "../../lib/types";

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
      title: kind === "connect" ? `Put ${target} into ${name}` : `Take ${target} out of ${name}`,
      request: { kind, targets: [target], join },
      asked: () => ([joining, aliases, address] = [false, "", ""]),
    };
  }
</script>

{#if can && !container.is_self}
  <p class="acts">
    {#each container.networks.filter((n) => n !== "none") as name (name)}
      <button class="link" onclick={() => ask("disconnect", name)}>Leave {name}…</button>
    {/each}
    <button class="link" onclick={() => (joining = !joining)}>Join a network…</button>
  </p>
  {#if joining}
    <form
      class="tools"
      onsubmit={(e) => {
        e.preventDefault();
        ask("connect", network);
      }}
    >
      <select aria-label="Network to join" bind:value={network}>
        <option value="">Which network</option>
        {#each others as name (name)}<option value={name}>{name}</option>{/each}
      </select>
      <input aria-label="Aliases" placeholder="aliases, with commas" bind:value={aliases} />
      <input aria-label="Address" placeholder="address" bind:value={address} />
      <Button size="small" type="submit" disabled={!network}>Join it…</Button>
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
</style>
