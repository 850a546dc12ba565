<!-- The Git repository that a stack follows: where it is, what was found there, and what waits for approval. -->
<script lang="ts">
  import CopyInline from "../../ui/CopyInline.svelte";
  import {
    Button,
    Checkbox,
    InlineNotification,
    NumberInput,
    PasswordInput,
    TextArea,
    TextInput,
  } from "carbon-components-svelte";
  import { ApiError, call, sentence } from "../../lib/api";
  import { age } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import { pending } from "../../lib/session.svelte";
  import type { OperationWish, StackSource } from "../../lib/types";

  let { host, stack }: { host: string; stack: string } = $props();

  const LOOK_AGAIN = 4000;
  const path = $derived(`/api/v1/stacks/${encodeURIComponent(host)}/${encodeURIComponent(stack)}/source`);

  let source = $state.raw<StackSource | null>(null);
  let known = $state(false);
  let wrong = $state("");
  let busy = $state(false);
  let editing = $state(false);
  /** The hook's secret, which is reported once. */
  let secret = $state("");

  let url = $state("");
  let reference = $state("main");
  let paths = $state("compose.yaml");
  let account = $state("");
  let token = $state("");
  let key = $state("");
  let knownHosts = $state("");
  let poll = $state<number | null>(300);
  let applies = $state(false);
  const isSsh = $derived(url.startsWith("ssh://") || /^[^/:@]+@[^/:]+:/.test(url));

  async function fetch() {
    try {
      source = await call<StackSource>("GET", path);
    } catch (error) {
      if (error instanceof ApiError && error.problem.status === 404) source = null;
      else wrong = sentence(error);
    } finally {
      known = true;
    }
  }
  $effect(() => {
    // What was applied meanwhile waits no more.
    void live.drift;
    void fetch();
    const timer = setInterval(() => void fetch(), LOOK_AGAIN);
    return () => clearInterval(timer);
  });

  function edit() {
    if (source) {
      url = source.url;
      reference = source.reference;
      paths = source.paths.join("\n");
      poll = source.poll_seconds;
      applies = source.applies;
    }
    editing = true;
  }

  async function ask(task: () => Promise<StackSource | undefined>) {
    busy = true;
    try {
      const now = await task();
      if (now) source = now;
      if (now?.hook_secret) secret = now.hook_secret;
      [editing, wrong, token, key] = [false, "", "", ""];
    } catch (error) {
      wrong = sentence(error);
    } finally {
      busy = false;
    }
  }

  const set = () =>
    ask(() =>
      call<StackSource>("PUT", path, {
        url: url.trim(),
        reference: reference.trim(),
        paths: paths
          .split("\n")
          .map((p) => p.trim())
          .filter(Boolean),
        poll_seconds: poll ?? 0,
        applies,
        ...(account ? { account } : {}),
        ...(token ? { token } : {}),
        ...(key ? { ssh_key: key } : {}),
        ...(knownHosts ? { known_hosts: knownHosts } : {}),
      }),
    );
  const look = () => ask(() => call<StackSource>("POST", `${path}/look`));
  const renew = () => ask(() => call<StackSource>("POST", `${path}/hook-secret`));
  const remove = () =>
    ask(async () => {
      await call("DELETE", path);
      source = null;
      secret = "";
      return undefined;
    });

  function approve() {
    const request = { kind: "apply", targets: [host], stack, waiting: true } as OperationWish;
    const commit = source?.commit?.id.slice(0, 12) ?? "";
    pending.wish = { kind: "apply", containers: [], request, title: `Apply commit ${commit} to ${stack}` };
  }
</script>

{#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = "")} />{/if}
{#if editing}
  <form
    onsubmit={(e) => {
      e.preventDefault();
      void set();
    }}
  >
    <TextInput
      labelText="Repository"
      helperText="https://…, ssh://… or account@host:path"
      bind:value={url}
      required
    />
    <TextInput labelText="Branch or tag" bind:value={reference} required />
    <TextArea
      rows={2}
      labelText="Compose files, one per line"
      helperText="From the repository's root; later files override earlier ones. Files that they name are included."
      bind:value={paths}
    />
    {#if isSsh}
      <TextArea
        rows={4}
        labelText="Private key"
        helperText={source?.has_ssh_key
          ? "Empty: keeps the current one."
          : "OpenSSH format. Encrypted, never shown again."}
        bind:value={key}
      />
      <TextArea
        rows={2}
        labelText="Known host keys"
        helperText="As printed by ssh-keyscan."
        bind:value={knownHosts}
      />
    {:else}
      <TextInput labelText="Account" helperText="Empty: git" autocomplete="off" bind:value={account} />
      <PasswordInput
        labelText="Token"
        helperText={source?.has_token
          ? "Empty: keeps the current one."
          : "Empty for public repositories. Encrypted, never shown again."}
        autocomplete="off"
        bind:value={token}
      />
    {/if}
    <NumberInput
      labelText="Check interval (s)"
      helperText="30 or more; 0: only when the webhook is called"
      min={0}
      max={604800}
      bind:value={poll}
    />
    <Checkbox labelText="Apply changes without waiting for approval" bind:checked={applies} />
    <div class="acts">
      <Button size="small" type="submit" disabled={busy || !url.trim()}>Follow it</Button>
      <Button size="small" kind="ghost" on:click={() => (editing = false)}>Cancel</Button>
    </div>
  </form>
{:else if source}
  <div data-test="source">
    {#if source.waiting && source.commit}
      <InlineNotification
        kind="info"
        lowContrast
        hideCloseButton
        title="A commit waits for approval:"
        subtitle={`${source.commit.subject} (${source.commit.author}, ${age(source.commit.time, live.now)} ago)`}
      >
        <svelte:fragment slot="actions">
          <Button size="small" kind="ghost" on:click={approve}>Preview</Button>
        </svelte:fragment>
      </InlineNotification>
    {/if}
    {#if source.failed}
      <InlineNotification
        kind="error"
        lowContrast
        hideCloseButton
        title="The last check failed:"
        subtitle={source.failed}
      />
    {/if}
    <dl>
      <dt>Repository</dt>
      <dd class="mono">{source.url}</dd>
      <dt>Branch or tag</dt>
      <dd class="mono">{source.reference}</dd>
      <dt>Files</dt>
      <dd class="mono">{source.paths.join(", ")}</dd>
      <dt>Last check</dt>
      <dd>
        {source.checked ? `${age(source.checked, live.now)} ago` : "not yet"}; {source.poll_seconds
          ? `every ${source.poll_seconds} s and when its webhook is called`
          : "only when its webhook is called"}
      </dd>
      <dt>New commits</dt>
      <dd>{source.applies ? "applied without approval" : "wait for approval"}</dd>
      {#if source.commit}
        <dt>Newest commit</dt>
        <dd>
          <span class="mono">{source.commit.id.slice(0, 12)}</span>
          {source.commit.subject}
          <span class="soft">{source.commit.author}, {age(source.commit.time, live.now)} ago</span>
        </dd>
      {/if}
      <dt>Webhook</dt>
      <dd class="mono">POST {location.origin}{source.hook}</dd>
      {#if secret}
        <dt>Webhook secret</dt>
        <dd>
          <span class="mono">{secret}</span>
          <CopyInline text={secret} what="the secret" />
          <div class="soft">
            Shown once. A push is accepted when its X-Hub-Signature-256 header is the HMAC-SHA256 of the body.
          </div>
        </dd>
      {/if}
    </dl>
    <div class="acts">
      <Button size="small" kind="tertiary" disabled={busy} on:click={() => void look()}>Check now</Button>
      <Button size="small" kind="tertiary" on:click={edit}>Change</Button>
      <Button size="small" kind="tertiary" disabled={busy} on:click={() => void renew()}
        >New webhook secret</Button
      >
      <Button size="small" kind="danger-tertiary" disabled={busy} on:click={() => void remove()}
        >Stop following</Button
      >
    </div>
  </div>
{:else if known}
  <div class="empty">
    <p>
      This stack has no Git source. Set one, and each push is previewed and deployed, or waits for approval.
    </p>
    <Button size="small" on:click={edit}>Follow a repository</Button>
  </div>
{/if}

<style>
  form {
    display: grid;
    gap: 1rem;
    max-width: 40rem;
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 0.4rem;
    margin-top: 0.8rem;
  }
  dl {
    display: grid;
    grid-template-columns: minmax(6rem, 9rem) minmax(0, 1fr);
    gap: 0.4rem 1rem;
    font-size: 0.875rem;
    overflow-wrap: anywhere;
  }
  dt {
    color: var(--cds-text-02);
  }
</style>
