<!-- The frame: who is signed in decides what is shown; then top bar, page, inspector and operations. -->
<script lang="ts">
  import { Button, InlineNotification, Loading } from "carbon-components-svelte";
  import { download, sentence } from "../lib/api";
  import { live } from "../lib/live.svelte";
  import { read } from "../features/fleet/inspect";
  import { follow, go, place, query } from "../lib/router.svelte";
  import { pending, session } from "../lib/session.svelte";
  import Enter from "../features/access/Enter.svelte";
  import Freezes from "../features/team/Freezes.svelte";
  import Mentions from "../features/team/Mentions.svelte";
  import Standing from "../features/access/Standing.svelte";
  import StepUp from "../features/access/StepUp.svelte";
  import Welcome from "../features/access/Welcome.svelte";
  import Change from "../features/operations/Change.svelte";
  import Inspector from "../features/fleet/Inspector.svelte";
  import Keys from "./Keys.svelte";
  import OtherInspector from "../features/fleet/OtherInspector.svelte";
  import { pageAt, shownPages } from "./pages";
  import Running from "./Running.svelte";
  import Top from "./Top.svelte";

  void session.ask();

  let downloadFailed = $state("");

  /** Every link to a download of the API goes by way of a ticket. */
  function followDownload(event: MouseEvent) {
    const link = (event.target as Element | null)?.closest?.<HTMLAnchorElement>("a[download]");
    const href = link?.getAttribute("href");
    if (!link || link.dataset.ticket || !href?.startsWith("/api/")) return;
    event.preventDefault();
    download(href, link.download).catch((error: unknown) => (downloadFailed = sentence(error)));
  }

  let keysShown = $state(false);
  let chord = "";

  const inspected = $derived(place.query.get("inspect"));
  const what = $derived(inspected ? read(inspected) : null);
  const page = $derived(pageAt(place.path));
  $effect(() => {
    // An image is looked at wherever it is; others are told of what stands on one host.
    const stack = /^\/stacks\/([^/]+)\/([^/]+)$/.exec(place.path);
    const at = what && what.kind !== "image" ? `${what.kind}:${what.key}` : null;
    live.looksAt(
      at ??
        (stack ? `stack:${decodeURIComponent(stack[1] ?? "")}/${decodeURIComponent(stack[2] ?? "")}` : null),
    );
  });
  /** A page that begins anew for some parts of its query is shown afresh when they change. */
  const anew = $derived(page?.anew?.map((name) => place.query.get(name) ?? "").join("|") ?? "");

  function typing(event: KeyboardEvent): boolean {
    const target = event.target as HTMLElement;
    return target.matches("input, textarea, select, [contenteditable]");
  }

  function keys(event: KeyboardEvent) {
    // In a terminal every key is the shell's.
    if ((event.target as Element | null)?.closest?.(".xterm")) return;
    if (session.state !== "in" || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "Escape") {
      if (keysShown) keysShown = false;
      else if (typing(event)) (event.target as HTMLElement).blur();
      else if (!pending.wish && inspected)
        query({ inspect: null, tab: null, with: null, without: null, line: null });
      return;
    }
    if (typing(event) || pending.wish) return;
    const before = chord;
    chord = "";
    if (before === "g") {
      const wanted = shownPages().find((candidate) => candidate.key === event.key);
      if (wanted) go(wanted.path);
    } else if (event.key === "g") chord = "g";
    else if (event.key === "?") keysShown = !keysShown;
    else if (event.key === "/") document.getElementById("find")?.focus();
    else return;
    event.preventDefault();
  }
</script>

<svelte:window
  onkeydown={keys}
  onclick={(event) => {
    followDownload(event);
    if (!event.defaultPrevented) follow(event);
  }}
/>

{#if place.path === "/welcome"}
  <Welcome />
{:else if session.state === "asking"}
  <Loading withOverlay={false} description="Asking the service" />
{:else if session.state === "unreachable"}
  <div class="empty">
    <h1>The service does not answer</h1>
    <p>
      Check that <code>gubernum serve</code> is running and that this address is right. It is tried again by itself.
    </p>
    <Button size="small" on:click={() => void session.ask()}>Try now</Button>
  </div>
{:else if session.state !== "in"}
  <Enter />
{:else}
  <div class="frame">
    <Top onkeys={() => (keysShown = true)} />
    <div class="body">
      <main class="page" class:filled={page?.filled}>
        {#if live.status === "lost"}
          <InlineNotification
            kind="warning"
            lowContrast
            hideCloseButton
            title="The connection to the service is lost."
            subtitle="What you see is as it was then. It is tried again by itself."
          />
        {/if}
        <Standing />
        <Freezes />
        <Mentions />
        {#if downloadFailed}
          <InlineNotification
            kind="error"
            lowContrast
            title={downloadFailed}
            on:close={() => (downloadFailed = "")}
          />
        {/if}
        {#if page}
          {@const Shown = page.component}
          {#key page.path + anew}<Shown />{/key}
        {:else}
          <div class="empty">
            <h1>There is no such page</h1>
            <p>The address may have been cut off. <a href="/">Go to the overview</a>.</p>
          </div>
        {/if}
      </main>
      {#if what?.kind === "container"}
        <Inspector reference={what.key} />
      {:else if what}
        {#key what.kind + what.key}<OtherInspector {what} />{/key}
      {/if}
    </div>
    <Running />
  </div>
  {#if pending.wish}
    <Change wish={pending.wish} />
  {/if}
  <StepUp />
  {#if keysShown}
    <Keys onclose={() => (keysShown = false)} />
  {/if}
{/if}
