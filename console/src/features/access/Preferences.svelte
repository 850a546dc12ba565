<!-- Settings of the whole service. Registries are in Registries.svelte. -->
<script lang="ts">
  import {
    Button,
    Checkbox,
    InlineNotification,
    NumberInput,
    Select,
    SelectItem,
  } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";

  interface Values {
    kept_earlier: number | null;
    tidy_after_hours: number | null;
    safe_after_hours: number | null;
    cache_safe_after_hours: number | null;
    image_check_hours: number | null;
    session_hours: number | null;
    record_terminals: boolean;
    browse_host_folders: boolean;
    drift_needs_attention: boolean;
    second_factor_for_all: boolean;
    guard_remove_volumes: Guard;
    guard_root_shell: Guard;
    guard_host_reach: Guard;
    guard_members: Guard;
  }
  type Guard = "none" | "step-up" | "approval";

  const GUARDS = [
    { key: "guard_remove_volumes", label: "Before volumes are removed" },
    { key: "guard_root_shell", label: "Before a shell as root" },
    { key: "guard_host_reach", label: "Before privileged containers and host mounts" },
    { key: "guard_members", label: "Before members and roles change" },
  ] as const;

  const NUMBERS = [
    { key: "kept_earlier", least: 0, most: 100, label: "Revisions kept of each container" },
    { key: "tidy_after_hours", least: 0, most: 8760, label: "Hours unused before Tidy lists an object" },
    {
      key: "safe_after_hours",
      least: 0,
      most: 8760,
      label: "Hours unused before an object is safe to remove",
    },
    {
      key: "cache_safe_after_hours",
      least: 0,
      most: 8760,
      label: "Hours unused before build cache is safe to remove",
    },
    {
      key: "image_check_hours",
      least: 0,
      most: 720,
      label: "Hours between checks for newer images (0: never)",
    },
    { key: "session_hours", least: 1, most: 2160, label: "Hours until a session ends" },
  ] as const;

  let set = $state<Values | null>(null);
  let wrong = $state("");
  let saved = $state(false);
  let busy = $state(false);

  const bad = (value: number | null, least: number, most: number) =>
    value === null || !Number.isInteger(value) || value < least || value > most;
  const ready = $derived(set !== null && NUMBERS.every((n) => !bad(set?.[n.key] ?? null, n.least, n.most)));

  async function ask(method: "GET" | "PUT") {
    busy = true;
    saved = false;
    try {
      set = await call<Values>(method, "/api/v1/preferences", method === "PUT" ? set : undefined);
      [wrong, saved] = ["", method === "PUT"];
    } catch (error) {
      wrong = sentence(error);
    } finally {
      busy = false;
    }
  }
  void ask("GET");
</script>

<h2>Settings</h2>
{#if wrong}<InlineNotification kind="error" lowContrast hideCloseButton title={wrong} />{/if}
{#if saved}<InlineNotification kind="success" lowContrast hideCloseButton title="Settings saved." />{/if}
{#if set}
  <form
    onsubmit={(e) => {
      e.preventDefault();
      void ask("PUT");
    }}
  >
    {#each NUMBERS as n (n.key)}
      <NumberInput
        size="sm"
        labelText={n.label}
        allowEmpty
        min={n.least}
        max={n.most}
        invalid={bad(set[n.key], n.least, n.most)}
        invalidText={`Enter a whole number from ${n.least} to ${n.most}`}
        bind:value={set[n.key]}
      />
    {/each}
    <div class="wide">
      <Checkbox
        labelText="Record terminals in the audit log, hidden input included"
        bind:checked={set.record_terminals}
      />
      <Checkbox
        labelText="Allow browsing and changing host folders that containers mount"
        bind:checked={set.browse_host_folders}
      />
      <Checkbox
        labelText="Stacks that have drifted need attention"
        bind:checked={set.drift_needs_attention}
      />
      <Checkbox
        labelText="Require a second factor: members without one can do nothing until they set it up"
        bind:checked={set.second_factor_for_all}
      />
    </div>
    {#each GUARDS as guard (guard.key)}
      <Select size="sm" labelText={guard.label} bind:selected={set[guard.key]}>
        <SelectItem value="none" text="no further check" />
        <SelectItem value="step-up" text="password or code again" />
        <SelectItem value="approval" text="approval by a second member" />
      </Select>
    {/each}
    <div><Button size="small" kind="tertiary" type="submit" disabled={busy || !ready}>Save</Button></div>
  </form>
{/if}

<style>
  form {
    display: grid;
    grid-template-columns: repeat(auto-fill, minmax(17rem, 1fr));
    gap: 1rem;
    align-items: end;
    margin: 0.8rem 0 1rem;
    max-width: 62rem;
  }
  .wide {
    grid-column: 1 / -1;
    font-size: 0.8125rem;
  }
</style>
