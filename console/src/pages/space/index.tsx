import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useLocation } from "wouter";
import type { Me } from "../../lib/api";
import { kept, type Held, type Space, type Stored } from "../../lib/kept";
import { pageAt, pageOf } from "../../lib/place";
import { count, exactly, roomForFiles, size, when } from "../../lib/show";
import { Button, Frame, Loading, Notice } from "../../ui";
import { Growth } from "./growth";
import { LetGoByRules } from "./let-go";
import { Quotas } from "./quotas";
import { Treemap } from "./treemap";
import { key } from "../../lib/query-keys";

/** Where one's own space went. */
export default function SpacePage({ frame }: { frame: { me: Me; onSignOut: () => void } }) {
  return (
    <Frame {...frame} heading={<h1 className="font-bold">Space</h1>}>
      <div className="mx-auto max-w-[1180px] px-8 pb-10 max-sm:px-4">
        <SpaceView administrator={false} />
      </div>
    </Frame>
  );
}

/** Where the space went: for administrators everything, for others the shelves that they own. */
export function SpaceView({ administrator }: { administrator: boolean }) {
  const space = useQuery({ queryKey: key("space"), queryFn: kept.space });
  if (space.isPending) return <Loading />;
  if (space.isError) return <Notice error={space.error} retry={() => void space.refetch()} />;
  const { held, days, stored } = space.data;
  return (
    <>
      <section aria-label="Space" className="grid grid-cols-[220px_1fr] gap-8 pt-4 max-md:grid-cols-1">
        <div>
          <p className="text-3xl font-bold">{size(held.all)}</p>
          <p className="text-muted">
            {stored
              ? `${size(stored.free)} of ${size(stored.total)} on this disk are free${roomForFiles(stored)}`
              : "on the shelves that you own"}
          </p>
          <Figures held={held} />
        </div>
        <Growth days={days} />
      </section>
      <Map space={space.data} />
      <Shelves space={space.data} />
      {administrator && <Quotas />}
      {stored && administrator && <OnTheDisk stored={stored} />}
      <div className="mt-8 grid grid-cols-2 gap-10 max-md:grid-cols-1">
        <section aria-label="Largest files">
          <h2 className="text-lg font-bold">Largest files</h2>
          <ul className="mt-1">
            {space.data.largest.slice(0, 15).map((f) => (
              <li
                key={f.node}
                className="flex items-baseline gap-3 border-b border-line py-1.5 text-[14.5px]"
              >
                <Link
                  href={pageAt(f.path, false, f.node)}
                  className="min-w-0 flex-1 truncate py-0.5 hover:underline"
                  title={f.path}
                >
                  {f.path}
                </Link>
                <span className="text-muted max-sm:hidden" title={exactly(f.changed)}>
                  {when(f.changed)}
                </span>
                <span className="w-20 text-right font-mono text-[14px]">{size(f.size)}</span>
              </li>
            ))}
            {space.data.largest.length === 0 && <li className="py-2 text-muted">There are no files yet.</li>}
          </ul>
        </section>
        <section aria-label="Fastest growing">
          <h2 className="text-lg font-bold">Fastest growing in thirty days</h2>
          <ul className="mt-1">
            {space.data.growing.slice(0, 15).map((f) => (
              <li
                key={f.node}
                className="flex items-baseline gap-3 border-b border-line py-1.5 text-[14.5px]"
              >
                <Link
                  href={pageOf(f.path)}
                  className="min-w-0 flex-1 truncate py-0.5 hover:underline"
                  title={f.path}
                >
                  {f.path}
                </Link>
                <span className="w-24 text-right font-mono text-[14px]">+{size(f.bytes)}</span>
              </li>
            ))}
            {space.data.growing.length === 0 && <li className="py-2 text-muted">Nothing grew.</li>}
          </ul>
        </section>
      </div>
    </>
  );
}

/** What something holds, so that the parts add up to the whole. */
function Figures({ held }: { held: Held }) {
  const rows: [string, number, string][] = [
    ["files", held.live, count(held.files, "file")],
    ["earlier versions", held.versions, count(held.version_states, "version")],
    ["trash", held.trash, count(held.trash_files, "file")],
  ];
  return (
    <dl className="mt-3 grid grid-cols-[1fr_auto] gap-y-1 text-[14.5px]">
      {rows.map(([word, bytes, n]) => (
        <div key={word} className="contents">
          <dt title={n}>{word}</dt>
          <dd className="text-right font-mono" title={`${bytes.toLocaleString("en")} bytes, ${n}`}>
            {size(bytes)}
          </dd>
        </div>
      ))}
      <dt className="text-muted">of history, only snapshots keep</dt>
      <dd className="text-right font-mono text-muted">{size(held.only_snapshots)}</dd>
    </dl>
  );
}

/** The shelves; then, step by step, what is in them. */
function Map({ space }: { space: Space }) {
  const [way, setWay] = useState<{ node: number; name: string }[]>([]);
  const [, go] = useLocation();
  const here = way.at(-1);
  const inside = useQuery({
    queryKey: key("folder space", here?.node),
    queryFn: () => kept.folderSpace(here!.node),
    enabled: here !== undefined,
  });
  const pieces = here
    ? (inside.data?.children ?? []).map((c) => ({
        key: `${c.node}`,
        name: c.name,
        bytes: c.held.all,
        past: c.held.versions + c.held.trash,
        open: c.kind === "folder" ? () => setWay([...way, { node: c.node, name: c.name }]) : undefined,
      }))
    : space.shelves.map((s) => ({
        key: `${s.root}`,
        name: s.title,
        bytes: s.held.all,
        past: s.held.versions + s.held.trash,
        open: () => setWay([{ node: s.root, name: s.title }]),
      }));
  // What is in the trash of the folder itself lies in none of its children.
  const gone = here && inside.data ? inside.data.held.all - pieces.reduce((n, p) => n + p.bytes, 0) : 0;
  if (gone > 0) {
    pieces.push({ key: "gone", name: "removed from here", bytes: gone, past: gone, open: undefined });
  }
  const shelf = space.shelves.find((s) => s.root === way[0]?.node);
  return (
    <section aria-label="Map" className="mt-8">
      <div className="flex min-h-9 flex-wrap items-baseline gap-2 pb-2">
        <h2 className="text-lg font-bold">Where it is</h2>
        <nav aria-label="Way in the map" className="flex min-w-0 flex-1 flex-wrap items-baseline gap-1">
          {way.map((step, i) => (
            <span key={step.node}>
              <span className="px-1 text-muted">/</span>
              <button
                type="button"
                className="rounded hover:underline"
                onClick={() => setWay(way.slice(0, i + 1))}
              >
                {step.name}
              </button>
            </span>
          ))}
        </nav>
        <span className="text-[14px] text-muted">
          <i
            aria-hidden
            className="mr-1.5 inline-block size-3 rounded-sm border border-line bg-gold-wash align-middle"
          />
          history
        </span>
        {here && (
          <Button onClick={() => setWay(way.slice(0, -1))}>{way.length === 1 ? "All shelves" : "Up"}</Button>
        )}
        {here && shelf?.kind === "shared" && way.length > 0 && (
          <Button
            onClick={() =>
              go(
                pageOf(
                  `${shelf.title}:/${way
                    .slice(1)
                    .map((s) => s.name)
                    .join("/")}`,
                ),
              )
            }
          >
            Go there
          </Button>
        )}
      </div>
      {here && inside.isPending ? (
        <Loading rows={4} />
      ) : inside.isError ? (
        <Notice error={inside.error} />
      ) : pieces.length === 0 ? (
        <p className="py-8 text-center text-muted">Nothing is held here.</p>
      ) : (
        <Treemap pieces={pieces} label={here ? `What ${here.name} holds` : "What the shelves hold"} />
      )}
    </section>
  );
}

function Shelves({ space }: { space: Space }) {
  const cell = "py-2 pl-4 text-right font-mono text-[14px] whitespace-nowrap";
  const sum = (of: (h: Held) => number) => space.shelves.reduce((n, s) => n + of(s.held), 0);
  const columns: [string, (h: Held) => number, string][] = [
    ["Files", (h) => h.live, ""],
    ["Versions", (h) => h.versions, "max-sm:hidden"],
    ["Trash", (h) => h.trash, "max-sm:hidden"],
    ["In all", (h) => h.all, ""],
  ];
  return (
    <section aria-label="By shelf" className="mt-8">
      <h2 className="text-lg font-bold">By shelf</h2>
      <table className="mt-1 w-full">
        <thead>
          <tr className="border-b border-line text-[14px] text-muted">
            <th className="py-1.5 text-left font-semibold">Shelf</th>
            {columns.map(([word, , hidden]) => (
              <th key={word} className={`pl-4 text-right font-semibold ${hidden}`}>
                {word}
              </th>
            ))}
            <th className="pl-4 text-right font-semibold max-sm:hidden">Quota</th>
          </tr>
        </thead>
        <tbody>
          {space.shelves.map((s) => (
            <tr key={s.root} className="border-b border-line">
              <td className="py-2">{s.title}</td>
              {columns.map(([word, of, hidden]) => (
                <td
                  key={word}
                  className={`${cell} ${hidden}`}
                  title={`${of(s.held).toLocaleString("en")} bytes`}
                >
                  {size(of(s.held))}
                </td>
              ))}
              <td className={`${cell} max-sm:hidden`}>{s.quota === undefined ? "none" : size(s.quota)}</td>
            </tr>
          ))}
        </tbody>
        <tfoot>
          <tr className="font-bold">
            <td className="py-2">Together</td>
            {columns.map(([word, of, hidden]) => (
              <td key={word} className={`${cell} ${hidden}`} title={`${sum(of).toLocaleString("en")} bytes`}>
                {size(sum(of))}
              </td>
            ))}
            <td className="max-sm:hidden" />
          </tr>
        </tfoot>
      </table>
    </section>
  );
}

/** What the past costs on the disk. */
function OnTheDisk({ stored }: { stored: Stored }) {
  const perGiB = stored.logical > 0 ? (stored.catalogue / stored.logical) * 2 ** 30 : undefined;
  const rows: [string, number, string][] = [
    ["all past states, each counted by itself", stored.logical, ""],
    ["kept whole", -stored.whole, "small contents, once each"],
    [
      "kept as chunks",
      -stored.chunks,
      `${count(stored.packed, "content")} in ${count(stored.chunk_count, "chunk")}`,
    ],
    ["packs beyond these", -stored.overhead, "given back when a pack is tidied"],
    ["what sharing and packing save", stored.saved, ""],
  ];
  return (
    <section aria-label="On the disk" className="mt-8">
      <div className="flex flex-wrap items-baseline gap-3">
        <h2 className="flex-1 text-lg font-bold">What history costs on the disk</h2>
        <LetGoByRules />
      </div>
      <dl className="mt-1 text-[14.5px]">
        {rows.map(([word, bytes, more]) => (
          <div key={word} className="flex items-baseline gap-3 border-b border-line py-1.5">
            <dt className="flex-1">
              {word} {more && <span className="text-muted">({more})</span>}
            </dt>
            <dd className="font-mono text-[14px]" title={`${Math.abs(bytes).toLocaleString("en")} bytes`}>
              {bytes < 0 ? `− ${size(-bytes)}` : size(bytes)}
            </dd>
          </div>
        ))}
        <div className="flex items-baseline gap-3 border-b border-line py-1.5">
          <dt className="flex-1">
            the catalogue
            {perGiB !== undefined && (
              <span className="text-muted"> ({size(Math.round(perGiB))} for each GiB of history)</span>
            )}
          </dt>
          <dd className="font-mono text-[14px]">{size(stored.catalogue)}</dd>
        </div>
        <div className="flex items-baseline gap-3 border-b border-line py-1.5">
          <dt className="flex-1">on its way: unfinished uploads</dt>
          <dd className="font-mono text-[14px]">{size(stored.staging)}</dd>
        </div>
      </dl>
    </section>
  );
}
