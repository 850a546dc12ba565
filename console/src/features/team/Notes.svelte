<!-- The notes of the team on one object: read, written, pinned, removed. A text is never markup: addresses become links, nothing else does. -->
<script lang="ts">
  import { Button, Checkbox, InlineNotification, Tag, TextArea } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { age, moment } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { session } from "../../lib/session.svelte";
  import type { Note } from "../../lib/types";
  import { pieces } from "./words";

  let { on }: { on: string } = $props();

  let notes = $state.raw<Note[]>([]);
  let text = $state("");
  let pinned = $state(false);
  let changing = $state<number | null>(null);
  let wrong = $state("");
  let busy = $state(false);

  /** Changes whenever a note on this does. */
  const stamp = $derived.by(() => {
    const noted = live.team.noted.find((one) => one.on === on);
    return `${on} ${noted?.notes ?? 0} ${noted?.changed ?? ""} ${live.team.pinned.filter((one) => one.on === on).length}`;
  });

  async function load() {
    notes = await call<Note[]>("GET", `/api/v1/notes?on=${encodeURIComponent(on)}`);
    const fresh = notes.filter((note) => note.is_new).map((note) => note.id);
    if (fresh.length > 0) await call("POST", "/api/v1/mentions/seen", { notes: fresh });
  }

  $effect(() => {
    void stamp;
    load().catch((error: unknown) => (wrong = sentence(error)));
  });

  async function guarded(what: () => Promise<unknown>) {
    busy = true;
    wrong = "";
    try {
      await what();
      await load();
    } catch (error) {
      wrong = sentence(error);
    } finally {
      busy = false;
    }
  }

  const save = () =>
    guarded(async () => {
      if (changing === null) await call("POST", "/api/v1/notes", { on, text, pinned });
      else await call("PATCH", `/api/v1/notes/${changing}`, { text, pinned });
      [text, pinned, changing] = ["", false, null];
    });

  function change(note: Note) {
    [text, pinned, changing] = [note.text, note.pinned, note.id];
    document.getElementById("note-text")?.focus();
  }
</script>

<section class="notes" aria-label="Notes" data-test="notes">
  {#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = "")} />{/if}
  {#each notes as note (note.id)}
    <article>
      <header>
        <strong>{note.author}</strong>
        <span class="soft" title={moment(note.created)}>
          {age(note.created, live.now)} ago{note.edited ? `, changed ${age(note.edited, live.now)} ago` : ""}
        </span>
        {#if note.pinned}<Tag size="sm" type="teal">pinned</Tag>{/if}
      </header>
      <p>
        {#each pieces(note.text) as piece, at (at)}{#if piece.link}<a
              href={piece.link}
              rel="noreferrer noopener"
              target="_blank">{piece.text}</a
            >{:else if piece.mention}<strong>{piece.text}</strong>{:else}{piece.text}{/if}{/each}
      </p>
      <div class="acts">
        <Button
          size="small"
          kind="ghost"
          disabled={busy}
          on:click={() =>
            void guarded(() => call("PATCH", `/api/v1/notes/${note.id}`, { pinned: !note.pinned }))}
          >{note.pinned ? "Unpin" : "Pin"}</Button
        >
        {#if note.author === session.member}
          <Button size="small" kind="ghost" disabled={busy} on:click={() => change(note)}>Edit</Button>
        {/if}
        {#if note.author === session.member || session.isAdmin}
          <Button
            size="small"
            kind="ghost"
            disabled={busy}
            on:click={() => void guarded(() => call("DELETE", `/api/v1/notes/${note.id}`))}>Remove</Button
          >
        {/if}
      </div>
    </article>
  {:else}
    <p class="soft">No notes yet. Everybody who sees this object can read them.</p>
  {/each}
  <form
    onsubmit={(event) => {
      event.preventDefault();
      void save();
    }}
  >
    <TextArea
      id="note-text"
      labelText={changing === null ? "New note" : "Edit note"}
      helperText="@name mentions a member, who sees it on the next visit."
      rows={3}
      maxlength={4000}
      bind:value={text}
    />
    <Checkbox labelText="Pin to the attention list" bind:checked={pinned} />
    <div class="acts">
      <Button size="small" kind="tertiary" type="submit" disabled={busy || !text.trim()}>Save note</Button>
      {#if changing !== null}
        <Button size="small" kind="ghost" on:click={() => ([text, pinned, changing] = ["", false, null])}
          >Cancel</Button
        >
      {/if}
    </div>
  </form>
</section>

<style>
  .notes {
    padding: 0.75rem 1rem;
    overflow-y: auto;
    font-size: 0.875rem;
  }
  article {
    border-bottom: 1px solid var(--cds-ui-03);
    padding: 0.5rem 0;
  }
  article header {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
    align-items: center;
  }
  p {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
  }
  form {
    display: grid;
    gap: 0.5rem;
    margin-top: 1rem;
  }
</style>
