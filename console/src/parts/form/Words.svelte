<!-- A command: one line, taken apart into words as it is typed. -->
<script lang="ts">
  import { line, words } from "../../lib/units";

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
  $effect(() => {
    const now = line(value ?? []);
    const read = words(text);
    if (read && line(read) !== now) text = now;
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
