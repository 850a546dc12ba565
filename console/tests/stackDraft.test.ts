import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import { HIDDEN, StackDraft } from "../src/features/stacks/stackDraft.svelte";
import type { StackReport } from "../src/lib/types";
import { keepFor } from "../src/lib/unsaved.svelte";
import { json, problem, service } from "./stand-ins";
import type { Asked } from "./stand-ins";

const CHECK = "POST /api/v1/stacks/check";
const PREVIEW = "POST /api/v1/operations/preview";
const SUBMIT = "POST /api/v1/operations";
const BASE = "GET /api/v1/stacks/packhouse/frost";

const report = (more: Partial<StackReport> = {}): StackReport => ({
  valid: true,
  name: "frost",
  errors: [],
  variables: [],
  without_effect: [],
  services: [],
  left_out: [],
  ...more,
});
const variable = (name: string, state: "set" | "required" | "default" | "empty" | "optional") => ({
  name,
  state,
  file: "stack.yaml",
  line: 1,
  column: 1,
});
const of = (asked: Asked[], what: string) => asked.filter((a) => `${a.method} ${a.path}` === what);
const typed = () => vi.advanceTimersByTimeAsync(400);
const idle = () => vi.advanceTimersByTimeAsync(2000);

beforeEach(() => {
  vi.useFakeTimers();
  // What another test typed is kept with the page.
  history.replaceState(null, "");
});
afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

describe("a stack that is written", () => {
  it("is checked when the typing pauses, and previewed once it is right and has a host", async () => {
    const asked = service({
      [CHECK]: () => json(report()),
      [PREVIEW]: () => json({ digest: "d1", targets: [] }),
    });
    const draft = new StackDraft("", "", null, "");
    for (const text of ["s", "se", "services: {}"]) draft.setText(text);
    await typed();
    expect(of(asked, CHECK)).toHaveLength(1);
    expect(of(asked, CHECK)[0]?.body).toMatchObject({
      files: { "stack.yaml": "services: {}" },
      main: ["stack.yaml"],
    });
    await idle();
    expect([of(asked, PREVIEW).length, draft.called]).toEqual([0, "frost"]);
    draft.host = "packhouse";
    draft.changed();
    await idle();
    expect([of(asked, PREVIEW).length, draft.preview?.digest]).toEqual([1, "d1"]);
    expect(draft.request).toMatchObject({ kind: "apply", targets: ["packhouse"], stack: "frost" });
    draft.setText("services: {a: 1}");
    expect(draft.preview).toBe(null);
  });

  it("is not previewed with mistakes, and tells those that only the preview finds at their line", async () => {
    const errors = [{ file: "stack.yaml", line: 3, column: 1, sentence: "no such key" }];
    let wrong = true;
    const asked = service({
      [CHECK]: () => json(report(wrong ? { valid: false, errors } : {})),
      [PREVIEW]: () => json(problem({ status: 422, detail: "stack.yaml, line 3: no such key", errors }), 422),
    });
    const draft = new StackDraft("packhouse", "", null, "services: {}");
    draft.changed();
    await idle();
    expect([of(asked, PREVIEW).length, draft.report?.errors]).toEqual([0, errors]);
    wrong = false;
    draft.changed();
    await idle();
    expect([of(asked, PREVIEW).length, draft.report?.valid, draft.report?.errors]).toEqual([
      1,
      false,
      errors,
    ]);
    expect(draft.told).toBe("");
  });

  it("tells what has no place in the text, and an answer that is late changes nothing", async () => {
    const late: ((response: Response) => void)[] = [];
    service({ [CHECK]: () => new Promise<Response>((answer) => late.push(answer)) });
    const draft = new StackDraft("", "", null, "services: {}");
    await typed();
    draft.setText("services: {b: 1}");
    await typed();
    late[1]?.(json(problem({ status: 503, detail: "the service is busy" }), 503));
    await vi.advanceTimersByTimeAsync(1);
    expect(draft.told).toBe("The service is busy.");
    late[0]?.(json(report()));
    await vi.advanceTimersByTimeAsync(1);
    expect([draft.report, draft.told]).toEqual([null, "The service is busy."]);
  });

  it("asks for variables, those without which nothing goes first", async () => {
    const variables = [
      variable("A", "set"),
      variable("B", "default"),
      variable("C", "required"),
      variable("D", "empty"),
    ];
    service({ [CHECK]: () => json(report({ valid: false, variables })) });
    const draft = new StackDraft("", "", null, "services: {}");
    await typed();
    expect(draft.asked.map((v) => v.name)).toEqual(["C", "D", "B", "A"]);
    draft.setVariable("C", "2");
    draft.setVariable("B", "3");
    draft.setVariable("B", undefined);
    expect(draft.variables).toEqual({ C: "2" });
  });

  it("takes files in, finds which is the stack, and lets them go", () => {
    service({ [CHECK]: () => json(report()) });
    const draft = new StackDraft("", "", null, "");
    draft.addFiles({ "conf/web.env": "A=1", "compose.yaml": "services: {}", "more.yaml": "services: {}" });
    expect([Object.keys(draft.files).sort(), draft.main, draft.shown]).toEqual([
      ["compose.yaml", "conf/web.env", "more.yaml"],
      ["compose.yaml"],
      "compose.yaml",
    ]);
    draft.setMain("more.yaml", true);
    expect(draft.main).toEqual(["compose.yaml", "more.yaml"]);
    draft.removeFile("compose.yaml");
    expect([draft.main, draft.shown]).toEqual([["more.yaml"], "conf/web.env"]);
    draft.removeFile("more.yaml");
    draft.removeFile("conf/web.env");
    expect([draft.files, draft.main]).toEqual([{ "stack.yaml": "" }, ["stack.yaml"]]);
  });
});

describe("a stack that is edited", () => {
  const kept = {
    number: 4,
    operation: 9,
    member: "mara",
    created: "2026-11-20T12:00:00Z",
    files: { "stack.yaml": `services:\n  API_KEY: ${HIDDEN}\n` },
    main: ["stack.yaml"],
    variables: { STORE_PASSWORD: HIDDEN },
    profiles: ["debug"],
    scale: { web: 2 },
  };

  it("begins from its newest revision with all that belongs to it", async () => {
    const asked = service({
      [`${BASE}/revisions`]: () => json([{ number: 4 }, { number: 3 }]),
      [`${BASE}/revisions/4`]: () => json(kept),
      [CHECK]: () => json(report()),
      [PREVIEW]: () => json({ digest: "d4", targets: [] }),
      [SUBMIT]: () => json({ id: 12 }),
    });
    const draft = new StackDraft("packhouse", "frost", null, "");
    await idle();
    expect([draft.from, draft.profiles, draft.scale]).toEqual([4, ["debug"], { web: 2 }]);
    expect(of(asked, CHECK)[0]?.body).toMatchObject({
      host: "packhouse",
      stack: "frost",
      profiles: ["debug"],
    });
    draft.comment = "  colder nights ";
    draft.stopOnFailure = true;
    const operation = await draft.submit();
    expect(operation?.id).toBe(12);
    expect(of(asked, SUBMIT)[0]?.body).toMatchObject({
      digest: "d4",
      comment: "colder nights",
      on_failure: "stop",
      scale: { web: 2 },
      variables: { STORE_PASSWORD: HIDDEN },
    });
  });

  it("begins from what runs where nobody has a text", async () => {
    service({
      [`${BASE}/revisions`]: () => json([]),
      [`${BASE}/text`]: () => json({ text: "services: {web: {image: pears}}" }),
      [CHECK]: () => json(report()),
    });
    const draft = new StackDraft("packhouse", "frost", null, "");
    await idle();
    expect([draft.text, draft.from]).toEqual(["services: {web: {image: pears}}", null]);
  });

  it("shows anew what has changed since the preview, and the same press twice is one operation", async () => {
    let digest = "d1";
    const asked = service({
      [`${BASE}/revisions`]: () => json([{ number: 4 }]),
      [`${BASE}/revisions/4`]: () => json(kept),
      [CHECK]: () => json(report()),
      [PREVIEW]: () => json({ digest, targets: [] }),
      [SUBMIT]: () =>
        json(
          problem({ type: "tag:gubernum,2026:changed-since-preview", status: 409, detail: "it has changed" }),
          409,
        ),
    });
    const draft = new StackDraft("packhouse", "frost", null, "");
    await idle();
    digest = "d2";
    expect(await draft.submit()).toBe(null);
    expect([draft.preview?.digest, draft.busy]).toEqual(["d2", false]);
    await draft.submit();
    const keys = of(asked, SUBMIT).map((a) => a.headers["Idempotency-Key"]);
    expect(keys[0]).toBe(keys[1]);
    draft.changed();
    await idle();
    await draft.submit();
    expect(of(asked, SUBMIT)[2]?.headers["Idempotency-Key"]).not.toBe(keys[0]);
  });

  it("says why it cannot be fetched", async () => {
    service({
      [`${BASE}/revisions`]: () => json(problem({ status: 500, detail: "the records are damaged" }), 500),
    });
    const draft = new StackDraft("packhouse", "frost", null, "");
    await idle();
    expect([draft.told, draft.fetching]).toEqual(["The records are damaged.", false]);
    draft.end();
  });
});

describe("what a reload finds again", () => {
  const written = async () => {
    service({ [CHECK]: () => json(report()), [PREVIEW]: () => json({ digest: "d1", targets: [] }) });
    const draft = new StackDraft("", "frost", null, "");
    draft.addFiles({ "stack.yaml": "services: {}", ".env": "DOOR=1234", "config/door.env": "PIN=77" });
    draft.setVariable("DOOR_PASSWORD", "swordfish");
    draft.setVariable("LEVEL", "3");
    draft.setVariable("SEAL_KEY", HIDDEN);
    draft.scale = { api: 3 };
    draft.comment = "for the harvest";
    await typed();
    return draft;
  };

  it("is what was typed, without what may be secret, which is named", async () => {
    await written();
    const kept = JSON.stringify(history.state);
    for (const secret of ["1234", "77", "swordfish"]) expect(kept).not.toContain(secret);
    const again = new StackDraft("", "", null, "");
    expect(again.files).toEqual({ "stack.yaml": "services: {}" });
    expect(again.variables).toEqual({ LEVEL: "3", SEAL_KEY: HIDDEN });
    expect([again.scale, again.comment, again.dirty]).toEqual([{ api: 3 }, "for the harvest", true]);
    expect(again.lost).toEqual([".env", "config/door.env", "DOOR_PASSWORD"]);
  });

  it("is written once the typing pauses, and when the page is left", async () => {
    service({ [CHECK]: () => json(report()) });
    const draft = new StackDraft("", "frost", null, "");
    const write = vi.spyOn(history, "replaceState");
    for (let n = 0; n < 500; n++) draft.setText(`services: {} # ${n}`);
    expect(write).not.toHaveBeenCalled();
    await typed();
    expect(write).toHaveBeenCalledTimes(1);
    draft.setText("services: {} # last");
    dispatchEvent(new Event("pagehide"));
    expect(JSON.stringify(history.state)).toContain("# last");
    write.mockRestore();
  });

  it("is not another member's, and nothing after it was sent", async () => {
    keepFor("mara");
    const draft = await written();
    keepFor("tess");
    expect(new StackDraft("", "", null, "").files).toEqual({ "stack.yaml": "" });
    keepFor("mara");
    expect(new StackDraft("", "", null, "").files).toEqual({ "stack.yaml": "services: {}" });
    service({ [SUBMIT]: () => json({ id: 7 }) });
    await draft.submit();
    expect(new StackDraft("", "", null, "").dirty).toBe(false);
    keepFor("");
  });
});
