import { describe, expect, it } from "vitest";

import * as format from "../src/lib/format";
import type { Container, Health, Port, State } from "../src/lib/types";
import { container, operation, port } from "./records";

const NOW = Date.parse("2026-11-20T12:00:00Z");
const before = (seconds: number) => new Date(NOW - seconds * 1000).toISOString();

describe("ages", () => {
  it.each([
    [0, "0 s"],
    [59, "59 s"],
    [60, "1 min"],
    [3599, "59 min"],
    [3600, "1 h"],
    [86_399, "23 h"],
    [86_400, "1 d"],
    [40 * 86_400, "40 d"],
  ])("%d seconds ago is %s", (seconds, words) => {
    expect(format.age(before(seconds), NOW)).toBe(words);
  });

  it("says nothing of a time that is not known, and never counts below zero", () => {
    expect(format.age(undefined, NOW)).toBe("");
    expect(format.age(before(-30), NOW)).toBe("0 s");
  });
});

describe("times of lines", () => {
  const time = "2026-11-20T00:05:09.007";

  it("are left out when nobody wants them", () => {
    expect(format.lineTime(time, "off")).toBe("");
    expect(format.lineTime(undefined, "24h")).toBe("");
  });

  it.each([
    [time, "24h", "00:05:09.007"],
    [time, "12h", "12:05:09.007 am"],
    ["2026-11-20T12:00:00.000", "12h", "12:00:00.000 pm"],
    ["2026-11-20T23:59:59.999", "12h", "11:59:59.999 pm"],
    ["2026-11-20T23:59:59.999", "24h", "23:59:59.999"],
  ] as const)("%s on a clock of %s is %s", (at, clock, words) => {
    expect(format.lineTime(at, clock)).toBe(words);
  });
});

describe("what a state looks like", () => {
  const trouble = { severity: "trouble" };
  it.each([
    ["running", "none", undefined, "runs"],
    ["running", "healthy", undefined, "well"],
    ["running", "starting", undefined, "runs"],
    ["running", "unhealthy", undefined, "sick"],
    ["restarting", "none", undefined, "loops"],
    ["paused", "none", undefined, "halted"],
    ["exited", "none", undefined, "rests"],
    ["exited", "none", trouble, "failed"],
    ["created", "none", undefined, "made"],
    ["created", "none", trouble, "failed"],
    ["dead", "none", undefined, "failed"],
    ["removing", "none", undefined, "gone"],
  ])("%s and %s with %o", (state, health, attention, expected) => {
    expect(format.look({ state: state as State, health: health as Health, attention })).toBe(expected);
  });

  it("is told in words with health and exit code", () => {
    const words = (about: Partial<Container>) => format.stateWords(container({ name: "api", ...about }));
    expect(words({ health: "unhealthy" })).toBe("unhealthy");
    expect(words({})).toBe("running");
    expect(words({ state: "exited", exit_code: 137 })).toBe("exited 137");
    expect(words({ state: "exited" })).toBe("exited");
  });
});

describe("ports", () => {
  const words = (...ports: Partial<Port>[]) => format.portWords(ports.map(port));

  it("are shown where they are published, without what goes without saying", () => {
    expect(words({ host_port: 7311 })).toEqual(["7311→8080"]);
    expect(words({ host_port: 7311, address: "0.0.0.0" })).toEqual(["7311→8080"]);
    expect(words({ host_port: 7311, address: "127.0.0.1" })).toEqual(["127.0.0.1:7311→8080"]);
    expect(words({ host_port: 53, container_port: 53, protocol: "udp" })).toEqual(["53→53/udp"]);
  });

  it("are shown once for both families, and not at all when they are not published", () => {
    expect(words({ host_port: 7311, address: "0.0.0.0" }, { host_port: 7311, address: "::" })).toEqual([
      "7311→8080",
    ]);
    expect(words({})).toEqual([]);
  });
});

describe("images", () => {
  it.each([
    ["registry.tarnvalley.example/frostwatch/api:3", "registry.tarnvalley.example", "frostwatch/api:3"],
    ["localhost/tarn/row:1", "localhost", "tarn/row:1"],
    ["packhouse:5000/row", "packhouse:5000", "row"],
    ["frostwatch/api:3", "", "frostwatch/api:3"],
    ["base:1.2", "", "base:1.2"],
  ])("%s is of the registry '%s'", (image, registry, rest) => {
    expect(format.imageParts(image)).toEqual({ registry, rest });
  });

  it("without a name go by the beginning of their id", () => {
    expect(format.imageName({ id: "0123456789abcdef", tags: [] })).toBe("untagged 0123456789ab");
    expect(format.imageName({ id: "0", tags: ["localhost/tarn/row:1", "other:2"] })).toBe("tarn/row:1");
  });
});

describe("figures", () => {
  it.each([
    [0, "0 B"],
    [1023, "1023 B"],
    [1024, "1.0 KiB"],
    [1536, "1.5 KiB"],
    [100 * 1024, "100 KiB"],
    [5 * 1024 ** 3, "5.0 GiB"],
    [2 ** 60, "1024 PiB"],
    [null, "unknown"],
    [undefined, "unknown"],
    [Number.NaN, "unknown"],
  ])("%s bytes are %s", (value, words) => {
    expect(format.bytes(value)).toBe(words);
  });

  it("are unknown rather than 0 when nobody knows them", () => {
    expect([format.rate(null), format.processors(undefined), format.count(null)]).toEqual([
      "unknown",
      "unknown",
      "unknown",
    ]);
    expect(format.rate(2048)).toBe("2.0 KiB/s");
    expect(format.count(2.6)).toBe("3");
  });

  it.each([
    [0.012, "1.2 %"],
    [0.5, "50 %"],
    [1, "100 %"],
    [2.345, "235 %"],
  ])("%d processors are %s", (value, words) => {
    expect(format.processors(value)).toBe(words);
  });

  it.each([
    [10, "10 s"],
    [90, "1.5 min"],
    [3600, "1 h"],
    [86_400 * 1.5, "1.5 d"],
  ])("%d seconds are a step of %s", (seconds, words) => {
    expect(format.span(seconds)).toBe(words);
  });
});

it("an operation is counted by what its targets came to", () => {
  const all = operation(1, [
    "waiting",
    "running",
    "succeeded",
    "failed",
    "refused",
    "unchanged",
    "cancelled",
  ]);
  expect(format.tally(all)).toEqual({ done: 5, bad: 3, all: 7 });
});

it("every kind of change has its words", () => {
  for (const { ask, doing } of Object.values(format.verbs)) {
    expect(ask).toMatch(/^[A-Z][a-z ]+$/);
    expect(doing).toMatch(/ing( |$)/);
  }
  for (const kind of format.PLAIN_KINDS) expect(format.verbs[kind]).toBeDefined();
});

it("foreign text cannot play tricks", () => {
  expect(format.visible("plain, ümlaut, 雪")).toBe("plain, ümlaut, 雪");
  expect(format.visible("a\u0000b\u001b[2J")).toBe("a␀b␛[2J");
  expect(format.visible("\u202egnp.exe")).toBe("�gnp.exe");
  expect(format.visible("\u0085\u007f")).toBe("��");
});
