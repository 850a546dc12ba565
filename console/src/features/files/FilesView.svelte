<!-- The files of a container, running or not, or of a volume: browse, look at text and pictures, edit text with a check that nobody changed
it meanwhile, upload and download. -->
<script lang="ts">
  import Rows from "../../ui/Rows.svelte";
  import { Button, TextArea } from "carbon-components-svelte";
  import { call, sentence } from "../../lib/api";
  import { type Entry, type Folder, filesOf, raw, send } from "./files";
  import { age, bytes } from "../../lib/format";
  import { live } from "../../lib/live.svelte";
  import InlineAction from "../../ui/InlineAction.svelte";
  import TextField from "../../ui/form/TextField.svelte";
  import ToolButton from "../../ui/ToolButton.svelte";
  import Upload from "../../ui/form/Upload.svelte";

  let { kind, reference }: { kind: "container" | "volume"; reference: string } = $props();

  interface Open {
    path: string;
    entry: Entry;
    text?: string;
    picture?: string;
    written: string | null;
  }

  const MOST_TEXT = 1024 * 1024;
  const MOST_PICTURE = 5 * 1024 * 1024;
  const PICTURES: Record<string, string> = {
    png: "image/png",
    jpg: "image/jpeg",
    jpeg: "image/jpeg",
    gif: "image/gif",
    webp: "image/webp",
    svg: "image/svg+xml",
  };

  let folder = $state.raw<Folder | null>(null);
  let wrong = $state("");
  let said = $state("");
  let busy = $state(false);
  let opened = $state.raw<Open | null>(null);
  let edited = $state<string | null>(null);
  let going = $state("");

  const base = $derived(filesOf(kind, reference));
  const at = (kind: string, path: string) => `${base}/${kind}?path=${encodeURIComponent(path)}`;
  const join = (path: string, name: string) => (path === "/" ? `/${name}` : `${path}/${name}`);

  $effect(() => {
    void base;
    void go("/");
  });

  async function guarded(what: () => Promise<void>) {
    busy = true;
    try {
      await what();
      wrong = "";
    } catch (error) {
      [wrong, said] = [sentence(error), ""];
    } finally {
      busy = false;
    }
  }

  const go = (path: string) =>
    guarded(async () => {
      folder = await call<Folder>("GET", at("folder", path));
      [opened, edited, going] = [null, null, folder.path];
    });

  const open = (entry: Entry) =>
    guarded(async () => {
      const path = join(folder?.path ?? "/", entry.name);
      const kind = PICTURES[entry.name.split(".").at(-1)?.toLowerCase() ?? ""];
      if (kind && entry.size <= MOST_PICTURE) {
        const blob = new Blob([await (await raw("GET", at("file", path))).arrayBuffer()], { type: kind });
        const picture = await new Promise<string>((done) => {
          const reader = new FileReader();
          reader.onload = () => done(String(reader.result));
          reader.readAsDataURL(blob);
        });
        opened = { path, entry, picture, written: null };
        return;
      }
      if (entry.size > MOST_TEXT) {
        opened = { path, entry, written: null };
        return;
      }
      const response = await raw("GET", at("file", path));
      const held = new Uint8Array(await response.arrayBuffer());
      let text: string | undefined;
      try {
        text = held.includes(0) ? undefined : new TextDecoder("utf-8", { fatal: true }).decode(held);
      } catch {
        text = undefined;
      }
      opened = { path, entry, text, written: response.headers.get("x-written") };
      edited = null;
    });

  const save = () =>
    guarded(async () => {
      if (!opened || edited === null) return;
      const { entry, path, written } = opened;
      const more = new URLSearchParams({
        mode: entry.mode,
        user: String(entry.user),
        group: String(entry.group),
      });
      if (written) more.set("unless_changed_since", written);
      await raw("PUT", `${at("file", path)}&${more.toString()}`, new Blob([edited]));
      said = `${path} is written.`;
      await open({ ...entry, size: new Blob([edited]).size });
    });

  const upload = (files: File[]) =>
    guarded(async () => {
      const here = folder?.path ?? "/";
      for (const file of files) {
        said = `Sending ${file.name}…`;
        await send(base, join(here, file.name), file, (text) => (said = text));
      }
      said = files.length ? `${files.length} written to ${here}.` : "";
      folder = await call<Folder>("GET", at("folder", here));
    });

  const unpack = (files: File[]) =>
    guarded(async () => {
      const [here, archive] = [folder?.path ?? "/", files[0]];
      if (!archive) return;
      said = `Sending ${archive.name}…`;
      await raw("PUT", at("archive", here), archive);
      said = `${archive.name} is unpacked in ${here}.`;
      folder = await call<Folder>("GET", at("folder", here));
    });

  const change = (body: Record<string, unknown>) =>
    guarded(async () => {
      const here = folder?.path ?? "/";
      await call("POST", `${base}/file-changes`, body);
      [asking, answer] = [null, ""];
      folder = await call<Folder>("GET", at("folder", here));
    });

  /** What is asked for before something is changed. */
  const PROMPT = {
    folder: "Name of the folder",
    rename: "New name",
    mode: "Permissions and owner",
    delete: "",
  };
  const SUBMIT = { folder: "Create folder", rename: "Rename", mode: "Save" };
  let asking = $state.raw<{ what: "folder" | "rename" | "delete" | "mode"; entry?: Entry } | null>(null);
  let answer = $state("");

  function ask(what: "folder" | "rename" | "delete" | "mode", entry?: Entry) {
    asking = { what, entry };
    answer =
      what === "rename"
        ? (entry?.name ?? "")
        : what === "mode"
          ? `${entry?.mode ?? ""} ${entry?.user}:${entry?.group}`
          : "";
  }

  function settle() {
    const here = folder?.path ?? "/";
    const path = join(here, asking?.entry?.name ?? answer);
    if (asking?.what === "folder") void change({ change: "create-folder", path: join(here, answer.trim()) });
    else if (asking?.what === "rename")
      void change({ change: "rename", path, to: join(here, answer.trim()) });
    else if (asking?.what === "delete") void change({ change: "delete", path });
    else if (asking) {
      const found = /^([0-7]{3,4})(?:\s+(\d+):(\d+))?$/.exec(answer.trim());
      if (!found) wrong = "Write permissions in octal digits and the owner, such as 644 1000:1000.";
      else
        void change({
          change: "set-mode",
          path,
          mode: found[1],
          ...(found[2] ? { user: Number(found[2]), group: Number(found[3]) } : {}),
        });
    }
  }

  const crumbs = $derived.by(() => {
    const parts = (folder?.path ?? "/").split("/").filter(Boolean);
    return parts.map((name, n) => ({ name, path: `/${parts.slice(0, n + 1).join("/")}` }));
  });

  function enter(entry: Entry) {
    const here = folder?.path ?? "/";
    if (entry.kind === "folder") void go(join(here, entry.name));
    else if (entry.kind === "link" && entry.target) {
      const to = entry.target.startsWith("/") ? entry.target : join(here, entry.target);
      void go(new URL(to, "http://x").pathname);
    } else if (entry.kind === "file") void open(entry);
  }
</script>

<div class="files" data-test="files">
  <div class="tools bar">
    <nav aria-label="Folder">
      <InlineAction onclick={() => void go("/")}>/</InlineAction>
      {#each crumbs as c (c.path)}<InlineAction onclick={() => void go(c.path)}>{c.name}</InlineAction>
        <span class="soft">/</span>{/each}
    </nav>
    <form
      onsubmit={(e) => {
        e.preventDefault();
        void go(going);
      }}
    >
      <TextField name="Go to" value={going} onchange={(text) => (going = text ?? "")} />
    </form>
    <span class="push"></span>
    <ToolButton onclick={() => ask("folder")}>Create folder…</ToolButton>
    <Upload multiple label="Upload…" onfiles={(files) => void upload(files)} />
    <Upload label="Unpack a tar…" onfiles={(files) => void unpack(files)} />
    <a href={at("archive", folder?.path ?? "/")} download>Download as tar</a>
  </div>
  {#if wrong}<p class="wrong" role="alert" data-test="files-wrong">{wrong}</p>{/if}
  {#if said && !wrong}<p class="soft">{said}</p>{/if}
  {#if folder?.incomplete}<p class="soft">Not everything is shown: {folder.incomplete}.</p>{/if}
  {#if asking}
    <form
      class="tools bar"
      data-test="file-change"
      onsubmit={(e) => {
        e.preventDefault();
        settle();
      }}
    >
      {#if asking.what === "delete"}
        <span
          >Delete <strong>{asking.entry?.name}</strong>{asking.entry?.kind === "folder"
            ? " with everything in it"
            : ""}?</span
        >
      {:else}
        <span>{PROMPT[asking.what]}</span>
        <TextField name={PROMPT[asking.what]} value={answer} onchange={(text) => (answer = text ?? "")} />
      {/if}
      <Button
        size="small"
        kind={asking.what === "delete" ? "danger" : "primary"}
        type="submit"
        disabled={busy}
        >{asking.what === "delete" ? `Delete ${asking.entry?.kind ?? "file"}` : SUBMIT[asking.what]}</Button
      >
      <ToolButton onclick={() => (asking = null)}>Cancel</ToolButton>
    </form>
  {/if}
  {#if opened}
    <div class="tools bar">
      <strong class="mono">{opened.path}</strong>
      <span class="push"></span>
      {#if opened.text !== undefined}
        {#if edited === null}
          <ToolButton onclick={() => (edited = opened?.text ?? "")}>Edit</ToolButton>
        {:else}
          <Button size="small" disabled={busy || edited === opened.text} on:click={() => void save()}
            >Save</Button
          >
          <ToolButton onclick={() => (edited = null)}>Cancel</ToolButton>
        {/if}
      {/if}
      <a href={at("file", opened.path)} download>Download</a>
      <ToolButton onclick={() => ([opened, edited] = [null, null])}>Back to the folder</ToolButton>
    </div>
    {#if edited !== null}
      <div class="edit mono">
        <TextArea rows={24} aria-label="Text of the file" spellcheck="false" bind:value={edited} />
      </div>
    {:else if opened.picture}
      <div class="shown"><img src={opened.picture} alt={opened.path} /></div>
    {:else if opened.text !== undefined}
      <pre class="shown mono" data-test="file-text">{opened.text}</pre>
    {:else}
      <p class="soft shown">
        {bytes(opened.entry.size)}; it is not text, or too large to show. Download it instead.
      </p>
    {/if}
  {:else if folder}
    <div class="list">
      <Rows>
        <tbody>
          {#each folder.entries as e (e.name)}
            <tr data-test="file">
              <td class="mono"
                >{#if e.kind === "other"}{e.name}{:else}<InlineAction onclick={() => enter(e)}
                    >{e.name}{e.kind === "folder" ? "/" : ""}</InlineAction
                  >{/if}{#if e.target}<span class="soft"> → {e.target}</span>{/if}</td
              >
              <td class="soft">{e.kind === "file" ? bytes(e.size) : ""}</td>
              <td class="soft">{age(e.written, live.now)}</td>
              <td class="soft mono"
                ><InlineAction onclick={() => ask("mode", e)}>{e.mode} {e.user}:{e.group}</InlineAction></td
              >
              <td
                ><InlineAction onclick={() => ask("rename", e)}>Rename</InlineAction>
                <InlineAction onclick={() => ask("delete", e)}>Delete</InlineAction></td
              >
            </tr>
          {:else}
            <tr><td class="soft">This folder is empty.</td></tr>
          {/each}
        </tbody>
      </Rows>
    </div>
  {:else if !wrong}
    <p class="soft shown">Loading…</p>
  {/if}
</div>

<style>
  .files {
    flex: 1;
    min-height: 0;
    display: flex;
    flex-direction: column;
    font-size: 0.8125rem;
  }
  .files > p {
    padding: 0.4rem 1rem;
  }
  .list,
  .shown {
    flex: 1;
    min-height: 0;
    overflow: auto;
    padding: 0.4rem 1rem;
    margin: 0;
  }
  pre.shown {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  .edit {
    flex: 1;
    overflow: auto;
    padding: 0.4rem 1rem;
  }
  img {
    max-width: 100%;
  }
  .wrong {
    color: var(--state-failed);
  }
</style>
