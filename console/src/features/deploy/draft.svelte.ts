/** A container's definition as it is being written: the form and the Compose text are two views of it, the preview a
 * third. */
import { call, ApiError, sentence, unique } from "../../lib/api";
import type {
  Definition,
  DefinitionView,
  Finding,
  HealthRule,
  Limits,
  NetworkRule,
  Operation,
  OperationWish,
  Preview,
  Rights,
} from "../../lib/types";
import { forget, keepSoon, kept, SECRET } from "../../lib/unsaved.svelte";
import { clean, rowOf } from "./rows";

const PAUSE = 350;

/** What a reload finds again. */
interface Kept {
  d: Definition;
  host: string;
  watch: number | undefined;
  image: Definition | null;
}

const isIn = (field: string, of: string) => field === of || field.startsWith(`${of}/`);

export class Draft {
  d = $state.raw<Definition>({ image: "" });
  host = $state("");
  /** The container that is changed; empty when one is made. */
  readonly edits: string;
  /** The container that this is a clone of. */
  readonly from: string;
  /** What the image brings by itself. */
  image = $state.raw<Definition | null>(null);
  watch = $state<number | undefined>(undefined);
  preview = $state.raw<Preview | null>(null);
  compose = $state("");
  findings = $state.raw<Finding[]>([]);
  left = $state.raw<{ line: number; column: number; sentence: string }[]>([]);
  wrong = $state("");
  /** What the last press of a button came to; no look at the form in the meantime removes it. */
  told = $state("");
  fetching = $state(false);
  busy = $state(false);
  /** Every error is reported: sending was tried, or the settings come from elsewhere. */
  tried = $state(false);
  /** Whether anything was typed that was not sent. */
  dirty = $state(false);
  /** The fields that were left; errors of others are not shown yet. */
  #visited = $state.raw<ReadonlySet<string>>(new Set());
  #timer: ReturnType<typeof setTimeout> | undefined;
  #asked = 0;
  #attempt = unique();

  constructor(edits: string, from: string, image: string, host: string) {
    this.edits = edits;
    this.from = from;
    this.host = edits ? (edits.split("/")[0] ?? "") : host;
    this.d = { image };
    const before = kept<Kept>("form");
    if (before) {
      [this.d, this.host, this.watch, this.image] = [before.d, before.host, before.watch, before.image];
      [this.dirty, this.tried] = [true, true];
      this.lookSoon();
    } else if (edits || from) void this.#load(edits || from);
    else this.lookSoon();
  }

  async #load(reference: string) {
    this.fetching = true;
    try {
      const [host, name] = reference.split("/");
      const what = this.edits
        ? "definition"
        : `clone${this.host ? `?host=${encodeURIComponent(this.host)}` : ""}`;
      const view = await call<DefinitionView>(
        "GET",
        `/api/v1/containers/${encodeURIComponent(host ?? "")}/${encodeURIComponent(name ?? "")}/${what}`,
      );
      this.image = view.image ?? null;
      this.d = view.definition;
      this.host ||= view.host ?? "";
      this.tried = true;
      this.lookSoon();
    } catch (error) {
      this.wrong = sentence(error);
    } finally {
      this.fetching = false;
    }
  }

  /** Sets some fields. */
  set(change: Partial<Definition>) {
    this.d = { ...this.d, ...change };
    this.changed();
  }

  /** Sets some fields of a part of it. */
  limits(change: Partial<Limits>) {
    this.set({ limits: { ...this.d.limits, ...change } });
  }

  rights(change: Partial<Rights>) {
    this.set({ rights: { ...this.d.rights, ...change } });
  }

  network(change: Partial<NetworkRule>) {
    this.set({ network: { ...this.d.network, ...change } });
  }

  health(change: Partial<HealthRule>) {
    this.set({ health: { ...this.d.health, ...change } });
  }

  /** How many errors there are at these fields or below them. */
  wrongIn(...fields: string[]): number {
    return fields.flatMap((f) => this.at(f)).filter((f) => f.weight === "error").length;
  }

  /** Errors at a field, or below it, that are reported by now. */
  at(field: string): Finding[] {
    return this.shown.filter((f) => isIn(f.field, field));
  }

  /** All that is reported by now. */
  get shown(): Finding[] {
    if (this.tried) return this.findings;
    return this.findings.filter((f) =>
      [...this.#visited].some((at) => isIn(f.field, at) || isIn(at, f.field)),
    );
  }

  /** A field was left: its errors are told from now on. */
  visit(field: string) {
    if (!this.#visited.has(field)) this.#visited = new Set([...this.#visited, field]);
  }

  /** Somebody changed something: it is kept, and looked at when the typing pauses. */
  changed() {
    this.dirty = true;
    keepSoon("form", () => {
      const environment = this.d.environment?.map((e) => (SECRET.test(e.name) ? { ...e, value: "" } : e));
      const form: Kept = {
        d: { ...this.d, environment },
        host: this.host,
        watch: this.watch,
        image: this.image,
      };
      return $state.snapshot(form);
    });
    this.lookSoon();
  }

  lookSoon() {
    this.told = "";
    this.#attempt = unique();
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.look(), PAUSE);
  }

  get request(): OperationWish {
    const settings = {
      definition: this.d,
      ...(this.watch === undefined ? {} : { watch_seconds: this.watch }),
    };
    if (this.edits) return { kind: "edit", targets: [this.edits], ...settings };
    return {
      kind: "deploy",
      targets: [`${this.host}/${this.d.name ?? ""}`],
      ...settings,
      ...(this.from ? { from: this.from } : {}),
    };
  }

  async look() {
    const asked = ++this.#asked;
    const form = this.d;
    const definition = clean(form);
    try {
      const place = this.host
        ? `?host=${encodeURIComponent(this.host)}${this.edits ? `&replaces=${encodeURIComponent(this.edits.split("/")[1] ?? "")}` : ""}`
        : "";
      const view = await call<DefinitionView>("POST", `/api/v1/definitions/translate${place}`, {
        definition,
      });
      if (asked !== this.#asked) return;
      const findings = (view.findings ?? []).map((f) => ({ ...f, field: rowOf(f.field, form) }));
      [this.compose, this.findings, this.wrong] = [view.compose, findings, ""];
      if (!this.host || !definition.image || (!this.edits && !definition.name)) {
        this.preview = null;
        return;
      }
      const preview = await call<Preview>("POST", "/api/v1/operations/preview", {
        ...this.request,
        definition,
      });
      if (asked === this.#asked) this.preview = preview;
    } catch (error) {
      if (asked !== this.#asked) return;
      [this.preview, this.wrong] = [null, sentence(error)];
    }
  }

  /** Takes a text over into the form. */
  async take(compose: string): Promise<boolean> {
    this.told = "";
    try {
      const view = await call<DefinitionView>("POST", "/api/v1/definitions/translate", { compose });
      const name = this.edits ? this.d.name : view.definition.name || this.d.name;
      this.left = view.left ?? [];
      this.tried = true;
      this.d = { ...view.definition, name: name || undefined };
      this.changed();
      return true;
    } catch (error) {
      this.told = sentence(error);
      return false;
    }
  }

  /** Whether it can be sent: the preview is of the current form, and nothing is wrong with it. */
  get ready(): boolean {
    return (
      !!this.preview && !this.preview.targets[0]?.refused && this.findings.every((f) => f.weight !== "error")
    );
  }

  async submit(): Promise<Operation | null> {
    this.tried = true;
    if (!this.ready) return null;
    this.busy = true;
    this.told = "";
    try {
      const body = { ...this.request, definition: clean(this.d), digest: this.preview?.digest };
      const operation = await call<Operation>("POST", "/api/v1/operations", body, this.#attempt);
      this.dirty = false;
      forget("form");
      return operation;
    } catch (error) {
      this.told = sentence(error);
      if (error instanceof ApiError && error.problem.type.endsWith("changed-since-preview"))
        await this.look();
      return null;
    } finally {
      this.busy = false;
    }
  }

  end() {
    clearTimeout(this.#timer);
    this.#asked += 1;
  }
}

/** How many of these settings are set. */
export function setIn(...values: unknown[]): number {
  return values.filter((v) =>
    v === undefined || v === null || v === false || v === ""
      ? false
      : Array.isArray(v)
        ? v.length > 0
        : typeof v === "object"
          ? Object.keys(v).length > 0
          : true,
  ).length;
}
