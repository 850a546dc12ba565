<!-- The top bar: pages, the search box, the theme and the member. -->
<script lang="ts">
  import { needsAttention } from "../features/fleet/figures";
  import { live } from "../lib/live.svelte";
  import { go, place } from "../lib/router.svelte";
  import { session } from "../lib/session.svelte";
  import { profile } from "../lib/profile.svelte";
  import { theme } from "../lib/theme.svelte";
  import People from "../features/team/People.svelte";
  import Find from "./Find.svelte";
  import { shownPages } from "./pages";

  let { onkeys }: { onkeys: () => void } = $props();

  let copied = $state("");

  /** The address holds filters, range and line: who opens it sees the same. */
  async function copyLink() {
    try {
      await navigator.clipboard.writeText(location.href);
      copied = "Copied";
    } catch {
      // Without TLS browsers give no clipboard: the address line has the same.
      copied = "Use the address line";
    }
    setTimeout(() => (copied = ""), 2000);
  }

  const trouble = $derived(
    live.containers.filter(needsAttention).length + live.hosts.filter(needsAttention).length,
  );
  const running = $derived(live.operations.filter((o) => o.state === "running").length);
  const counts = $derived<Record<string, number>>({ "/": trouble, "/operations": running });
  const pages = $derived(shownPages().filter((page) => !page.apart));

  function here(path: string): boolean {
    return path === "/" ? place.path === "/" : place.path.startsWith(path);
  }
</script>

<header class="top">
  <div class="first">
    <a class="brand" href="/">Gubernum</a>
    <Find />
    <span class="push"></span>
    <People />
    <button class="plain" onclick={() => void copyLink()} title="Copy a link to exactly this view"
      >{copied || "Link"}</button
    >
    {#if profile.shownFilters && profile.shownFilters !== profile.keptFilters}
      <button
        class="plain"
        onclick={() => void profile.keepFilters(true)}
        title="Open this page with these filters from now on">Keep filters</button
      >
    {:else if profile.keptFilters}
      <button
        class="plain"
        onclick={() => void profile.keepFilters(false)}
        title="This page opens with filters that you kept">Forget filters</button
      >
    {/if}
    <button class="plain" onclick={onkeys} title="Keys">?</button>
    <button class="plain" onclick={() => void profile.toggleTheme()}
      >{theme.choice === "dark" ? "Light" : "Dark"}</button
    >
    <a href="/account" aria-current={here("/account") ? "page" : undefined}
      >{profile.value.display_name || session.member}</a
    >
    <button class="plain" onclick={() => void session.leave().then(() => go("/", false))}>Sign out</button>
  </div>
  <nav aria-label="Pages">
    {#each pages as page (page.path)}
      <a href={page.path} aria-current={here(page.path) ? "page" : undefined}>
        {page.name}
        {#if counts[page.path]}<span class="count">{counts[page.path]}</span>{/if}
      </a>
    {/each}
  </nav>
</header>

<style>
  .first {
    display: flex;
    align-items: stretch;
    height: 2.6rem;
  }
  @media (max-width: 42rem) {
    .first {
      flex-wrap: wrap;
      height: auto;
      min-height: 2.6rem;
    }
    .push {
      display: none;
    }
  }
  nav {
    display: flex;
    height: 2rem;
    margin-left: -0.8rem;
    overflow-x: auto;
  }
  nav a {
    font-size: 0.8125rem;
  }
  .push {
    flex: 1;
  }
</style>
