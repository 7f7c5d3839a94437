import { useInfiniteQuery, useQuery, useQueryClient, keepPreviousData } from "@tanstack/react-query";
import { FolderPlus, History, Undo2, Upload } from "lucide-react";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useLocation, useSearch } from "wouter";
import { api, contentAddress, type Me, type Node, type Sorting } from "../../lib/api";
import { pageOf, placeOf, within } from "../../lib/place";
import { count, moment, size } from "../../lib/show";
import { Button, Empty, Frame, Loading, Notice, useToast } from "../../ui";
import { Drawer } from "./drawer";
import { ChooseFolder, NewFolder, Rename } from "./dialogs";
import { List } from "./list";
import { Look } from "./preview";
import { Strip } from "./strip";
import { dropped, UploadTray, useUploads } from "./uploads";

interface Props {
  frame: { me: Me; onSignOut: () => void };
}

type Asking = { kind: "new" } | { kind: "rename"; node: Node } | { kind: "move" | "copy"; nodes: Node[] };

/** A folder, now or then. */
export function FolderPage({ frame }: Props) {
  const [address, go] = useLocation();
  const search = new URLSearchParams(useSearch());
  const at = search.get("at") ?? undefined;
  const thing = search.get("thing");
  const place = placeOf(address);
  const queries = useQueryClient();
  const toast = useToast();

  const facts = useQuery({
    queryKey: ["place", place, at],
    queryFn: () => api.place(place, at),
    refetchInterval: at ? false : 10_000,
    placeholderData: keepPreviousData,
  });
  const folder = facts.data?.node.kind === "folder" ? facts.data.node : undefined;
  const [sorting, setSorting] = useState<Sorting>({ sort: "name", order: "up" });
  const entries = useInfiniteQuery({
    queryKey: [
      "entries",
      folder?.id,
      at,
      at ? "" : folder?.changed,
      at ? "" : sorting.sort,
      at ? "" : sorting.order,
    ],
    queryFn: ({ pageParam }) => api.entries(folder!.id, sorting, at, pageParam),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
    enabled: folder !== undefined,
    placeholderData: keepPreviousData,
  });
  const activity = useQuery({
    queryKey: ["activity", folder?.id, folder?.changed],
    queryFn: () => api.activity(folder!.id),
    // A folder that was removed since has no strip of its own.
    enabled: folder !== undefined,
    retry: false,
    placeholderData: keepPreviousData,
  });
  const rows = useMemo(() => entries.data?.pages.flatMap((p) => p.entries) ?? [], [entries.data]);

  const [selected, setSelected] = useState<ReadonlySet<number>>(new Set());
  const [cursor, setCursor] = useState(0);
  const [looking, setLooking] = useState<Node>();
  const [asking, setAsking] = useState<Asking>();
  useEffect(() => {
    setSelected(new Set());
    setCursor(0);
  }, [place, at]);

  // A thing from a shelf's board: go to its folder, and select it there.
  useEffect(() => {
    if (!thing) return;
    const id = Number(thing);
    void api
      .facts(id)
      .then((f) => {
        const parent = f.path.slice(0, f.path.lastIndexOf("/")) || f.path;
        go(pageOf(parent), { replace: true });
        setTimeout(() => setSelected(new Set([id])));
      })
      .catch((e: unknown) => {
        go(address, { replace: true });
        toast.refuse(e);
      });
  }, [thing, address, go, toast]);

  const changed = useCallback(async () => {
    await Promise.all([
      queries.invalidateQueries({ queryKey: ["place"] }),
      queries.invalidateQueries({ queryKey: ["entries"] }),
      queries.invalidateQueries({ queryKey: ["history"] }),
      queries.invalidateQueries({ queryKey: ["shelves"] }),
    ]);
  }, [queries]);

  const uploads = useUploads(changed);
  const picker = useRef<HTMLInputElement>(null);
  const chosen = rows.filter((r) => selected.has(r.id));
  const level = facts.data?.level ?? "view";
  const mayAdd = at === undefined && level !== "view";
  const mayEdit = at === undefined && (level === "edit" || level === "manage");

  const open = (node: Node) => {
    if (node.kind === "folder") go(pageOf(within(facts.data!.path, node.name), at));
    else setLooking(node);
  };
  const download = (node: Node) => {
    const a = document.createElement("a");
    a.href = contentAddress(node.id, at, true);
    a.download = node.name;
    a.click();
  };
  const remove = async (nodes: Node[]) => {
    const gone: Node[] = [];
    for (const node of nodes) {
      try {
        await api.remove(node.id);
        gone.push(node);
      } catch (e) {
        toast.refuse(e);
      }
    }
    setSelected(new Set());
    await changed();
    if (gone.length === 0) return;
    const what = gone.length === 1 ? `"${gone[0]!.name}"` : count(gone.length, "thing");
    toast.say(`Removed ${what}. The strip shows the folder as it was before.`, {
      word: "Undo",
      run: () => {
        void Promise.all(gone.map((n) => api.restore(n.id, {})))
          .then(() => toast.say(`Brought back ${what}.`))
          .catch((e: unknown) => toast.refuse(e))
          .then(changed);
      },
    });
  };
  const bringBack = async (nodes: Node[]) => {
    let done = 0;
    for (const node of nodes) {
      try {
        await api.restore(node.id, { at });
        done += 1;
      } catch (e) {
        toast.refuse(e);
      }
    }
    await changed();
    if (done > 0) {
      toast.say(`Brought back ${done === 1 ? `"${nodes[0]!.name}"` : count(done, "thing")} as it was.`, {
        word: "Back to now",
        run: () => go(pageOf(facts.data!.path)),
      });
    }
  };

  const heading = (
    <nav aria-label="Way" className="truncate text-lg">
      {facts.data?.way.map((step, i) => (
        <span key={step.id} className="text-muted">
          <Link
            href={pageOf(
              `${facts.data.shelf}:/${facts.data.way
                .slice(1, i + 1)
                .map((s) => s.name)
                .join("/")}`,
              at,
            )}
            className="inline-block hover:text-ink hover:underline"
          >
            {step.name}
          </Link>
          <span className="px-2">/</span>
        </span>
      ))}
      <h1 className="inline font-bold">{facts.data?.node.name ?? ""}</h1>
    </nav>
  );

  if (facts.isError) {
    return (
      <Frame {...frame} heading={heading}>
        <Notice error={facts.error} />
        <div className="flex gap-3 px-4">
          {at && <Button onClick={() => go(pageOf(place))}>Back to now</Button>}
          <Button onClick={() => go("/")}>To the shelves</Button>
        </div>
      </Frame>
    );
  }
  if (facts.data && !folder) {
    // The address of a file: its folder, with the file open.
    return (
      <Frame {...frame} heading={heading}>
        <Empty
          title={facts.data.node.name}
          action={
            <Button look="primary" onClick={() => setLooking(facts.data.node)}>
              Look at it
            </Button>
          }
        >
          This address is a file.
        </Empty>
        <Look node={looking} at={at} onClose={() => setLooking(undefined)} onDownload={download} />
      </Frame>
    );
  }

  const then = at ? thenOf(at, activity.data?.turns) : undefined;
  return (
    <Frame {...frame} heading={heading}>
      <div
        className="flex min-h-full flex-col"
        onDragOver={(e) => mayAdd && e.dataTransfer.types.includes("Files") && e.preventDefault()}
        onDrop={(e) => {
          if (!mayAdd || !folder) return;
          e.preventDefault();
          void dropped(e.dataTransfer).then((files) => uploads.add(folder.id, files));
        }}
      >
        <div className="px-6 max-sm:px-0">
          <Strip
            activity={activity.data}
            at={at}
            onMove={(to) =>
              go(pageOf(facts.data?.path ?? place, to), { replace: at !== undefined && to !== undefined })
            }
          />
        </div>
        {at && folder && (
          <div role="status" className="flex flex-wrap items-center gap-3 bg-gold-wash px-6 py-2">
            <History size={18} aria-hidden />
            <span className="min-w-0 flex-1">
              <strong>
                {folder.name} as it was on {then ? moment(then) : "that moment"}.
              </strong>{" "}
              Nothing can be changed in the past.
            </span>
            <Button onClick={() => go(pageOf(facts.data!.path))}>Back to now</Button>
          </div>
        )}
        <div className="flex min-h-0 flex-1">
          <section aria-label="Entries" className="flex min-w-0 flex-1 flex-col px-6 pb-6 max-sm:px-3">
            <div className="flex min-h-14 flex-wrap items-center gap-2 py-3">
              {mayAdd && folder && (
                <>
                  <Button look="primary" icon={<Upload size={18} />} onClick={() => picker.current?.click()}>
                    Upload
                  </Button>
                  <input
                    ref={picker}
                    type="file"
                    multiple
                    hidden
                    data-testid="picker"
                    onChange={(e) => {
                      const files = [...(e.target.files ?? [])].map((file) => ({ file, way: [] }));
                      uploads.add(folder.id, files);
                      e.target.value = "";
                    }}
                  />
                  <Button icon={<FolderPlus size={18} />} onClick={() => setAsking({ kind: "new" })}>
                    New folder
                  </Button>
                </>
              )}
              {at && chosen.length > 0 && level !== "view" && (
                <Button icon={<Undo2 size={18} />} onClick={() => void bringBack(chosen)}>
                  Bring back {chosen.length === 1 ? `"${chosen[0]!.name}"` : "the selection"}
                </Button>
              )}
              {!at && level === "view" && <span className="text-muted">You may look, and download.</span>}
              <span className="flex-1" />
              {folder?.sums && (
                <span className="text-[14px] text-muted">
                  {count(folder.sums.files, "file")}, {size(folder.sums.bytes)}. History costs{" "}
                  {size(folder.sums.history_bytes)}.
                </span>
              )}
            </div>
            {(facts.isPending || entries.isPending) && <Loading />}
            {entries.isError && <Notice error={entries.error} retry={() => void entries.refetch()} />}
            {entries.data && rows.length === 0 && (
              <Empty
                title={at ? "The folder was empty then" : "Nothing is in this folder"}
                action={
                  mayAdd ? (
                    <Button
                      look="primary"
                      icon={<Upload size={18} />}
                      onClick={() => picker.current?.click()}
                    >
                      Upload files
                    </Button>
                  ) : undefined
                }
              >
                {at
                  ? "Move the handle of the strip to look at another moment."
                  : mayAdd
                    ? "Drop files here, or choose them. What you change later keeps every earlier state."
                    : "Whoever may add files has not put any here."}
              </Empty>
            )}
            {rows.length > 0 && (
              <List
                rows={rows}
                past={at !== undefined}
                selected={selected}
                cursor={cursor}
                sorting={sorting}
                more={entries.hasNextPage}
                onMore={() => void (!entries.isFetchingNextPage && entries.fetchNextPage())}
                onSort={setSorting}
                onSelect={(ids, row) => {
                  setSelected(ids);
                  setCursor(row);
                }}
                onOpen={open}
                onKey={(key) => {
                  if (key === "remove" && mayEdit && chosen.length > 0) void remove(chosen);
                  if (key === "rename" && mayEdit && chosen.length === 1) {
                    setAsking({ kind: "rename", node: chosen[0]! });
                  }
                }}
              />
            )}
          </section>
          {chosen.length > 0 && (
            <Drawer
              nodes={chosen}
              at={at}
              mayEdit={mayEdit}
              mayRestore={level === "edit" || level === "manage"}
              onClose={() => setSelected(new Set())}
              onLook={setLooking}
              onDownload={download}
              onRename={(node) => setAsking({ kind: "rename", node })}
              onMove={(nodes) => setAsking({ kind: "move", nodes })}
              onCopy={(nodes) => setAsking({ kind: "copy", nodes })}
              onRemove={(nodes) => void remove(nodes)}
              onBringBack={(nodes) => void bringBack(nodes)}
              onChanged={changed}
            />
          )}
        </div>
      </div>
      <Look node={looking} at={at} onClose={() => setLooking(undefined)} onDownload={download} />
      {folder && asking?.kind === "new" && (
        <NewFolder parent={folder.id} onClose={() => setAsking(undefined)} onDone={changed} />
      )}
      {asking?.kind === "rename" && (
        <Rename node={asking.node} onClose={() => setAsking(undefined)} onDone={changed} />
      )}
      {(asking?.kind === "move" || asking?.kind === "copy") && facts.data && (
        <ChooseFolder
          act={asking.kind}
          nodes={asking.nodes}
          start={facts.data}
          onClose={() => setAsking(undefined)}
          onDone={async () => {
            setSelected(new Set());
            await changed();
          }}
        />
      )}
      <UploadTray uploads={uploads} />
    </Frame>
  );
}

function thenOf(at: string, turns: { moment: string; at: string }[] | undefined): Date | undefined {
  const turn = turns?.find((t) => t.moment === at);
  const time = new Date(turn?.at ?? at);
  return Number.isNaN(time.getTime()) ? undefined : time;
}
