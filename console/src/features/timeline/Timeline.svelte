<!-- What has happened: engine events, operations, sign-ins and changes of hosts on one axis of time. -->
<script lang="ts">
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

  function toggle(kind: EventKind) {
    const next = kinds.includes(kind) ? kinds.filter((k) => k !== kind) : [...kinds, kind];
    query({ kinds: next.join(",") }, true);
  }
</script>

<div class="tools">
  <h1>Timeline</h1>
  {#each KINDS as [kind, name] (kind)}
    <button aria-pressed={kinds.includes(kind)} onclick={() => toggle(kind)}>{name}</button>
  {/each}
  <button aria-pressed={field("bad") !== ""} onclick={() => query({ bad: field("bad") ? null : "1" }, true)}
    >▲ Only what went wrong</button
  >
  <select
    aria-label="Host"
    value={field("host")}
    onchange={(e) => query({ host: e.currentTarget.value || null }, true)}
  >
    <option value="">every host</option>
    {#each live.hosts as host (host.name)}<option value={host.name}>{host.name}</option>{/each}
  </select>
  <input
    placeholder="Object: host/name or name"
    aria-label="Object"
    value={field("object")}
    onchange={(e) => query({ object: e.currentTarget.value }, true)}
  />
  <input
    placeholder="Member"
    aria-label="Member"
    value={field("member")}
    onchange={(e) => query({ member: e.currentTarget.value }, true)}
  />
  <input
    placeholder="Since: 2h, 2026-11-23"
    aria-label="Since"
    value={field("since")}
    onchange={(e) => query({ since: e.currentTarget.value }, true)}
  />
</div>
<Events {filter} />
