import { expect, test } from "vitest";
import { rateOf, transferred } from "../src/features/operations/transfer";

test("layers are told as one", () => {
  const layers = [
    { id: "a", doing: "Pull complete", done: 5, total: 5, finished: true },
    { id: "b", doing: "Downloading", done: 2, total: 8 },
    { id: "c", doing: "Already exists", done: 0, total: 0, finished: true },
  ];
  expect(transferred({ doing: "Downloading", done: 7, total: 13, layers })).toEqual({
    done: 7,
    total: 13,
    words: "2 of 3 layers",
  });
  expect(transferred({ doing: "copying data", done: 3, total: 9 }).words).toBe("copying data");
});

test("a rate is told where bytes were added", () => {
  expect(rateOf({ at: 0, done: 0 }, { at: 2000, done: 4096 })).toBe(2048);
  expect(rateOf({ at: 0, done: 9 }, { at: 2000, done: 4 })).toBeNull();
  expect(rateOf({ at: 5, done: 0 }, { at: 5, done: 4 })).toBeNull();
});
