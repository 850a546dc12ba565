/**
 * Log text with its colour codes understood and everything else made visible: a list of pieces, each
 * with a class. Nothing of the text becomes markup.
 */
import { visible } from "../../lib/format";

export interface Piece {
  text: string;
  tone: string;
}

const SEQUENCE = /\u001b\[([0-9;]{0,40})m/g;

const NAMES = ["black", "red", "green", "yellow", "blue", "magenta", "cyan", "white"];

export function pieces(text: string): Piece[] {
  if (!text.includes("\u001b")) return [{ text: visible(text), tone: "" }];
  const out: Piece[] = [];
  let tone = "";
  let bold = false;
  let from = 0;
  const push = (part: string) => {
    if (part) out.push({ text: visible(part), tone: [tone, bold ? "bold" : ""].join(" ").trim() });
  };
  for (const match of text.matchAll(SEQUENCE)) {
    push(text.slice(from, match.index));
    from = match.index + match[0].length;
    for (const code of (match[1] || "0").split(";").map(Number)) {
      if (code === 0) [tone, bold] = ["", false];
      else if (code === 1) bold = true;
      else if (code === 22) bold = false;
      else if (code === 39) tone = "";
      else if (code >= 30 && code <= 37) tone = `tone-${NAMES[code - 30]}`;
      else if (code >= 90 && code <= 97) tone = `tone-${NAMES[code - 90]}`;
    }
  }
  push(text.slice(from));
  return out;
}
