import { describe, expect, it } from "vitest";

import { held } from "../src/features/team/words";

describe("a freeze", () => {
  it.each([
    ["fleet", "The whole fleet is frozen by mara until"],
    ["host:packhouse", "The host packhouse is frozen by mara until"],
    ["group:sheds", "The hosts of the group sheds are frozen by mara until"],
  ])("of %s is said in words", (scope, words) => {
    const freeze = {
      id: 1,
      scope,
      reason: "",
      member: "mara",
      created: "2026-11-02T08:00:00Z",
      until: "2026-11-02T10:00:00Z",
    };
    expect(held(freeze).startsWith(words)).toBe(true);
  });
});
