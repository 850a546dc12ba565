<!-- Notes that mention the member and were not seen yet, above every page. -->
<script lang="ts">
  import { Button, InlineNotification } from "carbon-components-svelte";
  import { call } from "../../lib/api";
  import { live } from "../../lib/live.svelte";
  import { go } from "../../lib/router.svelte";
  import type { Note } from "../../lib/types";
  import { addressOf } from "./words";

  const SHOWN = 3;

  async function seen(note: Note) {
    await call("POST", "/api/v1/mentions/seen", { notes: [note.id] }).catch(() => {});
  }

  function open(note: Note) {
    go(addressOf(note.on));
    void seen(note);
  }
</script>

{#each live.team.mentions.slice(0, SHOWN) as note (note.id)}
  <InlineNotification
    kind="info"
    lowContrast
    title={`${note.author} mentioned you on ${note.on.slice(note.on.indexOf(":") + 1)}`}
    subtitle={note.text.length > 160 ? `${note.text.slice(0, 160)}…` : note.text}
    on:close={() => void seen(note)}
  >
    <svelte:fragment slot="actions">
      <Button size="small" kind="ghost" on:click={() => open(note)}>Open</Button>
    </svelte:fragment>
  </InlineNotification>
{/each}
{#if live.team.mentions.length > SHOWN}
  <p class="soft">{live.team.mentions.length - SHOWN} more notes mention you.</p>
{/if}
