/** The columns of a list: which are shown, what is remembered, and the rows as text and CSV. */
import { beforeEach, describe, expect, it } from "vitest";

import {
  csvOf,
  hiddenColumns,
  keepHiddenColumns,
  shownColumns,
  textOf,
  type Column,
} from "../src/ui/list/columns";

interface Crate {
  name: string;
  note: string;
}

const COLUMNS: Column<Crate>[] = [
  { key: "name", title: "Name", width: "1fr", text: (crate) => crate.name },
  { key: "note", title: "Note", width: "1fr", from: 600, text: (crate) => crate.note },
  { key: "weight", title: "Weight", width: "4rem", from: 900, text: () => "12 kg" },
];

const keys = (hidden: string[], width: number) =>
  shownColumns(COLUMNS, new Set(hidden), width).map((column) => column.key);

describe("which columns are shown", () => {
  it("gives way to the room", () => {
    expect(keys([], 599)).toEqual(["name"]);
    expect(keys([], 600)).toEqual(["name", "note"]);
    expect(keys([], 2000)).toEqual(["name", "note", "weight"]);
  });

  it("leaves out what was hidden, but never the first", () => {
    expect(keys(["name", "note"], 2000)).toEqual(["name", "weight"]);
  });
});

describe("what is remembered", () => {
  beforeEach(() => localStorage.clear());

  it("is kept for each list", () => {
    keepHiddenColumns("crates", new Set(["note"]));
    expect([...hiddenColumns("crates")]).toEqual(["note"]);
    expect(hiddenColumns("pallets").size).toBe(0);
  });

  it("is forgotten when nothing is hidden", () => {
    keepHiddenColumns("crates", new Set(["note"]));
    keepHiddenColumns("crates", new Set());
    expect(localStorage.length).toBe(0);
  });

  it.each(["{", '{"a":1}', "7", "[1, null]"])("is nothing when it reads %s", (text) => {
    localStorage.setItem("gubernum.columns.crates", text);
    expect(hiddenColumns("crates").size).toBe(0);
  });
});

describe("the rows as CSV", () => {
  const csv = (name: string, note: string) => csvOf(COLUMNS, [{ name, note }]).split("\r\n")[1];

  it("has a head and all columns, whatever is shown", () => {
    expect(csvOf(COLUMNS, [])).toBe("Name,Note,Weight\r\n");
    expect(csv("pears", "ripe")).toBe("pears,ripe,12 kg");
  });

  it("quotes what has commas, quotes or breaks", () => {
    expect(csv('6" box', "a, b")).toBe('"6"" box","a, b",12 kg');
    expect(csvOf(COLUMNS, [{ name: "a\nb", note: "" }])).toContain('"a\nb"');
  });

  it.each(["=2+3", "+1", "-1", "@sum", "\tx"])("keeps %s from being a formula", (name) => {
    expect(csv(name, "")?.startsWith(`'${name}`)).toBe(true);
  });
});

describe("the rows as text", () => {
  it("has one line for each, whatever is in them", () => {
    const text = textOf(COLUMNS, [{ name: "pe\tars", note: "ri\r\npe" }]);
    expect(text).toBe("Name\tNote\tWeight\npe ars\tri pe\t12 kg\n");
  });
});
