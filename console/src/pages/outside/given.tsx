import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { Download } from "lucide-react";
import { useDeferredValue, useState } from "react";
import { Link } from "wouter";
import type { Gives } from "../../lib/api";
import { dayOf, endOfDay } from "../../lib/days";
import { outside, type Given, type GivenFilter } from "../../lib/outside";
import { pageAt } from "../../lib/place";
import { count, exactly, shortDay, when } from "../../lib/show";
import {
  Button,
  Choice,
  DayField,
  Dialog,
  DialogActions,
  Empty,
  Field,
  Loading,
  Notice,
  useToast,
} from "../../ui";
import { mayWords } from "../rights";
import OutsideDialog from "./dialog";
import { canWords, State } from "./state";
import { key } from "../../lib/query-keys";

const one = (g: Given) => `${g.kind} ${g.id}`;

/** All that was given out and is taken in: one's own, or everybody's. */
export function GivenList({ all, by }: { all: boolean; by?: string }) {
  const [words, setWords] = useState("");
  const [kind, setKind] = useState("");
  const [state, setState] = useState("");
  const wanted: GivenFilter = { all, by, words: useDeferredValue(words), kind, state };
  const [chosen, setChosen] = useState<Map<string, Given>>(new Map());
  const [ending, setEnding] = useState(false);
  const [open, setOpen] = useState<Given>();
  const list = useInfiniteQuery({
    queryKey: key("given", wanted),
    queryFn: ({ pageParam }) => outside.given(wanted, pageParam),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
    placeholderData: (before) => before,
  });
  const rows = list.data?.pages.flatMap((p) => p.given) ?? [];
  const total = list.data?.pages[0]?.total ?? 0;
  const turn = (g: Given, on: boolean) => {
    const next = new Map(chosen);
    if (on) next.set(one(g), g);
    else next.delete(one(g));
    setChosen(next);
  };
  const filtered = words !== "" || kind !== "" || state !== "";
  return (
    <>
      <div className="flex flex-wrap items-end gap-3 py-3">
        <Field
          label="Find"
          type="search"
          className="min-w-0 flex-1 basis-48"
          placeholder="Name, path, or person"
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
        <Choice
          label="Kind"
          options={[
            ["", "Everything"],
            ["link", "Links"],
            ["intake", "Intakes"],
            ["share", "Given to people"],
          ]}
          value={kind}
          onChange={(e) => setKind(e.target.value)}
        />
        <Choice
          label="State"
          options={[
            ["", "Any"],
            ["open", "Open"],
            ["shut", "Not open"],
            ["asleep", "Asleep"],
            ["against a rule", "Against a rule"],
            ["used up", "Used up"],
            ["ended", "Ended"],
          ]}
          value={state}
          onChange={(e) => setState(e.target.value)}
        />
        <a
          href={outside.table(wanted)}
          download
          className="inline-flex min-h-10 items-center gap-2 rounded-lg border border-line bg-sheet px-3.5 hover:border-muted"
        >
          <Download size={18} aria-hidden />
          CSV
        </a>
      </div>
      <div className="flex min-h-11 flex-wrap items-center gap-3" role="status">
        <span className="text-muted">
          {list.data && count(total, "entry").replace("entrys", "entries")}
          {chosen.size > 0 && `, ${chosen.size} chosen`}
        </span>
        {chosen.size > 0 && <Button onClick={() => setEnding(true)}>Change or end them</Button>}
      </div>
      {list.isPending && <Loading />}
      {list.isError && <Notice error={list.error} retry={() => void list.refetch()} />}
      {list.data && rows.length === 0 && (
        <Empty title={filtered ? "Nothing fits" : "Nothing is given out"}>
          {filtered
            ? "Try other words, or another kind or state."
            : "Links, intakes and what is given to people stand here, with how often they are used. Make one from the folder it is about."}
        </Empty>
      )}
      <ul>
        {rows.map((g) => (
          <GivenRow
            key={one(g)}
            given={g}
            all={all}
            chosen={chosen.has(one(g))}
            onChoose={(on) => turn(g, on)}
            onOpen={() => setOpen(g)}
          />
        ))}
      </ul>
      {list.hasNextPage && (
        <div className="mt-4 flex justify-center">
          <Button disabled={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
            Show more
          </Button>
        </div>
      )}
      {open && (
        <OutsideDialog
          node={open.node}
          name={open.name}
          folder={open.folder}
          onClose={() => setOpen(undefined)}
        />
      )}
      {ending && (
        <ChangeMany
          given={[...chosen.values()]}
          onClose={(done) => {
            setEnding(false);
            if (done) setChosen(new Map());
          }}
        />
      )}
    </>
  );
}

function GivenRow({
  given,
  all,
  chosen,
  onChoose,
  onOpen,
}: {
  given: Given;
  all: boolean;
  chosen: boolean;
  onChoose: (on: boolean) => void;
  onOpen: () => void;
}) {
  const name = given.name || "(gone)";
  const uses =
    given.used === undefined
      ? ""
      : given.most
        ? `${given.used} of ${given.most}`
        : given.used === 0
          ? "not used yet"
          : count(given.used, "time");
  return (
    <li className="grid grid-cols-[auto_1.6fr_1.2fr_150px_150px] items-baseline gap-x-4 gap-y-1 border-b border-line px-1 py-2.5 max-md:grid-cols-[auto_1fr_auto]">
      <input
        type="checkbox"
        aria-label={`Choose the ${given.kind} ${name}`}
        className="size-4 translate-y-0.5 accent-gold"
        checked={chosen}
        onChange={(e) => onChoose(e.target.checked)}
      />
      <span className="min-w-0">
        {given.mine && given.kind !== "share" && given.path ? (
          <button
            type="button"
            onClick={onOpen}
            className="block min-h-6 max-w-full truncate text-left font-semibold hover:text-teal"
          >
            {name}
          </button>
        ) : (
          <span className="block truncate font-semibold">{name}</span>
        )}
        {given.path ? (
          <Link
            href={pageAt(given.path, given.folder, given.node)}
            className="block min-h-6 truncate text-[14px] text-muted hover:text-teal"
          >
            {given.path}
          </Link>
        ) : (
          <span className="block truncate text-[14px] text-muted">You cannot see where it is</span>
        )}
      </span>
      <span className="min-w-0 max-md:order-4 max-md:col-start-2">
        <span className="block truncate">{given.to}</span>
        <span className="block truncate text-[14px] text-muted">
          {given.kind}:{" "}
          {given.kind === "share" ? mayWords[given.can as Gives] : (canWords[given.can] ?? given.can)}
          {all && given.by && `, by ${given.by}`}
        </span>
      </span>
      <span className="max-md:order-5 max-md:col-start-2 max-md:text-[14px]">
        {uses && <span className="block">{uses}</span>}
        {given.used_at && (
          <span
            className="block text-[14px] text-muted"
            title={`${exactly(given.used_at)}${given.used_from ? ` from ${given.used_from}` : ""}`}
          >
            last {when(given.used_at)}
          </span>
        )}
      </span>
      <span className="text-right max-md:order-3">
        <State state={given.state} why={given.sentence} />
        {given.until && (
          <span className="mt-0.5 block text-[14px] text-muted" title={exactly(given.until)}>
            until {shortDay(new Date(given.until))}
          </span>
        )}
      </span>
    </li>
  );
}

function ChangeMany({ given, onClose }: { given: Given[]; onClose: (done: boolean) => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const [ends, setEnds] = useState("");
  const of = given.map(({ kind, id }) => ({ kind, id }));
  const change = useMutation({
    mutationFn: (how: { end?: boolean; paused?: boolean; ends?: string }) =>
      outside.changeMany({ of, ...how }),
    onSuccess: async (done) => {
      await queries.invalidateQueries({ queryKey: key("given") });
      await queries.invalidateQueries({ queryKey: key("openings") });
      if (done.refused.length > 0) {
        const first = done.refused[0]!;
        toast.say(`${done.done} changed, ${done.refused.length} not: ${first.reason}`);
      } else toast.say(`${done.done} changed.`);
      onClose(true);
    },
  });
  const shares = given.filter((g) => g.kind === "share").length;
  return (
    <Dialog
      open
      onClose={() => onClose(false)}
      title={`Change ${count(given.length, "entry").replace("entrys", "entries")}`}
      description="Nothing of what was given out is removed; only the way to it is closed. Links and intakes can be opened again for ninety days."
    >
      <ul className="max-h-48 overflow-y-auto text-[14.5px]">
        {given.map((g) => (
          <li key={one(g)} className="flex justify-between gap-3 py-0.5">
            <span className="min-w-0 truncate">
              {g.kind} {g.name || "(gone)"}
            </span>
            <span className="text-muted">{g.to}</span>
          </li>
        ))}
      </ul>
      <form
        className="mt-4 flex items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate({ ends: endOfDay(ends) });
        }}
      >
        <DayField
          className="flex-1"
          label="New end"
          value={ends}
          onChange={setEnds}
          first={dayOf(new Date())}
          required
        />
        <Button type="submit" disabled={change.isPending || ends === ""}>
          Set the end
        </Button>
      </form>
      {change.isError && <Notice error={change.error} />}
      <DialogActions>
        <Button look="quiet" className="mr-auto" onClick={() => onClose(false)}>
          Cancel
        </Button>
        {shares === 0 && (
          <Button disabled={change.isPending} onClick={() => change.mutate({ paused: true })}>
            Pause
          </Button>
        )}
        <Button look="loss" disabled={change.isPending} onClick={() => change.mutate({ end: true })}>
          End
        </Button>
      </DialogActions>
    </Dialog>
  );
}
