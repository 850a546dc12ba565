<!-- What groups of a directory grant: each line a group and a role on a part of the fleet. -->
<script lang="ts">
  import { Button, Select, SelectItem, TextInput } from "carbon-components-svelte";
  import type { GroupGrant, Role } from "../../lib/types";
  import ScopePick from "./ScopePick.svelte";

  let {
    kind,
    mapping,
    roles,
    onchange,
  }: { kind: string; mapping: GroupGrant[]; roles: Role[]; onchange: (mapping: GroupGrant[]) => void } =
    $props();

  function set(at: number, line: GroupGrant) {
    onchange(mapping.map((one, n) => (n === at ? line : one)));
  }
</script>

<div class="lines">
  {#each mapping as line, at (at)}
    <div class="line" role="group" aria-label={`Group ${at + 1}`}>
      <TextInput
        id={`${kind}-group-${at}`}
        size="sm"
        labelText="Group"
        value={line.group}
        on:input={(event) => set(at, { ...line, group: String(event.detail ?? "") })}
      />
      <Select
        id={`${kind}-group-role-${at}`}
        size="sm"
        labelText="Role"
        selected={line.role}
        on:change={(event) => set(at, { ...line, role: (event.target as HTMLSelectElement).value })}
      >
        {#each roles as role (role.name)}<SelectItem value={role.name} text={role.name} />{/each}
      </Select>
      <ScopePick
        id={`${kind}-group-${at}`}
        scope={line.scope}
        onchange={(scope) => set(at, { ...line, scope })}
      />
      <Button kind="ghost" size="small" on:click={() => onchange(mapping.filter((_, n) => n !== at))}
        >Remove this line</Button
      >
    </div>
  {:else}
    <p class="soft">No group has a grant: nobody can sign in through this directory.</p>
  {/each}
  <Button
    kind="tertiary"
    size="small"
    on:click={() => onchange([...mapping, { group: "", role: "viewer", scope: "fleet" }])}>Add a group</Button
  >
</div>

<style>
  .line {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(10rem, 1fr));
    gap: 0.75rem;
    align-items: end;
    margin-bottom: 0.75rem;
  }
</style>
