/** A stack that is being written: its files and what goes with them, what the service says of them, and what they would do. */
import { ApiError, call, sentence, unique } from "../../lib/api";
import { live } from "../../lib/live.svelte";
import { forget, keepSoon, kept, SECRET } from "../../lib/unsaved.svelte";
import type {
  FileNote,
  Operation,
  OperationWish,
  Preview,
  StackDefinition,
  StackReport,
  StackRevision,
  VariableNote,
} from "../../lib/types";

const PAUSE = 350;
const PREVIEW_PAUSE = 900;
const USUAL = "stack.yaml";
/** As the service hides it; sent back it means what it was. */
export const HIDDEN = "••••••••";

/** What a reload finds again. */
interface Kept {
  host: string;
  name: string;
  files: Record<string, string>;
  main: string[];
  shown: string;
  variables: Record<string, string>;
  profiles: string[];
  scale: Record<string, number>;
  comment: string;
  removeRest: boolean;
  stopOnFailure: boolean;
  from: number | null;
  lost: string[];
}

/** Files that hold variables, and with them secrets: a browser's history keeps none of them. */
const VARIABLES = /(^|[/.])env(\.[^/]*)?$/i;

export class StackDraft {
  host = $state("");
  name = $state("");
  files = $state.raw<Record<string, string>>({ [USUAL]: "" });
  main = $state.raw<string[]>([USUAL]);
  shown = $state(USUAL);
  variables = $state.raw<Record<string, string>>({});
  profiles = $state.raw<string[]>([]);
  scale = $state.raw<Record<string, number>>({});
  comment = $state("");
  removeRest = $state(false);
  stopOnFailure = $state(false);
  /** The revision that it began from. */
  from = $state<number | null>(null);

  /** Files and variables that a reload did not keep, as they may hold secrets. */
  lost = $state.raw<string[]>([]);

  /** Whether anything was typed that was not sent. */
  dirty = $state(false);
  fetching = $state(false);
  report = $state.raw<StackReport | null>(null);
  preview = $state.raw<Preview | null>(null);
  /** Errors that the whole request has, without a place in a text. */
  told = $state("");
  asking = $state(false);
  busy = $state(false);

  #timer: ReturnType<typeof setTimeout> | undefined;
  #later: ReturnType<typeof setTimeout> | undefined;
  #asked = 0;
  #attempt = unique();

  constructor(host: string, name: string, revision: number | null, text: string) {
    this.host = host || (live.hosts.length === 1 ? (live.hosts[0]?.name ?? "") : "");
    this.name = name;
    if (text) this.files = { [USUAL]: text };
    const before = kept<Kept>("stack");
    if (before) {
      Object.assign(this, before);
      this.dirty = true;
      this.lookSoon();
    } else if (host && name) void this.fetch(revision);
    else if (text) this.lookSoon();
  }

  end() {
    clearTimeout(this.#timer);
    clearTimeout(this.#later);
    this.#asked = -1;
  }

  /** Begins from a revision that is kept; from the newest when none is named. */
  async fetch(revision: number | null) {
    this.fetching = true;
    const base = `/api/v1/stacks/${encodeURIComponent(this.host)}/${encodeURIComponent(this.name)}`;
    try {
      const all = await call<StackRevision[]>("GET", `${base}/revisions`);
      const number = revision ?? all[0]?.number;
      if (number === undefined) {
        // Nobody deployed it here: what runs is written down, and can be adopted.
        const written = await call<{ text: string }>("GET", `${base}/text`);
        this.files = { [USUAL]: written.text };
      } else {
        const found = await call<StackDefinition>("GET", `${base}/revisions/${number}`);
        this.files = found.files;
        this.main = found.main;
        this.shown = found.main[0] ?? USUAL;
        this.variables = found.variables;
        this.profiles = found.profiles;
        this.scale = found.scale;
        this.from = number;
      }
      this.lookSoon();
    } catch (error) {
      this.told = sentence(error);
    } finally {
      this.fetching = false;
    }
  }

  get text(): string {
    return this.files[this.shown] ?? "";
  }

  setText(text: string) {
    if (text === this.files[this.shown]) return;
    this.files = { ...this.files, [this.shown]: text };
    this.changed();
  }

  /** Adds files, by their paths from the stack's folder. */
  addFiles(added: Record<string, string>) {
    const before = Object.entries(this.files).filter(([name, text]) => name !== USUAL || text.trim() !== "");
    this.files = { ...Object.fromEntries(before), ...added };
    const names = Object.keys(this.files);
    const usual = [
      "compose.yaml",
      "compose.yml",
      "docker-compose.yml",
      "docker-compose.yaml",
      "stack.yaml",
      "stack.yml",
    ];
    if (!this.main.every((name) => name in this.files)) {
      const first = usual.find((name) => name in this.files) ?? names.find((name) => /\.ya?ml$/.test(name));
      this.main = first ? [first] : [];
    }
    this.shown = this.main[0] ?? names[0] ?? USUAL;
    this.changed();
  }

  removeFile(name: string) {
    const rest = Object.fromEntries(Object.entries(this.files).filter(([other]) => other !== name));
    this.files = Object.keys(rest).length > 0 ? rest : { [USUAL]: "" };
    this.main = this.main.filter((other) => other !== name);
    const first = Object.keys(this.files)[0] ?? USUAL;
    if (this.main.length === 0) this.main = [first];
    if (this.shown === name) this.shown = first;
    this.changed();
  }

  setMain(name: string, is: boolean) {
    this.main = is ? [...this.main, name] : this.main.filter((other) => other !== name);
    this.changed();
  }

  setVariable(name: string, value: string | undefined) {
    const rest = Object.fromEntries(Object.entries(this.variables).filter(([other]) => other !== name));
    this.variables = value === undefined ? rest : { ...rest, [name]: value };
    this.changed();
  }

  /** The stack's name: as it was chosen, otherwise as the text says. */
  get called(): string {
    return this.name || this.report?.name || "";
  }

  /** Somebody changed something: it is kept, and asked about once nothing more is typed. */
  changed() {
    this.dirty = true;
    keepSoon("stack", () => $state.snapshot(this.#toKeep));
    this.lookSoon();
  }

  get #toKeep(): Kept {
    const isOpen = ([name, value]: [string, string]) => value === HIDDEN || !SECRET.test(name);
    const [variables, files] = [Object.entries(this.variables), Object.entries(this.files)];
    const lost = [
      ...files.map(([name]) => name).filter((name) => VARIABLES.test(name)),
      ...variables.filter((variable) => !isOpen(variable)).map(([name]) => name),
    ];
    return {
      host: this.host,
      name: this.name,
      files: Object.fromEntries(files.filter(([name]) => !VARIABLES.test(name))),
      main: this.main,
      shown: VARIABLES.test(this.shown) ? (this.main[0] ?? USUAL) : this.shown,
      variables: Object.fromEntries(variables.filter(isOpen)),
      profiles: this.profiles,
      scale: this.scale,
      comment: this.comment,
      removeRest: this.removeRest,
      stopOnFailure: this.stopOnFailure,
      from: this.from,
      lost,
    };
  }

  /** Asks what is to be said of it, once nothing more is typed. */
  lookSoon() {
    this.preview = null;
    this.#attempt = unique();
    clearTimeout(this.#timer);
    clearTimeout(this.#later);
    this.#timer = setTimeout(() => void this.check(), PAUSE);
  }

  async check() {
    const asked = ++this.#asked;
    if (Object.values(this.files).every((text) => text.trim() === "")) {
      this.report = null;
      return;
    }
    try {
      const report = await call<StackReport>("POST", "/api/v1/stacks/check", {
        ...(this.host && this.name ? { host: this.host } : {}),
        ...(this.name ? { stack: this.name } : {}),
        files: this.files,
        main: this.main,
        variables: this.variables,
        profiles: this.profiles,
      });
      if (asked !== this.#asked) return;
      this.report = report;
      this.told = "";
      if (report.valid && this.host && this.called) {
        this.#later = setTimeout(() => void this.ask(), PREVIEW_PAUSE - PAUSE);
      }
    } catch (error) {
      if (asked !== this.#asked) return;
      this.#refused(error);
    }
  }

  #refused(error: unknown) {
    const errors: FileNote[] = error instanceof ApiError ? (error.problem.errors ?? []) : [];
    if (errors.length > 0 && this.report) this.report = { ...this.report, valid: false, errors };
    else if (errors.length > 0) {
      this.report = { valid: false, errors, variables: [], without_effect: [], services: [], left_out: [] };
    } else this.told = sentence(error);
  }

  get request(): OperationWish {
    return {
      kind: "apply",
      targets: [this.host],
      stack: this.called,
      files: this.files,
      main: this.main,
      variables: this.variables,
      profiles: this.profiles,
      scale: this.scale,
      remove_rest: this.removeRest,
      on_failure: this.stopOnFailure ? "stop" : "return",
      ...(this.comment.trim() ? { comment: this.comment.trim() } : {}),
    } as OperationWish;
  }

  async ask() {
    const asked = this.#asked;
    this.asking = true;
    try {
      const preview = await call<Preview>("POST", "/api/v1/operations/preview", this.request);
      if (asked !== this.#asked) return;
      this.preview = preview;
      this.told = "";
    } catch (error) {
      if (asked === this.#asked) this.#refused(error);
    } finally {
      this.asking = false;
    }
  }

  async submit(): Promise<Operation | null> {
    this.busy = true;
    try {
      const body = { ...this.request, digest: this.preview?.digest };
      const operation = await call<Operation>("POST", "/api/v1/operations", body, this.#attempt);
      this.dirty = false;
      forget("stack");
      return operation;
    } catch (error) {
      this.told = sentence(error);
      // What differs is shown; the next press is about that.
      if (error instanceof ApiError && error.problem.type.endsWith("changed-since-preview")) await this.ask();
      return null;
    } finally {
      this.busy = false;
    }
  }

  /** Variables that somebody has to think of first. */
  asked = $derived.by((): VariableNote[] => {
    const weight = { required: 0, empty: 1, default: 2, set: 3, optional: 4 };
    return [...(this.report?.variables ?? [])].sort(
      (a, b) => weight[a.state] - weight[b.state] || a.name.localeCompare(b.name),
    );
  });
}
