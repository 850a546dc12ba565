<!-- The frame: who is signed in decides what is shown; then top bar, page, inspector and operations. -->
<script lang="ts">
  import { Button, InlineNotification, Loading } from "carbon-components-svelte";
  import { live } from "./lib/live.svelte";
  import { follow, go, place, query } from "./lib/router.svelte";
  import { pending, session } from "./lib/session.svelte";
  import Account from "./pages/Account.svelte";
  import Containers from "./pages/Containers.svelte";
  import Enter from "./pages/Enter.svelte";
  import Hosts from "./pages/Hosts.svelte";
  import Operations from "./pages/Operations.svelte";
  import Overview from "./pages/Overview.svelte";
  import Change from "./parts/Change.svelte";
  import Inspector from "./parts/Inspector.svelte";
  import Keys from "./parts/Keys.svelte";
  import Running from "./parts/Running.svelte";
  import Top from "./parts/Top.svelte";

  void session.ask();

  let keysShown = $state(false);
  let chord = "";

  const inspected = $derived(place.query.get("inspect"));
  const filled = $derived(place.path === "/containers");

  function typing(event: KeyboardEvent): boolean {
    const target = event.target as HTMLElement;
    return target.matches("input, textarea, select, [contenteditable]");
  }

  function keys(event: KeyboardEvent) {
    if (session.state !== "in" || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "Escape") {
      if (keysShown) keysShown = false;
      else if (typing(event)) (event.target as HTMLElement).blur();
      else if (!pending.wish && inspected) query({ inspect: null, tab: null });
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
        p: "/operations",
        a: "/account",
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

<svelte:window onkeydown={keys} onclick={follow} />

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
        {#if place.path === "/"}
          <Overview />
        {:else if place.path === "/containers"}
          <Containers />
        {:else if place.path === "/hosts"}
          <Hosts />
        {:else if place.path.startsWith("/operations")}
          <Operations />
        {:else if place.path === "/account"}
          <Account />
        {:else}
          <div class="empty">
            <h1>There is no such page</h1>
            <p>The address may have been cut off. <a href="/">Go to the overview</a>.</p>
          </div>
        {/if}
      </main>
      {#if inspected}
        <Inspector reference={inspected} />
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
