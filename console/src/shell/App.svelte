<!-- The frame: who is signed in decides what is shown; then top bar, page, inspector and operations. -->
<script lang="ts">
  import { Button, InlineNotification, Loading } from "carbon-components-svelte";
  import type { Component } from "svelte";
  import { download, sentence } from "../lib/api";
  import { live } from "../lib/live.svelte";
  import { attention } from "../features/fleet/attention.svelte";
  import { read } from "../features/fleet/inspect";
  import { follow, go, place, query } from "../lib/router.svelte";
  import { pending, session } from "../lib/session.svelte";
  import { leaving } from "../lib/unsaved.svelte";
  import { notices } from "../lib/notices.svelte";
  import { stepping } from "../features/access/stepUpRequest.svelte";
  import { freezes } from "../features/team/freezes.svelte";
  import Freezes from "../features/team/Freezes.svelte";
  import Mentions from "../features/team/Mentions.svelte";
  import RightsBanner from "../features/access/RightsBanner.svelte";
  import { pageAt, shownPages, type Page } from "./pages";
  import { showTitle } from "./title.svelte";
  import LoadFailed from "./LoadFailed.svelte";
  import Lazy from "./Lazy.svelte";
  import RunningOperations from "./RunningOperations.svelte";
  import TopBar from "./TopBar.svelte";

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

  /** The page whose code is there; while another's is fetched the one before stays. */
  let ready = $state.raw<{ page: Page; shown: Component } | null>(null);
  let loadFailed = $state(false);
  $effect(() => {
    const wanted = page;
    if (!wanted || session.state !== "in") return;
    loadFailed = false;
    wanted
      .load()
      .then((code) => {
        if (wanted === page) ready = { page: wanted, shown: code.default };
      })
      .catch(() => {
        if (wanted === page) loadFailed = true;
      });
  });
  $effect(() => showTitle(page?.name, session.state === "in"));

  // A stack that is not as it was applied is reported at once, the rest within a minute.
  $effect(() => {
    if (session.state !== "in") {
      attention.forget();
      return;
    }
    void live.drift;
    void live.jobs;
    void attention.look();
    const timer = setInterval(() => void attention.look(), 60_000);
    return () => clearInterval(timer);
  });
  $effect(() => {
    // An image is looked at wherever it is; others are told of what is on one host.
    const stack = /^\/stacks\/([^/]+)\/([^/]+)$/.exec(place.path);
    const at = what && what.kind !== "image" ? `${what.kind}:${what.key}` : null;
    live.looksAt(
      at ??
        (stack ? `stack:${decodeURIComponent(stack[1] ?? "")}/${decodeURIComponent(stack[2] ?? "")}` : null),
    );
  });
  /** A page is recreated when the parts of the query change that it names. */
  const reset = $derived(ready?.page.resetOn?.map((name) => place.query.get(name) ?? "").join("|") ?? "");

  /** A dialog gives the focus back to what opened it, or to what is behind it when that is gone. */
  $effect.pre(() => {
    if (!pending.wish) return;
    const opener = document.activeElement;
    return () => {
      const back =
        opener instanceof HTMLElement && opener.isConnected && opener !== document.body
          ? opener
          : document.querySelector<HTMLElement>(".inspector h2, #main");
      back?.focus({ preventScroll: true });
    };
  });

  function typing(event: KeyboardEvent): boolean {
    const target = event.target as HTMLElement;
    return target.matches("input, textarea, select, [contenteditable]");
  }

  function keys(event: KeyboardEvent) {
    // In a terminal every key is the shell's.
    if ((event.target as Element | null)?.closest?.(".xterm")) return;
    if (session.state !== "in" || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "Escape") {
      // A menu or a list that is open closes by itself.
      if (event.defaultPrevented || document.querySelector("[aria-haspopup][aria-expanded=true]")) return;
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
  <Lazy part={() => import("../features/access/Welcome.svelte")} />
{:else if session.state === "asking"}
  <Loading withOverlay={false} description="Connecting" />
{:else if session.state === "unreachable"}
  <div class="empty">
    <h1>The service does not answer</h1>
    <p>
      Check that <code>gubernum serve</code> is running and that this address is right. Reconnecting…
    </p>
    <Button size="small" on:click={() => void session.ask()}>Try now</Button>
  </div>
{:else if session.state !== "in"}
  <Lazy part={() => import("../features/access/SignIn.svelte")} />
{:else}
  <div class="frame">
    <TopBar onkeys={() => (keysShown = true)} />
    <div class="body">
      <main id="main" class="page" class:filled={ready?.page.filled} tabindex="-1">
        {#if live.status === "lost"}
          <InlineNotification
            kind="warning"
            lowContrast
            hideCloseButton
            title="The connection to the service is lost."
            subtitle="This is the last known state. Reconnecting…"
          />
        {/if}
        <RightsBanner />
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
        {#if loadFailed}
          <LoadFailed />
        {:else if page && ready}
          {@const Shown = ready.shown}
          {#key ready.page.path + reset}<Shown />{/key}
        {:else if page}
          <Loading withOverlay={false} small description="Loading the page" />
        {:else}
          <div class="empty">
            <h1>Page not found</h1>
            <p>The address may have been cut off. <a href="/">Go to the overview</a>.</p>
          </div>
        {/if}
      </main>
      {#if what?.kind === "container"}
        {#await import("../features/fleet/Inspector.svelte") then { default: Inspector }}
          <Inspector reference={what.key} />
        {:catch}<LoadFailed />{/await}
      {:else if what?.kind === "operation"}
        <Lazy
          part={() => import("../features/operations/OperationInspector.svelte")}
          with={{ id: Number(what.key) }}
        />
      {:else if what}
        {#await import("../features/fleet/ObjectInspector.svelte") then { default: OtherInspector }}
          {#key what.kind + what.key}<OtherInspector {what} />{/key}
        {:catch}<LoadFailed />{/await}
      {/if}
    </div>
    <RunningOperations />
  </div>
  {#if pending.wish}
    {@const wish = pending.wish}
    {#await import("../features/operations/ChangeDialog.svelte") then { default: Change }}
      <Change {wish} />
    {:catch}<LoadFailed />{/await}
  {/if}
  {#if stepping.why}<Lazy part={() => import("../features/access/StepUp.svelte")} />{/if}
  {#if notices.isOpen}<Lazy part={() => import("./Notices.svelte")} />{/if}
  {#if leaving.to}<Lazy part={() => import("./UnsavedDialog.svelte")} />{/if}
  {#if freezes.isAsking}<Lazy part={() => import("../features/team/FreezeDialog.svelte")} />{/if}
  {#if keysShown}
    <Lazy part={() => import("./KeyHelp.svelte")} with={{ onclose: () => (keysShown = false) }} />
  {/if}
{/if}
