import { useMutation, useQuery } from "@tanstack/react-query";
import { FolderMinus, FolderPlus, X } from "lucide-react";
import { useState } from "react";
import { key } from "../lib/query-keys";
import { count, size } from "../lib/show";
import { Button, IconButton } from "../ui/button";
import { Dialog, DialogActions } from "../ui/dialog";
import { Field } from "../ui/field";
import { FormError } from "../ui/states";
import { useToast } from "../ui/toast";
import { here, type Chosen, type Filter, type Pair, type Place } from "./here";
import { RemotePicker } from "./pickers";
import { Some } from "./some";
import { bytesOf } from "./words";

interface Props {
  service: string;
  /** The pair's folder on the service. */
  top: string;
  filter: Filter;
  onChange: (filter: Filter) => void;
}

/** What is carried, and what is left out. */
export function FilterFields({ service, top, filter, onChange }: Props) {
  const [choosing, setChoosing] = useState<"only" | "without">();
  const [patterns, setPatterns] = useState(filter.patterns.join(", "));
  const [larger, setLarger] = useState(filter.larger ? size(filter.larger) : "");
  const bytes = larger.trim() === "" ? null : bytesOf(larger);
  const list = (which: "only" | "without", none: string) => (
    <ul className="mt-1">
      {filter[which].length === 0 && <li className="text-muted">{none}</li>}
      {filter[which].map((c) => (
        <li key={c.node} className="flex items-center gap-2">
          <span className="min-w-0 flex-1 font-mono text-[14.5px] break-all">{c.way.join("/")}</span>
          <IconButton
            label={`Take ${c.way.join("/")} out`}
            onClick={() => onChange({ ...filter, [which]: filter[which].filter((o) => o.node !== c.node) })}
          >
            <X size={17} />
          </IconButton>
        </li>
      ))}
    </ul>
  );
  return (
    <div className="mt-4 space-y-4">
      <section aria-label="Folders">
        <h3 className="font-semibold">Folders</h3>
        {list("only", "All folders are carried.")}
        {filter.without.length > 0 && (
          <>
            <p className="mt-2 text-muted">but not</p>
            {list("without", "")}
          </>
        )}
        {choosing ? (
          <Choosing
            service={service}
            top={top}
            onCancel={() => setChoosing(undefined)}
            onChoose={(chosen) => {
              const others = filter[choosing].filter((o) => o.node !== chosen.node);
              onChange({ ...filter, [choosing]: [...others, chosen] });
              setChoosing(undefined);
            }}
          />
        ) : (
          <div className="mt-2 flex flex-wrap gap-2">
            <Button icon={<FolderPlus size={17} aria-hidden />} onClick={() => setChoosing("only")}>
              Only some folders
            </Button>
            <Button icon={<FolderMinus size={17} aria-hidden />} onClick={() => setChoosing("without")}>
              Without a folder
            </Button>
          </div>
        )}
      </section>
      <Field
        label="Leave out what is named like"
        placeholder="*.tmp, Films/*.mkv"
        value={patterns}
        onChange={(e) => {
          setPatterns(e.target.value);
          const all = e.target.value.split(",").map((p) => p.trim());
          onChange({ ...filter, patterns: all.filter(Boolean) });
        }}
        hint="* stands for any letters but /, ? for one."
      />
      <Field
        label="Leave out files of more than"
        placeholder="2 GiB"
        value={larger}
        onChange={(e) => {
          setLarger(e.target.value);
          const text = e.target.value;
          const read = text.trim() === "" ? null : bytesOf(text);
          if (read !== undefined) onChange({ ...filter, larger: read });
        }}
        error={bytes === undefined ? "Give it as 500 MiB or 2 GiB." : undefined}
      />
    </div>
  );
}

function Choosing({
  service,
  top,
  onChoose,
  onCancel,
}: {
  service: string;
  top: string;
  onChoose: (chosen: Chosen) => void;
  onCancel: () => void;
}) {
  const [path, setPath] = useState<string>(top);
  const place = useQuery<Place>({
    queryKey: key("remote", service, path),
    queryFn: () => here.places(service, path),
  });
  const way = path.slice(top.length).split("/").filter(Boolean);
  return (
    <div className="mt-2 rounded-lg border border-line p-3">
      <RemotePicker service={service} path={path} top={top} onGo={(to) => setPath(to ?? top)} />
      <div className="mt-2 flex justify-end gap-2">
        <Button look="quiet" onClick={onCancel}>
          Cancel
        </Button>
        <Button
          disabled={way.length === 0 || !place.data?.node}
          onClick={() => onChoose({ node: place.data!.node!, way })}
        >
          This folder
        </Button>
      </div>
    </div>
  );
}

/** Changes what a pair leaves out, with a look at what that would be. */
export function FilterDialog({ pair, onClose }: { pair: Pair; onClose: () => void }) {
  const toast = useToast();
  const [filter, setFilter] = useState<Filter>(pair.filter);
  const looking = useMutation({ mutationFn: () => here.previewFilter(pair.id, filter) });
  const setting = useMutation({
    mutationFn: () => here.setFilter(pair.id, filter),
    onSuccess: () => {
      toast.say("It goes by that now.");
      onClose();
    },
  });
  const out = looking.data;
  return (
    <Dialog
      open
      onClose={onClose}
      title="What it leaves out"
      description="Leaving something out removes it on neither side. Only copies here of folders that are not chosen any more go, where the service has the same."
    >
      <FilterFields
        service={pair.service}
        top={pair.remote}
        filter={filter}
        onChange={(f) => {
          setFilter(f);
          looking.reset();
        }}
      />
      {out && (
        <div role="status" className="mt-4 rounded-lg bg-gold-wash p-3">
          {out.count.files + out.folders === 0
            ? "Nothing would be left out."
            : `It would leave out ${count(out.count.files, "file")} (${size(out.count.bytes)})${out.folders > 0 ? ` and ${count(out.folders, "folder")}` : ""}.`}
          <Some title="The first of it" all={out.examples.map((l) => `${l.path}: ${l.why}`)} />
        </div>
      )}
      <FormError error={looking.error ?? setting.error} />
      <DialogActions>
        <Button onClick={onClose}>Cancel</Button>
        <Button disabled={looking.isPending} onClick={() => looking.mutate()}>
          Look first
        </Button>
        <Button look="primary" disabled={setting.isPending} onClick={() => setting.mutate()}>
          Go by that
        </Button>
      </DialogActions>
    </Dialog>
  );
}
