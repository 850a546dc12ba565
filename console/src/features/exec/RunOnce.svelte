<!-- One command with its output and exit code: in a container that runs, or in one that is made from an image for it and
removed afterwards. Leaving the page ends the second kind. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { onDestroy } from "svelte";
  import { sentence } from "../../lib/api";
  import { eachLine, filesOf, raw } from "../files/files";
  import { words } from "../deploy/units";
  import TextField from "../../ui/form/TextField.svelte";
  import SelectField from "../../ui/form/SelectField.svelte";
  import QuantityField from "../../ui/form/QuantityField.svelte";

  let {
    container = "",
    image = "",
    hosts = [],
  }: { container?: string; image?: string; hosts?: string[] } = $props();

  interface Line {
    stderr?: boolean;
    text?: string;
    ended?: boolean;
    exit_code?: number;
    problem?: string;
    note?: string;
  }
  interface Piece {
    stderr: boolean;
    text: string;
  }

  /** What is kept on the page of a command that talks a lot. */
  const MOST_PIECES = 2000;

  let command = $state("");
  let host = $state("");
  let user = $state("");
  const USUAL_SECONDS = 300;
  let seconds = $state<number | undefined>(USUAL_SECONDS);
  let running = $state(false);
  let pieces = $state.raw<Piece[]>([]);
  let outcome = $state("");
  let failed = $state(false);
  let leave: AbortController | undefined;

  $effect(() => {
    if (!hosts.includes(host)) host = hosts[0] ?? "";
  });
  onDestroy(() => leave?.abort());

  function take(line: Line) {
    if (line.note) outcome = `${line.note}…`;
    if (line.text) {
      pieces = [...pieces, { stderr: !!line.stderr, text: line.text }].slice(-MOST_PIECES);
    }
    if (!line.ended) return;
    failed = line.exit_code !== 0 || !!line.problem;
    const code = line.exit_code === undefined ? "No exit code" : `Exit code ${line.exit_code}`;
    outcome = line.problem ? `${code}: ${line.problem}.` : `${code}.`;
  }

  async function run() {
    const list = words(command);
    if (!list) {
      [failed, outcome] = [true, "A quotation mark is not closed."];
      return;
    }
    [running, pieces, outcome, failed] = [true, [], "Running…", false];
    leave = new AbortController();
    const more = {
      signal: leave.signal,
      headers: { "Content-Type": "application/json" },
    };
    const own = user.trim() ? { user: user.trim() } : {};
    try {
      const response = image
        ? await raw(
            "POST",
            "/api/v1/one-offs",
            new Blob([
              JSON.stringify({
                host,
                limit_seconds: seconds ?? USUAL_SECONDS,
                definition: { image, ...own, ...(list.length ? { entrypoint: [], command: list } : {}) },
              }),
            ]),
            more,
          )
        : await raw(
            "POST",
            `${filesOf("container", container)}/commands`,
            new Blob([JSON.stringify({ command: list, limit_seconds: seconds ?? USUAL_SECONDS, ...own })]),
            more,
          );
      await eachLine<Line>(response, take);
      if (outcome === "Running…") [failed, outcome] = [true, "Connection lost before it exited."];
    } catch (error) {
      failed = true;
      outcome = leave.signal.aborted
        ? image
          ? "Ended."
          : "Detached; the command may still run."
        : sentence(error);
    } finally {
      running = false;
    }
  }
</script>

<form
  data-test="run-once"
  onsubmit={(e) => {
    e.preventDefault();
    void run();
  }}
>
  <div class="wide">
    <TextField
      label="Command"
      name="Command to run"
      mono
      placeholder={image ? "empty: the image's own" : "tool --check"}
      value={command}
      onchange={(text) => (command = text ?? "")}
    />
  </div>
  {#if image}
    <SelectField
      label="On"
      name="Host to run on"
      value={host}
      options={hosts.map((h): [string, string] => [h, h])}
      onchange={(next) => (host = next)}
    />
  {/if}
  <TextField
    label="User"
    name="User of the command"
    placeholder="the container's own"
    value={user}
    onchange={(text) => (user = text ?? "")}
  />
  <QuantityField
    kind="whole"
    most={86_400}
    label="Time limit (s)"
    name="Time limit (s)"
    value={seconds}
    placeholder={String(USUAL_SECONDS)}
    onchange={(next) => (seconds = next)}
  />
  {#if running}
    <Button size="small" kind="tertiary" on:click={() => leave?.abort()}>{image ? "Stop" : "Detach"}</Button>
  {:else}
    <Button size="small" kind="tertiary" type="submit" disabled={!image && !command.trim()}>Run</Button>
  {/if}
</form>
{#if outcome}<p class:failed data-test="run-outcome">{outcome}</p>{/if}
{#if pieces.length > 0}
  <pre class="mono" data-test="run-output">{#each pieces as p, i (i)}<span class:stderr={p.stderr}
        >{p.text}</span
      >{/each}</pre>
{/if}

<style>
  form {
    display: flex;
    flex-wrap: wrap;
    gap: 0.6rem;
    align-items: end;
    margin: 0.6rem 0;
    --text-width: 9rem;
    --pick-width: 9rem;
  }
  .wide {
    --text-width: 100%;
    flex: 1 1 14rem;
  }
  .failed {
    color: var(--state-failed);
  }
  pre {
    max-height: 24rem;
    overflow: auto;
    padding: 0.5rem;
    border: 1px solid var(--line);
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    font-size: 0.75rem;
  }
  .stderr {
    color: var(--state-failed);
  }
</style>
