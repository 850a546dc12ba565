<!-- What has happened: engine events, operations, sign-ins and changes of hosts on one axis of time. -->
<script lang="ts">
  import { Checkbox, Select, SelectItem, TextInput } from "carbon-components-svelte";
  import { live } from "../../lib/live.svelte";
  import { place, query } from "../../lib/router.svelte";
  import type { EventKind } from "../../lib/types";
  import Events from "./Events.svelte";

  const KINDS: [EventKind, string][] = [
    ["engine", "Engines"],
    ["operation", "Operations"],
    ["access", "Sign-ins and secrets"],
    ["host", "Hosts"],
  ];

  const kinds = $derived((place.query.get("kinds") ?? "").split(",").filter(Boolean));
  const field = (name: string) => place.query.get(name) ?? "";
  const filter = $derived.by(() => {
    const p = new URLSearchParams();
    for (const kind of kinds) p.append("kind", kind);
    for (const name of ["host", "object", "member", "since", "until"])
      if (field(name)) p.set(name, field(name));
    if (field("bad")) p.set("bad", "true");
    return p.toString();
  });

  /** In the address, on the page, and an example. */
  const FIELDS = [
    ["object", "Object", "host/name, or a name"],
    ["member", "Member", "anyone"],
    ["since", "Since", "2h, or 2026-11-23"],
    ["until", "Until", "now"],
  ] as const;
</script>

<h1>Timeline</h1>
<div class="filters">
  <Select
    size="sm"
    labelText="Kind"
    selected={kinds[0] ?? ""}
    on:change={(event) => query({ kinds: (event.target as HTMLSelectElement).value || null }, true)}
  >
    <SelectItem value="" text="All kinds" />
    {#each KINDS as [kind, name] (kind)}<SelectItem value={kind} text={name} />{/each}
  </Select>
  <Select
    size="sm"
    labelText="Host"
    selected={field("host")}
    on:change={(event) => query({ host: (event.target as HTMLSelectElement).value || null }, true)}
  >
    <SelectItem value="" text="All hosts" />
    {#each live.hosts as host (host.name)}<SelectItem value={host.name} text={host.name} />{/each}
  </Select>
  {#each FIELDS as [name, title, example] (name)}
    <TextInput
      size="sm"
      id={`timeline-${name}`}
      labelText={title}
      placeholder={example}
      value={field(name)}
      on:change={(event) => query({ [name]: String(event.detail ?? "") || null }, true)}
    />
  {/each}
  <Checkbox
    labelText="Problems only"
    checked={field("bad") !== ""}
    on:check={(event) => query({ bad: event.detail ? "1" : null }, true)}
  />
</div>
<Events {filter} />

<style>
  .filters {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(9rem, 100%), 1fr));
    gap: 0.75rem;
    align-items: end;
    margin: 0.75rem 0 1rem;
  }
</style>
