<!-- A command: one line, taken apart into words as it is typed. -->
<script lang="ts">
  import { untrack } from "svelte";
  import { line, words } from "../../features/deploy/units";

  let {
    value,
    onchange,
    name,
    placeholder = "",
  }: {
    value: string[] | undefined;
    onchange: (value: string[] | undefined) => void;
    name: string;
    placeholder?: string;
  } = $props();

  // svelte-ignore state_referenced_locally
  let text = $state(line(value ?? []));
  let open = $state(false);
  let focused = false;
  $effect(() => {
    // Set from elsewhere. What a person types is left alone: only a new value counts.
    const now = line(value ?? []);
    untrack(() => {
      const read = words(text);
      if (!focused && read && line(read) !== now) text = now;
    });
  });

  function typed() {
    const read = words(text);
    open = read === null;
    if (read) onchange(read.length > 0 ? read : undefined);
  }
</script>

<input
  type="text"
  class="mono"
  aria-label={name}
  {placeholder}
  autocomplete="off"
  spellcheck="false"
  bind:value={text}
  oninput={typed}
  onfocus={() => (focused = true)}
  onblur={() => (focused = false)}
/>
{#if open}<p role="alert">A quote is still open.</p>{/if}

<style>
  input {
    width: 100%;
  }
  p {
    margin: 0.15rem 0 0;
    font-size: 0.75rem;
    color: var(--state-failed);
  }
</style>
