import { useMutation, useQuery } from "@tanstack/react-query";
import { Download, Ellipsis, Eye, FileDiff, Pin, Trash2 } from "lucide-react";
import { lazy, Suspense, useState, type FormEvent } from "react";
import { api, contentAddress, type Node, type State } from "../../lib/api";
import { kept } from "../../lib/kept";
import { exactly, moment, size, when } from "../../lib/show";
import {
  Button,
  Chip,
  Dialog,
  DialogActions,
  Field,
  IconButton,
  Loading,
  Menu,
  MenuItem,
  MenuLine,
  Notice,
  useToast,
} from "../../ui";
import { LettingGo } from "./letting-go";
import { Look } from "./preview";
import { key } from "../../lib/query-keys";

const Compare = lazy(() => import("./compare"));

/** So many states are shown at first. */
const few = 12;

type Doing = { kind: "look" | "compare" | "name" | "let go"; state: State };

/** Every state of a thing: who, when, how large, why it is kept; and what can be done with each. */
export function History({
  node,
  mayRestore,
  mayLetGo,
  onChanged,
}: {
  node: Node;
  mayRestore: boolean;
  mayLetGo: boolean;
  onChanged: () => Promise<void>;
}) {
  const history = useQuery({
    queryKey: key("history", node.id, node.moment),
    queryFn: () => api.history(node.id),
  });
  const toast = useToast();
  const [all, setAll] = useState(false);
  const [doing, setDoing] = useState<Doing>();
  const states = history.data?.states ?? [];
  const restoring = useMutation({
    mutationFn: (state: State) =>
      api.restore(node.id, { at: state.node.moment, seen: states[0] && states[0].node.moment }),
    onSuccess: async (_, state) => {
      await onChanged();
      toast.say(
        `"${node.name}" is again as it was ${when(state.node.changed)}. That is a new state; the other stays here.`,
      );
    },
    onError: (e) => {
      toast.refuse(e);
      void history.refetch();
    },
  });
  return (
    <section aria-label="History" className="mt-5">
      <h3 className="mb-1 text-[14.5px] font-semibold text-muted">History</h3>
      {history.isPending && <Loading rows={2} />}
      {history.isError && <Notice error={history.error} />}
      <ol>
        {states.slice(0, all ? undefined : few).map((state, i) => {
          const now = i === 0 && !state.ended;
          const held = state.node.held !== false;
          const word = when(state.node.changed);
          return (
            <li key={state.node.moment} className="flex items-start gap-2 py-1 text-[14.5px]">
              <span className="min-w-0 flex-1">
                <span className="flex min-w-0 items-center gap-2">
                  <span className="truncate" title={state.node.by}>
                    {state.node.by ?? "found on the disk"}
                  </span>
                  {state.label && <Chip look="gold">{state.label}</Chip>}
                </span>
                <span className="block text-muted" title={exactly(state.node.changed)}>
                  {state.node.how} {word}
                  {state.node.kind === "file" && `, ${size(state.node.size)}`}
                  {state.node.name !== node.name && `, as "${state.node.name}"`}
                </span>
                {!now && node.kind === "file" && (
                  <span className="block text-[14px] text-muted">{whyKept(state, held)}</span>
                )}
              </span>
              {now ? (
                <span className="text-muted">now</span>
              ) : (
                node.kind === "file" &&
                held && (
                  <>
                    {mayRestore && (
                      <Button
                        look="quiet"
                        className="-my-1 -mr-2 text-teal"
                        disabled={restoring.isPending}
                        aria-label={`Restore the state of ${word}`}
                        onClick={() => restoring.mutate(state)}
                      >
                        Restore
                      </Button>
                    )}
                    <Menu
                      label={`The state of ${word}`}
                      trigger={
                        <IconButton label={`More about the state of ${word}`} className="-my-1.5 -mr-2">
                          <Ellipsis size={18} />
                        </IconButton>
                      }
                    >
                      <MenuItem icon={<Eye size={18} />} onSelect={() => setDoing({ kind: "look", state })}>
                        Look at it
                      </MenuItem>
                      <MenuItem
                        icon={<FileDiff size={18} />}
                        onSelect={() => setDoing({ kind: "compare", state })}
                      >
                        Compare with now
                      </MenuItem>
                      <MenuItem
                        icon={<Download size={18} />}
                        onSelect={() => {
                          window.location.href = contentAddress(node.id, state.node.moment, true);
                        }}
                      >
                        Download
                      </MenuItem>
                      {mayRestore && (
                        <>
                          <MenuItem
                            icon={<Pin size={18} />}
                            onSelect={() => setDoing({ kind: "name", state })}
                          >
                            {state.label ? "Change its name" : "Give it a name, so that it stays"}
                          </MenuItem>
                        </>
                      )}
                      {mayLetGo && (
                        <>
                          <MenuLine />
                          <MenuItem
                            loss
                            icon={<Trash2 size={18} />}
                            onSelect={() => setDoing({ kind: "let go", state })}
                          >
                            Remove it for good
                          </MenuItem>
                        </>
                      )}
                    </Menu>
                  </>
                )
              )}
            </li>
          );
        })}
      </ol>
      {!all && states.length > few && (
        <Button look="quiet" className="text-teal" onClick={() => setAll(true)}>
          All {states.length} states
        </Button>
      )}
      <Look
        node={doing?.kind === "look" ? doing.state.node : undefined}
        at={doing?.state.node.moment}
        onClose={() => setDoing(undefined)}
        onDownload={(n) => (window.location.href = contentAddress(n.id, n.moment, true))}
      />
      {doing?.kind === "compare" && (
        <Suspense>
          <Compare node={node} state={doing.state} onClose={() => setDoing(undefined)} />
        </Suspense>
      )}
      {doing?.kind === "name" && (
        <NameVersion
          node={node}
          state={doing.state}
          onClose={() => setDoing(undefined)}
          onDone={async () => {
            await history.refetch();
          }}
        />
      )}
      {doing?.kind === "let go" && (
        <LettingGo
          what={{ nodes: [node.id], version: doing.state.node.moment }}
          title={`Remove the state of ${moment(new Date(doing.state.node.changed))} for good`}
          onClose={() => setDoing(undefined)}
        />
      )}
    </section>
  );
}

/** Why a past state is kept, and until when. */
function whyKept(state: State, held: boolean): string {
  if (!held) return "was here; its bytes are no longer held";
  if (!state.kept) return "";
  if (state.kept.why === "") return "goes with the next look at the rules";
  return `kept: ${state.kept.why}${state.kept.until ? `, until ${when(state.kept.until)}` : ""}`;
}

function NameVersion({
  node,
  state,
  onClose,
  onDone,
}: {
  node: Node;
  state: State;
  onClose: () => void;
  onDone: () => Promise<void>;
}) {
  const toast = useToast();
  const [label, setLabel] = useState(state.label ?? "");
  const naming = useMutation({
    mutationFn: (text: string) => kept.nameVersion(node.id, state.node.moment, text),
    onSuccess: async () => {
      await onDone();
      onClose();
    },
    onError: (e) => toast.refuse(e),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    naming.mutate(label.trim());
  };
  return (
    <Dialog
      open
      onClose={onClose}
      title="A name for this version"
      description={`${node.name}, as it was ${when(state.node.changed)}. As long as it has a name, no rule lets it go.`}
    >
      <form onSubmit={submit}>
        <Field
          label="Name"
          value={label}
          maxLength={120}
          placeholder="before cleaning"
          onChange={(e) => setLabel(e.target.value)}
          autoFocus
          required
        />
        <DialogActions>
          {state.label && (
            <Button look="quiet" className="mr-auto" onClick={() => naming.mutate("")}>
              Take the name away
            </Button>
          )}
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="primary" disabled={naming.isPending || label.trim() === ""}>
            Name it
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
