<!-- Settings of the service: preferences, registries, syslog, the seal key. -->
<script lang="ts">
  import { session } from "../../lib/session.svelte";
  import Registries from "../images/Registries.svelte";
  import Preferences from "./Preferences.svelte";
  import Records from "./Records.svelte";
</script>

<h1>Service</h1>
{#if session.onFleet("settings")}<Preferences />{/if}
{#if session.onFleet("registries")}<Registries />{/if}
{#if session.onFleet("settings")}<Records />{/if}
