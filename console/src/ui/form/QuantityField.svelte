<!-- An optional size, duration or number: written as people write it, kept in the smallest unit. -->
<script lang="ts">
  import { TextInput } from "carbon-components-svelte";
  import { untrack } from "svelte";
  import { readSize, readSpan, writeSize, writeSpan } from "../../features/deploy/units";

  let {
    value,
    onchange,
    kind,
    name,
    placeholder = "",
    label = "",
    most = Infinity,
  }: {
    value: number | undefined;
    onchange: (value: number | undefined) => void;
    kind: "size" | "span" | "number" | "whole";
    name: string;
    placeholder?: string;
    /** Shown above it. */
    label?: string;
    /** Of a whole number: it is between 0 and this. */
    most?: number;
  } = $props();

  const write = (v: number | undefined): string =>
    v === undefined ? "" : kind === "size" ? writeSize(v) : kind === "span" ? writeSpan(v) : String(v);

  function read(text: string): number | undefined | null {
    const bare = text.trim();
    if (bare === "") return undefined;
    if (kind === "size") return readSize(bare);
    if (kind === "span") return readSpan(bare);
    const number = Number(bare);
    if (!Number.isFinite(number) || (kind === "whole" && !Number.isInteger(number))) return null;
    return most === Infinity || (number >= 0 && number <= most) ? number : null;
  }

  const WANT = {
    size: "a size such as 512 MiB",
    span: "a duration such as 30 s or 1 min",
    number: "a number such as 0.5",
    get whole() {
      return most === Infinity ? "a whole number" : `a whole number from 0 to ${most}`;
    },
  };

  // svelte-ignore state_referenced_locally
  let text = $state(write(value));
  let wrong = $state(false);
  let focused = false;
  /** An error is reported once the field was left. */
  let typing = $state(false);
  $effect(() => {
    // Set from elsewhere, as when a text is taken over. What a person types is not touched: only a new value counts.
    const now = value;
    untrack(() => {
      if (!focused && read(text) !== now) {
        text = write(now);
        wrong = false;
      }
    });
  });

  function typed() {
    const number = read(text);
    wrong = number === null;
    if (number !== null) onchange(number);
  }
</script>

<div class="size">
  <TextInput
    size="sm"
    labelText={label}
    aria-label={name}
    {placeholder}
    autocomplete="off"
    invalid={wrong && !typing}
    invalidText="Enter {WANT[kind]}."
    bind:value={text}
    on:input={typed}
    on:focus={() => (focused = typing = true)}
    on:blur={() => {
      focused = typing = false;
      const number = read(text);
      if (number !== null) text = write(number ?? value);
    }}
  />
</div>

<style>
  .size {
    width: var(--field-width, 9rem);
    max-width: 100%;
  }
</style>
