/** Addresses of pages: `/shelf/Collections/Logbooks?at=m1f`. */

/** A shelf's page or a folder's, as it is or was. `path`: as the API writes it, `shelf:/a/b`. */
export function pageOf(path: string, at?: string): string {
  const colon = path.indexOf(":");
  const names = path
    .slice(colon + 1)
    .split("/")
    .filter(Boolean);
  const address = ["", "shelf", path.slice(0, colon), ...names].map(encodeURIComponent).join("/");
  return at === undefined ? address : `${address}?at=${encodeURIComponent(at)}`;
}

/** The place that a page's address names. */
export function placeOf(address: string): string {
  const [shelf = "", ...names] = address
    .replace(/^\/shelf\//, "")
    .split("/")
    .filter(Boolean)
    .map(decodeURIComponent);
  return `${shelf}:/${names.join("/")}`;
}

/** A place within another. */
export function within(path: string, name: string): string {
  return `${path.replace(/\/$/, "")}/${name}`;
}

/** The page on which something stands: a folder's own, or that of the folder a file is in. */
export function pageAt(path: string, folder: boolean, node: number): string {
  return folder ? pageOf(path) : `${pageOf(path.slice(0, path.lastIndexOf("/") + 1))}?thing=${node}`;
}
