import { describe, expect, it } from "vitest";

import { same, scopeOf, scopeText, words } from "../src/features/members/members";

describe("a grant", () => {
  it.each([
    ["fleet", { kind: "fleet", name: "" }],
    ["host:packhouse", { kind: "host", name: "packhouse" }],
    ["stack:packhouse/orchard", { kind: "stack", name: "packhouse/orchard" }],
    ["label:team=frost", { kind: "label", name: "team=frost" }],
  ])("is on %s", (text, scope) => {
    expect(scopeOf(text)).toEqual(scope);
    expect(scopeText(scopeOf(text).kind, scopeOf(text).name)).toBe(text);
  });

  it("is said in words", () => {
    expect(words({ role: "operator", scope: "host:coldstore" })).toBe("operator on the host coldstore");
    expect(words({ role: "admin", scope: "fleet" })).toBe("admin on the whole fleet");
  });

  it("is the same in another order", () => {
    const [a, b] = [
      { role: "viewer", scope: "fleet" },
      { role: "operator", scope: "host:coldstore" },
    ];
    expect(same([a, b], [b, a])).toBe(true);
    expect(same([a], [a, b])).toBe(false);
  });
});
