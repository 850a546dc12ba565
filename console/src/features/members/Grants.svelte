<!-- The grants of a member or an invitation: each a role on a part of the fleet. -->
<script lang="ts">
  import { Button, Select, SelectItem } from "carbon-components-svelte";
  import type { Grant, Role } from "../../lib/types";
  import ScopePick from "./ScopePick.svelte";

  let {
    grants,
    roles,
    id,
    onchange,
  }: {
    grants: Grant[];
    roles: Role[];
    /** Tells the fields of several lists on one page apart. */
    id: string;
    onchange: (grants: Grant[]) => void;
  } = $props();

  function set(at: number, grant: Grant) {
    onchange(grants.map((one, n) => (n === at ? grant : one)));
  }
</script>

{#each grants as grant, at (at)}
  <div class="grant" role="group" aria-label={`Grant ${at + 1}`}>
    <Select
      id={`${id}-role-${at}`}
      size="sm"
      labelText="Role"
      selected={grant.role}
      on:change={(event) => set(at, { ...grant, role: (event.target as HTMLSelectElement).value })}
    >
      {#each roles as role (role.name)}<SelectItem value={role.name} text={role.name} />{/each}
    </Select>
    <ScopePick id={`${id}-${at}`} scope={grant.scope} onchange={(scope) => set(at, { ...grant, scope })} />
    <Button kind="ghost" size="small" on:click={() => onchange(grants.filter((_, n) => n !== at))}
      >Remove this grant</Button
    >
  </div>
{:else}
  <p class="soft">No grants: this member sees nothing.</p>
{/each}
<Button
  kind="tertiary"
  size="small"
  on:click={() => onchange([...grants, { role: "viewer", scope: "fleet" }])}>Add a grant</Button
>

<style>
  .grant {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(10rem, 1fr));
    gap: 0.75rem;
    align-items: end;
    max-width: 52rem;
    margin-bottom: 0.75rem;
  }
</style>
