import { describe, expect, it } from "vitest";

import { pieces } from "../src/features/logs/colour";

const ESC = "\u001b";
const tones = (text: string) => pieces(text).map((p) => [p.text, p.tone]);

describe("colours of lines", () => {
  it("plain text is one piece, with its control characters visible", () => {
    expect(tones("ready\tgo")).toEqual([["ready␉go", ""]]);
    expect(tones("")).toEqual([["", ""]]);
  });

  it("begin and end where the line says", () => {
    expect(tones(`a ${ESC}[31mred${ESC}[0m b`)).toEqual([
      ["a ", ""],
      ["red", "tone-red"],
      [" b", ""],
    ]);
    expect(tones(`${ESC}[92mbright${ESC}[39mplain`)).toEqual([
      ["bright", "tone-green"],
      ["plain", ""],
    ]);
  });

  it("go with bold, each ended by itself", () => {
    expect(tones(`${ESC}[1;34mboth${ESC}[22mblue${ESC}[mnone`)).toEqual([
      ["both", "tone-blue bold"],
      ["blue", "tone-blue"],
      ["none", ""],
    ]);
  });

  it("that are not known change nothing", () => {
    expect(tones(`${ESC}[31m${ESC}[4;48;5;200mx`)).toEqual([["x", "tone-red"]]);
  });

  it("no other sequence takes effect: it is shown", () => {
    expect(tones(`${ESC}[2J${ESC}]0;title\u0007`)).toEqual([["␛[2J␛]0;title␇", ""]]);
    expect(tones(`<b>${ESC}[1m&amp;`)).toEqual([
      ["<b>", ""],
      ["&amp;", "bold"],
    ]);
  });
});
