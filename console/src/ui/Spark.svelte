<!-- A small curve of the recent past, without axes: only whether it rests, rises or jumps. -->
<script lang="ts">
  let { values, title }: { values: number[]; title: string } = $props();

  const WIDE = 72;
  const TALL = 18;

  const points = $derived.by(() => {
    if (values.length < 2) return "";
    const most = Math.max(...values) || 1;
    const step = WIDE / (values.length - 1);
    return values
      .map((v, i) => `${(i * step).toFixed(1)},${(TALL - 1 - (v / most) * (TALL - 3)).toFixed(1)}`)
      .join(" ");
  });
</script>

<svg width={WIDE} height={TALL} viewBox={`0 0 ${WIDE} ${TALL}`} role="img" aria-label={title}>
  <title>{title}</title>
  {#if points}
    <polyline {points} fill="none" stroke="currentColor" stroke-width="1.4" />
  {/if}
</svg>

<style>
  svg {
    color: var(--state-runs);
    vertical-align: middle;
  }
</style>
