import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import { Draft } from "../src/features/deploy/draft.svelte";
import { Listing } from "../src/lib/listing.svelte";
import type { Definition, Finding } from "../src/lib/types";
import { json, problem, service } from "./stand-ins";
import type { Asked } from "./stand-ins";

const TRANSLATE = "POST /api/v1/definitions/translate";
const PREVIEW = "POST /api/v1/operations/preview";
const SUBMIT = "POST /api/v1/operations";

const view = (findings: Partial<Finding>[] = []) => json({ compose: "services: {}\n", findings });
const preview = (digest: string) => json({ digest, targets: [] });

beforeEach(() => {
  vi.useFakeTimers();
  // What another test typed is kept with the page.
  history.replaceState(null, "");
});
afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

/** The typing pauses. */
const pause = () => vi.advanceTimersByTimeAsync(400);
const of = (asked: Asked[], what: string) =>
  asked.filter((a) => `${a.method} ${a.path.split("?")[0]}` === what);

describe("a container that is made", () => {
  it("is looked at when the typing pauses, once, and previewed when there is enough", async () => {
    const asked = service({ [TRANSLATE]: () => view(), [PREVIEW]: () => preview("d1") });
    const draft = new Draft("", "", "tarn/row:1", "packhouse");
    await pause();
    expect(of(asked, TRANSLATE).map((a) => a.path)).toEqual(["/api/v1/definitions/translate?host=packhouse"]);
    expect([of(asked, PREVIEW).length, draft.preview]).toEqual([0, null]);
    for (const name of ["r", "ro", "row"]) draft.set({ name });
    await pause();
    expect([of(asked, TRANSLATE).length, of(asked, PREVIEW).length]).toEqual([2, 1]);
    expect([draft.preview?.digest, draft.compose]).toEqual(["d1", "services: {}\n"]);
    expect(draft.request).toMatchObject({ kind: "deploy", targets: ["packhouse/row"] });
  });

  it("has its mistakes at the rows of the form, empty rows or not", async () => {
    const finding = { field: "/environment/0/name", weight: "error", sentence: "no name" } as Finding;
    service({ [TRANSLATE]: () => view([finding]), [PREVIEW]: () => preview("d1") });
    const draft = new Draft("", "", "tarn/row:1", "packhouse");
    const environment = [
      { name: "", value: "" },
      { name: "1x", value: "" },
    ] as Definition["environment"];
    draft.set({ environment });
    await pause();
    // Not while it is still being typed.
    expect(draft.at("/environment/1")).toEqual([]);
    draft.visit("/environment/1/name");
    expect(draft.at("/environment/1").map((f) => f.sentence)).toEqual(["no name"]);
    expect([draft.wrongIn("/environment"), draft.wrongIn("/ports", "/image")]).toEqual([1, 0]);
    expect(draft.at("/environment/1/name/deeper")).toEqual([]);
  });

  it("tells everything once sending was tried, and sends nothing then", async () => {
    const finding = { field: "/ports/0/host_port", weight: "error", sentence: "taken" } as Finding;
    const asked = service({ [TRANSLATE]: () => view([finding]), [PREVIEW]: () => preview("d1") });
    const draft = new Draft("", "", "tarn/row:1", "packhouse");
    draft.set({ name: "row", ports: [{ container_port: 80, host_port: 80, protocol: "tcp" }] });
    await pause();
    expect([draft.shown, draft.ready]).toEqual([[], false]);
    expect(await draft.submit()).toBeNull();
    expect(draft.shown.map((f) => f.sentence)).toEqual(["taken"]);
    expect(asked.some((a) => a.path === "/api/v1/operations")).toBe(false);
  });

  it("is found again by a reload, until it was sent", async () => {
    service({
      [TRANSLATE]: () => view(),
      [PREVIEW]: () => preview("d1"),
      "POST /api/v1/operations": () => json({ id: 7 }),
    });
    const draft = new Draft("", "", "tarn/row:1", "packhouse");
    expect(draft.dirty).toBe(false);
    draft.set({
      name: "row",
      environment: [
        { name: "TZ", value: "UTC" },
        { name: "API_KEY", value: "k-1" },
      ],
    });
    await pause();
    expect(JSON.stringify(history.state)).not.toContain("k-1");
    const again = new Draft("", "", "", "");
    expect([again.d.name, again.d.image, again.host, again.dirty]).toEqual([
      "row",
      "tarn/row:1",
      "packhouse",
      true,
    ]);
    await pause();
    await again.submit();
    expect(new Draft("", "", "", "").d.name).toBeUndefined();
  });

  it("shows why it cannot be looked at, and an answer that is late changes nothing", async () => {
    const late: ((response: Response) => void)[] = [];
    service({ [TRANSLATE]: () => new Promise<Response>((answer) => late.push(answer)) });
    const draft = new Draft("", "", "tarn/row:1", "packhouse");
    await pause();
    draft.set({ name: "row" });
    await pause();
    late[1]?.(json(problem({ status: 409, detail: "`packhouse` cannot be reached" }), 409));
    await vi.advanceTimersByTimeAsync(1);
    expect(draft.wrong).toBe("`packhouse` cannot be reached.");
    late[0]?.(view());
    await vi.advanceTimersByTimeAsync(1);
    expect([draft.compose, draft.wrong]).toEqual(["", "`packhouse` cannot be reached."]);
  });

  it("is not looked at any more when nobody is there", async () => {
    const asked = service({ [TRANSLATE]: () => view() });
    const draft = new Draft("", "", "tarn/row:1", "packhouse");
    draft.end();
    await pause();
    expect(asked).toEqual([]);
  });

  it("keeps the other settings of a part that changes", () => {
    service({ [TRANSLATE]: () => view() });
    const draft = new Draft("", "", "x", "packhouse");
    draft.limits({ memory: 1024 });
    draft.limits({ processors: 2 });
    draft.rights({ privileged: true });
    draft.network({ mode: "frost" });
    draft.health({ retries: 3 });
    expect(draft.d).toMatchObject({
      limits: { memory: 1024, processors: 2 },
      rights: { privileged: true },
      network: { mode: "frost" },
      health: { retries: 3 },
    });
    draft.end();
  });
});

describe("a container that is changed or cloned", () => {
  const definition = { image: "tarn/row:1", name: "row" };

  it("begins with what it is", async () => {
    const asked = service({
      "GET /api/v1/containers/packhouse/row/definition": () => json({ definition, image: { image: "b" } }),
      [TRANSLATE]: () => view(),
      [PREVIEW]: () => preview("d1"),
    });
    const draft = new Draft("packhouse/row", "", "", "");
    expect(draft.fetching).toBe(true);
    await pause();
    expect([draft.fetching, draft.host, draft.image?.image]).toEqual([false, "packhouse", "b"]);
    expect(draft.request).toMatchObject({ kind: "edit", targets: ["packhouse/row"], definition });
    expect(of(asked, TRANSLATE)[0]?.path).toBe("/api/v1/definitions/translate?host=packhouse&replaces=row");
  });

  it("or with what a clone of it would be, on the host that is asked for", async () => {
    const asked = service({
      "GET /api/v1/containers/packhouse/row/clone": () =>
        json({ definition: { ...definition, name: "row-2" }, host: "coldstore" }),
      [TRANSLATE]: () => view(),
      [PREVIEW]: () => preview("d1"),
    });
    const draft = new Draft("", "packhouse/row", "", "coldstore");
    await pause();
    expect(asked[0]?.path).toBe("/api/v1/containers/packhouse/row/clone?host=coldstore");
    expect(draft.request).toMatchObject({
      kind: "deploy",
      targets: ["coldstore/row-2"],
      from: "packhouse/row",
    });
  });

  it("says when it is gone", async () => {
    service({});
    const draft = new Draft("packhouse/gone", "", "", "");
    await pause();
    expect([draft.fetching, draft.wrong]).toEqual([false, "It failed."]);
  });
});

describe("Compose text", () => {
  it("is taken over into the form; what is left out is told", async () => {
    const left = [{ line: 4, column: 5, sentence: "`build` is not carried out" }];
    service({
      [TRANSLATE]: () => json({ compose: "", definition: { image: "tarn/api:2", name: "api" }, left }),
    });
    const draft = new Draft("", "", "", "packhouse");
    expect(await draft.take("services: …")).toBe(true);
    expect([draft.d.image, draft.d.name, draft.left]).toEqual(["tarn/api:2", "api", left]);
    draft.end();
  });

  it("does not rename a container that is changed", async () => {
    service({
      "GET /api/v1/containers/packhouse/row/definition": () =>
        json({ definition: { image: "a", name: "row" } }),
      [TRANSLATE]: () => json({ compose: "", definition: { image: "b", name: "api" } }),
      [PREVIEW]: () => preview("d1"),
    });
    const draft = new Draft("packhouse/row", "", "", "");
    await pause();
    await draft.take("services: …");
    expect([draft.d.image, draft.d.name]).toEqual(["b", "row"]);
    draft.end();
  });

  it("that is wrong leaves the form as it was", async () => {
    service({ [TRANSLATE]: () => json(problem({ status: 422, detail: "line 3: no mapping" }), 422) });
    const draft = new Draft("", "", "tarn/row:1", "packhouse");
    expect(await draft.take("x")).toBe(false);
    expect([draft.d.image, draft.told]).toEqual(["tarn/row:1", "Line 3: no mapping."]);
    draft.end();
  });
});

describe("asking for it", () => {
  it("sends what was previewed, and twice the same key for the same form", async () => {
    let up = false;
    const asked = service({
      [TRANSLATE]: () => view(),
      [PREVIEW]: () => preview("d1"),
      [SUBMIT]: () => (up ? json({ id: 9 }) : new TypeError("refused")),
    });
    const draft = new Draft("", "", "tarn/row:1", "packhouse");
    draft.set({ name: "row" });
    await pause();
    expect(await draft.submit()).toBeNull();
    expect(draft.told).toMatch(/does not answer/);
    up = true;
    expect((await draft.submit())?.id).toBe(9);
    const [first, second] = of(asked, SUBMIT);
    expect(first?.body).toMatchObject({ kind: "deploy", digest: "d1" });
    expect(second?.headers["Idempotency-Key"]).toBe(first?.headers["Idempotency-Key"]);
    draft.set({ name: "other" });
    await pause();
    await draft.submit();
    expect(of(asked, SUBMIT)[2]?.headers["Idempotency-Key"]).not.toBe(first?.headers["Idempotency-Key"]);
    draft.end();
  });

  it("looks anew when the world moved since the preview", async () => {
    let digest = "d1";
    service({
      [TRANSLATE]: () => view(),
      [PREVIEW]: () => preview(digest),
      [SUBMIT]: () => json(problem({ status: 409, type: "tag:gubernum,2026:changed-since-preview" }), 409),
    });
    const draft = new Draft("", "", "tarn/row:1", "packhouse");
    draft.set({ name: "row" });
    await pause();
    digest = "d2";
    expect(await draft.submit()).toBeNull();
    expect([draft.preview?.digest, draft.told, draft.busy]).toEqual(["d2", "It failed.", false]);
    draft.end();
  });
});

describe("a list of the API", () => {
  it("is fetched at once, and once for many reasons to fetch it again", async () => {
    let rows = ["a"];
    const asked = service({ "GET /api/v1/volumes": () => json(rows) });
    const list = new Listing<string>("/api/v1/volumes");
    expect(list.fetching).toBe(true);
    await vi.advanceTimersByTimeAsync(1);
    expect([list.fetching, list.rows]).toEqual([false, ["a"]]);
    rows = ["a", "b"];
    for (let n = 0; n < 5; n += 1) list.soon();
    await vi.advanceTimersByTimeAsync(1300);
    expect([asked.length, list.rows]).toEqual([2, ["a", "b"]]);
  });

  it("keeps its rows when it cannot be fetched, and says why", async () => {
    let up = true;
    service({ "GET /api/v1/volumes": () => (up ? json(["a"]) : new TypeError("refused")) });
    const list = new Listing<string>("/api/v1/volumes");
    await vi.advanceTimersByTimeAsync(1);
    up = false;
    await list.fetch();
    expect([list.rows, list.wrong]).toEqual([["a"], expect.stringMatching(/does not answer/)]);
    up = true;
    await list.fetch();
    expect(list.wrong).toBe("");
  });

  it("takes no answer that comes after its end", async () => {
    service({ "GET /api/v1/volumes": () => json(["a"]) });
    const list = new Listing<string>("/api/v1/volumes");
    list.end();
    await vi.advanceTimersByTimeAsync(1);
    expect(list.rows).toEqual([]);
  });
});
