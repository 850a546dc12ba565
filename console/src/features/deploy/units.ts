/** Sizes and spans as people write them. Binary units: 1 KiB is 1024 bytes; `512m` and `512 MB` are taken for MiB, as
 * engines do. */

const SIZES: [string, number][] = [
  ["TiB", 1024 ** 4],
  ["GiB", 1024 ** 3],
  ["MiB", 1024 ** 2],
  ["KiB", 1024],
];

export function readSize(text: string): number | null {
  const found = /^(\d+(?:[.,]\d+)?)\s*([kmgt]?)(?:i?b)?$/i.exec(text.trim());
  if (!found) return null;
  const power = { "": 0, k: 1, m: 2, g: 3, t: 4 }[(found[2] ?? "").toLowerCase()] ?? 0;
  const bytes = Math.round(Number((found[1] ?? "").replace(",", ".")) * 1024 ** power);
  return Number.isSafeInteger(bytes) ? bytes : null;
}

export function writeSize(bytes: number): string {
  for (const [unit, of] of SIZES) if (bytes >= of && bytes % of === 0) return `${bytes / of} ${unit}`;
  return `${bytes} B`;
}

const SPANS: [string, number][] = [
  ["h", 3_600_000],
  ["min", 60_000],
  ["s", 1000],
];

export function readSpan(text: string): number | null {
  const found = /^(\d+(?:[.,]\d+)?)\s*(ms|s|m|min|h)?$/i.exec(text.trim());
  if (!found) return null;
  const of =
    { ms: 1, s: 1000, m: 60_000, min: 60_000, h: 3_600_000 }[(found[2] ?? "s").toLowerCase()] ?? 1000;
  return Math.round(Number((found[1] ?? "").replace(",", ".")) * of);
}

export function writeSpan(ms: number): string {
  for (const [unit, of] of SPANS) if (ms >= of && ms % of === 0) return `${ms / of} ${unit}`;
  return `${ms} ms`;
}

/** A line into words as a shell would, without any of its magic; null for an open quote. */
export function words(line: string): string[] | null {
  const out: string[] = [];
  let word: string | null = null;
  let quote = "";
  for (let i = 0; i < line.length; i += 1) {
    const c = line[i] as string;
    if (quote) {
      if (c === quote) quote = "";
      else if (c === "\\" && quote === '"' && i + 1 < line.length) word += line[(i += 1)] as string;
      else word += c;
    } else if (c === "'" || c === '"') {
      quote = c;
      word ??= "";
    } else if (c === "\\" && i + 1 < line.length) word = (word ?? "") + (line[(i += 1)] as string);
    else if (/\s/.test(c)) {
      if (word !== null) out.push(word);
      word = null;
    } else word = (word ?? "") + c;
  }
  if (quote) return null;
  if (word !== null) out.push(word);
  return out;
}

/** Words back into a line that {@link words} reads as the same. */
export function line(list: string[]): string {
  return list.map((w) => (/^[\w@%+=:,./-]+$/.test(w) ? w : `'${w.replace(/'/g, `'\\''`)}'`)).join(" ");
}
