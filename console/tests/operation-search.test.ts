import { describe, expect, it } from "vitest";

import { fits, span, wishOf, type Wish } from "../src/features/operations/search";
import { asked } from "../src/lib/listQuery";
import type { Operation } from "../src/lib/types";

const NOW = Date.parse("2026-11-23T06:00:00Z");
const none: Wish = { object: "", member: "", kind: "", outcome: "", since: "" };
const target = (name: string, state: string) => ({
  host: "packhouse",
  id: name,
  name,
  object: "container",
  state,
});
const restart = {
  id: 4,
  kind: "restart",
  references: ["packhouse/label-*"],
  author: "Mara",
  state: "partly",
  created: "2026-11-23T05:30:00Z",
  targets: [target("label-press", "succeeded"), target("Gate", "failed")],
} as unknown as Operation;

describe("operations are searched", () => {
  it.each<[Partial<Wish>, boolean]>([
    [{}, true],
    [{ object: "LABEL" }, true],
    [{ object: "packhouse/ga" }, true],
    [{ object: "coldstore" }, false],
    [{ member: "mar" }, true],
    [{ member: "jory" }, false],
    [{ kind: "restart" }, true],
    [{ kind: "stop" }, false],
    [{ outcome: "failed" }, true],
    [{ outcome: "succeeded" }, false],
    [{ since: "1h" }, true],
    [{ since: "24h", kind: "restart", member: "mara" }, true],
  ])("%o: %s", (wish, expected) => {
    expect(fits(restart, { ...none, ...wish }, NOW)).toBe(expected);
  });

  it("an old one is outside the span", () => {
    expect(fits(restart, { ...none, since: "1h" }, NOW + 3_600_000)).toBe(false);
  });

  it.each([
    ["1h", 3_600_000],
    ["7d", 7 * 86_400_000],
    ["", undefined],
    ["soon", undefined],
  ])("a span of '%s' is %s ms", (text, expected) => {
    expect(span(text)).toBe(expected);
  });

  it("the address says what the service is asked", () => {
    const wish = wishOf(new URLSearchParams("object=+frost+&outcome=failed&inspect=operation:4"));
    expect(wish).toEqual({ ...none, object: "frost", outcome: "failed" });
    expect(asked(wish, { before: 12, limit: 100 })).toBe("object=frost&outcome=failed&before=12&limit=100");
    expect(asked(none, { limit: 100 })).toBe("limit=100");
  });
});
