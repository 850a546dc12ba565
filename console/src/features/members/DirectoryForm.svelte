<!-- The settings of one directory: tried before they are saved. -->
<script lang="ts">
  import { untrack } from "svelte";
  import {
    Button,
    InlineNotification,
    NumberInput,
    PasswordInput,
    TextArea,
    TextInput,
  } from "carbon-components-svelte";
  import { ApiError, call, sentence } from "../../lib/api";
  import type { Directory, DirectoryTest, GroupGrant, Role } from "../../lib/types";
  import GroupGrants from "./GroupGrants.svelte";

  let {
    kind,
    known,
    roles,
    onsaved,
    oncancel,
  }: {
    kind: "openid" | "ldap";
    known: Directory | undefined;
    roles: Role[];
    onsaved: () => Promise<void>;
    oncancel: () => void;
  } = $props();

  type Fields = Record<string, string>;
  const OPENID: [string, string, string, string][] = [
    ["issuer", "Issuer", "", "https://sign-in.example"],
    ["client_id", "Client id", "", "gubernum"],
    [
      "service_address",
      "Address of this service",
      "",
      "The redirect URI is this address with /api/v1/openid/callback",
    ],
    ["label", "Button label", "single sign-on", ""],
    ["scopes", "Additional scopes", "profile groups", ""],
    ["name_claim", "Name claim", "preferred_username", ""],
    ["groups_claim", "Groups claim", "groups", ""],
  ];
  const LDAP: [string, string, string, string][] = [
    ["address", "Address", "", "ldaps://directory.example:636, or ldap:// with StartTLS"],
    ["bind_name", "Bind DN", "", "Empty: anonymous search"],
    ["base", "User base DN", "", "ou=people,dc=orchard,dc=example"],
    ["filter", "User filter", "(uid={name})", "{name} is what is typed"],
    ["name_attribute", "Name attribute", "uid", ""],
    ["group_base", "Group base DN", "", "Empty: the person's entry lists the groups, in the attribute below"],
    ["group_filter", "Group filter", "(member={dn})", "{dn} is the person"],
    [
      "group_name",
      "Group attribute",
      "memberOf",
      "The name of a group, such as cn; or the person's attribute that lists groups",
    ],
  ];
  const shape = $derived(kind === "openid" ? OPENID : LDAP);

  function begin(): Fields {
    const fields: Fields = Object.fromEntries(shape.map(([name, , usual]) => [name, usual]));
    if (kind === "openid") fields.service_address = location.origin;
    if (known && "openid" in known.settings) {
      const { scopes, ca, ...rest } = known.settings.openid;
      return { ...fields, ...rest, scopes: (scopes ?? []).join(" "), ca: ca ?? "" };
    }
    if (known && "ldap" in known.settings) {
      const { groups, ca, ...rest } = known.settings.ldap;
      const of = groups as { by: string; base?: string; filter?: string; name: string } | undefined;
      const found = {
        group_base: of?.base ?? "",
        group_filter: of?.filter ?? "",
        group_name: of?.name ?? "memberOf",
      };
      return { ...fields, ...rest, ...found, ca: ca ?? "" };
    }
    return { ...fields, ca: "" };
  }

  let fields = $state(untrack(begin));
  let secret = $state("");
  let recheck = $state<number | null>(untrack(() => known?.recheck_seconds ?? 60));
  let mapping = $state.raw<GroupGrant[]>(untrack(() => known?.mapping ?? []));
  let wrong = $state<{ field?: string; text: string } | null>(null);
  let test = $state.raw<DirectoryTest | null>(null);
  let busy = $state(false);

  const body = $derived.by(() => {
    const { ca, scopes, group_base, group_filter, group_name, ...rest } = fields;
    const more = ca?.trim() ? { ca } : {};
    const groups = group_base?.trim()
      ? { by: "search", base: group_base, filter: group_filter, name: group_name }
      : { by: "attribute", name: group_name };
    const settings =
      kind === "openid"
        ? { openid: { ...rest, ...more, scopes: (scopes ?? "").split(/\s+/).filter(Boolean) } }
        : { ldap: { ...rest, ...more, groups } };
    return { settings, mapping, recheck_seconds: recheck ?? 60, ...(secret ? { secret } : {}) };
  });

  async function guarded(what: () => Promise<unknown>) {
    busy = true;
    [wrong, test] = [null, null];
    try {
      await what();
    } catch (error) {
      wrong = { field: error instanceof ApiError ? error.problem.field : undefined, text: sentence(error) };
    } finally {
      busy = false;
    }
  }

  const tried = () =>
    guarded(async () => (test = await call<DirectoryTest>("POST", `/api/v1/directories/${kind}/test`, body)));
  const save = () =>
    guarded(async () => {
      await call("PUT", `/api/v1/directories/${kind}`, body);
      await onsaved();
    });
  const forget = () =>
    guarded(async () => {
      await call("DELETE", `/api/v1/directories/${kind}`);
      await onsaved();
    });

  const at = (name: string) => wrong?.field === `/settings/${kind}/${name}`;
  const shown = $derived(shape.some(([name]) => at(name)) || at("ca"));
</script>

<form
  onsubmit={(event) => {
    event.preventDefault();
    void save();
  }}
>
  {#each shape as [name, label, , help] (name)}
    <TextInput
      id={`${kind}-${name}`}
      size="sm"
      labelText={label}
      helperText={help}
      invalid={at(name)}
      invalidText={wrong?.text ?? ""}
      bind:value={fields[name]}
    />
  {/each}
  <PasswordInput
    id={`${kind}-secret`}
    size="sm"
    tooltipAlignment="end"
    labelText={kind === "openid" ? "Client secret" : "Bind password"}
    helperText={known?.has_secret ? "Empty: keeps the current one" : ""}
    autocomplete="off"
    bind:value={secret}
  />
  <NumberInput
    id={`${kind}-recheck`}
    size="sm"
    labelText="Refresh groups after (s)"
    helperText="0: at every request"
    min={0}
    max={3600}
    bind:value={recheck}
  />
  <div class="all">
    <TextArea
      id={`${kind}-ca`}
      rows={2}
      labelText="CA certificate (PEM)"
      helperText="Empty: the system's CA certificates"
      invalid={at("ca")}
      invalidText={wrong?.text ?? ""}
      bind:value={fields.ca}
    />
    <GroupGrants {kind} {roles} {mapping} onchange={(changed) => (mapping = changed)} />
    {#if wrong && !shown}<InlineNotification
        kind="error"
        lowContrast
        hideCloseButton
        title={wrong.text}
      />{/if}
    {#if test}
      <InlineNotification
        kind={test.failure ? "error" : "success"}
        lowContrast
        hideCloseButton
        title={test.failure ?? "Connected."}
        subtitle={test.steps.join(". ")}
      />
    {/if}
    <Button size="small" type="submit" disabled={busy}>Save</Button>
    <Button size="small" kind="tertiary" disabled={busy} on:click={() => void tried()}>Test</Button>
    <Button size="small" kind="ghost" on:click={oncancel}>Cancel</Button>
    {#if known}
      <Button size="small" kind="danger-ghost" disabled={busy} on:click={() => void forget()}>Remove</Button>
    {/if}
  </div>
</form>

<style>
  form {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(15rem, 1fr));
    gap: 1rem;
    max-width: 62rem;
  }
  .all {
    grid-column: 1 / -1;
    display: grid;
    grid-template-columns: repeat(auto-fill, minmax(7rem, max-content));
    gap: 0.75rem;
  }
  .all > :global(:not(.bx--btn)) {
    grid-column: 1 / -1;
  }
</style>
