/** What the Compose Specification knows at a place of a text: for completion and for help while pointing. */
import table from "./attributes.json";

export interface Attribute {
  path: string;
  value: string;
  effect: "read" | "none" | "refused";
  why?: string;
}

const ALL = table as Attribute[];
const BY_PATH = new Map(ALL.map((a) => [a.path, a]));

/** A key of a line: how far it is indented, whether an entry of a list begins with it, and the key itself. */
export interface KeyLine {
  indent: number;
  item: boolean;
  key: string;
}

/** Takes a line of YAML apart. A line without a key has an empty one. */
export function keyLine(text: string): KeyLine | null {
  if (!text.trim() || text.trim().startsWith("#")) return null;
  const found = /^(\s*)(-\s+)?(?:["']?([\w.$-]*)["']?\s*:(?=\s|$))?/.exec(text);
  if (!found) return null;
  const dash = found[2] ?? "";
  return { indent: (found[1] ?? "").length + dash.length, item: dash !== "", key: found[3] ?? "" };
}

/** The keys that lead to a line at this indentation, the outermost first; `[]` stands for an entry of a list. */
export function pathTo(linesBefore: string[], indent: number, item: boolean): string[] {
  const path: string[] = item ? ["[]"] : [];
  // An entry's dash may be at the indentation of its list's key.
  let below = item ? indent - 1 : indent;
  for (let n = linesBefore.length - 1; n >= 0 && below > 0; n--) {
    const line = keyLine(linesBefore[n] ?? "");
    if (!line) continue;
    const dash = line.item ? line.indent - 2 : line.indent;
    if (line.item && line.indent <= below && dash < below) {
      if (line.indent < below && line.key) path.unshift(line.key);
      if (line.indent === below || line.key) path.unshift("[]");
      below = dash;
      continue;
    }
    if (line.indent < below && line.key) {
      path.unshift(line.key);
      below = line.indent;
      if (below === 0) break;
    }
  }
  return path;
}

/** The names of the table that fit keys of a text: a name that the text chooses is `*` there. */
function named(path: string[]): string | null {
  let at = "";
  for (const key of path) {
    if (key === "[]") {
      at += "[]";
      continue;
    }
    const exact = at ? `${at}.${key}` : key;
    const chosen = at ? `${at}.*` : "*";
    if (BY_PATH.has(exact)) at = exact;
    else if (ALL.some((a) => a.path.startsWith(`${chosen}.`))) at = chosen;
    else return null;
  }
  return at;
}

/** What may appear below a place. */
export function below(path: string[]): Attribute[] {
  const at = named(path);
  if (at === null) return [];
  const before = at ? `${at}.` : "";
  return ALL.filter(
    (a) => a.path.startsWith(before) && !/[.[]/.test(a.path.slice(before.length)) && !a.path.endsWith("*"),
  );
}

/** What is known of an attribute at a place. */
export function attribute(path: string[]): Attribute | undefined {
  const at = named(path);
  return at === null ? undefined : BY_PATH.get(at);
}

/** What is known of an attribute, in a sentence or two. */
export function help(a: Attribute): string {
  const value = a.effect === "refused" ? "" : `Takes ${a.value}. `;
  if (a.effect === "none") return `${value}No effect: ${a.why ?? ""}.`;
  if (a.effect === "refused") return `Is refused: ${a.why ?? ""}.`;
  return value.trim();
}
