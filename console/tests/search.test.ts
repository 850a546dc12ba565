import { flushSync } from "svelte";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

import { live } from "../src/lib/live.svelte";
import { place } from "../src/lib/router.svelte";
import { pending } from "../src/lib/session.svelte";
import type { ImageRow, NetworkRow, PortRow, VolumeRow } from "../src/lib/types";
import { PAGES, pageAt } from "../src/shell/pages";
import { search } from "../src/shell/search";
import type { Assets } from "../src/shell/search";
import { container, host } from "./records";
import { Wire } from "./stand-ins";

const assets: Assets = {
  images: [
    { id: "sha256:feed0123", tags: ["tarn/frost:2"] },
    { id: "beef4567", tags: [] },
  ] as unknown as ImageRow[],
  volumes: [{ host: "packhouse", name: "frost-data", anonymous: false }] as VolumeRow[],
  networks: [{ host: "packhouse", name: "frost-net" }] as NetworkRow[],
  ports: [
    { host: "packhouse", port: 7311, protocol: "tcp", container: "packhouse/frost-api", listening: true },
    { host: "coldstore", port: 7311, protocol: "tcp", container: "coldstore/frost-api", listening: false },
  ] as unknown as PortRow[],
};
const nothing: Assets = { images: [], volumes: [], networks: [], ports: [] };

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal("WebSocket", Wire);
  vi.stubGlobal("requestAnimationFrame", (draw: () => void) => setTimeout(draw, 16));
  Wire.all = [];
  live.start();
  Wire.last.open();
  const containers = [
    container({ name: "frost-api", stack: "frostwatch" }),
    container({ name: "api-frost", host: "coldstore" }),
    container({ name: "prefrost" }),
    ...Array.from({ length: 30 }, (_, n) => container({ name: `sorter-${n}` })),
  ];
  const fleet = { epoch: "e", revision: 1, hosts: [host({ name: "packhouse" })], containers };
  Wire.last.say({ type: "snapshot", id: 1, fleet });
  vi.advanceTimersByTime(50);
  flushSync();
});

afterEach(() => {
  live.stop();
  pending.wish = null;
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const keys = (typed: string, of = assets) => search(typed, of).map((hit) => hit.key);

describe("the search box", () => {
  it("finds nothing for nothing", () => {
    expect(search("  ", assets)).toEqual([]);
    expect(search("no-such-thing", assets)).toEqual([]);
  });

  it("puts what begins so before what has it inside", () => {
    const found = keys("frost", nothing);
    expect(found.slice(0, 2)).toEqual(["packhouse/frost-api", "frostwatch"]);
    expect(found.indexOf("coldstore/api-frost")).toBeLessThan(found.indexOf("packhouse/prefrost"));
  });

  it("reaches every kind of object", () => {
    const notes = new Set(search("frost", assets).map((hit) => hit.note));
    for (const note of ["stack", "image", "volume on packhouse", "network on packhouse"]) {
      expect(notes).toContain(note);
    }
    expect(search("packhouse", nothing).map((hit) => hit.note)).toContain("host");
    expect(keys("beef")).toEqual(["untagged beef4567"]);
  });

  it("shows ten at most", () => {
    expect(search("sorter", assets).length).toBe(10);
  });

  it.each(["7311", ":7311"])("'%s' asks who has the port", (typed) => {
    expect(search(typed, assets).map((hit) => [hit.key, hit.note])).toEqual([
      ["coldstore: 7311/tcp → frost-api", "reserved, does not run"],
      ["packhouse: 7311/tcp → frost-api", "listens on this port"],
    ]);
    expect(keys("9999")).toEqual([]);
  });

  it("opens what is picked", () => {
    search("frost-data", assets)[0]?.pick();
    expect(place.query.get("inspect")).toBe("volume:packhouse/frost-data");
    search("timeline", nothing)[0]?.pick();
    expect(place.path).toBe("/timeline");
  });

  it("a verb offers the change, and asks before it is made", () => {
    const [hit] = search("restart frost-api", assets);
    expect([hit?.key, hit?.note]).toEqual(["Restart packhouse/frost-api…", "action"]);
    expect(pending.wish).toBeNull();
    hit?.pick();
    expect([pending.wish?.kind, pending.wish?.containers.map((c) => c.name)]).toEqual([
      "restart",
      ["frost-api"],
    ]);
    expect(keys("sto sorter-1 ", nothing)[0]).toMatch(/^Stop packhouse\/sorter-1/);
    expect(search("restart", nothing)).toEqual([]);
  });
});

describe("pages", () => {
  it("have an address, a key and a name of their own", () => {
    for (const part of ["path", "key", "name", "title"] as const) {
      expect(new Set(PAGES.map((page) => page[part])).size).toBe(PAGES.length);
    }
    for (const page of PAGES) expect(page.key).toMatch(/^[a-z]$/);
  });

  it.each([
    ["/", "Overview"],
    ["/operations", "Operations"],
    ["/operations/17", "Operations"],
    ["/hosts/packhouse", undefined],
    ["/operationsx", undefined],
    ["/nowhere", undefined],
  ])("%s is %s", (path, name) => {
    expect(pageAt(path)?.name).toBe(name);
  });
});
