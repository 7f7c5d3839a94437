import { useQuery } from "@tanstack/react-query";
import { ChevronRight, Folder, Library, Users } from "lucide-react";
import { api } from "../../lib/api";
import { key } from "../../lib/query-keys";
import { Loading, Notice } from "../../ui";

/** What stands at a place; nothing while none is chosen. */
export function usePlace(here: string | undefined) {
  return useQuery({
    queryKey: key("place", here, undefined),
    queryFn: () => api.place(here!),
    enabled: here !== undefined,
  });
}

interface Props {
  /** The folder that is open; none: all shelves. */
  here: string | undefined;
  onGo: (here: string | undefined) => void;
  /** Folders that cannot be entered. */
  barred?: Set<number>;
  /** Whether what was given to one stands among the shelves. */
  given?: boolean;
}

/** Shelves and their folders, to walk through. */
export function FolderBrowser({ here, onGo, barred, given = false }: Props) {
  const shelves = useQuery({ queryKey: key("shelves"), queryFn: api.shelves });
  const facts = usePlace(here);
  const folder = here === undefined ? undefined : facts.data?.node;
  const below = useQuery({
    queryKey: key("folders", folder?.id, folder?.changed),
    queryFn: async () => {
      const page = await api.entries(folder!.id, { sort: "name", order: "up" });
      return page.entries.filter((e) => e.kind === "folder");
    },
    enabled: folder !== undefined,
  });
  const go =
    "flex w-full items-center gap-3 rounded-md px-2 py-2 text-left hover:bg-gold-wash disabled:opacity-50";
  const tops = [
    ...(shelves.data?.shelves.map((s) => ({ place: `${s.name}:/`, title: s.title, shelf: true })) ?? []),
    ...(given ? (shelves.data?.given ?? []) : [])
      .filter((g) => g.node.kind === "folder")
      .map((g) => ({ place: g.path, title: g.node.name, shelf: false })),
  ];
  const top = here !== undefined && tops.some((t) => t.place === here);
  return (
    <div className="h-72 overflow-y-auto rounded-lg border border-line p-1">
      {here === undefined ? (
        <>
          {shelves.isPending && <Loading rows={4} />}
          {shelves.isError && <Notice error={shelves.error} retry={() => void shelves.refetch()} />}
          {tops.map((t) => (
            <button key={t.place} type="button" className={go} onClick={() => onGo(t.place)}>
              {t.shelf ? <Library size={18} aria-hidden /> : <Users size={18} aria-hidden />}
              <span className="flex-1 truncate">{t.title}</span>
              <ChevronRight size={16} aria-hidden />
            </button>
          ))}
        </>
      ) : (
        <>
          <button
            type="button"
            className={`${go} text-muted`}
            onClick={() => {
              const parent = here.replace(/\/[^/]*$/, "");
              onGo(top || here.endsWith(":/") ? undefined : parent.endsWith(":") ? `${parent}/` : parent);
            }}
          >
            <ChevronRight size={16} className="rotate-180" aria-hidden />
            {top || here.endsWith(":/") ? "All shelves" : "Up"}
          </button>
          {facts.isError && <Notice error={facts.error} />}
          {(facts.isPending || below.isPending) && !facts.isError && <Loading rows={4} />}
          {below.data?.length === 0 && <p className="px-3 py-4 text-muted">No folder is in here.</p>}
          {below.data?.map((f) => (
            <button
              key={f.id}
              type="button"
              className={go}
              disabled={barred?.has(f.id)}
              onClick={() => onGo(`${here.replace(/\/$/, "")}/${f.name}`)}
            >
              <Folder size={18} aria-hidden />
              <span className="flex-1 truncate">{f.name}</span>
              <ChevronRight size={16} aria-hidden />
            </button>
          ))}
        </>
      )}
    </div>
  );
}
