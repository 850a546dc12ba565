<!-- How far a target is: one bar, what is done in words, bytes and rate. -->
<script lang="ts">
  import { ProgressBar } from "carbon-components-svelte";
  import { bytes } from "../../lib/format";
  import { rateOf, transferred } from "./transfer";
  import type { Progress } from "../../lib/types";

  let { progress, label }: { progress: Progress; label: string } = $props();

  const sum = $derived(transferred(progress));
  let before: { at: number; done: number } | null = null;
  let rate = $state<number | null>(null);

  $effect(() => {
    const now = { at: performance.now(), done: sum.done };
    if (before && now.done === before.done) return;
    if (before) rate = rateOf(before, now);
    before = now;
  });

  const helper = $derived(
    [
      sum.words,
      sum.total > 0 ? `${bytes(sum.done)} of ${bytes(sum.total)}` : "",
      rate === null ? "" : `${bytes(Math.round(rate))}/s`,
    ]
      .filter(Boolean)
      .join(", "),
  );
</script>

<div data-test="progress">
  <ProgressBar
    size="sm"
    labelText={label}
    hideLabel
    value={sum.total > 0 ? sum.done : undefined}
    max={sum.total || 1}
    helperText={helper}
  />
</div>
