<!-- The form for a container, in the order in which one thinks of it; beside it what would happen, and the same as
Compose text. It makes a container, changes one, or makes a second one of it. -->
<script lang="ts">
  import { Button, InlineNotification, Loading } from "carbon-components-svelte";
  import { onDestroy } from "svelte";
  import type { HealthRule, Limits, NetworkRule, Rights } from "../lib/definition";
  import { Draft } from "../lib/draft.svelte";
  import { live } from "../lib/live.svelte";
  import { Listing } from "../lib/listing.svelte";
  import { go, place } from "../lib/router.svelte";
  import type { NetworkRow, VolumeRow } from "../lib/types";
  import { readSpan } from "../lib/units";
  import Entry from "../parts/form/Entry.svelte";
  import FromImage from "../parts/form/FromImage.svelte";
  import ImagePick from "../parts/form/ImagePick.svelte";
  import Lines from "../parts/form/Lines.svelte";
  import Mounts from "../parts/form/Mounts.svelte";
  import Pairs from "../parts/form/Pairs.svelte";
  import Part from "../parts/form/Part.svelte";
  import Ports from "../parts/form/Ports.svelte";
  import Rare from "../parts/form/Rare.svelte";
  import Size from "../parts/form/Size.svelte";
  import Text from "../parts/form/Text.svelte";
  import Variables from "../parts/form/Variables.svelte";
  import Words from "../parts/form/Words.svelte";
  import PlanView from "../parts/PlanView.svelte";

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

  const wrongIn = (...fields: string[]) =>
    fields.flatMap((f) => draft.at(f)).filter((f) => f.weight === "error").length;
  const setIn = (...values: unknown[]) =>
    values.filter((v) =>
      v === undefined || v === null || v === false || v === ""
        ? false
        : Array.isArray(v)
          ? v.length > 0
          : typeof v === "object"
            ? Object.keys(v).length > 0
            : true,
    ).length;

  const limits = (change: Partial<Limits>) => draft.set({ limits: { ...d.limits, ...change } });
  const rights = (change: Partial<Rights>) => draft.set({ rights: { ...d.rights, ...change } });
  const network = (change: Partial<NetworkRule>) => draft.set({ network: { ...d.network, ...change } });
  const health = (change: Partial<HealthRule>) => draft.set({ health: { ...d.health, ...change } });

  /** Engines take a check as words, or as a text for the container's shell. */
  const checkText = $derived(
    d.health?.test?.[0] === "CMD-SHELL" ? d.health.test[1] : d.health?.test?.slice(1).join(" "),
  );

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
      <Part title="What" wrong={wrongIn("/image", "/platform")}>
        <Entry
          label="Image"
          help="With its registry and tag; without a tag it is latest."
          findings={draft.at("/image")}
        >
          <ImagePick value={d.image} onchange={(image) => draft.set({ image })} />
        </Entry>
        <Entry
          label="When it is fetched"
          help="An image that never changes its tag need not be asked for each time."
        >
          <select
            aria-label="When it is fetched"
            value={d.pull ?? "missing"}
            onchange={(e) => draft.set({ pull: e.currentTarget.value as "always" | "missing" | "never" })}
          >
            <option value="missing">when the host does not have it</option>
            <option value="always">always</option>
            <option value="never">never</option>
          </select>
        </Entry>
      </Part>
      <Part title="Where" wrong={wrongIn("/name")}>
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
        title="Reach"
        note="ports that others reach it at"
        set={d.ports?.length}
        wrong={wrongIn("/ports", "/open")}
      >
        <Ports
          value={d.ports ?? []}
          onchange={(ports) => draft.set({ ports })}
          findings={draft.at("/ports")}
        />
      </Part>
      <Part title="Keep" note="what outlives it" set={d.mounts?.length} wrong={wrongIn("/mounts")}>
        <Mounts
          value={d.mounts ?? []}
          onchange={(mounts) => draft.set({ mounts })}
          findings={draft.at("/mounts")}
          volumes={volumesHere}
        />
      </Part>
      <Part
        title="Configure"
        note="variables, command, user, labels"
        set={setIn(d.environment, d.command, d.entrypoint, d.user, d.working_folder, d.hostname, d.labels)}
        wrong={wrongIn("/environment", "/labels", "/hostname", "/working_folder", "/command", "/user")}
      >
        <Entry label="Environment" findings={draft.findings.filter((f) => f.field === "/environment")}>
          <Variables
            value={d.environment ?? []}
            onchange={(environment) => draft.set({ environment })}
            findings={draft.at("/environment")}
          />
        </Entry>
        <Entry label="Command" help="Instead of the image's own." findings={draft.at("/command")}>
          <Words
            name="Command"
            value={d.command}
            placeholder={draft.image?.command?.join(" ") ?? ""}
            onchange={(command) => draft.set({ command })}
          />
        </Entry>
        <Entry
          label="Entry point"
          help="The program that the command is given to, instead of the image's own."
          findings={draft.at("/entrypoint")}
        >
          <Words
            name="Entry point"
            value={d.entrypoint}
            placeholder={draft.image?.entrypoint?.join(" ") ?? ""}
            onchange={(entrypoint) => draft.set({ entrypoint })}
          />
        </Entry>
        <div class="two">
          <Entry label="User" help="Name or number, with :group if need be." findings={draft.at("/user")}>
            <Text
              name="User"
              value={d.user}
              placeholder={draft.image?.user ?? "as in the image"}
              onchange={(user) => draft.set({ user })}
            />
          </Entry>
          <Entry
            label="Working folder"
            help="Where the command begins."
            findings={draft.at("/working_folder")}
          >
            <Text
              name="Working folder"
              value={d.working_folder}
              placeholder={draft.image?.working_folder ?? "as in the image"}
              onchange={(working_folder) => draft.set({ working_folder })}
            />
          </Entry>
        </div>
        <Entry
          label="Hostname"
          help="The name it has for itself; its short id when empty."
          findings={draft.at("/hostname")}
        >
          <Text name="Hostname" value={d.hostname} onchange={(hostname) => draft.set({ hostname })} />
        </Entry>
        <Entry label="Labels" help="name=value, one on each line." findings={draft.at("/labels")}>
          <Pairs
            name="Labels"
            value={d.labels}
            placeholder="owner=operations"
            onchange={(labels) => draft.set({ labels: labels ?? {} })}
          />
        </Entry>
      </Part>
      <Part
        title="Stay up"
        note="restarts, health, end"
        set={setIn(
          d.restart?.policy && d.restart.policy !== "no",
          d.health,
          d.grace_seconds,
          d.stop_signal,
          d.init,
          d.auto_remove,
        )}
        wrong={wrongIn("/restart", "/health", "/grace_seconds", "/stop_signal", "/auto_remove")}
      >
        <div class="two">
          <Entry
            label="Restart"
            help="When the engine starts it again by itself."
            findings={draft.at("/restart")}
          >
            <select
              aria-label="Restart"
              value={d.restart?.policy || "no"}
              onchange={(e) => draft.set({ restart: { ...d.restart, policy: e.currentTarget.value } })}
            >
              <option value="no">no</option><option value="on-failure">when it fails</option>
              <option value="always">always</option><option value="unless-stopped"
                >unless somebody stopped it</option
              >
            </select>
          </Entry>
          <Entry
            label="Grace period"
            help="Seconds between asking it to end and forcing it; 10 when empty."
            findings={draft.at("/grace_seconds")}
          >
            <Size
              kind="whole"
              name="Grace period"
              value={d.grace_seconds}
              placeholder="10"
              onchange={(grace_seconds) => draft.set({ grace_seconds })}
            />
          </Entry>
        </div>
        {#if d.restart?.policy === "on-failure"}
          <Entry
            label="At most"
            help="So many tries; without end when empty."
            findings={draft.at("/restart/most_tries")}
          >
            <Size
              kind="whole"
              name="Most tries"
              value={d.restart.most_tries}
              onchange={(most_tries) => draft.set({ restart: { policy: "on-failure", most_tries } })}
            />
          </Entry>
        {/if}
        <Entry
          label="Health check"
          help="A command inside that ends with 0 when it is well; the image's own when empty."
          findings={draft.at("/health/test")}
        >
          <Text
            name="Health check"
            value={checkText}
            placeholder="wget -q -O- http://localhost:8080/health"
            onchange={(check) =>
              check
                ? health({ test: ["CMD-SHELL", check], disabled: false })
                : draft.set({ health: undefined })}
          />
        </Entry>
        {#if d.health?.test?.length}
          <div class="four">
            <Entry label="Every" findings={draft.at("/health/interval_ms")}>
              <Size
                kind="span"
                name="Interval of the check"
                value={d.health.interval_ms}
                placeholder="30 s"
                onchange={(interval_ms) => health({ interval_ms })}
              />
            </Entry>
            <Entry label="Takes at most" findings={draft.at("/health/timeout_ms")}>
              <Size
                kind="span"
                name="Timeout of the check"
                value={d.health.timeout_ms}
                placeholder="30 s"
                onchange={(timeout_ms) => health({ timeout_ms })}
              />
            </Entry>
            <Entry label="Tries" findings={draft.at("/health/retries")}>
              <Size
                kind="whole"
                name="Tries of the check"
                value={d.health.retries}
                placeholder="3"
                onchange={(retries) => health({ retries })}
              />
            </Entry>
            <Entry label="Time to start" findings={draft.at("/health/start_ms")}>
              <Size
                kind="span"
                name="Time to start"
                value={d.health.start_ms}
                placeholder="0 s"
                onchange={(start_ms) => health({ start_ms })}
              />
            </Entry>
          </div>
        {/if}
        <label class="check" title="For one-off jobs">
          <input
            type="checkbox"
            checked={d.auto_remove ?? false}
            onchange={(e) => draft.set({ auto_remove: e.currentTarget.checked })}
          />
          Remove it when it ends
        </label>
        {#each draft.at("/auto_remove") as f (f.sentence)}<p class="wrong" role="alert" data-test="finding">
            {f.sentence}
          </p>{/each}
      </Part>
      <Part
        title="Limit"
        note="memory, processors, processes"
        set={setIn(...Object.values(d.limits ?? {}))}
        wrong={wrongIn("/limits")}
      >
        <div class="three">
          <Entry label="Memory" help="Beyond it the kernel ends it." findings={draft.at("/limits/memory")}>
            <Size
              kind="size"
              name="Memory"
              value={d.limits?.memory}
              placeholder="no limit"
              onchange={(memory) => limits({ memory })}
            />
          </Entry>
          <Entry
            label="Processors"
            help="As many as it may keep busy."
            findings={draft.at("/limits/processors")}
          >
            <Size
              kind="number"
              name="Processors"
              value={d.limits?.processors}
              placeholder="no limit"
              onchange={(processors) => limits({ processors })}
            />
          </Entry>
          <Entry label="Processes" help="At most so many at once." findings={draft.at("/limits/processes")}>
            <Size
              kind="whole"
              name="Processes"
              value={d.limits?.processes}
              placeholder="no limit"
              onchange={(processes) => limits({ processes })}
            />
          </Entry>
        </div>
      </Part>
      <Part
        title="Network"
        note="networks, aliases, addresses, names"
        folded
        set={setIn(...Object.values(d.network ?? {}))}
        wrong={wrongIn("/network")}
      >
        <Entry
          label="Mode"
          help="Its own network stack, the host's, or none."
          findings={draft.at("/network/mode")}
        >
          <select
            aria-label="Network mode"
            value={d.network?.mode ?? ""}
            onchange={(e) => network({ mode: e.currentTarget.value || undefined })}
          >
            <option value="">networks of the host, as below</option>
            <option value="host">the host's own</option><option value="none">none</option>
            {#if d.network?.mode && !["host", "none"].includes(d.network.mode)}<option value={d.network.mode}
                >{d.network.mode}</option
              >{/if}
          </select>
        </Entry>
        <Entry
          label="Networks"
          help="Others in them reach it by its name and aliases."
          findings={draft.at("/network/networks")}
        >
          <datalist id="networks-of-host"
            >{#each networksHere as name (name)}<option value={name}></option>{/each}</datalist
          >
          {#each d.network?.networks ?? [] as joined, n (n)}
            <div class="joined">
              <input
                aria-label={`Network ${n + 1}`}
                list="networks-of-host"
                placeholder="network"
                value={joined.name}
                oninput={(e) => {
                  const name = e.currentTarget.value;
                  network({ networks: d.network?.networks?.map((x, k) => (k === n ? { ...x, name } : x)) });
                }}
              />
              <input
                aria-label={`Aliases in network ${n + 1}`}
                placeholder="aliases, with commas"
                value={joined.aliases?.join(", ") ?? ""}
                onchange={(e) => {
                  const aliases = e.currentTarget.value
                    .split(",")
                    .map((a) => a.trim())
                    .filter(Boolean);
                  network({
                    networks: d.network?.networks?.map((x, k) => (k === n ? { ...x, aliases } : x)),
                  });
                }}
              />
              <input
                aria-label={`Address in network ${n + 1}`}
                placeholder="address"
                value={joined.address ?? ""}
                oninput={(e) => {
                  const address = e.currentTarget.value || undefined;
                  network({
                    networks: d.network?.networks?.map((x, k) => (k === n ? { ...x, address } : x)),
                  });
                }}
              />
              <button
                type="button"
                class="away"
                aria-label={`Leave network ${n + 1}`}
                onclick={() => network({ networks: d.network?.networks?.filter((_, k) => k !== n) })}
                >×</button
              >
            </div>
          {/each}
          <button
            type="button"
            class="link"
            onclick={() => network({ networks: [...(d.network?.networks ?? []), { name: "" }] })}
            >Join a network</button
          >
        </Entry>
        <div class="two">
          <Entry label="Name servers" help="Addresses, one on each line." findings={draft.at("/network/dns")}>
            <Lines name="Name servers" value={d.network?.dns} onchange={(dns) => network({ dns })} />
          </Entry>
          <Entry
            label="Extra hosts"
            help="name:address, one on each line."
            findings={draft.at("/network/hosts")}
          >
            <Lines name="Extra hosts" value={d.network?.hosts} onchange={(hosts) => network({ hosts })} />
          </Entry>
        </div>
      </Part>
      <Rare {draft} {setIn} {wrongIn} {limits} {rights} {network} />
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
        {#if draft.wrong}
          <InlineNotification kind="error" lowContrast hideCloseButton title={draft.wrong} />
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
          {#if text !== null}<button type="button" class="link" onclick={() => (text = null)}
              >Show the form's own</button
            >{/if}
        {:else if plan?.refused?.startsWith("nothing differs")}
          <p class="soft">Nothing differs from what it is yet.</p>
        {:else if plan}
          <div data-test="consequences"><PlanView {plan} /></div>
        {:else if errors.length > 0}
          <p>
            {errors.length}
            {errors.length === 1 ? "thing is" : "things are"} to be mended first; each is named at its field.
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
  .two,
  .three,
  .four {
    display: grid;
    gap: 1rem;
    grid-template-columns: 1fr 1fr;
  }
  .three {
    grid-template-columns: repeat(3, 1fr);
  }
  .four {
    grid-template-columns: repeat(4, 1fr);
  }
  .four :global(input),
  .three :global(input) {
    width: 100%;
  }
  .joined {
    display: grid;
    grid-template-columns: 1fr 1.2fr 1fr 1.6rem;
    gap: 0.3rem;
    margin-bottom: 0.3rem;
  }
  .check {
    font-size: 0.8125rem;
  }
  .wrong {
    color: var(--state-failed);
    font-size: 0.75rem;
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
  .end {
    display: flex;
    justify-content: space-between;
    align-items: end;
    gap: 1rem;
    padding: 0.6rem 1rem;
    border-top: 1px solid var(--line);
  }
</style>
