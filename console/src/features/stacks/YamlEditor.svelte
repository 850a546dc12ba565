<!-- A text of YAML that is edited, or only shown. The editor itself is fetched when it is first needed. -->
<script lang="ts">
  import type { EditorView } from "@codemirror/view";
  import { onDestroy } from "svelte";
  import type { LineNote } from "./yaml";

  let {
    value,
    label,
    notes = [],
    onchange = null,
    at = null,
  }: {
    value: string;
    label: string;
    notes?: LineNote[];
    onchange?: ((text: string) => void) | null;
    /** Where the cursor is to go; a new object each time. */
    at?: { line: number; column: number } | null;
  } = $props();

  let place = $state<HTMLElement | null>(null);
  let view = $state.raw<EditorView | null>(null);
  let tools = $state.raw<typeof import("./yaml") | null>(null);
  let gone = false;

  $effect(() => {
    const parent = place;
    if (!parent || view) return;
    void import("./yaml").then((loaded) => {
      if (gone || view) return;
      tools = loaded;
      view = loaded.editor(parent, value, label, onchange ? (text) => onchange(text) : null);
    });
  });
  $effect(() => {
    // Another text than the one that was typed here: another file, or one that was fetched.
    if (view && value !== view.state.doc.toString()) {
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: value } });
    }
  });
  $effect(() => {
    if (view && tools) tools.mark(view, notes);
  });
  $effect(() => {
    if (view && tools && at) tools.goTo(view, at.line, at.column);
  });
  onDestroy(() => {
    gone = true;
    view?.destroy();
  });
</script>

<div class="editor" bind:this={place} data-test="yaml"></div>

<style>
  .editor {
    height: 100%;
    min-height: 8rem;
    border: 1px solid var(--line);
  }
</style>
