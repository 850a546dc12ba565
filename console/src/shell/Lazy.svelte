<!-- A part of the console that is loaded when it is needed; a failure shows LoadFailed.svelte. -->
<script lang="ts" generics="P extends Record<string, unknown>">
  import type { Component } from "svelte";

  import LoadFailed from "./LoadFailed.svelte";

  let { part, with: given }: { part: () => Promise<{ default: Component<P> }>; with?: P } = $props();
</script>

{#await part() then { default: Shown }}<Shown {...given as P} />{:catch}<LoadFailed />{/await}
