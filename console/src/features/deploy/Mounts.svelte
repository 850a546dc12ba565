<!-- What is kept outside of the container: volumes, folders of the host, and quick memory. -->
<script lang="ts">
  import type { Finding, MountRule } from "../../lib/types";
  import QuotedSentence from "../exec/QuotedSentence.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import RemoveButton from "../../ui/RemoveButton.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";
  import QuantityField from "../../ui/form/QuantityField.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import CheckField from "../../ui/form/CheckField.svelte";

  let {
    value,
    onchange,
    findings,
    volumes,
  }: {
    value: MountRule[];
    onchange: (value: MountRule[]) => void;
    findings: Finding[];
    /** Names of the host's volumes, to choose from. */
    volumes: string[];
  } = $props();

  const at = (n: number) =>
    findings.filter((f) => f.field === `/mounts/${n}` || f.field.startsWith(`/mounts/${n}/`));

  function set(n: number, change: Partial<MountRule>) {
    onchange(value.map((m, k) => (k === n ? { ...m, ...change } : m)));
  }
  const KINDS = [
    ["volume", "volume"],
    ["bind", "host folder"],
    ["tmpfs", "memory"],
  ] as const;
  /** The highest number of a user or group that the kernel takes. */
  const LAST_ID = 4_294_967_294;
  const make = (n: number, change: { user?: number; group?: number }) =>
    set(n, { make: { user: 0, group: 0, ...value[n]?.make, ...change } });
  const missing = (n: number) => at(n).some((f) => f.field.endsWith("/source"));
</script>

<datalist id="volumes-of-host">
  {#each volumes as name (name)}<option value={name}></option>{/each}
</datalist>
{#each value as mount, n (n)}
  <div class="row" data-field={`/mounts/${n}`}>
    <SelectField
      name={`Kind of mount ${n + 1}`}
      value={mount.kind}
      options={KINDS}
      onchange={(kind) => set(n, { kind: kind as MountRule["kind"], source: undefined, make: undefined })}
    />
    {#if mount.kind === "tmpfs"}
      <span class="soft">lost on exit</span>
    {:else}
      <div data-field={`/mounts/${n}/source`}>
        <TextField
          name={`Source of mount ${n + 1}`}
          placeholder={mount.kind === "bind" ? "/srv/readings" : "name; empty for an anonymous one"}
          list={mount.kind === "volume" ? "volumes-of-host" : undefined}
          value={mount.source ?? undefined}
          onchange={(source) => set(n, { source })}
        />
      </div>
    {/if}
    <span aria-hidden="true">→</span>
    <div data-field={`/mounts/${n}/target`}>
      <TextField
        name={`Path of mount ${n + 1}`}
        placeholder="/data"
        value={mount.target}
        onchange={(target) => set(n, { target: target ?? "" })}
      />
    </div>
    <CheckField
      label="read-only"
      value={mount.read_only ?? false}
      onchange={(read_only) => set(n, { read_only })}
    />
    <RemoveButton name={`Remove mount ${n + 1}`} onclick={() => onchange(value.filter((_, k) => k !== n))} />
  </div>
  {#each at(n) as f (f.sentence)}<p class={f.weight} role="alert" data-test="finding">
      <QuotedSentence text={f.sentence} />
    </p>{/each}
  {#if mount.kind === "bind" && (mount.make || missing(n))}
    <div class="make">
      <CheckField
        label="create the folder"
        value={!!mount.make}
        onchange={(wanted) => set(n, { make: wanted ? { user: 0, group: 0 } : undefined })}
      />
      {#if mount.make}
        for user
        <span class="small">
          <QuantityField
            kind="whole"
            most={LAST_ID}
            name={`Owner of the folder of mount ${n + 1}`}
            value={mount.make.user}
            onchange={(user) => make(n, { user: user ?? 0 })}
          />
        </span>
        group
        <span class="small">
          <QuantityField
            kind="whole"
            most={LAST_ID}
            name={`Group of the folder of mount ${n + 1}`}
            value={mount.make.group}
            onchange={(group) => make(n, { group: group ?? 0 })}
          />
        </span>
      {/if}
    </div>
  {/if}
{/each}
<InlineAction onclick={() => onchange([...value, { kind: "volume", target: "" }])}>Add a mount</InlineAction>

<style>
  .row {
    display: grid;
    grid-template-columns: 6.5rem minmax(0, 1.3fr) 1rem minmax(0, 1fr) 6rem 2rem;
    gap: 0.3rem;
    align-items: center;
    margin-bottom: 0.3rem;
  }
  .small {
    --field-width: 4rem;
  }
  .make {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
    align-items: center;
    margin: 0 0 0.4rem 6.8rem;
    font-size: 0.75rem;
  }
  .error {
    color: var(--state-failed);
    font-size: 0.75rem;
    margin: 0 0 0.3rem;
  }
  .warning {
    color: var(--state-halted);
    font-size: 0.75rem;
    margin: 0 0 0.3rem;
  }
</style>
