import { describe, expect, it } from "vitest";
import { moveSettings, readPorts, type MoveForm } from "../src/features/operations/moveForm";

const FORM: MoveForm = {
  to: "coldstore",
  name: " ",
  ports: "",
  firstPass: true,
  running: true,
  pull: false,
  unverified: false,
  keep: false,
  removeVolumes: false,
};

describe("the form of a move", () => {
  it("reads ports as pairs", () => {
    expect(readPorts("7311=17311, 53 = 1053,")).toEqual({ "7311": 17311, "53": 1053 });
    for (const odd of ["7311", "7311:80", "0=1", "1=70000", "a=b"]) expect(readPorts(odd)).toBeNull();
  });

  it("asks for nothing until it is complete", () => {
    expect(moveSettings("move", { ...FORM, to: "" }).settings).toBeNull();
    const odd = moveSettings("move", { ...FORM, ports: "web" });
    expect([odd.settings, odd.wrong]).toEqual([null, expect.stringContaining("7311=17311")]);
  });

  it("sends what goes with the kind and nothing else", () => {
    const move = moveSettings("move", FORM).settings;
    expect(move).toMatchObject({ to: "coldstore", first_pass: true });
    expect(move).not.toHaveProperty("running");
    expect(move).not.toHaveProperty("name");
    const copy = moveSettings("clone", { ...FORM, name: "frosttrial", ports: "1=2" }).settings;
    expect(copy).toMatchObject({ running: true, name: "frosttrial", ports: { "1": 2 } });
    expect(copy).not.toHaveProperty("keep");
  });
});
