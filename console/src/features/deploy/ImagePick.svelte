<!-- The image: names found on hosts and at registries, and tags with age, size and architectures. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { Button } from "carbon-components-svelte";

  import { call, sentence } from "../../lib/api";
  import { age, bytes } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import TextField from "../../ui/form/TextField.svelte";

  interface Found {
    name: string;
    hosts?: string[];
  }
  interface TagRow {
    tag: string;
    created?: string;
    size?: number;
    architectures: string[];
    problem?: string;
  }

  let {
    value,
    onchange,
    onplatforms,
  }: {
    value: string;
    onchange: (value: string) => void;
    /** Told the platforms of the tag that was picked. */
    onplatforms?: (platforms: string[]) => void;
  } = $props();

  function take(tag: TagRow) {
    onchange(`${base}:${tag.tag}`);
    onplatforms?.(tag.architectures.map((a) => (a.includes("/") ? a : `linux/${a}`)));
  }

  let found = $state.raw<Found[]>([]);
  let tags = $state.raw<TagRow[] | null>(null);
  let total = $state(0);
  let wrong = $state("");
  let asking = $state(false);
  let shown = $state(false);
  let timer: ReturnType<typeof setTimeout> | undefined;

  const base = $derived.by(() => {
    const bare = value.split("@")[0] ?? "";
    const colon = bare.lastIndexOf(":");
    return colon > bare.lastIndexOf("/") ? bare.slice(0, colon) : bare;
  });

  function typed(text: string) {
    onchange(text);
    tags = null;
    clearTimeout(timer);
    timer = setTimeout(() => {
      if (text.trim().length < 2) found = [];
      else
        call<Found[]>("GET", `/api/v1/image-search?text=${encodeURIComponent(base)}`)
          .then((all) => {
            found = all.slice(0, 8);
            shown = true;
          })
          .catch(() => (found = []));
    }, 250);
  }

  async function ask() {
    asking = true;
    try {
      const list = await call<{ total: number; tags: TagRow[] }>(
        "GET",
        `/api/v1/registry-tags?image=${encodeURIComponent(base)}`,
      );
      [tags, total, wrong] = [list.tags, list.total, ""];
    } catch (error) {
      [tags, wrong] = [null, sentence(error)];
    } finally {
      asking = false;
    }
  }

  function pick(name: string) {
    onchange(name);
    [found, shown] = [[], false];
    void ask();
  }
</script>

<div class="row">
  <TextField
    mono
    id="image"
    name="Image"
    placeholder="registry.example/name:tag"
    {value}
    onchange={(text) => typed(text ?? "")}
  />
  <Button kind="tertiary" size="small" on:click={() => void ask()} disabled={asking || !base}
    >{asking ? "Asking…" : "Tags"}</Button
  >
</div>
{#if shown && found.length > 0}
  <ul class="found" aria-label="Images of that name">
    {#each found as f (f.name)}
      <li>
        <InlineAction onclick={() => pick(f.name)}>{f.name}</InlineAction>
        <span class="soft">{f.hosts?.length ? `on ${f.hosts.join(", ")}` : "at its registry"}</span>
      </li>
    {/each}
  </ul>
{/if}
{#if wrong}<p class="wrong" role="alert">{wrong}</p>{/if}
{#if tags}
  <Rows class="tags" data-test="tags">
    <tbody>
      {#each tags as t (t.tag)}
        <tr>
          <td><InlineAction class="mono" onclick={() => take(t)}>{t.tag}</InlineAction></td>
          <td>{t.created ? `${age(t.created, live.now)} old` : (t.problem ?? "")}</td>
          <td>{t.size ? `${bytes(t.size)} packed` : ""}</td>
          <td>{t.architectures.join(", ")}</td>
        </tr>
      {/each}
    </tbody>
  </Rows>
  {#if total > tags.length}<p class="soft">{tags.length} of {total} tags</p>{/if}
{/if}

<style>
  .row {
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto;
    gap: 0.3rem;
  }
  .found {
    margin: 0.3rem 0;
    font-size: 0.8125rem;
  }
  .wrong {
    color: var(--state-failed);
    font-size: 0.75rem;
    margin: 0.15rem 0 0;
  }
</style>
