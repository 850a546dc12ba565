<!-- A part of the console that is fetched when it is needed; what cannot be fetched says so, see Broken.svelte. -->
<script lang="ts" generics="P extends Record<string, unknown>">
  import type { Component } from "svelte";

  import Broken from "./Broken.svelte";

  let { part, with: given }: { part: () => Promise<{ default: Component<P> }>; with?: P } = $props();
</script>

{#await part() then { default: Shown }}<Shown {...given as P} />{:catch}<Broken />{/await}
