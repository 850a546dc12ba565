import { describe, expect, it } from "vitest";

import { counts, matcher, NO_STACK, sorted, stateKey, withinFacets } from "../src/features/fleet/filter";
import type { Facets, SortKey } from "../src/features/fleet/filter";
import { isUp, needsAttention } from "../src/features/fleet/figures";
import type { Container } from "../src/lib/types";
import { container, host, port } from "./records";

const api = container({
  name: "frost-api",
  stack: "frostwatch",
  ports: [port({ host_port: 7311 })],
  labels: { "tarn.role": "Front" },
});
const gate = container({ name: "frost-gate", host: "coldstore", health: "unhealthy", stack: "frostwatch" });
const job = container({ name: "apple-count", state: "exited", exit_code: 0, image: "tarn/count:2" });
const all = [api, gate, job];
const none = (): Facets => ({ hosts: new Set(), states: new Set(), stacks: new Set() });
const names = (list: Container[]) => list.map((c) => c.name);
const found = (typed: string) => names(all.filter(matcher(typed)));

describe("what is typed", () => {
  it.each([
    ["", ["frost-api", "frost-gate", "apple-count"]],
    ["   ", ["frost-api", "frost-gate", "apple-count"]],
    ["FROST", ["frost-api", "frost-gate"]],
    ["frost api", ["frost-api", "frost-gate"]],
    ["coldstore/frost", ["frost-gate"]],
    ["frost packhouse", ["frost-api"]],
    ["tarn.role=front", ["frost-api"]],
    [":7311", ["frost-api"]],
    ["7311→8080", ["frost-api"]],
    ["count:2", ["apple-count"]],
    ["nothing-of-the-kind", []],
  ])("'%s' finds %o", (typed, expected) => {
    expect(found(typed)).toEqual(expected);
  });

  it("finds by the beginning of an id, from three letters on", () => {
    const odd = container({ name: "x", id: `f0${"a".repeat(62)}` });
    expect(matcher("f0a")(odd)).toBe(true);
    expect(matcher("0aa")(odd)).toBe(false);
    expect(matcher("f0")(odd)).toBe(false);
  });
});

describe("facets", () => {
  it("an unhealthy container is not counted among those that run", () => {
    expect([stateKey(api), stateKey(gate), stateKey(job)]).toEqual(["running", "unhealthy", "exited"]);
  });

  it("let through what fits all of them", () => {
    const facets = { ...none(), hosts: new Set(["packhouse"]), stacks: new Set([NO_STACK]) };
    expect(names(all.filter((c) => withinFacets(c, facets)))).toEqual(["apple-count"]);
    expect(names(all.filter((c) => withinFacets(c, facets, "stacks")))).toEqual(["frost-api", "apple-count"]);
  });

  it("count what there would be, given what else is chosen", () => {
    const facets = { ...none(), hosts: new Set(["packhouse"]) };
    expect(counts(all, facets, "states")).toEqual([
      ["exited", 1],
      ["running", 1],
    ]);
    expect(counts(all, facets, "hosts")).toEqual([
      ["coldstore", 1],
      ["packhouse", 2],
    ]);
    expect(counts(all, none(), "stacks")).toEqual([
      [NO_STACK, 1],
      ["frostwatch", 2],
    ]);
  });

  it("keep a chosen value that nothing has any more, so that it can be unchosen", () => {
    expect(counts(all, { ...none(), hosts: new Set(["orchard"]) }, "hosts")).toContainEqual(["orchard", 0]);
  });
});

describe("order", () => {
  const by = (key: SortKey, down = false) => names(sorted(all, key, down));

  it("by state puts what needs attention first", () => {
    const wrong = { ...job, name: "wrong", attention: { severity: "trouble" } } as Container;
    expect(names(sorted([...all, wrong], "state", false))).toEqual([
      "wrong",
      "frost-gate",
      "apple-count",
      "frost-api",
    ]);
  });

  it.each([
    ["name", ["apple-count", "frost-api", "frost-gate"]],
    ["host", ["frost-gate", "apple-count", "frost-api"]],
    ["image", ["frost-api", "frost-gate", "apple-count"]],
    ["stack", ["frost-api", "frost-gate", "apple-count"]],
    ["ports", ["frost-api", "apple-count", "frost-gate"]],
  ] as [SortKey, string[]][])("by %s", (key, expected) => {
    expect(by(key)).toEqual(expected);
  });

  it("the other way round keeps equal ones by name, and the list itself is left alone", () => {
    expect(by("stack", true)).toEqual(["apple-count", "frost-api", "frost-gate"]);
    expect(names(all)).toEqual(["frost-api", "frost-gate", "apple-count"]);
  });

  it("the newest comes first by the time of making", () => {
    const newer = container({ name: "newer", created: "2026-11-21T08:00:00Z" });
    expect(names(sorted([api, newer], "created", false))).toEqual(["newer", "frost-api"]);
  });
});

it("what is up and what needs attention is counted as the service counts it", () => {
  expect(all.filter(isUp).length).toBe(2);
  expect(isUp(container({ name: "x", state: "paused" }))).toBe(false);
  const notice = container({ name: "x", attention: { severity: "notice" } as Container["attention"] });
  const trouble = container({ name: "x", attention: { severity: "trouble" } as Container["attention"] });
  expect([notice, trouble, host({ name: "orchard" })].map(needsAttention)).toEqual([false, true, false]);
});
