<!-- The top bar: areas, the search box, the member's menu; below it the pages of the area one is in. On a narrow window the areas are in
     a menu. Pages and their areas are in pages.ts. -->
<script lang="ts">
  import {
    Header,
    HeaderGlobalAction,
    HeaderNav,
    HeaderNavItem,
    HeaderUtilities,
    ProfileMenu,
    ProfileMenuDivider,
    ProfileMenuHeader,
    ProfileMenuItem,
    ProfileMenuList,
    SideNav,
    SideNavItems,
    SideNavMenu,
    SideNavMenuItem,
    SkipToContent,
    UserAvatar,
  } from "carbon-components-svelte";
  import { copyText } from "carbon-components-svelte/src/utils/copyText.js";
  import Keyboard from "carbon-icons-svelte/lib/Keyboard.svelte";
  import Link from "carbon-icons-svelte/lib/Link.svelte";
  import Notification from "carbon-icons-svelte/lib/Notification.svelte";
  import Checkmark from "carbon-icons-svelte/lib/Checkmark.svelte";

  import { attention } from "../features/fleet/attention.svelte";
  import { live } from "../lib/live.svelte";
  import { notices } from "../lib/notices.svelte";
  import { go, place } from "../lib/router.svelte";
  import { session } from "../lib/session.svelte";
  import { profile } from "../lib/profile.svelte";
  import { screen } from "../lib/screen.svelte";
  import { theme } from "../lib/theme.svelte";
  import Presence from "../features/team/Presence.svelte";
  import SearchBox from "./SearchBox.svelte";
  import { pageAt, shownAreas } from "./pages";

  let { onkeys }: { onkeys: () => void } = $props();

  let copied = $state("");
  let menuOpen = $state(false);
  let ownOpen = $state(false);

  // Whatever was pressed leads to another page: the menus have served.
  $effect(() => {
    void place.path;
    menuOpen = false;
    ownOpen = false;
  });

  /** The address holds filters, range and line: who opens it sees the same. */
  async function copyLink() {
    try {
      await copyText(location.href);
      copied = "Copied";
    } catch {
      // The address line has the same.
      copied = "Copy the address line";
    }
    setTimeout(() => (copied = ""), 2000);
  }

  const running = $derived(live.operations.filter((o) => o.state === "running").length);
  const counts = $derived<Record<string, number>>({ "/": attention.urgent, "/operations": running });
  const name = $derived(profile.value.display_name || session.member);
  const areas = $derived(shownAreas());
  const page = $derived(pageAt(place.path));
  const area = $derived(areas.find((one) => one.pages.some((candidate) => candidate === page)));
  const filters = $derived(
    profile.shownFilters && profile.shownFilters !== profile.keptFilters
      ? "Keep filters"
      : profile.keptFilters
        ? "Forget filters"
        : null,
  );
</script>

<Header
  href="/"
  platformName="Gubernum"
  uiShellAriaLabel="Gubernum"
  expandedByDefault={false}
  bind:isSideNavOpen={menuOpen}
>
  <svelte:fragment slot="skipToContent"><SkipToContent href="#main" /></svelte:fragment>
  {#if !screen.isNarrow}
    <HeaderNav aria-label="Areas">
      {#each areas as one (one.name)}
        <HeaderNavItem
          href={one.pages[0]?.path ?? "/"}
          text={one.name}
          isSelected={one === area}
          aria-current={one === area ? "true" : undefined}
        />
      {/each}
    </HeaderNav>
  {/if}
  <SearchBox />
  <HeaderUtilities>
    <Presence />
    <HeaderGlobalAction
      iconDescription={copied || "Copy a link to this view"}
      icon={copied ? Checkmark : Link}
      on:click={() => void copyLink()}
    />
    <HeaderGlobalAction
      iconDescription="Notices"
      icon={Notification}
      on:click={() => (notices.isOpen = true)}
    />
    <span class="at-a-keyboard">
      <HeaderGlobalAction iconDescription="Keys (?)" icon={Keyboard} on:click={onkeys} />
    </span>
    <ProfileMenu bind:isOpen={ownOpen} iconDescription={`Menu of ${name}`} data-test="own">
      <span slot="avatar" class="own">{name}</span>
      <ProfileMenuHeader {name} username={session.member} text="Profile, tokens and sessions" href="/account">
        <svelte:fragment slot="avatar"><UserAvatar size="lg" {name} /></svelte:fragment>
      </ProfileMenuHeader>
      <ProfileMenuDivider />
      <ProfileMenuList>
        <ProfileMenuItem on:click={() => void profile.toggleTheme()}
          >{theme.choice === "dark" ? "Light theme" : "Dark theme"}</ProfileMenuItem
        >
        {#if filters}
          <ProfileMenuItem on:click={() => void profile.keepFilters(filters === "Keep filters")}
            >{filters}</ProfileMenuItem
          >
        {/if}
        <ProfileMenuItem on:click={() => void session.leave().then(() => go("/", false))}
          >Sign out</ProfileMenuItem
        >
      </ProfileMenuList>
    </ProfileMenu>
  </HeaderUtilities>
</Header>
{#if screen.isNarrow}
  <SideNav bind:isOpen={menuOpen} ariaLabel="Areas">
    <SideNavItems>
      {#each areas as one (one.name)}
        <SideNavMenu text={one.name} expanded={one === area}>
          {#each one.pages as candidate (candidate.path)}
            <SideNavMenuItem
              href={candidate.path}
              text={counts[candidate.path] ? `${candidate.name} (${counts[candidate.path]})` : candidate.name}
              isSelected={candidate === page}
            />
          {/each}
        </SideNavMenu>
      {/each}
    </SideNavItems>
  </SideNav>
{/if}
{#if area && area.pages.length > 1}
  <nav class="pages" aria-label={`Pages of ${area.name}`}>
    {#each area.pages as candidate (candidate.path)}
      <a href={candidate.path} aria-current={candidate === page ? "page" : undefined}>
        {candidate.name}
        {#if counts[candidate.path]}<span class="count">{counts[candidate.path]}</span>{/if}
      </a>
    {/each}
  </nav>
{/if}

<style>
  :global(.bx--header .bx--profile-menu__trigger .bx--profile-menu__avatar) {
    width: auto;
    background: none;
    border-radius: 0;
  }
  .own {
    max-width: 9rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-size: 0.875rem;
    color: #fff;
  }
  :global(.bx--profile-menu__trigger.bx--header__action) {
    width: auto;
    padding: 0 0.8rem;
  }
  .pages {
    display: flex;
    flex-wrap: wrap;
    padding: 0 1rem;
    background: #2a5139;
  }
  .pages a {
    display: flex;
    align-items: center;
    gap: 0.4rem;
    min-height: 2rem;
    padding: 0 0.8rem;
    border-block: 3px solid transparent;
    color: #e6ede3;
    font-size: 0.8125rem;
    text-decoration: none;
  }
  .pages a:hover {
    background: #356446;
  }
  .pages a[aria-current="page"] {
    border-bottom-color: #e0b84c;
    color: #fff;
    font-weight: 600;
  }
  .pages a:focus-visible {
    outline: 2px solid #e0b84c;
    outline-offset: -2px;
  }
  .count {
    padding: 0 0.35rem;
    background: #e0b84c;
    color: #1b1b16;
    font-size: 0.75rem;
    font-weight: 600;
  }
  @media (max-width: 42rem) {
    .at-a-keyboard {
      display: none;
    }
    .own {
      max-width: 4.5rem;
    }
    .pages {
      padding: 0;
    }
    .pages a {
      min-height: 2.75rem;
    }
  }
</style>
