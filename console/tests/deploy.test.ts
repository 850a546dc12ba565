import { describe, expect, it } from "vitest";

import { clean, rowOf } from "../src/features/deploy/rows";
import { setIn } from "../src/features/deploy/draft.svelte";
import { line, readSize, readSpan, words, writeSize, writeSpan } from "../src/features/deploy/units";
import type { Definition } from "../src/lib/types";

describe("sizes", () => {
  it.each([
    ["512", 512],
    ["512m", 512 * 1024 ** 2],
    ["512 MB", 512 * 1024 ** 2],
    ["512MiB", 512 * 1024 ** 2],
    ["1,5 GiB", 1.5 * 1024 ** 3],
    ["1.5g", 1.5 * 1024 ** 3],
    [" 2 TiB ", 2 * 1024 ** 4],
    ["0", 0],
    ["", null],
    ["lots", null],
    ["-1", null],
    ["1 EiB", null],
    ["99999999t", null],
    ["1.g", null],
  ])("'%s' is %s", (typed, bytes) => {
    expect(readSize(typed)).toBe(bytes);
  });

  it.each([
    [0, "0 B"],
    [1000, "1000 B"],
    [1024, "1 KiB"],
    [1536, "1536 B"],
    [3 * 1024 ** 3, "3 GiB"],
    [1024 ** 4, "1 TiB"],
  ])("%d is written as %s, and read as the same", (bytes, text) => {
    expect(writeSize(bytes)).toBe(text);
    expect(readSize(text)).toBe(bytes);
  });
});

describe("spans", () => {
  it.each([
    ["5", 5000],
    ["5 s", 5000],
    ["250ms", 250],
    ["1,5 s", 1500],
    ["2 min", 120_000],
    ["2m", 120_000],
    ["1 h", 3_600_000],
    ["soon", null],
    ["", null],
    ["5 d", null],
  ])("'%s' is %s", (typed, milliseconds) => {
    expect(readSpan(typed)).toBe(milliseconds);
  });

  it.each([
    [250, "250 ms"],
    [1500, "1500 ms"],
    [30_000, "30 s"],
    [90_000, "90 s"],
    [120_000, "2 min"],
    [7_200_000, "2 h"],
  ])("%d is written as %s, and read as the same", (milliseconds, text) => {
    expect(writeSpan(milliseconds)).toBe(text);
    expect(readSpan(text)).toBe(milliseconds);
  });
});

describe("lines of words", () => {
  it.each([
    ["", []],
    ["  serve  --port 80 ", ["serve", "--port", "80"]],
    [`sh -c 'echo "a b"'`, ["sh", "-c", 'echo "a b"']],
    [`"a \\"b\\"" c\\ d`, ['a "b"', "c d"]],
    [`'' ""`, ["", ""]],
    [`a'b'"c"`, ["abc"]],
    ["$HOME *.rs `x`", ["$HOME", "*.rs", "`x`"]],
    ["'open", null],
    ['"open', null],
  ])("%s", (text, expected) => {
    expect(words(text)).toEqual(expected);
  });

  it.each([
    [[]],
    [["serve", "--port=80", "/data/x.y:z"]],
    [["a b", "it's", "", 'say "x"', "$HOME", "back\\slash", "line\nbreak"]],
  ])("%o comes back as it was written", (list) => {
    expect(words(line(list))).toEqual(list);
  });
});

const form: Definition = {
  image: "tarn/row:1",
  environment: [
    { name: "", value: "" },
    { name: "TZ", value: "" },
    { name: "", value: "lost" },
  ],
  ports: [
    { container_port: 0, protocol: "tcp" },
    { container_port: 80, protocol: "tcp" },
    { container_port: 0, host_port: 90, protocol: "tcp" },
  ],
  mounts: [
    { kind: "volume", target: "" },
    { kind: "volume", target: "/data" },
  ],
  network: { networks: [{ name: "" }, { name: "frost" }] },
} as unknown as Definition;

describe("rows of the form", () => {
  it("without anything written are not sent", () => {
    const sent = clean(form);
    expect(sent.environment?.map((e) => e.name)).toEqual(["TZ", ""]);
    expect(sent.ports?.map((p) => [p.container_port, p.host_port])).toEqual([
      [80, undefined],
      [0, 90],
    ]);
    expect(sent.mounts?.length).toBe(1);
    expect(sent.network?.networks?.map((n) => n.name)).toEqual(["frost"]);
  });

  it.each([
    ["/environment/0/name", "/environment/1/name"],
    ["/environment/1", "/environment/2"],
    ["/ports/1/container_port", "/ports/2/container_port"],
    ["/mounts/0/target", "/mounts/1/target"],
    ["/network/networks/0/name", "/network/networks/1/name"],
    ["/image", "/image"],
    ["/ports", "/ports"],
    ["/mounts/7/target", "/mounts/7/target"],
  ])("%s of what was sent is %s of the form", (field, place) => {
    expect(rowOf(field, form)).toBe(place);
  });

  it("may be missing altogether", () => {
    const bare = { image: "x" } as Definition;
    expect(clean(bare)).toEqual(bare);
    expect(rowOf("/ports/0", bare)).toBe("/ports/0");
  });
});

it("settings that are set are counted", () => {
  expect(setIn(undefined, null, false, "", [], {})).toBe(0);
  expect(setIn(0, true, "x", ["a"], { a: 1 })).toBe(5);
});
