<!-- The scope of a grant: its kind, and which. -->
<script lang="ts">
  import { Select, SelectItem, TextInput } from "carbon-components-svelte";
  import { live } from "../../lib/live.svelte";
  import { SCOPES, type ScopeKind, scopeOf, scopeText } from "./members";

  let { scope, id, onchange }: { scope: string; id: string; onchange: (scope: string) => void } = $props();

  const hosts = $derived(live.hosts.map((host) => host.name).sort());
  const groups = $derived([...new Set(live.hosts.flatMap((host) => host.groups ?? []))].sort());
  const stacks = $derived.by(() => {
    const found = new Set<string>();
    for (const c of live.containers) {
      if (c.stack) found.add(c.stack).add(`${c.host}/${c.stack}`);
    }
    return [...found].sort();
  });
  const parts = $derived(scopeOf(scope));
  const known = $derived(names(parts.kind));

  function names(kind: ScopeKind): string[] {
    return kind === "host" ? hosts : kind === "group" ? groups : kind === "stack" ? stacks : [];
  }

  function setKind(kind: ScopeKind) {
    onchange(scopeText(kind, names(kind)[0] ?? ""));
  }
</script>

<Select
  id={`${id}-kind`}
  size="sm"
  labelText="On"
  selected={parts.kind}
  on:change={(event) => setKind((event.target as HTMLSelectElement).value as ScopeKind)}
>
  {#each Object.entries(SCOPES) as [kind, text] (kind)}<SelectItem value={kind} {text} />{/each}
</Select>
{#if known.length > 0}
  <Select
    id={`${id}-name`}
    size="sm"
    labelText="Name"
    selected={parts.name}
    on:change={(event) => onchange(scopeText(parts.kind, (event.target as HTMLSelectElement).value))}
  >
    {#if !known.includes(parts.name)}<SelectItem value={parts.name} text={parts.name} />{/if}
    {#each known as name (name)}<SelectItem value={name} text={name} />{/each}
  </Select>
{:else if parts.kind !== "fleet"}
  <TextInput
    id={`${id}-name`}
    size="sm"
    labelText={parts.kind === "label" ? "Label, as name or name=value" : "Name"}
    value={parts.name}
    on:input={(event) => onchange(scopeText(parts.kind, String(event.detail ?? "")))}
  />
{/if}
