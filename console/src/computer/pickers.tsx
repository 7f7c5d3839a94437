import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ChevronRight, Folder, FolderPlus } from "lucide-react";
import { useState } from "react";
import { key } from "../lib/query-keys";
import { Button } from "../ui/button";
import { Field } from "../ui/field";
import { FormError, Loading, Notice } from "../ui/states";
import { here } from "./here";

const row = "flex w-full items-center gap-3 rounded-md px-2 py-2 text-left hover:bg-gold-wash";
const box = "h-60 overflow-y-auto rounded-lg border border-line p-1";

/** A folder of this computer, chosen by walking to it; a new one can be made on the way. */
export function LocalPicker({ path, onGo }: { path: string | undefined; onGo: (path: string) => void }) {
  const queries = useQueryClient();
  const [naming, setNaming] = useState<string>();
  const folder = useQuery({ queryKey: key("local", path), queryFn: () => here.folders(path) });
  const at = folder.data?.path;
  const making = useMutation({
    mutationFn: (name: string) => here.makeFolder(`${at === "/" ? "" : at}/${name}`),
    onSuccess: async (_, name) => {
      await queries.invalidateQueries({ queryKey: key("local") });
      setNaming(undefined);
      onGo(`${at === "/" ? "" : at}/${name}`);
    },
  });
  return (
    <div>
      <p className="mb-1 flex min-h-9 items-center gap-2">
        <span className="min-w-0 flex-1 font-mono text-[14.5px] break-all">{at ?? path ?? " "}</span>
        {naming === undefined && (
          <Button icon={<FolderPlus size={17} aria-hidden />} disabled={!at} onClick={() => setNaming("")}>
            New folder
          </Button>
        )}
      </p>
      {naming !== undefined && (
        <div className="mb-2">
          <div className="flex items-end gap-2">
            <Field
              className="flex-1"
              label="Name of the new folder"
              value={naming}
              onChange={(e) => setNaming(e.target.value)}
              onKeyDown={(e) => {
                if (e.key !== "Enter") return;
                e.preventDefault();
                if (naming.trim() && !naming.includes("/")) making.mutate(naming.trim());
              }}
              autoFocus
            />
            <Button
              disabled={!naming.trim() || naming.includes("/") || making.isPending}
              onClick={() => making.mutate(naming.trim())}
            >
              Make it
            </Button>
            <Button look="quiet" onClick={() => setNaming(undefined)}>
              Cancel
            </Button>
          </div>
          <FormError error={making.error} />
        </div>
      )}
      <div className={box} role="group" aria-label="Folders of this computer">
        {folder.isPending && <Loading rows={4} />}
        {folder.isError && <Notice error={folder.error} />}
        {folder.data?.above && (
          <button type="button" className={`${row} text-muted`} onClick={() => onGo(folder.data.above!)}>
            <ChevronRight size={16} className="rotate-180" aria-hidden />
            Up
          </button>
        )}
        {folder.data?.folders.length === 0 && <p className="px-3 py-4 text-muted">No folder is in here.</p>}
        {folder.data?.folders.map((f) => (
          <button key={f.path} type="button" className={row} onClick={() => onGo(f.path)}>
            <Folder size={18} aria-hidden />
            <span className="flex-1 truncate">{f.name}</span>
            <ChevronRight size={16} aria-hidden />
          </button>
        ))}
      </div>
      {folder.data?.holds && (
        <p className="mt-1 text-muted">
          {folder.data.holds} in it is kept the same already: choose a folder beside that.
        </p>
      )}
      {folder.data?.taken && (
        <p className="mt-1 text-brick">
          This folder is kept the same as {folder.data.taken} already: choose another one.
        </p>
      )}
    </div>
  );
}

interface RemoteProps {
  service: string;
  path: string | undefined;
  onGo: (path: string | undefined) => void;
  /** The highest folder that may be shown. */
  top?: string;
}

/** A folder of a service, chosen by walking to it. */
export function RemotePicker({ service, path, onGo, top }: RemoteProps) {
  const place = useQuery({
    queryKey: key("remote", service, path),
    queryFn: () => here.places(service, path),
  });
  const up = () => {
    if (!path || path.endsWith(":/")) return onGo(undefined);
    const parent = path.replace(/\/[^/]*$/, "");
    onGo(parent.endsWith(":") ? `${parent}/` : parent);
  };
  return (
    <div>
      <p className="mb-1 flex min-h-9 items-center font-mono text-[14.5px] break-all">
        {path ?? "All shelves"}
      </p>
      <div className={box} role="group" aria-label="Folders of the service">
        {place.isPending && <Loading rows={4} />}
        {place.isError && <Notice error={place.error} retry={() => void place.refetch()} />}
        {path !== undefined && path !== top && (
          <button type="button" className={`${row} text-muted`} onClick={up}>
            <ChevronRight size={16} className="rotate-180" aria-hidden />
            {path.endsWith(":/") ? "All shelves" : "Up"}
          </button>
        )}
        {place.data?.folders.length === 0 && <p className="px-3 py-4 text-muted">No folder is in here.</p>}
        {place.data?.folders.map((f) => (
          <button key={f.node} type="button" className={row} onClick={() => onGo(f.path)}>
            <Folder size={18} aria-hidden />
            <span className="flex-1 truncate">{f.name}</span>
            <ChevronRight size={16} aria-hidden />
          </button>
        ))}
        {place.data?.more && <p className="px-3 py-2 text-muted">There are more folders than fit here.</p>}
      </div>
    </div>
  );
}
