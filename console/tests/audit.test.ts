import { describe, expect, it } from "vitest";

import { isBad } from "../src/features/audit/audit";
import { asked } from "../src/lib/listQuery";

const nothing = { text: "", member: "", action: "", since: "" };

describe("the audit log", () => {
  it("is asked for what is filled in", () => {
    expect(asked(nothing, {})).toBe("");
    expect(asked({ ...nothing, member: "mara", text: "a&b" }, { before: 7, limit: 100 })).toBe(
      "text=a%26b&member=mara&before=7&limit=100",
    );
  });

  it.each([
    ["refused", true],
    ["2 failed of 3", true],
    ["succeeded", false],
  ])("shows %s as bad: %s", (outcome, bad) => {
    const entry = { id: 1, time: "", member: "", address: "", action: "", object: "", outcome, hash: "" };
    expect(isBad(entry)).toBe(bad);
  });
});
