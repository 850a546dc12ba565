<!-- The form for a container, in the order in which one thinks of it; beside it what would happen, and the same as
Compose text. It makes a container, changes one, or makes a second one of it. -->
<script lang="ts">
  import { Button, InlineNotification, Loading, TextArea } from "carbon-components-svelte";
  import { onDestroy, tick } from "svelte";
  import { Draft } from "./draft.svelte";
  import { live } from "../../lib/live.svelte";
  import { Listing } from "../../lib/listing.svelte";
  import { go, place } from "../../lib/router.svelte";
  import type { NetworkRow, VolumeRow } from "../../lib/types";
  import { guard } from "../../lib/unsaved.svelte";
  import { readSpan } from "./units";
  import InlineAction from "../../ui/InlineAction.svelte";
  import Switcher from "../../ui/Switcher.svelte";
  import QuotedSentence from "../exec/QuotedSentence.svelte";
  import Configure from "./Configure.svelte";
  import Field from "../../ui/form/Field.svelte";
  import FromImage from "./FromImage.svelte";
  import ImagePick from "./ImagePick.svelte";
  import Limits from "./Limits.svelte";
  import Mounts from "./Mounts.svelte";
  import Network from "./Network.svelte";
  import FormSection from "../../ui/form/FormSection.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";
  import Ports from "./Ports.svelte";
  import RareSettings from "./RareSettings.svelte";
  import QuantityField from "../../ui/form/QuantityField.svelte";
  import RestartAndHealth from "./RestartAndHealth.svelte";
  import TextField from "../../ui/form/TextField.svelte";
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

  const PULLS = [
    ["missing", "if missing"],
    ["always", "always"],
    ["never", "never"],
  ] as const;
  const VIEWS = [
    ["preview", "Preview"],
    ["text", "Compose text"],
  ] as const;
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
    draft.edits ? `Change ${draft.edits}` : draft.from ? `Clone of ${draft.from}` : "Deploy a container",
  );
  const act = $derived(draft.edits ? "Apply changes" : "Deploy container");

  onDestroy(guard(() => (draft.dirty ? `${title}: not deployed yet. The form is kept.` : null)));
  const shownErrors = $derived(draft.shown.filter((f) => f.weight === "error"));
  const missing = $derived(
    [!d.image && "an image", !draft.host && "a host", !draft.edits && !d.name && "a name"].filter(Boolean),
  );

  /** Milliseconds. */
  const AFTER_A_PRESS = 200;

  let form = $state<HTMLFormElement | null>(null);
  let summary = $state<HTMLElement | null>(null);

  async function submit() {
    const operation = await draft.submit();
    if (operation) go(`/operations/${operation.id}`, false);
    else await tick().then(() => summary?.focus());
  }

  /** A field was left, not only one of a row for another of it. */
  function left(event: FocusEvent) {
    let place = (event.target as Element).closest<HTMLElement>("[data-field]");
    const fields: string[] = [];
    while (place && !place.contains(event.relatedTarget as Node | null)) {
      fields.push(place.dataset.field ?? "");
      place = place.parentElement?.closest<HTMLElement>("[data-field]") ?? null;
    }
    // A new error moves what is below it: not from under a pressed pointer.
    setTimeout(() => fields.forEach((field) => draft.visit(field)), AFTER_A_PRESS);
  }

  /** What is chosen is said whole at once. */
  function chosen(event: Event) {
    const target = event.target as HTMLInputElement;
    const field = target.closest<HTMLElement>("[data-field]")?.dataset.field;
    if (field && (target.tagName === "SELECT" || target.type === "checkbox")) draft.visit(field);
  }

  /** Leads to the field of an error. */
  function toField(field: string) {
    const places = [...(form?.querySelectorAll<HTMLElement>("[data-field]") ?? [])];
    const isOf = (place: HTMLElement) => `${field}/`.startsWith(`${place.dataset.field}/`);
    const found = places.filter(isOf).at(-1) ?? places.find((p) => p.dataset.field?.startsWith(`${field}/`));
    const part = found?.closest("details");
    if (part) part.open = true;
    const input = found?.querySelector<HTMLElement>("input, select, textarea, button");
    input?.scrollIntoView({ block: "center" });
    input?.focus();
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
  <Loading withOverlay={false} description="Loading its settings" small />
{:else}
  <div class="both">
    <form
      aria-label={title}
      bind:this={form}
      onfocusout={left}
      onchange={chosen}
      onsubmit={(e) => {
        e.preventDefault();
        void submit();
      }}
    >
      <FormSection title="Image" wrong={draft.wrongIn("/image", "/platform")}>
        <Field
          label="Image"
          help="With registry and tag; the default tag is latest."
          field="/image"
          findings={draft.at("/image")}
        >
          <ImagePick value={d.image} onchange={(image) => draft.set({ image })} />
        </Field>
        <Field label="Pull policy" help="When to pull the image.">
          <SelectField
            name="Pull policy"
            value={d.pull ?? "missing"}
            options={PULLS}
            onchange={(pull) => draft.set({ pull: pull as "always" | "missing" | "never" })}
          />
        </Field>
      </FormSection>
      <FormSection title="Host and name" wrong={draft.wrongIn("/name")}>
        <Field label="Host" help="Where it runs.">
          <SelectField
            name="Host"
            id="host"
            disabled={!!draft.edits}
            value={draft.host}
            options={[["", "Choose a host"], ...hosts.map((name): [string, string] => [name, name])]}
            onchange={(host) => {
              draft.host = host;
              draft.changed();
            }}
          />
        </Field>
        <Field
          label="Name"
          help="Container name: letters, digits, _, . and -."
          field="/name"
          findings={draft.at("/name")}
          ontake={(name) => draft.set({ name })}
        >
          <TextField
            name="Name"
            id="name"
            value={d.name}
            placeholder="frost-api"
            onchange={(name) => draft.set({ name })}
          />
        </Field>
      </FormSection>
      <FormSection
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
      </FormSection>
      <FormSection
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
      </FormSection>
      <Configure {draft} />
      <RestartAndHealth {draft} />
      <Limits {draft} />
      <Network {draft} networks={networksHere} />
      <RareSettings {draft} />
      {#if draft.image}<FromImage image={draft.image} />{/if}
    </form>
    <aside class="beside" aria-label="What would happen">
      <nav class="tools">
        <Switcher name="Beside the form" value={view} options={VIEWS} onchange={(next) => (view = next)} />
      </nav>
      <div class="shown">
        {#if draft.told || draft.wrong}
          <InlineNotification kind="error" lowContrast hideCloseButton title={draft.told || draft.wrong} />
        {/if}
        {#each draft.left as l (`${l.line} ${l.sentence}`)}
          <p class="warn">Line {l.line}: {l.sentence}</p>
        {/each}
        {#if view === "text"}
          <p class="soft">The form as a Compose file. Paste one here to fill the form.</p>
          <TextArea
            aria-label="Compose text"
            spellcheck="false"
            rows={18}
            value={text ?? draft.compose}
            on:input={(e) => (text = (e.target as HTMLTextAreaElement).value)}
          />
          <Button size="small" kind="tertiary" disabled={text === null} on:click={() => void takeText()}
            >Apply to form</Button
          >
          {#if text !== null}<InlineAction
              onclick={() => {
                text = null;
                draft.told = "";
              }}>Discard changes</InlineAction
            >{/if}
        {:else if plan?.refused?.startsWith("nothing differs")}
          <p class="soft">No changes yet.</p>
        {:else if plan}
          <div data-test="consequences"><PlanView {plan} /></div>
        {:else if errors.length === 0 && missing.length === 0}
          <p class="soft">Loading preview…</p>
        {:else if missing.length > 0}
          <p class="soft">Still needed: {missing.join(", ")}.</p>
        {/if}
        {#if shownErrors.length > 0}
          <div class="summary" tabindex="-1" bind:this={summary} data-test="summary">
            <strong>{shownErrors.length} to fix</strong>
            <ul>
              {#each shownErrors as f (f.field + f.sentence)}
                <li>
                  <InlineAction onclick={() => toField(f.field)}
                    ><QuotedSentence text={f.sentence} /></InlineAction
                  >
                </li>
              {/each}
            </ul>
          </div>
        {/if}
      </div>
      <div class="end">
        <Field label="Watch" help="How long it must stay up without a health check. Empty: 10 s.">
          <QuantityField
            kind="span"
            name="Watch"
            value={draft.watch === undefined ? undefined : draft.watch * 1000}
            placeholder="10 s"
            onchange={(ms) => {
              draft.watch = ms === undefined ? undefined : Math.round((readSpan(`${ms} ms`) ?? 0) / 1000);
              draft.changed();
            }}
          />
        </Field>
        <Button
          disabled={draft.busy || (errors.length === 0 && missing.length === 0 && (!plan || !!plan.refused))}
          on:click={() => void submit()}>{act}</Button
        >
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
  .shown :global(textarea) {
    margin-bottom: 0.5rem;
    white-space: pre;
    font-family: "IBM Plex Mono", ui-monospace, monospace;
  }
  .summary {
    margin-top: 0.6rem;
    padding: 0.5rem 0.75rem;
    border-left: 4px solid var(--state-failed);
    background: var(--cds-ui-background);
  }
  .summary li {
    margin-top: 0.3rem;
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
    .end {
      position: sticky;
      bottom: 0;
      background: var(--panel);
    }
  }
  .end {
    display: flex;
    flex-wrap: wrap;
    justify-content: space-between;
    align-items: end;
    gap: 1rem;
    padding: 0.6rem 1rem;
    border-top: 1px solid var(--line);
  }
</style>
