<!-- The image's defaults, beside what was set. -->
<script lang="ts">
  import type { Definition } from "../../lib/types";
  import { line } from "./units";
  import FormSection from "../../ui/form/FormSection.svelte";

  let { image }: { image: Definition } = $props();

  const rows = $derived(
    (
      [
        ["entry point", line(image.entrypoint ?? [])],
        ["command", line(image.command ?? [])],
        ["user", image.user],
        ["working directory", image.working_folder],
        ["exposed ports", image.open?.join(", ")],
        ["volumes", image.mounts?.map((m) => m.target).join(", ")],
        ["health check", line(image.health?.test ?? [])],
        ["stop signal", image.stop_signal],
        ...(image.environment ?? []).map((e) => [`variable ${e.name}`, e.value]),
        ...Object.entries(image.labels ?? {}).map(([k, v]) => [`label ${k}`, v]),
      ] as [string, string | undefined][]
    ).filter(([, v]) => v),
  );
</script>

<FormSection title="From the image" note="the image's defaults; settings above override them" folded>
  <dl data-test="from-image">
    {#each rows as [name, value], n (n)}<dt>{name}</dt>
      <dd class="mono">{value}</dd>{/each}
  </dl>
</FormSection>

<style>
  dl {
    display: grid;
    grid-template-columns: 12rem minmax(0, 1fr);
    gap: 0.2rem 0.75rem;
    font-size: 0.8125rem;
  }
  dt {
    color: var(--cds-text-02);
    overflow-wrap: anywhere;
  }
  dd {
    overflow-wrap: anywhere;
  }
</style>
