import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState, type FormEvent } from "react";
import { api, Refusal, type Rule, type RuleEffects } from "../../lib/api";
import type { Going } from "../../lib/past";
import { count, size, when } from "../../lib/show";
import { Button, Choice, Dialog, DialogActions, Field, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

const people = (n: number) => count(n, "person").replace("persons", "people");

const doors: Record<string, string> = {
  console: "The console in a browser",
  sync: "Connecting computers",
  links: "Giving out links",
  intake: "Taking files in by an intake",
};

/** Every rule: what it does now, where it is set, and what a change would do. */
export function RulesDesk() {
  const rules = useQuery({ queryKey: key("rules"), queryFn: api.rules });
  const [open, setOpen] = useState<Rule>();
  return (
    <>
      <p className="max-w-2xl py-3 text-muted">
        A rule is set for the service, the organisation, a group or a shelf. Of all that apply to somebody the
        tightest counts. Before a change is made, it is shown whom it touches.
      </p>
      {rules.isPending && <Loading />}
      {rules.isError && <Notice error={rules.error} retry={() => void rules.refetch()} />}
      <ul>
        {rules.data?.rules.map((r) => (
          <li key={r.name} className="border-b border-line">
            <button
              type="button"
              onClick={() => setOpen(r)}
              className="grid w-full grid-cols-[220px_150px_1fr] items-baseline gap-x-4 gap-y-1 px-1 py-3 text-left hover:bg-sheet max-md:grid-cols-[1fr_auto]"
            >
              <span className="font-semibold">{r.title}</span>
              <span
                className={`truncate font-mono text-[14px] ${r.set.length === 0 ? "text-muted" : ""}`}
                title={r.set.length === 0 ? "Not set: this is how it is at first" : undefined}
              >
                {r.value}
              </span>
              <span className="min-w-0 max-md:col-span-2">
                <span className="block text-[14.5px]">{r.sentence}</span>
                {r.set
                  .filter((s) => s.scope.includes(":"))
                  .map((s) => (
                    <span key={s.scope} className="mt-1 block text-[14.5px] text-muted">
                      {s.scope.replace("group:", "").replace("shelf:", "Shelf ")}: {s.sentence}
                    </span>
                  ))}
              </span>
            </button>
          </li>
        ))}
      </ul>
      {open && (
        <RuleDialog
          rule={rules.data?.rules.find((r) => r.name === open.name) ?? open}
          onClose={() => setOpen(undefined)}
        />
      )}
    </>
  );
}

function RuleDialog({ rule, onClose }: { rule: Rule; onClose: () => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const groups = useQuery({ queryKey: key("groups", "all"), queryFn: () => api.groups({ limit: 1000 }) });
  const [scope, setScope] = useState("service");
  const at = (where: string) => rule.set.find((s) => s.scope === where)?.value;
  const [value, setValue] = useState(at("service") ?? rule.usual);
  const [breaking, setBreaking] = useState<"leave" | "shorten" | "end">("leave");
  const shelves = useQuery({
    queryKey: key("shared shelves"),
    queryFn: api.sharedShelves,
    enabled: rule.for_shelves,
  });
  // What a change would do is shown as soon as one pauses.
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), 350);
    return () => clearTimeout(timer);
  }, [value]);
  const preview = useQuery({
    queryKey: key("rule preview", rule.name, scope, settled),
    queryFn: () => api.setRule(rule.name, { scope, value: settled, preview: true }),
    enabled: settled.trim() !== "" && settled !== at(scope),
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });
  const same = value === at(scope);
  const told = !same && !preview.isError && settled === value ? preview.data : undefined;
  const change = useMutation({
    mutationFn: (how: { value?: string }) =>
      api.setRule(rule.name, { scope, breaking, preview: false, ...how }),
    onSuccess: async (effects) => {
      await queries.invalidateQueries();
      toast.say(`${rule.title}: ${effects.sentence}`);
      onClose();
    },
  });
  const choose = (where: string) => {
    setScope(where);
    setValue(at(where) ?? rule.value);
    setSettled(at(where) ?? rule.value);
    change.reset();
  };
  const submit = (e: FormEvent) => {
    e.preventDefault();
    change.mutate({ value });
  };
  const scopes: [string, string][] = [
    ["service", "The whole service"],
    ["organisation", "The organisation"],
    ...(rule.for_groups ? (groups.data?.groups ?? []) : []).map((g): [string, string] => [
      `group:${g.name}`,
      `Group ${g.name}${at(`group:${g.name}`) ? " (set)" : ""}`,
    ]),
    ...(rule.for_shelves ? (shelves.data?.shelves ?? []) : []).map((s): [string, string] => [
      `shelf:${s.name}`,
      `Shelf ${s.name}${at(`shelf:${s.name}`) ? " (set)" : ""}`,
    ]),
  ];
  const many = rule.name === "doors-closed";
  const chosen = value === "none" ? [] : value.split(",").map((w) => w.trim());
  const turn = (word: string, on: boolean) => {
    const next = on ? [...chosen, word] : chosen.filter((w) => w !== word);
    setValue(next.length === 0 ? "none" : next.join(", "));
  };
  const error = change.error ?? (same ? undefined : preview.error);
  const refusal = error instanceof Refusal ? error : undefined;
  return (
    <Dialog open onClose={onClose} title={rule.title} description={rule.sentence}>
      <form onSubmit={submit} className="min-h-0 overflow-y-auto px-0.5">
        <Choice label="For" options={scopes} value={scope} onChange={(e) => choose(e.target.value)} />
        {many ? (
          <fieldset className="mt-4">
            <legend className="mb-1 font-semibold">Closed</legend>
            {rule.choices.map((word) => (
              <label key={word} className="flex items-center gap-2 py-0.5">
                <input
                  type="checkbox"
                  className="size-4 accent-gold"
                  checked={chosen.includes(word)}
                  onChange={(e) => turn(word, e.target.checked)}
                />
                {doors[word] ?? word}
              </label>
            ))}
          </fieldset>
        ) : rule.choices.length > 0 ? (
          <Choice
            className="mt-4"
            label="Value"
            options={rule.choices.map((c): [string, string] => [c, c])}
            value={value}
            onChange={(e) => setValue(e.target.value)}
          />
        ) : (
          <Field
            className="mt-4"
            label="Value"
            hint={`It can be ${rule.wanted}.`}
            value={value}
            onChange={(e) => setValue(e.target.value)}
            error={refusal?.code === "rule_refused" ? `${refusal.message} ${refusal.remedy}` : undefined}
            required
          />
        )}
        {refusal && (many || rule.choices.length > 0 || refusal.code !== "rule_refused") && (
          <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
            {refusal.message} {refusal.remedy}
          </p>
        )}
        {told && <Told told={told} />}
        {told && told.broken.length > 0 && (
          <Choice
            className="mt-3"
            label="What becomes of them"
            options={[
              ["leave", "Leave them: they do not open until they are mended"],
              ...(told.broken.some((b) => b.shorten)
                ? [["shorten", "Shorten those that live too long"] as [string, string]]
                : []),
              ["end", "End them"],
            ]}
            value={breaking}
            onChange={(e) => setBreaking(e.target.value as "leave" | "shorten" | "end")}
          />
        )}
        <DialogActions>
          {at(scope) !== undefined && (
            <Button
              look="quiet"
              className="mr-auto"
              disabled={change.isPending}
              onClick={() => change.mutate({ value: undefined })}
            >
              Take it away here
            </Button>
          )}
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="primary" disabled={change.isPending || !told}>
            {told && told.people.length > 0 ? `Set it for ${people(told.people.length)}` : "Set it"}
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}

function Told({ told }: { told: RuleEffects }) {
  return (
    <div role="status" className="mt-4 rounded-lg border border-line p-3">
      <p className="font-semibold">{told.sentence}</p>
      {told.broken.length > 0 && (
        <>
          <p className="mt-2">These links and intakes break it:</p>
          <ul className="mt-1 max-h-56 overflow-y-auto text-[14.5px]">
            {told.broken.map((b) => (
              <li key={b.id} className="flex flex-wrap items-baseline justify-between gap-x-3 py-0.5">
                <span className="min-w-0 truncate">
                  {b.kind} {b.name || "(gone)"}, by {b.by}
                </span>
                <span className="text-brick">{b.breaks}</span>
              </li>
            ))}
          </ul>
        </>
      )}
      {told.going && <GoingTold going={told.going} before={told.going_before ?? 0} />}
      {told.quotas && told.quotas.length > 0 && (
        <ul className="mt-2 max-h-56 overflow-y-auto text-[14.5px]">
          {told.quotas.map((q) => (
            <li key={q.of} className="flex items-baseline justify-between gap-3 py-0.5">
              <span className="min-w-0 truncate">{q.name}</span>
              <span className={`font-mono text-[14px] ${q.warns ? "text-brick" : ""}`}>
                {size(q.used)}
                {q.hard !== undefined && ` of ${size(q.hard)}`}
              </span>
            </li>
          ))}
        </ul>
      )}
      {told.people.length === 0 ? (
        told.broken.length === 0 &&
        !told.going &&
        !told.quotas?.length && <p className="mt-1 text-muted">It changes nothing for anybody now.</p>
      ) : (
        <ul className="mt-2 max-h-56 overflow-y-auto text-[14.5px]">
          {told.people.slice(0, 100).map((p) => (
            <li key={p.sign_in} className="flex flex-wrap items-baseline justify-between gap-x-3 py-0.5">
              <span className="min-w-0 truncate">{p.display_name}</span>
              <span className="text-muted">
                {p.before} → {p.after}
              </span>
              {p.at_once && <span className="w-full text-[14px] text-brick">{p.at_once}</span>}
            </li>
          ))}
          {told.people.length > 100 && (
            <li className="py-0.5 text-muted">and {people(told.people.length - 100)} more</li>
          )}
        </ul>
      )}
    </div>
  );
}

/** What the rules let go of the past then: counts, bytes, names. */
function GoingTold({ going, before }: { going: Going; before: number }) {
  if (going.states === 0) {
    return <p className="mt-1 text-muted">Nothing of the past goes by this rule now.</p>;
  }
  return (
    <div className="mt-2 text-[14.5px]">
      <p>
        With the next look, <strong className="text-brick">{count(going.states, "past state")}</strong> with{" "}
        <strong className="text-brick">{size(going.bytes)}</strong> would be gone for good;{" "}
        {before === 0 ? "none do now" : `${before.toLocaleString("en")} do as the rules are`}.
      </p>
      <ul className="mt-1 max-h-32 overflow-y-auto">
        {going.sums.map((s) => (
          <li key={`${s.shelf} ${s.why}`} className="flex items-baseline justify-between gap-3 py-0.5">
            <span className="min-w-0 truncate">
              {s.shelf}, {s.why}
            </span>
            <span className="text-muted" title={`from ${when(s.oldest)} to ${when(s.newest)}`}>
              {s.states.toLocaleString("en")}, {size(s.bytes)}
            </span>
          </li>
        ))}
      </ul>
      {going.largest.length > 0 && (
        <details className="mt-1">
          <summary className="cursor-pointer text-muted">The largest of them</summary>
          <ul className="max-h-32 overflow-y-auto">
            {going.largest.slice(0, 20).map((g, i) => (
              <li key={i} className="flex items-baseline justify-between gap-3 py-0.5">
                <span className="min-w-0 truncate">
                  {g.name}, until {when(g.ended)}
                </span>
                <span className="font-mono text-[14px]">{size(g.size)}</span>
              </li>
            ))}
          </ul>
        </details>
      )}
    </div>
  );
}
