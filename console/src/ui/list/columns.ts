/** The columns of a list: what they hold as text, how wide they are, when there is room for them; and which ones somebody has hidden.
 * What draws them is RowList.svelte. */

export interface Column<T> {
  /** In the address (sorting) and where hidden columns are kept. */
  key: string;
  title: string;
  /** A track of a CSS grid. */
  width: string;
  /** What is in it in plain words: for the clipboard, CSV, the hover, and the cell when a page draws none of its own. */
  text: (row: T) => string;
  /** The list's width in pixels from which there is room for it; always shown without. */
  from?: number;
  sorts?: boolean;
  /** Where it is on a phone, where a row is a card: its name, beside that at the end, or the line below. Left out without. */
  card?: "title" | "side" | "below";
  mono?: boolean;
  soft?: boolean;
}

/** The width in pixels below which rows are cards. */
export const CARDS_BELOW = 560;

const KEPT = "gubernum.columns.";

/** The columns of a list that this browser's user has hidden. */
export function hiddenColumns(list: string): Set<string> {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(KEPT + list) ?? "[]");
    return new Set(Array.isArray(kept) ? kept.filter((key) => typeof key === "string") : []);
  } catch {
    return new Set();
  }
}

export function keepHiddenColumns(list: string, hidden: Set<string>) {
  if (hidden.size === 0) localStorage.removeItem(KEPT + list);
  else localStorage.setItem(KEPT + list, JSON.stringify([...hidden]));
}

/** Those that are not hidden and for which there is room; the first is always there. */
export function shownColumns<T>(columns: Column<T>[], hidden: Set<string>, width: number): Column<T>[] {
  return columns.filter(
    (column, n) => n === 0 || (!hidden.has(column.key) && (!column.from || width >= column.from)),
  );
}

/** What would begin a formula in a spreadsheet is kept from doing so: names and labels are foreign text. */
function csvField(text: string): string {
  const safe = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

/** All columns of the rows as CSV (RFC 4180), with a head. */
export function csvOf<T>(columns: Column<T>[], rows: T[]): string {
  const lines = [columns.map((column) => csvField(column.title))];
  for (const row of rows) lines.push(columns.map((column) => csvField(column.text(row))));
  return lines.map((line) => line.join(",") + "\r\n").join("");
}

/** The rows as text with tabs between the columns, for the clipboard. */
export function textOf<T>(columns: Column<T>[], rows: T[]): string {
  const clean = (text: string) => text.replace(/[\t\r\n]+/g, " ");
  return [columns.map((column) => column.title), ...rows.map((row) => columns.map((c) => clean(c.text(row))))]
    .map((line) => line.join("\t") + "\n")
    .join("");
}
