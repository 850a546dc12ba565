<!-- Shown in place of a part of the console that could not be loaded. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
</script>

<div class="empty" role="alert">
  <h1>This part of the console could not be loaded</h1>
  <p>The service may have been updated or restarted. Load the console again.</p>
  <Button size="small" on:click={() => location.reload()}>Reload</Button>
</div>
