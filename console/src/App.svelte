<!-- The frame: who is signed in decides what is shown; then top bar, page, inspector and operations. -->
<script lang="ts">
  import { Button, InlineNotification, Loading } from "carbon-components-svelte";
  import { download, sentence } from "./lib/api";
  import { live } from "./lib/live.svelte";
  import { read } from "./lib/inspect";
  import { follow, go, place, query } from "./lib/router.svelte";
  import { pending, session } from "./lib/session.svelte";
  import Account from "./pages/Account.svelte";
  import Containers from "./pages/Containers.svelte";
  import Deploy from "./pages/Deploy.svelte";
  import Enter from "./pages/Enter.svelte";
  import Hosts from "./pages/Hosts.svelte";
  import Images from "./pages/Images.svelte";
  import Logs from "./pages/Logs.svelte";
  import Networks from "./pages/Networks.svelte";
  import Operations from "./pages/Operations.svelte";
  import Overview from "./pages/Overview.svelte";
  import Ports from "./pages/Ports.svelte";
  import Stacks from "./pages/Stacks.svelte";
  import Tidy from "./pages/Tidy.svelte";
  import Timeline from "./pages/Timeline.svelte";
  import Use from "./pages/Use.svelte";
  import Volumes from "./pages/Volumes.svelte";
  import Change from "./parts/Change.svelte";
  import Inspector from "./parts/Inspector.svelte";
  import Keys from "./parts/Keys.svelte";
  import OtherInspector from "./parts/OtherInspector.svelte";
  import Running from "./parts/Running.svelte";
  import Top from "./parts/Top.svelte";

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
  const FILLED = [
    "/containers",
    "/images",
    "/volumes",
    "/networks",
    "/ports",
    "/use",
    "/logs",
    "/deploy",
    "/tidy",
  ];
  const filled = $derived(FILLED.includes(place.path));

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
      const pages: Record<string, string> = {
        o: "/",
        c: "/containers",
        h: "/hosts",
        s: "/stacks",
        i: "/images",
        v: "/volumes",
        n: "/networks",
        r: "/ports",
        l: "/logs",
        u: "/use",
        t: "/timeline",
        p: "/operations",
        a: "/account",
        d: "/deploy",
        y: "/tidy",
      };
      const page = pages[event.key];
      if (page) go(page);
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

{#if session.state === "asking"}
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
      <main class="page" class:filled>
        {#if live.status === "lost"}
          <InlineNotification
            kind="warning"
            lowContrast
            hideCloseButton
            title="The connection to the service is lost."
            subtitle="What you see is as it was then. It is tried again by itself."
          />
        {/if}
        {#if downloadFailed}
          <InlineNotification
            kind="error"
            lowContrast
            title={downloadFailed}
            on:close={() => (downloadFailed = "")}
          />
        {/if}
        {#if place.path === "/"}
          <Overview />
        {:else if place.path === "/containers"}
          <Containers />
        {:else if place.path === "/hosts"}
          <Hosts />
        {:else if place.path === "/stacks"}
          <Stacks />
        {:else if place.path === "/images"}
          <Images />
        {:else if place.path === "/volumes"}
          <Volumes />
        {:else if place.path === "/networks"}
          <Networks />
        {:else if place.path === "/ports"}
          <Ports />
        {:else if place.path === "/use"}
          <Use />
        {:else if place.path === "/logs"}
          <Logs />
        {:else if place.path === "/tidy"}
          <Tidy />
        {:else if place.path === "/timeline"}
          <Timeline />
        {:else if place.path.startsWith("/operations")}
          <Operations />
        {:else if place.path === "/deploy"}
          {#key place.query.get("edit") + "|" + place.query.get("from")}<Deploy />{/key}
        {:else if place.path === "/account"}
          <Account />
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
  {#if keysShown}
    <Keys onclose={() => (keysShown = false)} />
  {/if}
{/if}
