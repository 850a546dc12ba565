<!-- The form for a container, in the order in which one thinks of it; beside it what would happen, and the same as
Compose text. It makes a container, changes one, or makes a second one of it. -->
<script lang="ts">
  import { Button, InlineNotification, Loading } from "carbon-components-svelte";
  import { onDestroy } from "svelte";
  import { Draft } from "./draft.svelte";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { go, place } from "../../lib/router.svelte";
  import type { NetworkRow, VolumeRow } from "../../lib/types";
  import { readSpan } from "./units";
  import Configure from "./Configure.svelte";
  import Entry from "../../ui/form/Entry.svelte";
  import FromImage from "./FromImage.svelte";
  import ImagePick from "./ImagePick.svelte";
  import Limit from "./Limit.svelte";
  import Mounts from "./Mounts.svelte";
  import Network from "./Network.svelte";
  import Part from "../../ui/form/Part.svelte";
  import Ports from "./Ports.svelte";
  import Rare from "./Rare.svelte";
  import Size from "../../ui/form/Size.svelte";
  import StayUp from "./StayUp.svelte";
  import Text from "../../ui/form/Text.svelte";
  import PlanView from "../operations/PlanView.svelte";

  const draft = new Draft(
    place.query.get("edit") ?? "",
    place.query.get("from") ?? "",
    place.query.get("image") ?? "",
    place.query.get("host") ?? "",
  );
  onDestroy(() => draft.end());
  const volumes = new Listing<VolumeRow>("/api/v1/volumes");
  const networks = new Listing<NetworkRow>("/api/v1/networks");

  let view = $state<"preview" | "text">("preview");
  let text = $state<string | null>(null);

  const d = $derived(draft.d);
  const hosts = $derived(live.hosts.filter((h) => h.state === "live").map((h) => h.name));
  const volumesHere = $derived(
    volumes.rows.filter((v) => v.host === draft.host && !v.anonymous).map((v) => v.name),
  );
  const networksHere = $derived(networks.rows.filter((n) => n.host === draft.host).map((n) => n.name));
  const plan = $derived(draft.preview?.targets[0] ?? null);
  const errors = $derived(draft.findings.filter((f) => f.weight === "error"));
  const title = $derived(
    draft.edits
      ? `Change ${draft.edits}`
      : draft.from
        ? `A second one like ${draft.from}`
        : "Deploy a container",
  );
  const act = $derived(draft.edits ? "Change it" : "Deploy it");

  async function submit() {
    const operation = await draft.submit();
    if (operation) go(`/operations/${operation.id}`, false);
  }

  async function takeText() {
    if (text !== null && (await draft.take(text))) {
      text = null;
      view = "preview";
    }
  }
</script>

<div class="head">
  <h1>{title}</h1>
</div>
{#if draft.fetching}
  <Loading withOverlay={false} description="Reading its settings" small />
{:else}
  <div class="both">
    <form
      aria-label={title}
      onsubmit={(e) => {
        e.preventDefault();
        void submit();
      }}
    >
      <Part title="What" wrong={draft.wrongIn("/image", "/platform")}>
        <Entry
          label="Image"
          help="With its registry and tag; without a tag it is latest."
          findings={draft.at("/image")}
        >
          <ImagePick value={d.image} onchange={(image) => draft.set({ image })} />
        </Entry>
        <Entry
          label="Pull policy"
          help="An image that never changes its tag need not be asked for each time."
        >
          <select
            aria-label="Pull policy"
            value={d.pull ?? "missing"}
            onchange={(e) => draft.set({ pull: e.currentTarget.value as "always" | "missing" | "never" })}
          >
            <option value="missing">when the host does not have it</option>
            <option value="always">always</option>
            <option value="never">never</option>
          </select>
        </Entry>
      </Part>
      <Part title="Where" wrong={draft.wrongIn("/name")}>
        <Entry label="Host" help="Where it runs.">
          <select
            aria-label="Host"
            id="host"
            disabled={!!draft.edits}
            value={draft.host}
            onchange={(e) => {
              draft.host = e.currentTarget.value;
              draft.changed();
            }}
          >
            <option value="">Choose a host</option>
            {#each hosts as name (name)}<option value={name}>{name}</option>{/each}
          </select>
        </Entry>
        <Entry
          label="Name"
          help="What it is called on that host: letters, digits, _, . and -."
          findings={draft.at("/name")}
          ontake={(name) => draft.set({ name })}
        >
          <Text
            name="Name"
            id="name"
            value={d.name}
            placeholder="frost-api"
            onchange={(name) => draft.set({ name })}
          />
        </Entry>
      </Part>
      <Part
        title="Ports"
        note="published on the host"
        set={d.ports?.length}
        wrong={draft.wrongIn("/ports", "/open")}
      >
        <Ports
          value={d.ports ?? []}
          onchange={(ports) => draft.set({ ports })}
          findings={draft.at("/ports")}
        />
      </Part>
      <Part
        title="Storage"
        note="volumes, host folders, memory"
        set={d.mounts?.length}
        wrong={draft.wrongIn("/mounts")}
      >
        <Mounts
          value={d.mounts ?? []}
          onchange={(mounts) => draft.set({ mounts })}
          findings={draft.at("/mounts")}
          volumes={volumesHere}
        />
      </Part>
      <Configure {draft} />
      <StayUp {draft} />
      <Limit {draft} />
      <Network {draft} networks={networksHere} />
      <Rare {draft} />
      {#if draft.image}<FromImage image={draft.image} />{/if}
    </form>
    <aside class="beside" aria-label="What would happen">
      <nav class="tools">
        <button type="button" aria-pressed={view === "preview"} onclick={() => (view = "preview")}
          >Preview</button
        >
        <button type="button" aria-pressed={view === "text"} onclick={() => (view = "text")}
          >Compose text</button
        >
      </nav>
      <div class="shown">
        {#if draft.told || draft.wrong}
          <InlineNotification kind="error" lowContrast hideCloseButton title={draft.told || draft.wrong} />
        {/if}
        {#each draft.left as l (`${l.line} ${l.sentence}`)}
          <p class="warn">Line {l.line}: {l.sentence}</p>
        {/each}
        {#if view === "text"}
          <p class="soft">The same as text of the Compose Specification. Paste one here to fill the form.</p>
          <textarea
            class="mono"
            aria-label="Compose text"
            spellcheck="false"
            value={text ?? draft.compose}
            oninput={(e) => (text = e.currentTarget.value)}></textarea>
          <Button size="small" kind="tertiary" disabled={text === null} on:click={() => void takeText()}
            >Take this text over</Button
          >
          {#if text !== null}<button
              type="button"
              class="link"
              onclick={() => {
                text = null;
                draft.told = "";
              }}>Show the form's own</button
            >{/if}
        {:else if plan?.refused?.startsWith("nothing differs")}
          <p class="soft">Nothing differs from what it is yet.</p>
        {:else if plan}
          <div data-test="consequences"><PlanView {plan} /></div>
        {:else if errors.length > 0}
          <p>
            {errors.length}
            {errors.length === 1 ? "mistake" : "mistakes"} to fix first; each is shown at its field.
          </p>
        {:else}
          <p class="soft">
            {!d.image
              ? "Say which image."
              : !draft.host
                ? "Say on which host."
                : !d.name
                  ? "Give it a name."
                  : "Asking what it would do…"}
          </p>
        {/if}
      </div>
      <div class="end">
        <Entry label="Watch" help="How long it must stay up when it has no health check; 10 s when empty.">
          <Size
            kind="span"
            name="Watch"
            value={draft.watch === undefined ? undefined : draft.watch * 1000}
            placeholder="10 s"
            onchange={(ms) => {
              draft.watch = ms === undefined ? undefined : Math.round((readSpan(`${ms} ms`) ?? 0) / 1000);
              draft.changed();
            }}
          />
        </Entry>
        <Button disabled={draft.busy || !plan || !!plan.refused} on:click={() => void submit()}>{act}</Button>
      </div>
    </aside>
  </div>
{/if}

<style>
  .head {
    padding: 0.8rem 1.5rem 0.4rem;
    border-bottom: 1px solid var(--line);
  }
  .both {
    flex: 1;
    min-height: 0;
    display: grid;
    grid-template-columns: minmax(0, 1.45fr) minmax(20rem, 1fr);
  }
  form {
    overflow-y: auto;
    padding: 0 1.5rem 2rem;
  }
  form :global(input[type="text"]),
  form :global(input:not([type])),
  form :global(select),
  form :global(textarea),
  .beside :global(input),
  .beside textarea {
    min-height: 1.9rem;
    padding: 0.2rem 0.5rem;
    border: 1px solid var(--line);
    background: var(--cds-field-01);
    color: inherit;
    font: inherit;
    font-size: 0.8125rem;
    min-width: 0;
  }
  form :global(.row > button:not(.away):not(.link)) {
    border: 1px solid var(--line);
    background: var(--cds-ui-background);
    color: inherit;
    font: inherit;
    font-size: 0.8125rem;
    padding: 0 0.8rem;
    cursor: pointer;
  }
  form :global(.mono),
  .beside .mono {
    font-family: "IBM Plex Mono", ui-monospace, monospace;
  }
  form :global(.away) {
    border: 0;
    background: none;
    color: var(--cds-text-02);
    font-size: 1.1rem;
    cursor: pointer;
  }
  form :global(.link),
  .link {
    font-size: 0.8125rem;
  }
  .warn {
    border-left: 3px solid var(--state-halted);
    padding: 0.2rem 0.6rem;
    font-size: 0.8125rem;
  }
  .beside {
    display: flex;
    flex-direction: column;
    min-height: 0;
    border-left: 1px solid var(--line);
    background: var(--panel);
  }
  .beside nav {
    padding: 0.6rem 1rem;
    border-bottom: 1px solid var(--line);
  }
  .shown {
    flex: 1;
    overflow-y: auto;
    padding: 0.6rem 1rem;
    font-size: 0.875rem;
  }
  .shown textarea {
    width: 100%;
    height: 60%;
    margin-bottom: 0.5rem;
    white-space: pre;
  }
  /* The form first, what it would do below it; the button stays in reach. */
  @container (max-width: 44rem) {
    .both {
      display: flex;
      flex-direction: column;
      overflow-y: auto;
    }
    form {
      flex: none;
      overflow: visible;
      padding: 0 1rem 1rem;
    }
    .beside {
      flex: none;
      border-left: 0;
      border-top: 1px solid var(--line);
    }
    .shown {
      flex: none;
    }
    .shown textarea {
      height: 50vh;
    }
    .end {
      position: sticky;
      bottom: 0;
      background: var(--panel);
    }
  }
  .end {
    display: flex;
    justify-content: space-between;
    align-items: end;
    gap: 1rem;
    padding: 0.6rem 1rem;
    border-top: 1px solid var(--line);
  }
</style>
