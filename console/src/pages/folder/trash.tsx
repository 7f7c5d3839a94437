import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { History, Trash2, Undo2 } from "lucide-react";
import { useState } from "react";
import { useLocation } from "wouter";
import { api, Refusal } from "../../lib/api";
import { kept, type LetGo, type Removed } from "../../lib/kept";
import { pageOf } from "../../lib/place";
import { count, exactly, plain, size, when } from "../../lib/show";
import { Button, Empty, FileIcon, IconButton, Loading, Notice, useToast } from "../../ui";
import { BringBackAs } from "./dialogs";
import { LettingGo } from "./letting-go";
import { key } from "../../lib/query-keys";

/** All that was removed from a folder and from beneath it, newest first. */
export function TrashView({
  folder,
  mayRestore,
  mayLetGo,
  onClose,
}: {
  folder: { id: number; name: string };
  mayRestore: boolean;
  mayLetGo: boolean;
  onClose: () => void;
}) {
  const queries = useQueryClient();
  const toast = useToast();
  const [, go] = useLocation();
  const trash = useInfiniteQuery({
    queryKey: key("trash", folder.id),
    queryFn: ({ pageParam }) => kept.trash(folder.id, pageParam),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
  });
  const items = trash.data?.pages.flatMap((p) => p.items) ?? [];
  const sums = trash.data?.pages[0];
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const [finding, setFinding] = useState("");
  const [going, setGoing] = useState<{ what: LetGo; title: string }>();
  const [naming, setNaming] = useState<Removed>();
  const wanted = finding.trim().toLowerCase();
  const shown = wanted === "" ? items : items.filter((r) => r.path.toLowerCase().includes(wanted));
  const these = items.filter((r) => chosen.has(r.node.id));

  const bringBack = async (list: Removed[]) => {
    let done = 0;
    for (const r of list) {
      try {
        // Where its folders are gone as well, they come back with it.
        await api.restore(r.node.id, { with_folders: !r.place });
        done += 1;
      } catch (e) {
        if (list.length === 1 && e instanceof Refusal && e.code === "name_taken") setNaming(r);
        else toast.refuse(e);
      }
    }
    setChosen(new Set());
    await queries.invalidateQueries();
    if (done > 0) {
      const what = done === 1 ? `"${list[0]!.node.name}"` : count(done, "thing");
      toast.say(`Brought back ${what} to where ${done === 1 ? "it was" : "they were"}.`);
    }
  };
  const toggle = (id: number) => {
    const next = new Set(chosen);
    if (!next.delete(id)) next.add(id);
    setChosen(next);
  };
  const folderThen = (r: Removed) => {
    const end = r.path.lastIndexOf("/");
    return pageOf(r.path.slice(0, end + 1), r.last_there);
  };

  return (
    <section aria-label="Trash" className="flex min-w-0 flex-1 flex-col px-6 pb-6 max-sm:px-3">
      <div className="flex min-h-14 flex-wrap items-center gap-2 py-3">
        {these.length > 0 ? (
          <>
            {mayRestore && (
              <Button look="primary" icon={<Undo2 size={18} />} onClick={() => void bringBack(these)}>
                Bring back {these.length === 1 ? `"${these[0]!.node.name}"` : count(these.length, "thing")}
              </Button>
            )}
            {mayLetGo && (
              <Button
                icon={<Trash2 size={18} />}
                onClick={() =>
                  setGoing({
                    what: { nodes: these.map((r) => r.node.id) },
                    title: `Remove ${these.length === 1 ? `"${these[0]!.node.name}"` : count(these.length, "thing")} for good`,
                  })
                }
              >
                Remove for good
              </Button>
            )}
          </>
        ) : (
          <Button onClick={onClose}>Back to the folder</Button>
        )}
        <span className="flex-1" />
        {items.length > 0 && (
          <input
            type="search"
            aria-label="Find in the trash"
            placeholder="Find in the trash"
            value={finding}
            onChange={(e) => setFinding(e.target.value)}
            className="min-h-9 w-44 rounded-lg border border-line bg-sheet px-3"
          />
        )}
        {sums && (
          <span className="text-[14px] text-muted">
            {count(sums.files, "file")}, {size(sums.bytes)} in the trash
          </span>
        )}
        {mayLetGo && items.length > 0 && these.length === 0 && (
          <Button
            look="quiet"
            onClick={() =>
              setGoing({ what: { folder: folder.id }, title: `Empty the trash of ${folder.name}` })
            }
          >
            Empty the trash
          </Button>
        )}
      </div>
      {trash.isPending && <Loading />}
      {trash.isError && <Notice error={trash.error} retry={() => void trash.refetch()} />}
      {trash.data && items.length === 0 && (
        <Empty
          title="Nothing was removed here"
          action={<Button onClick={onClose}>Back to the folder</Button>}
        >
          What is removed from {folder.name}, and from the folders in it, can be brought back from here.
        </Empty>
      )}
      {wanted !== "" && shown.length === 0 && items.length > 0 && (
        <p className="py-4 text-muted">
          Nothing with such a name was removed{trash.hasNextPage && " lately"}.
        </p>
      )}
      <ul aria-label="What was removed">
        {shown.map((r) => (
          <li
            key={`${r.node.id} ${r.removed}`}
            data-name={r.node.name}
            className={`flex items-center gap-3 border-b border-line px-2 py-1.5 ${chosen.has(r.node.id) ? "bg-gold-wash" : ""}`}
          >
            <input
              type="checkbox"
              className="size-4 shrink-0 accent-gold"
              aria-label={`Choose ${r.node.name}`}
              checked={chosen.has(r.node.id)}
              onChange={() => toggle(r.node.id)}
            />
            <FileIcon name={r.node.name} kind={r.node.kind} />
            <span className="min-w-0 flex-1">
              <span className="block truncate">{plain(r.node.name)}</span>
              <span className="block truncate text-[14px] text-muted" title={r.path}>
                {r.path.slice(0, r.path.lastIndexOf("/") + 1)}
                {!r.place && ", which is gone as well"}
              </span>
            </span>
            <span className="w-64 text-[14px] max-md:hidden">
              <span className="block truncate" title={exactly(r.removed)}>
                removed {when(r.removed)}
                {r.removed_by && ` by ${r.removed_by}`}
              </span>
              <span className="block text-muted" title={r.goes && exactly(r.goes)}>
                {r.hold
                  ? "stays: nothing of this shelf goes"
                  : r.goes
                    ? `goes for good ${when(r.goes)}`
                    : "stays until somebody lets it go"}
              </span>
            </span>
            <span className="w-24 text-right font-mono text-[14px] max-sm:hidden">
              {size(r.node.size)}
              {r.node.kind === "folder" && (
                <span className="block font-sans text-muted">{count(r.files, "file")}</span>
              )}
            </span>
            <IconButton
              label={`See where ${r.node.name} was`}
              onClick={() => go(folderThen(r))}
              className="max-sm:hidden"
            >
              <History size={18} />
            </IconButton>
            {mayRestore && (
              <IconButton label={`Bring back ${r.node.name}`} onClick={() => void bringBack([r])}>
                <Undo2 size={18} />
              </IconButton>
            )}
          </li>
        ))}
      </ul>
      {trash.hasNextPage && (
        <div className="py-4">
          <Button disabled={trash.isFetchingNextPage} onClick={() => void trash.fetchNextPage()}>
            Show more
          </Button>
        </div>
      )}
      {naming && (
        <BringBackAs
          node={naming.node}
          withFolders={!naming.place}
          onClose={() => setNaming(undefined)}
          onDone={() => queries.invalidateQueries()}
        />
      )}
      {going && (
        <LettingGo
          {...going}
          onClose={(done) => {
            if (done) setChosen(new Set());
            setGoing(undefined);
          }}
        />
      )}
    </section>
  );
}
