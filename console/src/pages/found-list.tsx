import { Link } from "wouter";
import type { Found } from "../lib/api";
import { pageOf } from "../lib/place";
import { exactly, plain, size, when } from "../lib/show";
import { Face, FileIcon } from "../ui";

/** Files and folders from many places, each with its place; as they are, or were. */
export function FoundList({ found, at }: { found: Found["found"]; at?: string }) {
  return (
    <ul>
      {found.map(({ node, path }) => (
        <li key={node.id}>
          <Link
            href={
              node.kind === "folder"
                ? pageOf(path, at)
                : at
                  ? pageOf(folderOf(path), at)
                  : `${pageOf(folderOf(path))}?thing=${node.id}`
            }
            className="flex min-h-12 items-center gap-3 border-b border-line px-2 py-1 hover:bg-sheet"
          >
            <span className="flex size-[30px] shrink-0 items-center justify-center overflow-hidden rounded text-muted">
              {at ? (
                <FileIcon name={node.name} kind={node.kind} />
              ) : (
                <Face node={node} className="size-full" />
              )}
            </span>
            <span className="min-w-0 flex-1">
              <span className="block truncate">{plain(node.name)}</span>
              <span className="block truncate text-[14px] text-muted">{folderOf(path)}</span>
            </span>
            <span className="shrink-0 text-right text-[14px] text-muted">
              <span className="block" title={exactly(node.changed)}>
                {when(node.changed)}
              </span>
              {node.kind === "file" && <span className="block font-mono">{size(node.size)}</span>}
            </span>
          </Link>
        </li>
      ))}
    </ul>
  );
}

/** The folder of a place. */
export function folderOf(path: string): string {
  const above = path.slice(0, path.lastIndexOf("/"));
  return above.endsWith(":") ? `${above}/` : above;
}
