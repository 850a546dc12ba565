<!-- The stacks: the list of all, one of them, or the editor of its text, as the address says. -->
<script lang="ts">
  import { place } from "../../lib/router.svelte";
  import StackEdit from "./StackEdit.svelte";
  import StackList from "./StackList.svelte";
  import StackPage from "./StackPage.svelte";

  const parts = $derived(place.path.split("/").slice(2).map(decodeURIComponent));
  const [host, stack] = $derived([parts[0] ?? "", parts[1] ?? ""]);
</script>

{#if place.path === "/stacks/edit"}
  {#key `${place.query.get("host")} ${place.query.get("stack")} ${place.query.get("revision")}`}
    <StackEdit />
  {/key}
{:else if host && stack}
  {#key `${host}/${stack}`}<StackPage {host} {stack} />{/key}
{:else}
  <StackList />
{/if}
