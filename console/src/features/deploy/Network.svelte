<!-- How a container is joined: mode, networks with aliases and addresses, names. -->
<script lang="ts">
  import { type Draft, setIn } from "./draft.svelte";
  import Entry from "../../ui/form/Entry.svelte";
  import Lines from "../../ui/form/Lines.svelte";
  import Part from "../../ui/form/Part.svelte";

  let { draft, networks }: { draft: Draft; networks: string[] } = $props();

  const d = $derived(draft.d);
</script>

<Part
  title="Network"
  note="networks, aliases, addresses, names"
  folded
  set={setIn(...Object.values(d.network ?? {}))}
  wrong={draft.wrongIn("/network")}
>
  <Entry label="Mode" help="Its own network stack, the host's, or none." findings={draft.at("/network/mode")}>
    <select
      aria-label="Network mode"
      value={d.network?.mode ?? ""}
      onchange={(e) => draft.network({ mode: e.currentTarget.value || undefined })}
    >
      <option value="">networks of the host, as below</option>
      <option value="host">the host's own</option><option value="none">none</option>
      {#if d.network?.mode && !["host", "none"].includes(d.network.mode)}<option value={d.network.mode}
          >{d.network.mode}</option
        >{/if}
    </select>
  </Entry>
  <Entry
    label="Networks"
    help="Others in them reach it by its name and aliases."
    findings={draft.at("/network/networks")}
  >
    <datalist id="networks-of-host"
      >{#each networks as name (name)}<option value={name}></option>{/each}</datalist
    >
    {#each d.network?.networks ?? [] as joined, n (n)}
      <div class="joined">
        <input
          aria-label={`Network ${n + 1}`}
          list="networks-of-host"
          placeholder="network"
          value={joined.name}
          oninput={(e) => {
            const name = e.currentTarget.value;
            draft.network({ networks: d.network?.networks?.map((x, k) => (k === n ? { ...x, name } : x)) });
          }}
        />
        <input
          aria-label={`Aliases in network ${n + 1}`}
          placeholder="aliases, with commas"
          value={joined.aliases?.join(", ") ?? ""}
          onchange={(e) => {
            const aliases = e.currentTarget.value
              .split(",")
              .map((a) => a.trim())
              .filter(Boolean);
            draft.network({
              networks: d.network?.networks?.map((x, k) => (k === n ? { ...x, aliases } : x)),
            });
          }}
        />
        <input
          aria-label={`Address in network ${n + 1}`}
          placeholder="address"
          value={joined.address ?? ""}
          oninput={(e) => {
            const address = e.currentTarget.value || undefined;
            draft.network({
              networks: d.network?.networks?.map((x, k) => (k === n ? { ...x, address } : x)),
            });
          }}
        />
        <button
          type="button"
          class="away"
          aria-label={`Leave network ${n + 1}`}
          onclick={() => draft.network({ networks: d.network?.networks?.filter((_, k) => k !== n) })}
          >×</button
        >
      </div>
    {/each}
    <button
      type="button"
      class="link"
      onclick={() => draft.network({ networks: [...(d.network?.networks ?? []), { name: "" }] })}
      >Join a network</button
    >
  </Entry>
  <div class="two">
    <Entry label="Name servers" help="Addresses, one on each line." findings={draft.at("/network/dns")}>
      <Lines name="Name servers" value={d.network?.dns} onchange={(dns) => draft.network({ dns })} />
    </Entry>
    <Entry label="Extra hosts" help="name:address, one on each line." findings={draft.at("/network/hosts")}>
      <Lines name="Extra hosts" value={d.network?.hosts} onchange={(hosts) => draft.network({ hosts })} />
    </Entry>
  </div>
</Part>

<style>
  .two {
    display: grid;
    gap: 1rem;
    grid-template-columns: 1fr 1fr;
  }
  .joined {
    display: grid;
    grid-template-columns: 1fr 1.2fr 1fr 1.6rem;
    gap: 0.3rem;
    margin-bottom: 0.3rem;
  }
</style>
