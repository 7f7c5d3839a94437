/** The BLAKE3 hash of a file, in pieces, so that a large one neither fills memory nor stops the page. */

/** Bytes hashed before the page may draw again. */
const piece = 4 * 1024 * 1024;

/** Hexadecimal digits; the library comes with the first file that needs it. */
export async function hashOf(file: Blob, signal?: AbortSignal): Promise<string> {
  const { blake3 } = await import("@noble/hashes/blake3.js");
  const hasher = blake3.create();
  for (let at = 0; at < file.size; at += piece) {
    signal?.throwIfAborted();
    hasher.update(new Uint8Array(await file.slice(at, at + piece).arrayBuffer()));
  }
  return Array.from(hasher.digest(), (b) => b.toString(16).padStart(2, "0")).join("");
}
