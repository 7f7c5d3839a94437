import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Clock, Plus } from "lucide-react";
import { useState, type FormEvent } from "react";
import { Link } from "wouter";
import { api, type Me, type Node, type Shelf } from "../../lib/api";
import { lookOf, type Look } from "../../lib/kinds";
import { pageOf } from "../../lib/place";
import { count, countInWords, exactly, size, when } from "../../lib/show";
import { Given } from "./given";
import { NextSteps } from "./next-steps";
import { Button, Dialog, DialogActions, Face, Field, Frame, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

interface Props {
  frame: { me: Me; onSignOut: () => void };
}

const mayDo = {
  view: "you may look",
  add: "you may add files",
  edit: "you may edit",
  manage: "you manage it",
};

/** The first page: each shelf as a board, with the things on it that moved last. */
export function ShelvesPage({ frame }: Props) {
  const shelves = useQuery({ queryKey: key("shelves"), queryFn: api.shelves });
  const [making, setMaking] = useState(false);
  return (
    <Frame {...frame} heading={<span className="font-bold">Shelves</span>}>
      <div className="mx-auto max-w-[1180px] px-8 pb-10 max-sm:px-4">
        {shelves.isPending && <Loading />}
        {shelves.isError && <Notice error={shelves.error} retry={() => void shelves.refetch()} />}
        {shelves.data && (
          <>
            <div className="flex flex-wrap items-start gap-4 pt-2 pb-4">
              <div className="min-w-0 flex-1 basis-80">
                <h1 className="text-[23px] font-bold">{headline(shelves.data.shelves)}</h1>
                <p className="text-muted">
                  On each shelf stands what moved last.
                  {shelves.data.disk_total > 0 &&
                    ` ${size(shelves.data.disk_free)} of ${size(shelves.data.disk_total)} are free on the disk.`}
                </p>
              </div>
              <Link
                href="/recent"
                className="inline-flex min-h-9 items-center gap-2 rounded-lg px-2 text-teal hover:underline"
              >
                <Clock size={18} aria-hidden />
                Changed lately
              </Link>
              {frame.me.role === "administrator" && (
                <Button icon={<Plus size={18} />} onClick={() => setMaking(true)}>
                  New shelf
                </Button>
              )}
            </div>
            {frame.me.role === "administrator" && !frame.me.seen_by && (
              <NextSteps shelves={shelves.data.shelves} />
            )}
            <ul>
              {shelves.data.shelves.map((shelf) => (
                <Board key={shelf.id} shelf={shelf} />
              ))}
            </ul>
            <Given given={shelves.data.given ?? []} />
          </>
        )}
        <NewShelf open={making} onClose={() => setMaking(false)} />
      </div>
    </Frame>
  );
}

function headline(shelves: Shelf[]): string {
  const dayAgo = Date.now() - 86_400_000;
  const moved = shelves.flatMap((s) => s.latest).filter((n) => new Date(n.changed).getTime() > dayAgo);
  if (moved.length === 0) return "Nothing changed since yesterday";
  return `${countInWords(moved.length, "thing")} changed since yesterday`;
}

function Board({ shelf }: { shelf: Shelf }) {
  const full = shelf.quota !== undefined && shelf.sums.bytes >= shelf.quota * 0.9;
  return (
    <li className="grid grid-cols-[1fr_250px] items-end gap-5 pt-5 max-md:grid-cols-1 max-md:gap-2">
      <div className="order-1 min-w-0 max-md:order-2">
        <div className="flex h-[100px] items-end gap-2.5 overflow-hidden px-2.5">
          {shelf.latest.map((node) => (
            <Thing key={node.id} node={node} shelf={shelf} />
          ))}
          {shelf.latest.length === 0 && <p className="pb-3 text-muted">Nothing stands here yet.</p>}
        </div>
        <div className="h-[5px] bg-ink" />
      </div>
      <div className="order-2 min-w-0 pb-1 max-md:order-1">
        <h2 className="truncate text-lg font-bold">
          <Link href={pageOf(`${shelf.name}:/`)} className="hover:underline">
            {shelf.title}
          </Link>
        </h2>
        <p
          className="truncate text-[14.5px] text-muted"
          title={shelf.note ? `${shelf.note}. ${shelf.people}` : shelf.people}
        >
          {shelf.kind === "home" ? shelf.people : `${mayDo[shelf.level]}; ${shelf.people}`}
        </p>
        <p className="text-[14px]">
          <span className={full ? "text-brick" : ""}>
            {size(shelf.sums.bytes)}
            {shelf.quota !== undefined && ` of ${size(shelf.quota)}`}
          </span>{" "}
          <span className="text-muted">in {count(shelf.sums.files, "file")},</span>{" "}
          <span className="whitespace-nowrap text-muted">history {size(shelf.sums.history_bytes)}</span>
        </p>
      </div>
    </li>
  );
}

/** Colours of book backs, by what a thing is. The same in both themes: they are things, not signs. */
const backs: Record<Look, [string, string, string]> = {
  image: ["bg-[#8fa39f]", "bg-[#8fa39f]", "bg-[#8fa39f]"],
  text: ["bg-[#c7a968]", "bg-[#b8ad8e]", "bg-[#c4b69f]"],
  markdown: ["bg-[#c4b69f]", "bg-[#c7a968]", "bg-[#b8ad8e]"],
  pdf: ["bg-[#a58c7c]", "bg-[#b89c86]", "bg-[#a9978a]"],
  sound: ["bg-[#8496a0]", "bg-[#93a2a9]", "bg-[#8496a0]"],
  film: ["bg-[#9ba5b3]", "bg-[#9ba5b3]", "bg-[#9ba5b3]"],
  table: ["bg-[#b58e5a]", "bg-[#bf9c6b]", "bg-[#b58e5a]"],
  archive: ["bg-[#8f9b83]", "bg-[#86927a]", "bg-[#8f9b83]"],
  other: ["bg-[#b8ad8e]", "bg-[#b8ad8e]", "bg-[#b8ad8e]"],
};
const heights = ["h-[58px]", "h-[66px]", "h-[74px]", "h-[82px]", "h-[90px]"];
const widths = ["w-[46px]", "w-[54px]", "w-[62px]", "w-[70px]"];

function Thing({ node, shelf }: { node: Node; shelf: Shelf }) {
  // By its id, so that a thing keeps its shape.
  const shape = `${heights[node.id % heights.length]} ${widths[(node.id * 7) % widths.length]}`;
  const words = `${node.name}, ${node.how} ${when(node.changed)}${node.by ? ` by ${node.by}` : ""}`;
  return (
    <Link
      href={`${pageOf(`${shelf.name}:/`)}?thing=${node.id}`}
      title={`${words}\n${exactly(node.changed)}`}
      aria-label={words}
      className={`flex shrink-0 items-center justify-center overflow-hidden rounded-t-[4px] text-[#2a2620] transition-transform hover:-translate-y-1 ${backs[lookOf(node.name)][(node.id * 5) % 3]} ${shape}`}
    >
      <Face node={node} size={22} className="size-full" />
    </Link>
  );
}

function NewShelf({ open, onClose }: { open: boolean; onClose: () => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const [name, setName] = useState("");
  const [everyone, setEveryone] = useState(false);
  const making = useMutation({
    mutationFn: () => api.makeShelf(name, everyone),
    onSuccess: async (shelf) => {
      await queries.invalidateQueries({ queryKey: key("shelves") });
      toast.say(`Made the shelf "${shelf.title}".`);
      setName("");
      onClose();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    making.mutate();
  };
  return (
    <Dialog
      open={open}
      onClose={onClose}
      title="New shelf"
      description="A tree of its own for several people, in a folder of its own on the disk."
    >
      <form onSubmit={submit}>
        <Field
          label="Name"
          value={name}
          onChange={(e) => setName(e.target.value)}
          required
          autoFocus
          error={making.error ? making.error.message : undefined}
        />
        <label className="mt-4 flex items-center gap-2">
          <input
            type="checkbox"
            className="size-4 accent-gold"
            checked={everyone}
            onChange={(e) => setEveryone(e.target.checked)}
          />
          Everybody here may edit
        </label>
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="primary" disabled={making.isPending || name.trim() === ""}>
            Make shelf
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
