<!-- A list of texts, one per line. -->
<script lang="ts">
  import { TextArea } from "carbon-components-svelte";
  import { untrack } from "svelte";

  let {
    value,
    onchange,
    name,
    placeholder = "",
    rows = 2,
  }: {
    value: string[] | undefined;
    onchange: (value: string[] | undefined) => void;
    name: string;
    placeholder?: string;
    rows?: number;
  } = $props();

  const read = (text: string) =>
    text
      .split("\n")
      .map((l) => l.trim())
      .filter(Boolean);
  const same = (a: string[], b: string[]) => a.length === b.length && a.every((x, n) => x === b[n]);

  // svelte-ignore state_referenced_locally
  let text = $state((value ?? []).join("\n"));
  let focused = false;
  $effect(() => {
    // Set from elsewhere. What a person types is not touched: only a new value counts.
    const now = value ?? [];
    untrack(() => {
      if (!focused && !same(read(text), now)) text = now.join("\n");
    });
  });
</script>

<TextArea
  aria-label={name}
  {placeholder}
  rows={Math.max(rows, Math.min(8, text.split("\n").length))}
  bind:value={text}
  on:focus={() => (focused = true)}
  on:blur={() => (focused = false)}
  on:input={() => {
    const lines = read(text);
    onchange(lines.length > 0 ? lines : undefined);
  }}
/>
