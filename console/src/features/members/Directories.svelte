<!-- Directories through which members sign in: how each is reached, and what its groups grant. -->
<script lang="ts">
  import { Button, InlineNotification, Tile } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import type { Directory, Role } from "../../lib/types";
  import DirectoryForm from "./DirectoryForm.svelte";
  import { DIRECTORIES } from "./members";

  let { roles }: { roles: Role[] } = $props();

  type Kind = keyof typeof DIRECTORIES;
  const KINDS = Object.keys(DIRECTORIES) as Kind[];

  let all = $state.raw<Directory[]>([]);
  let open = $state<Kind | null>(null);
  let wrong = $state("");

  async function load() {
    try {
      all = await call<Directory[]>("GET", "/api/v1/directories");
      wrong = "";
    } catch (error) {
      wrong = sentence(error);
    }
  }

  void load();

  const of = (kind: Kind) => all.find((one) => kind in one.settings);

  async function saved() {
    open = null;
    await load();
  }
</script>

{#if wrong}<InlineNotification kind="error" lowContrast title={wrong} on:close={() => (wrong = "")} />{/if}
<p class="soft">
  Members can sign in with an account of a directory, and their groups there decide their rights here. Members
  with a password of this service stay as they are; one of them always remains an admin.
</p>
{#each KINDS as kind (kind)}
  {@const known = of(kind)}
  <Tile>
    <h2>{DIRECTORIES[kind]}</h2>
    {#if open === kind}
      <DirectoryForm {kind} {known} {roles} onsaved={saved} oncancel={() => (open = null)} />
    {:else}
      {#if known}
        <p>
          {"openid" in known.settings ? known.settings.openid.issuer : known.settings.ldap.address}:
          {known.mapping.length === 1 ? "1 group has" : `${known.mapping.length} groups have`} grants.
        </p>
        {#if known.failure}
          <InlineNotification kind="warning" lowContrast hideCloseButton title={known.failure} />
        {/if}
      {:else}
        <p class="soft">Not set up.</p>
      {/if}
      <Button size="small" kind="tertiary" data-test={`set-${kind}`} on:click={() => (open = kind)}
        >{known ? "Change" : "Set up"}</Button
      >
    {/if}
  </Tile>
{/each}

<style>
  h2 {
    font-size: 1rem;
    margin: 0 0 0.5rem;
  }
  p {
    margin-bottom: 0.75rem;
    max-width: 52rem;
  }
</style>
