import { describe, expect, it } from "vitest";

import { tarOf } from "../src/features/files/tar";

const decoder = new TextDecoder();

function file(path: string, text: string, modified = 1_700_000_000_000): File {
  const made = new File([text], path.split("/").pop() ?? "", { lastModified: modified });
  Object.defineProperty(made, "webkitRelativePath", { value: path });
  return made;
}

interface Read {
  name: string;
  kind: string;
  size: number;
  modified: number;
  text: string;
}

/** Reads an archive by the standard's own rules: the sum of each head is right, every part fills its blocks. */
async function read(blob: Blob): Promise<Read[]> {
  const all = new Uint8Array(await blob.arrayBuffer());
  expect(all.length % 512).toBe(0);
  const found: Read[] = [];
  let at = 0;
  const text = (from: number, length: number) =>
    decoder.decode(all.slice(at + from, at + from + length)).replace(/\0.*$/s, "");
  while (all.slice(at, at + 512).some((byte) => byte !== 0)) {
    const head = all.slice(at, at + 512);
    const sum = head.reduce((total, byte, n) => total + (n >= 148 && n < 156 ? 32 : byte), 0);
    expect(parseInt(text(148, 8), 8)).toBe(sum);
    expect(text(257, 6)).toBe("ustar");
    const [name, size] = [text(0, 100), parseInt(text(124, 12), 8)];
    const [modified, kind] = [parseInt(text(136, 12), 8), text(156, 1)];
    at += 512;
    found.push({ name, kind, size, modified, text: decoder.decode(all.slice(at, at + size)) });
    at += Math.ceil(size / 512) * 512;
  }
  expect(all.length - at).toBe(1024);
  return found;
}

describe("a folder as an archive", () => {
  it("holds each file under its path below the folder", async () => {
    const found = await read(tarOf([file("app/Dockerfile", "FROM base"), file("app/src/main.sh", "echo")]));
    expect(found.map((f) => [f.name, f.text, f.kind])).toEqual([
      ["Dockerfile", "FROM base", "0"],
      ["src/main.sh", "echo", "0"],
    ]);
    expect(found[0]?.modified).toBe(1_700_000_000);
  });

  it.each([0, 1, 511, 512, 513, 1024])("a file of %d bytes fills its blocks", async (size) => {
    const [one, after] = await read(tarOf([file("a/one", "x".repeat(size)), file("a/after", "y")]));
    expect([one?.size, one?.text.length, after?.text]).toEqual([size, size, "y"]);
  });

  it("a long name goes before its file", async () => {
    const long = `${"folder/".repeat(20)}apple.txt`;
    const [name, content] = await read(tarOf([file(`app/${long}`, "red")]));
    expect([name?.kind, name?.name, name?.text]).toEqual(["L", "././@LongLink", `${long}\0`]);
    expect(content?.text).toBe("red");
  });

  it("names are UTF-8, and a file without a folder has its own", async () => {
    const alone = new File(["x"], "äpfel.txt");
    Object.defineProperty(alone, "webkitRelativePath", { value: "" });
    expect((await read(tarOf([alone])))[0]?.name).toBe("äpfel.txt");
    expect(await read(tarOf([]))).toEqual([]);
  });
});
