<!-- The editor of a stack: its files on one side; on the other where it goes, its variables, its services as they were understood, and
what would happen, with the one button at the end. -->
<script lang="ts">
  import {
    Button,
    Checkbox,
    InlineNotification,
    Select,
    SelectItem,
    TextInput,
  } from "carbon-components-svelte";
  import { onDestroy } from "svelte";
  import { live } from "../../lib/live.svelte";
  import { go, place } from "../../lib/router.svelte";
  import { guard } from "../../lib/unsaved.svelte";
  import QuotedSentence from "../exec/QuotedSentence.svelte";
  import Consequences from "./Consequences.svelte";
  import Files from "./Files.svelte";
  import ServicePreview from "./ServicePreview.svelte";
  import Variables from "./Variables.svelte";
  import { StackDraft } from "./stackDraft.svelte";
  import { pageOf } from "./words";
  import type { LineNote } from "./yaml";
  import YamlEditor from "./YamlEditor.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";

  const revision = place.query.get("revision");
  const draft = new StackDraft(
    place.query.get("host") ?? "",
    place.query.get("stack") ?? "",
    revision ? Number(revision) : null,
    "",
  );
  onDestroy(() => draft.end());
  onDestroy(
    guard(() =>
      draft.dirty ? `${draft.called || "The stack"} is not deployed yet. The file is kept.` : null,
    ),
  );

  const edits = !!place.query.get("stack");
  const hosts = $derived(live.hosts.filter((h) => h.state === "live").map((h) => h.name));
  const report = $derived(draft.report);
  const notes = $derived<LineNote[]>([
    ...(report?.errors ?? [])
      .filter((e) => e.file === draft.shown)
      .map((e) => ({ line: e.line, column: e.column, sentence: e.sentence, severity: "error" as const })),
    ...(report?.without_effect ?? [])
      .filter((e) => e.file === draft.shown)
      .map((e) => ({ line: e.line, column: e.column, sentence: e.sentence, severity: "info" as const })),
  ]);
  let at = $state.raw<{ line: number; column: number } | null>(null);

  function show(file: string, line: number, column: number) {
    if (file in draft.files) draft.shown = file;
    at = { line, column };
  }

  const plans = $derived(draft.preview?.targets ?? null);
  const refused = $derived(plans?.some((p) => p.refused) ?? false);
  const changes = $derived(plans?.some((p) => (p.steps?.length ?? 0) > 0) ?? false);
  const act = $derived(edits ? "Apply changes" : "Deploy stack");

  async function submit() {
    const operation = await draft.submit();
    if (operation) go(`/operations/${operation.id}`, false);
  }
</script>

<div class="head">
  <h1>{edits ? `Edit ${draft.host}/${draft.name}` : "Deploy a stack"}</h1>
  {#if draft.from !== null}<span class="soft">from revision {draft.from}</span>{/if}
  {#if edits}<a href={pageOf(draft.host, draft.name)}>Back to the stack</a>{/if}
</div>
{#if draft.lost.length > 0}
  <InlineNotification
    kind="warning"
    lowContrast
    title={`Not kept, because they may be secrets: ${draft.lost.join(", ")}.`}
    subtitle="Add them again before you deploy."
    on:close={() => (draft.lost = [])}
  />
{/if}
<div class="both">
  <section class="text" aria-label="Files">
    <Files {draft} />
    <div class="editor">
      {#key draft.shown}
        <YamlEditor
          value={draft.text}
          label={`Text of ${draft.shown}`}
          {notes}
          {at}
          onchange={(text) => draft.setText(text)}
        />
      {/key}
    </div>
    <div class="problems" role="status" data-test="problems">
      {#if report && report.errors.length > 0}
        <strong>{report.errors.length === 1 ? "1 error" : `${report.errors.length} errors`}</strong>
        <ul>
          {#each report.errors as e (`${e.file} ${e.line} ${e.column} ${e.sentence}`)}
            <li>
              <InlineAction onclick={() => show(e.file, e.line, e.column)}
                >{e.file}, line {e.line}</InlineAction
              >: <QuotedSentence text={e.sentence} />
            </li>
          {/each}
        </ul>
      {:else if report}
        <span class="good">No errors.</span>
      {:else}
        <span class="soft">Type or paste a Compose file, or upload files.</span>
      {/if}
      {#each report?.without_effect ?? [] as e (`${e.file} ${e.line} ${e.sentence}`)}
        <div class="soft">
          <InlineAction onclick={() => show(e.file, e.line, e.column)}>{e.file}, line {e.line}</InlineAction>:
          <QuotedSentence text={e.sentence} />
        </div>
      {/each}
    </div>
  </section>
  <aside class="beside" aria-label="What would happen">
    <div class="shown">
      <div class="where">
        <Select
          size="sm"
          labelText="Host"
          selected={draft.host}
          disabled={edits}
          on:update={(e) => {
            draft.host = String(e.detail);
            draft.changed();
          }}
        >
          <SelectItem value="" text="Choose a host" />
          {#each edits ? [draft.host] : hosts as name (name)}<SelectItem value={name} text={name} />{/each}
        </Select>
        <TextInput
          size="sm"
          labelText="Name"
          disabled={edits}
          placeholder={report?.name ?? "as the file says"}
          value={draft.name}
          on:input={(e) => {
            draft.name = String(e.detail ?? "");
            draft.changed();
          }}
        />
      </div>
      <Variables {draft} onshow={show} />
      {#if report?.valid}<ServicePreview {report} onshow={show} />{/if}
      <h2>What would happen</h2>
      {#if draft.told}
        <InlineNotification kind="error" lowContrast hideCloseButton title={draft.told} />
      {/if}
      <div data-test="consequences">
        {#if plans}
          <Consequences {plans} />
        {:else if draft.asking}
          <p class="soft">Loading preview…</p>
        {:else if report && !report.valid}
          <p class="soft">Fix the errors first.</p>
        {:else if report && !draft.host}
          <p class="soft">Choose a host.</p>
        {:else if report && !draft.called}
          <p class="soft">Give it a name.</p>
        {:else if !report}
          <p class="soft">Nothing yet.</p>
        {/if}
      </div>
    </div>
    <div class="end">
      <TextInput
        size="sm"
        hideLabel
        labelText="Comment"
        placeholder="Comment (saved with the revision)"
        maxlength={500}
        bind:value={draft.comment}
      />
      <div class="last">
        <div>
          <Checkbox
            labelText="Remove services that the file no longer has"
            checked={draft.removeRest}
            on:check={(e) => {
              if (e.detail === draft.removeRest) return;
              draft.removeRest = e.detail;
              draft.changed();
            }}
          />
          <Checkbox labelText="On failure keep what succeeded" bind:checked={draft.stopOnFailure} />
        </div>
        <Button
          size="field"
          disabled={draft.busy || !plans || refused || !(changes || edits)}
          on:click={() => void submit()}>{act}</Button
        >
      </div>
    </div>
  </aside>
</div>

<style>
  .head {
    display: flex;
    flex-wrap: wrap;
    gap: 0 1rem;
    align-items: baseline;
    padding: 0.8rem 1.5rem 0.5rem;
    border-bottom: 1px solid var(--line);
  }
  .head h1 {
    margin: 0;
    overflow-wrap: anywhere;
  }
  .both {
    flex: 1;
    min-height: 0;
    display: grid;
    grid-template-columns: minmax(0, 1.35fr) minmax(20rem, 1fr);
  }
  .text {
    display: flex;
    flex-direction: column;
    min-height: 0;
    padding: 0.6rem 1rem 0.6rem 1.5rem;
  }
  .editor {
    flex: 1;
    min-height: 10rem;
  }
  .problems {
    max-height: 9rem;
    overflow-y: auto;
    padding: 0.5rem 0 0;
    font-size: 0.8125rem;
    overflow-wrap: anywhere;
  }
  .problems strong {
    color: var(--state-failed);
  }
  .good {
    color: var(--state-well);
  }
  .beside {
    display: flex;
    flex-direction: column;
    min-height: 0;
    border-left: 1px solid var(--line);
    background: var(--panel);
  }
  .shown {
    flex: 1;
    min-height: 0;
    overflow-y: auto;
    padding: 0.8rem 1rem;
  }
  .shown h2 {
    margin: 1.2rem 0 0.5rem;
  }
  .where {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 0.75rem;
  }
  .end {
    display: grid;
    gap: 0.3rem;
    padding: 0.6rem 1rem 0.8rem;
    border-top: 1px solid var(--line);
  }
  .last {
    display: flex;
    flex-wrap: wrap;
    gap: 0.3rem 1rem;
    justify-content: space-between;
    align-items: end;
  }
  .last :global(.bx--form-item.bx--checkbox-wrapper) {
    margin: 0.1rem 0;
  }
  @container (max-width: 56rem) {
    .both {
      display: block;
      overflow-y: auto;
    }
    .text {
      padding: 0.6rem 1rem;
    }
    .editor {
      height: 22rem;
      flex: none;
    }
    .shown {
      overflow: visible;
    }
    .beside {
      border-left: 0;
      border-top: 1px solid var(--line);
    }
    .head {
      padding: 0.6rem 1rem 0.4rem;
    }
  }
</style>
