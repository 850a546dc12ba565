<!-- The containers that an operation holds while it is under way: the new one that is not yet in its place, and the previous one
that is kept until then. No list shows them. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { call } from "../../lib/api";
  import type { Container, Operation } from "../../lib/types";
  import StateMark from "../../ui/StateMark.svelte";

  let { operation }: { operation: Operation } = $props();

  const ROLES = { next: "new", previous: "previous", "one-off": "one-off" };

  let held = $state.raw<Container[]>([]);

  $effect(() => {
    // Each step of the operation can have made or removed one.
    if (operation.state !== "running") {
      held = [];
      return;
    }
    let current = true;
    call<Container[]>("GET", `/api/v1/operations/${operation.id}/containers`)
      .then((found) => current && (held = found))
      .catch(() => current && (held = []));
    return () => (current = false);
  });
</script>

{#if held.length > 0}
  <h2>Containers of this operation</h2>
  <Rows data-test="operation-containers">
    <thead><tr><th>Container</th><th>Role</th><th>State</th><th>Image</th></tr></thead>
    <tbody>
      {#each held as c (c.id)}
        <tr>
          <td>{c.host}/{c.role?.of ?? c.name}</td>
          <td>{c.role ? ROLES[c.role.kind] : ""}</td>
          <td><StateMark container={c} /> {c.state}</td>
          <td class="mono">{c.image}</td>
        </tr>
      {/each}
    </tbody>
  </Rows>
{/if}
