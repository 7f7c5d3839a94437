import { useInfiniteQuery, useQuery, useQueryClient, keepPreviousData } from "@tanstack/react-query";
import {
  Camera,
  FileArchive,
  FileUp,
  FolderPlus,
  FolderUp,
  LayoutGrid,
  Link2,
  Rows3,
  Search,
  Trash2,
  Undo2,
  Upload,
  Users,
  X,
} from "lucide-react";
import { lazy, Suspense, useCallback, useDeferredValue, useEffect, useMemo, useRef, useState } from "react";
import { Link, useLocation, useSearch } from "wouter";
import { api, type Me, type Node, type Sorting } from "../../lib/api";
import { pageOf, placeOf, within } from "../../lib/place";
import { dragging, useSpringOpen } from "../../lib/dragging";
import { count, plain, size, when } from "../../lib/show";
import { kept } from "../../lib/kept";
import { uploads } from "../../lib/uploads";
import { Button, Chip, Empty, Frame, IconButton, Loading, Menu, MenuItem, Notice } from "../../ui";
import { FoundList } from "../found-list";
import { Drawer } from "./drawer";
import { actsOf, type Doing } from "./acts";
import { Dialogs, type Asking } from "./asking";
import { useThing } from "./thing";
import { useDeeds } from "./deeds";
import { PastNotice } from "./past-notice";
import { List } from "./list";
import { Look } from "./preview";
import { Strip, type StripMark } from "./strip";
import { Tiles, useTiles } from "./tiles";
import { key } from "../../lib/query-keys";

const RollbackPanel = lazy(() => import("./rollback").then((m) => ({ default: m.RollbackPanel })));
const TrashView = lazy(() => import("./trash").then((m) => ({ default: m.TrashView })));

interface Props {
  frame: { me: Me; onSignOut: () => void };
}

/** A folder, now or then. */
export function FolderPage({ frame }: Props) {
  const [address, go] = useLocation();
  const search = new URLSearchParams(useSearch());
  const at = search.get("at") ?? undefined;
  const trash = search.has("trash") && at === undefined;
  const place = placeOf(address);
  const queries = useQueryClient();

  const facts = useQuery({
    queryKey: key("place", place, at),
    queryFn: () => api.place(place, at),
    placeholderData: keepPreviousData,
  });
  const folder = facts.data?.node.kind === "folder" ? facts.data.node : undefined;
  const [sorting, setSorting] = useState<Sorting>({ sort: "name", order: "up" });
  const entries = useInfiniteQuery({
    queryKey: key("entries", folder?.id, at, at ? "" : sorting.sort, at ? "" : sorting.order),
    queryFn: ({ pageParam }) => api.entries(folder!.id, sorting, at, pageParam),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
    enabled: folder !== undefined,
    placeholderData: keepPreviousData,
  });
  const activity = useQuery({
    queryKey: key("activity", folder?.id),
    queryFn: () => api.activity(folder!.id),
    // A folder that was removed since has no strip of its own.
    enabled: folder !== undefined,
    retry: false,
    placeholderData: keepPreviousData,
  });
  // What stands on the strip beside the changes: the shelf's snapshots, and alarms for whoever manages it.
  const top = facts.data?.shelf === "given" ? undefined : (facts.data?.way[0] ?? facts.data?.node);
  const snapshots = useQuery({
    queryKey: key("snapshots", top?.id),
    queryFn: () => kept.snapshots(top!.id),
    enabled: top !== undefined,
    retry: false,
  });
  const manages = facts.data?.level === "manage" || frame.me.role === "administrator";
  const alarms = useQuery({
    queryKey: key("alarms"),
    queryFn: kept.alarms,
    enabled: manages && !frame.me.seen_by,
  });
  const its = alarms.data?.alarms.filter((a) => a.root === top?.id) ?? [];
  const marks: StripMark[] = [
    ...(snapshots.data?.snapshots ?? []).map((s) => ({
      moment: s.moment,
      at: s.at,
      label: `${s.label}, ${when(s.at)}`,
    })),
    ...its.map((a) => ({ moment: a.before, at: a.before_at, label: "the last moment before" })),
  ];
  const alarm = its.find((a) => a.before === at);
  // A long folder comes as a whole, page after page: the scroll bar then tells the truth.
  const { hasNextPage, isFetching, fetchNextPage } = entries;
  useEffect(() => {
    if (hasNextPage && !isFetching) void fetchNextPage();
  }, [hasNextPage, isFetching, fetchNextPage]);
  const rows = useMemo(() => entries.data?.pages.flatMap((p) => p.entries) ?? [], [entries.data]);

  const [selected, setSelected] = useState<ReadonlySet<number>>(new Set());
  const [cursor, setCursor] = useState(0);
  const [looking, setLooking] = useState<Node>();
  const [asking, setAsking] = useState<Asking>();
  // Beside the folder as it was there is room for what a rollback would do; on a phone it is asked for.
  const [rolling, setRolling] = useState(() => window.matchMedia("(min-width: 768px)").matches);
  useEffect(() => {
    setSelected(new Set());
    setCursor(0);
  }, [place, at]);

  useThing(address, search, go, (node, wish) => {
    setSelected(new Set([node.id]));
    if (wish) setAsking({ kind: wish.give === "access" ? "rights" : "outside", node, wish });
  });

  const changed = useCallback(async () => {
    await Promise.all([
      queries.invalidateQueries({ queryKey: key("place") }),
      queries.invalidateQueries({ queryKey: key("entries") }),
      queries.invalidateQueries({ queryKey: key("history") }),
      queries.invalidateQueries({ queryKey: key("shelves") }),
    ]);
  }, [queries]);

  const [finding, setFinding] = useState("");
  const wanted = useDeferredValue(finding.trim());
  const found = useQuery({
    queryKey: key("found", wanted, folder?.id, at),
    queryFn: () => api.find(wanted, folder!.id, at),
    enabled: wanted !== "" && folder !== undefined,
    placeholderData: keepPreviousData,
  });
  useEffect(() => setFinding(""), [place]);
  const [tiles, setTiles] = useTiles(folder?.id);
  const spring = useSpringOpen();
  const picker = useRef<HTMLInputElement>(null);
  const folders = useRef<HTMLInputElement>(null);
  const chosen = rows.filter((r) => selected.has(r.id));
  // Whoever looks as somebody changes nothing.
  const level = frame.me.seen_by ? "view" : (facts.data?.level ?? "view");
  const mayAdd = at === undefined && level !== "view";
  const mayEdit = at === undefined && (level === "edit" || level === "manage");

  const open = (node: Node) => {
    if (node.kind === "folder") go(pageOf(within(facts.data!.path, node.name), at));
    else setLooking(node);
  };
  const { download, downloadAll, take, remove, bringBack } = useDeeds(
    at,
    () => setSelected(new Set()),
    changed,
    () => go(pageOf(facts.data!.path)),
  );

  const manage = at === undefined && level === "manage";
  const doing: Doing = {
    open,
    look: setLooking,
    download: (nodes) => void downloadAll(nodes),
    ...(mayEdit && {
      edit: (node: Node) => setAsking({ kind: "edit", node }),
      rename: (node: Node) => setAsking({ kind: "rename", node }),
      move: (nodes: Node[]) => setAsking({ kind: "move", nodes }),
      copy: (nodes: Node[]) => setAsking({ kind: "copy", nodes }),
      remove: (nodes: Node[]) => void remove(nodes),
    }),
    ...(at !== undefined && level !== "view" && { bringBack: (nodes: Node[]) => void bringBack(nodes) }),
    ...(at === undefined && { rights: (node: Node) => setAsking({ kind: "rights", node }) }),
    ...(manage && {
      link: (node: Node) => setAsking({ kind: "link", node }),
      outside: (node: Node) => setAsking({ kind: "outside", node }),
    }),
  };

  const onKey = (pressed: "remove" | "rename" | "up") => {
    const above = facts.data?.way.at(-1);
    if (pressed === "up" && above) go(pageOf(place.replace(/\/[^/]*$/, "").replace(/:$/, ":/"), at));
    if (pressed === "remove" && mayEdit && chosen.length > 0) void remove(chosen);
    if (pressed === "rename" && mayEdit && chosen.length === 1) {
      setAsking({ kind: "rename", node: chosen[0]! });
    }
  };

  const heading = (
    <nav aria-label="Way" className="truncate text-lg">
      {facts.data?.way.map((step, i) => (
        <span key={step.id} className="text-muted">
          <Link
            href={pageOf(
              `${facts.data.shelf}:/${facts.data.way
                .slice(facts.data.shelf === "given" ? 0 : 1, i + 1)
                .map((s) => s.name)
                .join("/")}`,
              at,
            )}
            className="inline-block rounded hover:text-ink hover:underline data-[over]:bg-gold-wash"
            {...(mayEdit
              ? spring(
                  `${step.id}`,
                  () => {
                    const names = facts.data.way
                      .slice(facts.data.shelf === "given" ? 0 : 1, i + 1)
                      .map((s) => s.name);
                    go(pageOf(`${facts.data.shelf}:/${names.join("/")}`));
                  },
                  (e) => void take(step, e),
                )
              : {})}
          >
            {plain(step.name)}
          </Link>
          <span className="px-2">/</span>
        </span>
      ))}
      <h1 className="inline font-bold">{facts.data?.node.name ?? ""}</h1>
      {facts.data?.shelf === "given" && (
        <span className="ml-3 align-middle">
          <Chip>given to you</Chip>
        </span>
      )}
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
          title={plain(facts.data.node.name)}
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

  const then = at ? thenOf(at, [...(activity.data?.turns ?? []), ...marks]) : undefined;
  const snapshot = snapshots.data?.snapshots.find((s) => s.moment === at);
  const mayRestore = !frame.me.seen_by && (level === "edit" || level === "manage");
  return (
    <Frame {...frame} heading={heading}>
      <div
        className="flex min-h-full flex-col"
        onDragOver={(e) => {
          const elsewhere = dragging.has() && !rows.some((r) => dragging.includes(r.id));
          if (mayAdd && (e.dataTransfer.types.includes("Files") || elsewhere)) e.preventDefault();
        }}
        onDrop={(e) => {
          if (!mayAdd || !folder) return;
          e.preventDefault();
          void take(folder, e);
        }}
      >
        <div className="px-6 max-sm:px-0">
          <Strip
            activity={activity.data}
            marks={marks}
            alarms={its.map((a) => a.from)}
            at={at}
            onMove={(to) =>
              go(pageOf(facts.data?.path ?? place, to), { replace: at !== undefined && to !== undefined })
            }
          />
        </div>
        {at && folder && (
          <PastNotice
            name={folder.name}
            then={then}
            snapshot={snapshot?.label}
            alarm={alarm}
            mayRestore={mayRestore}
            onRollBack={rolling ? undefined : () => setRolling(true)}
            onNow={() => go(pageOf(facts.data!.path))}
          />
        )}
        {trash && folder && (
          <Suspense fallback={<Loading />}>
            <TrashView
              folder={folder}
              mayRestore={mayRestore}
              mayLetGo={!frame.me.seen_by && level === "manage"}
              onClose={() => go(pageOf(facts.data!.path))}
            />
          </Suspense>
        )}
        <div className={`min-h-0 flex-1 ${trash ? "hidden" : "flex"}`}>
          <section aria-label="Entries" className="flex min-w-0 flex-1 flex-col px-6 pb-6 max-sm:px-3">
            {/* One line, whatever is selected: nothing moves under the pointer. */}
            <div className="flex h-15 flex-none items-center gap-2 overflow-x-auto py-3 [scrollbar-width:none] [&>*]:shrink-0">
              {mayAdd && folder && (
                <>
                  <Menu
                    label="What to upload"
                    trigger={
                      <Button look="primary" icon={<Upload size={18} />}>
                        Upload
                      </Button>
                    }
                  >
                    <MenuItem icon={<FileUp size={18} />} onSelect={() => picker.current?.click()}>
                      Files
                    </MenuItem>
                    <MenuItem icon={<FolderUp size={18} />} onSelect={() => folders.current?.click()}>
                      A whole folder
                    </MenuItem>
                  </Menu>
                  <input
                    ref={folders}
                    type="file"
                    hidden
                    data-testid="folder-picker"
                    {...{ webkitdirectory: "" }}
                    onChange={(e) => {
                      const files = [...(e.target.files ?? [])].map((file) => ({
                        file,
                        way: file.webkitRelativePath.split("/").slice(0, -1),
                      }));
                      uploads.add(folder.id, files);
                      e.target.value = "";
                    }}
                  />
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
              {!at && folder && level === "manage" && chosen.length === 0 && (
                <>
                  <Button
                    icon={<Users size={18} />}
                    onClick={() => setAsking({ kind: "rights", node: folder })}
                  >
                    Access
                  </Button>
                  <Button
                    icon={<Link2 size={18} />}
                    onClick={() => setAsking({ kind: "outside", node: folder })}
                  >
                    Links
                  </Button>
                </>
              )}
              {at && chosen.length > 0 && level !== "view" && (
                <Button icon={<Undo2 size={18} />} onClick={() => void bringBack(chosen)}>
                  Bring back {chosen.length === 1 ? `"${chosen[0]!.name}"` : "the selection"}
                </Button>
              )}
              {at && folder && chosen.length === 0 && rows.length > 0 && (
                <Button icon={<FileArchive size={18} />} onClick={() => void downloadAll([folder])}>
                  Download as it was
                </Button>
              )}
              {!at && level === "view" && <span className="text-muted">You may look, and download.</span>}
              {chosen.length > 0 && (
                <Button icon={<FileArchive size={18} />} onClick={() => void downloadAll(chosen)}>
                  {chosen.length === 1 && chosen[0]!.kind === "file"
                    ? "Download"
                    : `Download ${chosen.length === 1 ? "as ZIP" : `${chosen.length.toLocaleString("en")} as ZIP`}`}
                </Button>
              )}
              <span className="flex-1 shrink!" />
              {folder && (
                <span className="relative flex items-center">
                  <Search size={16} aria-hidden className="absolute left-2.5 text-muted" />
                  <input
                    type="search"
                    aria-label="Find in this folder"
                    placeholder="Find in here"
                    value={finding}
                    onChange={(e) => setFinding(e.target.value)}
                    onKeyDown={(e) => e.key === "Escape" && setFinding("")}
                    className="min-h-9 w-44 rounded-lg border border-line bg-sheet pr-8 pl-8 [&::-webkit-search-cancel-button]:hidden"
                  />
                  {finding && (
                    <IconButton
                      label="Show the folder again"
                      className="absolute right-0"
                      onClick={() => setFinding("")}
                    >
                      <X size={16} />
                    </IconButton>
                  )}
                </span>
              )}
              {folder && rows.length > 0 && (
                <IconButton
                  label={tiles ? "Show as a list" : "Show as tiles"}
                  aria-pressed={tiles}
                  onClick={() => setTiles(!tiles)}
                >
                  {tiles ? <Rows3 size={19} /> : <LayoutGrid size={19} />}
                </IconButton>
              )}
              {!at && folder && top && (
                <IconButton label="Snapshots" onClick={() => setAsking({ kind: "snapshots" })}>
                  <Camera size={19} />
                </IconButton>
              )}
              {!at && folder && facts.data?.shelf !== "given" && (
                <IconButton label="Show removed" onClick={() => go(`${pageOf(facts.data!.path)}?trash`)}>
                  <Trash2 size={18} />
                </IconButton>
              )}
              {folder?.sums && (
                <span
                  className={`min-w-0 shrink! truncate text-[14px] text-muted ${chosen.length > 0 ? "max-2xl:hidden" : ""}`}
                >
                  {count(folder.sums.files, "file")}, {size(folder.sums.bytes)}. History costs{" "}
                  {size(folder.sums.history_bytes)}.
                </span>
              )}
            </div>
            {(facts.isPending || entries.isPending) && <Loading />}
            {entries.isError && <Notice error={entries.error} retry={() => void entries.refetch()} />}
            {wanted !== "" && found.data && (
              <>
                <p role="status" className="pb-2 text-[14px] text-muted">
                  {found.data.found.length === 0
                    ? `Nothing in here ${at ? "had" : "has"} "${wanted}" in its name.`
                    : `${count(found.data.found.length, "thing")}${found.data.more ? " and more" : ""} in here and below`}
                </p>
                <FoundList found={found.data.found} at={at} />
              </>
            )}
            {wanted !== "" && found.isError && <Notice error={found.error} />}
            {wanted === "" && entries.data && rows.length === 0 && (
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
            {wanted === "" && rows.length > 0 && tiles && (
              <Tiles
                rows={rows}
                past={at !== undefined}
                selected={selected}
                cursor={cursor}
                onSelect={(ids, row) => {
                  setSelected(ids);
                  setCursor(row);
                }}
                onOpen={open}
                acts={(nodes) => actsOf(nodes, doing)}
                onKey={onKey}
              />
            )}
            {wanted === "" && rows.length > 0 && !tiles && (
              <List
                rows={rows}
                past={at !== undefined}
                selected={selected}
                cursor={cursor}
                sorting={sorting}
                more={entries.hasNextPage}
                onSort={setSorting}
                onSelect={(ids, row) => {
                  setSelected(ids);
                  setCursor(row);
                }}
                onOpen={open}
                acts={(nodes) => actsOf(nodes, doing)}
                onDrag={mayEdit ? dragging.begin : undefined}
                onDrop={mayAdd ? (to, e) => void take(to, e) : undefined}
                onKey={onKey}
              />
            )}
          </section>
          {chosen.length > 0 && (
            <Drawer
              nodes={chosen}
              at={at}
              mayEdit={mayEdit}
              mayRestore={mayRestore}
              mayLetGo={!frame.me.seen_by && level === "manage"}
              onClose={() => setSelected(new Set())}
              acts={actsOf(chosen, doing)}
              onBringBack={(nodes) => void bringBack(nodes)}
              onRights={(node) => setAsking({ kind: "rights", node })}
              onOutside={level === "manage" ? (node) => setAsking({ kind: "outside", node }) : undefined}
              onChanged={changed}
            />
          )}
          {at && folder && chosen.length === 0 && mayRestore && rolling && (
            <Suspense>
              <RollbackPanel
                folder={folder}
                at={at}
                onClose={() => setRolling(false)}
                onNow={() => go(pageOf(facts.data!.path))}
              />
            </Suspense>
          )}
        </div>
      </div>
      <Look
        node={looking}
        beside={rows}
        at={at}
        onGo={setLooking}
        onClose={() => setLooking(undefined)}
        onDownload={download}
        onEdit={
          mayEdit
            ? (node) => {
                setLooking(undefined);
                setAsking({ kind: "edit", node });
              }
            : undefined
        }
      />
      <Dialogs
        asking={asking}
        place={facts.data}
        top={top?.id}
        mayManage={!frame.me.seen_by && level === "manage"}
        onAsk={setAsking}
        onGo={(to) => go(pageOf(facts.data!.path, to))}
        onDone={changed}
        onMoved={() => setSelected(new Set())}
      />
    </Frame>
  );
}

function thenOf(at: string, turns: { moment: string; at: string }[] | undefined): Date | undefined {
  const turn = turns?.find((t) => t.moment === at);
  const time = new Date(turn?.at ?? at);
  return Number.isNaN(time.getTime()) ? undefined : time;
}
