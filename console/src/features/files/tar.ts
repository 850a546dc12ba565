/** A folder that was chosen as a tar archive (POSIX ustar): heads are made here, the files' own bytes are only pointed at,
so that nothing large is held. */

const BLOCK = 512;
const LONGEST_NAME = 100;
const encoder = new TextEncoder();

function octal(value: number, length: number): string {
  return `${value.toString(8).padStart(length - 1, "0")}\0`;
}

function head(name: Uint8Array, size: number, kind: "0" | "L", seconds: number): Uint8Array<ArrayBuffer> {
  const block = new Uint8Array(BLOCK);
  const put = (at: number, text: string) => block.set(encoder.encode(text), at);
  block.set(name.slice(0, LONGEST_NAME), 0);
  put(100, octal(0o644, 8));
  put(108, octal(0, 8));
  put(116, octal(0, 8));
  put(124, octal(size, 12));
  put(136, octal(seconds, 12));
  put(148, " ".repeat(8));
  put(156, kind);
  put(257, "ustar\0" + "00");
  const sum = block.reduce((all, byte) => all + byte, 0);
  put(148, `${sum.toString(8).padStart(6, "0")}\0 `);
  return block;
}

function filling(size: number): Uint8Array<ArrayBuffer> {
  return new Uint8Array((BLOCK - (size % BLOCK)) % BLOCK);
}

/** Packs files under the names that they have below the chosen folder. */
export function tarOf(files: Iterable<File>): Blob {
  const parts: BlobPart[] = [];
  for (const file of files) {
    const path = file.webkitRelativePath.split("/").slice(1).join("/") || file.name;
    const name = encoder.encode(path);
    const seconds = Math.floor(file.lastModified / 1000);
    if (name.length > LONGEST_NAME) {
      parts.push(head(encoder.encode("././@LongLink"), name.length + 1, "L", 0), name, new Uint8Array(1));
      parts.push(filling(name.length + 1));
    }
    parts.push(head(name, file.size, "0", seconds), file, filling(file.size));
  }
  parts.push(new Uint8Array(2 * BLOCK));
  return new Blob(parts, { type: "application/x-tar" });
}
