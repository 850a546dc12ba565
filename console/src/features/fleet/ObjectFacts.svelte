<!-- The inspector's facts of a host, image, volume, network or stack. -->
<script lang="ts">
  import { call, sentence } from "../../lib/api";
  import { age, bytes, imageName, moment, visible } from "../../lib/format";
  import { inspect, type Inspected } from "./inspect";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import type { ImageDetail, NetworkRow, StackRow, VolumeRow } from "../../lib/types";
  import ImageActions from "../images/ImageActions.svelte";
  import StateMark from "../../ui/StateMark.svelte";
  import StackActions from "../stacks/StackActions.svelte";
  import HostFacts from "./HostFacts.svelte";
  import ObjectActions from "./ObjectActions.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import CopyInline from "../../ui/CopyInline.svelte";

  let { what }: { what: Inspected } = $props();

  let image = $state.raw<ImageDetail | null>(null);
  let wrong = $state("");

  const LISTS: Record<string, string> = {
    volume: "/api/v1/volumes",
    network: "/api/v1/networks",
    stack: "/api/v1/stacks",
  };
  const list = $derived(LISTS[what.kind] ? new Listing<unknown>(LISTS[what.kind] ?? "") : null);

  $effect(() => {
    if (what.kind !== "image") return;
    const asked = what.key;
    image = null;
    call<ImageDetail>("GET", `/api/v1/images/${encodeURIComponent(asked)}`)
      .then((found) => {
        if (asked === what.key) image = found;
      })
      .catch((error: unknown) => (wrong = sentence(error)));
  });

  $effect(() => {
    void live.assetsStamp;
    list?.soon();
  });

  const host = $derived(what.kind === "host" ? live.hosts.find((h) => h.name === what.key) : undefined);
  const volume = $derived(
    what.kind === "volume"
      ? (list?.rows as VolumeRow[]).find((v) => `${v.host}/${v.name}` === what.key)
      : undefined,
  );
  const network = $derived(
    what.kind === "network"
      ? (list?.rows as NetworkRow[]).find((n) => `${n.host}/${n.name}` === what.key)
      : undefined,
  );
  const stack = $derived(
    what.kind === "stack" ? (list?.rows as StackRow[]).find((s) => s.name === what.key) : undefined,
  );

  function labelsOf(labels: Record<string, string>): [string, string][] {
    return Object.entries(labels).sort((a, b) => a[0].localeCompare(b[0]));
  }
</script>

{#snippet container(reference: string)}
  {@const [h, n] = reference.split("/")}
  {@const c = live.container(h ?? "", n ?? "")}
  <InlineAction onclick={() => inspect("container", reference)}>
    {#if c}<StateMark container={c} />{/if}
    {reference}
  </InlineAction>
{/snippet}

{#snippet pairs(rows: [string, string][])}
  {#if rows.length === 0}<p class="soft">None.</p>{:else}
    <dl class="narrow">
      {#each rows as [name, value] (name)}
        <dt class="mono">{name}</dt>
        <dd class="mono">{visible(value)}</dd>
      {/each}
    </dl>
  {/if}
{/snippet}

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="facts" role="region" aria-label="Facts" tabindex="0" data-test="other-facts">
  {#if host}
    <HostFacts {host} />
  {:else if what.kind === "image"}
    {#if wrong}<p class="soft">{wrong}</p>{:else if !image}<p class="soft">Loading…</p>{:else}
      <ImageActions image={image.image} />
      <dl>
        <dt>Tags</dt>
        <dd class="mono">{image.image.tags.join(", ") || "none: a leftover"}</dd>
        <dt>ID</dt>
        <dd class="mono">{image.image.id} <CopyInline text={image.image.id} what="the ID" /></dd>
        <dt>Digests</dt>
        <dd class="mono">
          {#each new Set(image.image.copies.flatMap((c) => c.digests)) as digest (digest)}
            <div>{digest} <CopyInline text={digest} what="the digest" /></div>
          {:else}none{/each}
        </dd>
        <dt>Size</dt>
        <dd>{bytes(image.image.size)}</dd>
        <dt>Built</dt>
        <dd>
          {moment(image.image.created)} <span class="soft">({age(image.image.created, live.now)} ago)</span>
        </dd>
        <dt>Architecture</dt>
        <dd>{image.image.architecture ?? "unknown"}</dd>
        <dt>Command</dt>
        <dd class="mono">{image.command.join(" ") || "–"}</dd>
        <dt>User</dt>
        <dd>{image.user || "the default"}</dd>
        <dt>Working directory</dt>
        <dd class="mono">{image.working_folder || "/"}</dd>
        <dt>Ports</dt>
        <dd class="mono">{image.ports.join(", ") || "none"}</dd>
      </dl>
      <h3>Hosts</h3>
      {#each image.image.copies as copy (copy.host)}
        <div class="copy">
          <InlineAction onclick={() => inspect("host", copy.host)}>{copy.host}</InlineAction>
          <span class="soft">
            {copy.shared !== undefined ? `${bytes(copy.shared)} of it shared with other images` : ""}
            {copy.used_by.length === 0
              ? `unused${copy.unused_since ? ` for ${age(copy.unused_since, live.now)}` : ""}`
              : ""}
          </span>
          {#each copy.used_by as user (user)}<div>{@render container(user)}</div>{/each}
        </div>
      {/each}
      <h3>History</h3>
      {#each image.steps as step, i (i)}
        <div class="step">
          <span class="soft">{step.size ? bytes(step.size) : "–"}</span>
          <span class="mono">{visible(step.command || step.comment || "")}</span>
        </div>
      {/each}
      <h3>Environment</h3>
      {@render pairs(image.environment.map((v) => [v.name, v.value]))}
      <h3>Labels</h3>
      {@render pairs(labelsOf(image.image.copies[0]?.labels ?? {}))}
    {/if}
  {:else if what.kind === "volume" && volume}
    <ObjectActions
      kind="volume"
      reference={`${volume.host}/${volume.name}`}
      users={volume.used_by.map((u) => u.container)}
    />
    <dl>
      <dt>Host</dt>
      <dd>{volume.host}</dd>
      <dt>Driver</dt>
      <dd>{volume.driver}</dd>
      <dt>Host path</dt>
      <dd class="mono">{volume.mount_point} <CopyInline text={volume.mount_point} what="the path" /></dd>
      <dt>Size</dt>
      <dd>{volume.size === undefined ? "not measured yet" : bytes(volume.size)}</dd>
      <dt>Created</dt>
      <dd>
        {volume.created ? `${moment(volume.created)} (${age(volume.created, live.now)} ago)` : "unknown"}
      </dd>
      <dt>Name</dt>
      <dd>{volume.anonymous ? "anonymous" : volume.name}</dd>
    </dl>
    <h3>Mounted by</h3>
    {#each volume.used_by as user (user.container + user.target)}
      <div class="copy">
        {@render container(user.container)}
        <span class="soft mono">at {user.target}{user.read_only ? ", read only" : ""}</span>
      </div>
    {:else}
      <p class="soft">
        None{volume.unused_since ? `, for ${age(volume.unused_since, live.now)} at least` : ""}.
      </p>
    {/each}
    <h3>Options</h3>
    {@render pairs(labelsOf(volume.options))}
    <h3>Labels</h3>
    {@render pairs(labelsOf(volume.labels))}
  {:else if what.kind === "network" && network}
    {#if !network.built_in}
      <ObjectActions
        kind="network"
        reference={`${network.host}/${network.name}`}
        users={network.members.map((m) => m.container)}
      />
    {/if}
    <dl>
      <dt>Host</dt>
      <dd>{network.host}</dd>
      <dt>Driver</dt>
      <dd>{network.driver}{network.internal ? ", internal" : ""}{network.ipv6 ? ", IPv6" : ""}</dd>
      {#each network.subnets as s (s.subnet)}
        <dt>Subnets</dt>
        <dd class="mono">{s.subnet}{s.gateway ? `, gateway ${s.gateway}` : ""}</dd>
      {/each}
      <dt>Created</dt>
      <dd>{network.created ? moment(network.created) : "unknown"}</dd>
      <dt>ID</dt>
      <dd class="mono">{network.id.slice(0, 12)} <CopyInline text={network.id} what="the full ID" /></dd>
    </dl>
    <h3>Containers</h3>
    {#each network.members as m (m.container)}
      <div class="copy">
        {@render container(m.container)}
        <span class="soft mono">{[m.address, m.ipv6, ...m.aliases].filter(Boolean).join(", ")}</span>
      </div>
    {:else}
      <p class="soft">
        None{network.unused_since ? ` for ${age(network.unused_since, live.now)} at least` : ""}.
      </p>
    {/each}
    <h3>Options</h3>
    {@render pairs(labelsOf(network.options))}
    <h3>Labels</h3>
    {@render pairs(labelsOf(network.labels))}
  {:else if what.kind === "stack" && stack}
    <StackActions {stack} />
    <dl>
      <dt>Hosts</dt>
      <dd>{stack.hosts.join(", ")}</dd>
      <dt>Running</dt>
      <dd>{stack.running} of {stack.wanted}</dd>
      {#if stack.files.length > 0}
        <dt>Compose files</dt>
        <dd class="mono">{stack.files.join(", ")}</dd>
      {/if}
    </dl>
    {#each stack.services as s (s.name)}
      <h3>
        {s.name}
        <span class="soft">{s.running} of {s.wanted}{s.unhealthy ? `, ${s.unhealthy} unhealthy` : ""}</span>
      </h3>
      {#each s.containers as c (c)}<div>{@render container(c)}</div>{/each}
      <p class="soft mono">
        {s.images.map((i) => imageName({ id: "", tags: [i] })).join(", ")}
        {s.ports.join(", ")}
      </p>
    {/each}
  {:else}
    <p class="soft">{list?.fetching ? "Loading…" : "No longer in the fleet."}</p>
  {/if}
</div>

<style>
  .copy {
    padding: 0.15rem 0;
    overflow-wrap: anywhere;
  }
  .step {
    display: grid;
    grid-template-columns: 5rem minmax(0, 1fr);
    gap: 0.5rem;
    padding: 0.1rem 0;
    overflow-wrap: anywhere;
  }
</style>
