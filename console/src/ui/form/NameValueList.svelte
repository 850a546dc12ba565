<!-- Names with values: labels, options, sysctls. -->
<script lang="ts">
  import { TextArea } from "carbon-components-svelte";
  import { untrack } from "svelte";

  let {
    value,
    onchange,
    name,
    placeholder = "",
  }: {
    value: Record<string, string> | undefined;
    onchange: (value: Record<string, string> | undefined) => void;
    name: string;
    placeholder?: string;
  } = $props();

  const write = (v: Record<string, string> | undefined) =>
    Object.entries(v ?? {})
      .map(([k, x]) => `${k}=${x}`)
      .join("\n");
  const read = (text: string): Record<string, string> =>
    Object.fromEntries(
      text
        .split("\n")
        .map((l) => l.trim())
        .filter(Boolean)
        .map((l) => {
          const at = l.indexOf("=");
          return at < 0 ? [l, ""] : [l.slice(0, at).trim(), l.slice(at + 1).trim()];
        }),
    );

  // svelte-ignore state_referenced_locally
  let text = $state(write(value));
  let focused = false;
  $effect(() => {
    // Set from elsewhere. What a person types is not touched: only a new value counts.
    const now = write(value);
    untrack(() => {
      if (!focused && write(read(text)) !== now) text = now;
    });
  });
</script>

<TextArea
  aria-label={name}
  {placeholder}
  rows={Math.max(2, Math.min(8, text.split("\n").length))}
  bind:value={text}
  on:focus={() => (focused = true)}
  on:blur={() => (focused = false)}
  on:input={() => {
    const pairs = read(text);
    onchange(Object.keys(pairs).length > 0 ? pairs : undefined);
  }}
/>
