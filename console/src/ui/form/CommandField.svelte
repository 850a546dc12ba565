<!-- A command: one line, split into arguments as it is typed. -->
<script lang="ts">
  import { TextInput } from "carbon-components-svelte";
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
  /** An error is reported once the field was left. */
  let typing = $state(false);
  $effect(() => {
    // Set from elsewhere. What a person types is not touched: only a new value counts.
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

<div class="mono">
  <TextInput
    size="sm"
    aria-label={name}
    {placeholder}
    autocomplete="off"
    spellcheck="false"
    invalid={open && !typing}
    invalidText="A quote is not closed."
    bind:value={text}
    on:input={typed}
    on:focus={() => (focused = typing = true)}
    on:blur={() => (focused = typing = false)}
  />
</div>
