<!-- What is kept outside of the container: volumes, folders of the host, and quick memory. -->
<script lang="ts">
  import type { Finding, MountRule } from "../../lib/types";
  import Said from "../exec/Said.svelte";
  import Size from "../../ui/form/Size.svelte";

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
  <div class="row">
    <select
      aria-label={`Kind of mount ${n + 1}`}
      value={mount.kind}
      onchange={(e) =>
        set(n, { kind: e.currentTarget.value as MountRule["kind"], source: undefined, make: undefined })}
    >
      <option value="volume">volume</option><option value="bind">host folder</option><option value="tmpfs"
        >memory</option
      >
    </select>
    {#if mount.kind === "tmpfs"}
      <span class="soft">gone when it ends</span>
    {:else}
      <input
        aria-label={`Source of mount ${n + 1}`}
        placeholder={mount.kind === "bind" ? "/srv/readings" : "name; empty for one without"}
        list={mount.kind === "volume" ? "volumes-of-host" : undefined}
        value={mount.source ?? ""}
        oninput={(e) => set(n, { source: e.currentTarget.value || undefined })}
      />
    {/if}
    <span aria-hidden="true">→</span>
    <input
      aria-label={`Path of mount ${n + 1}`}
      placeholder="/data"
      value={mount.target}
      oninput={(e) => set(n, { target: e.currentTarget.value })}
    />
    <label class="check"
      ><input
        type="checkbox"
        checked={mount.read_only ?? false}
        onchange={(e) => set(n, { read_only: e.currentTarget.checked })}
      /> read only</label
    >
    <button
      type="button"
      class="away"
      aria-label={`Take mount ${n + 1} away`}
      onclick={() => onchange(value.filter((_, k) => k !== n))}>×</button
    >
  </div>
  {#each at(n) as f (f.sentence)}<p class={f.weight} role="alert" data-test="finding">
      <Said text={f.sentence} />
    </p>{/each}
  {#if mount.kind === "bind" && (mount.make || missing(n))}
    <p class="make">
      <label class="check"
        ><input
          type="checkbox"
          checked={!!mount.make}
          onchange={(e) => set(n, { make: e.currentTarget.checked ? { user: 0, group: 0 } : undefined })}
        /> make the folder</label
      >
      {#if mount.make}
        for user
        <span class="small">
          <Size
            kind="whole"
            most={LAST_ID}
            name={`Owner of the folder of mount ${n + 1}`}
            value={mount.make.user}
            onchange={(user) => make(n, { user: user ?? 0 })}
          />
        </span>
        group
        <span class="small">
          <Size
            kind="whole"
            most={LAST_ID}
            name={`Group of the folder of mount ${n + 1}`}
            value={mount.make.group}
            onchange={(group) => make(n, { group: group ?? 0 })}
          />
        </span>
      {/if}
    </p>
  {/if}
{/each}
<button type="button" class="link" onclick={() => onchange([...value, { kind: "volume", target: "" }])}
  >Add a mount</button
>

<style>
  .row {
    display: grid;
    grid-template-columns: 6.5rem minmax(0, 1.3fr) 1rem minmax(0, 1fr) 5.5rem 1.6rem;
    gap: 0.3rem;
    align-items: center;
    margin-bottom: 0.3rem;
  }
  .check {
    white-space: nowrap;
    font-size: 0.75rem;
  }
  .small {
    --field-width: 4rem;
  }
  .make {
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
