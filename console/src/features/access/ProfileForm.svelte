<!-- What a member sets for itself: its name for others, how the console looks and writes times, where it opens, and the rights it works
     with. -->
<script lang="ts">
  import {
    Button,
    ComboBox,
    InlineNotification,
    Select,
    SelectItem,
    TextInput,
  } from "carbon-components-svelte";
  import { ApiError, call, sentence } from "../../lib/api";
  import { profile } from "../../lib/profile.svelte";
  import { session } from "../../lib/session.svelte";
  import type { Profile, Role } from "../../lib/types";

  const ZONES = Intl.supportedValuesOf("timeZone").map((zone) => ({ id: zone, text: zone }));
  const PAGES = [
    { path: "", name: "Overview" },
    { path: "/containers", name: "Containers" },
    { path: "/stacks", name: "Stacks" },
    { path: "/hosts", name: "Hosts" },
    { path: "/logs", name: "Logs" },
    { path: "/use", name: "Usage" },
    { path: "/timeline", name: "Timeline" },
  ];

  // A form of its own: what is typed is not the profile until it is saved.
  let set = $derived(editable(profile.value));
  let roles = $state.raw<Role[]>([]);
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let saved = $state(false);
  let busy = $state(false);

  function editable(value: Profile): Profile {
    const copy = $state({ ...value });
    return copy;
  }

  async function save() {
    [busy, wrong, saved] = [true, null, false];
    try {
      const works = set.works_as ? { works_as: set.works_as } : { works_as: undefined };
      const zone = set.time_zone ? { time_zone: set.time_zone } : { time_zone: undefined };
      await profile.save({ ...set, ...works, ...zone });
      await session.askRights();
      saved = true;
    } catch (error) {
      wrong = { field: error instanceof ApiError ? error.problem.field : undefined, text: sentence(error) };
    } finally {
      busy = false;
    }
  }

  call<Role[]>("GET", "/api/v1/roles").then(
    (all) => (roles = all),
    () => (roles = []),
  );

  const invalid = (field: string) => wrong?.field === field;
</script>

<h2>Profile</h2>
{#if wrong && !wrong.field}<InlineNotification
    kind="error"
    lowContrast
    hideCloseButton
    title={wrong.text}
  />{/if}
{#if saved}<InlineNotification kind="success" lowContrast hideCloseButton title="Profile saved." />{/if}
<form
  onsubmit={(event) => {
    event.preventDefault();
    void save();
  }}
>
  <TextInput
    id="profile-name"
    labelText="Display name"
    placeholder={session.member}
    bind:value={set.display_name}
    invalid={invalid("/display_name")}
    invalidText={wrong?.text ?? ""}
  />
  <Select id="profile-theme" labelText="Theme" bind:selected={set.theme}>
    <SelectItem value="auto" text="browser setting" />
    <SelectItem value="light" text="light" />
    <SelectItem value="dark" text="dark" />
  </Select>
  <Select id="profile-clock" labelText="Clock" bind:selected={set.clock}>
    <SelectItem value="24h" text="24 hours" />
    <SelectItem value="12h" text="12 hours" />
  </Select>
  <ComboBox
    id="profile-zone"
    labelText="Time zone"
    placeholder="the browser's"
    items={ZONES}
    selectedId={set.time_zone}
    shouldFilterItem={(item, value) => item.text.toLowerCase().includes(value.toLowerCase())}
    on:select={(event) => (set.time_zone = String(event.detail.selectedId))}
    on:clear={() => (set.time_zone = undefined)}
    invalid={invalid("/time_zone")}
    invalidText={wrong?.text ?? ""}
  />
  <Select id="profile-start" labelText="Start page" bind:selected={set.start_page}>
    {#each PAGES as page (page.path)}<SelectItem value={page.path} text={page.name} />{/each}
  </Select>
  <Select
    id="profile-works"
    labelText="Work as (until you step up)"
    selected={set.works_as ?? ""}
    on:update={(event) => (set.works_as = String(event.detail) || undefined)}
    invalid={invalid("/works_as")}
    invalidText={wrong?.text ?? ""}
  >
    <SelectItem value="" text="all your rights" />
    {#each roles as role (role.name)}<SelectItem value={role.name} text={role.name} />{/each}
  </Select>
  <Button size="field" kind="tertiary" type="submit" disabled={busy}>Save profile</Button>
</form>
{#if Object.keys(profile.value.filters ?? {}).length > 0}
  <p class="soft">
    Pages with kept filters: {Object.keys(profile.value.filters ?? {}).join(", ")}. Open one to change or
    reset them.
  </p>
{/if}

<style>
  form {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(14rem, 100%), 1fr));
    max-width: 52rem;
    gap: 1rem;
    align-items: end;
    margin-top: 1rem;
  }
</style>
