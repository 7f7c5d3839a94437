import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { api, readText, Refusal, saveText, type Node } from "../../lib/api";
import { Button, Dialog, DialogActions, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

const Code = lazy(() => import("./code"));

interface Props {
  node: Node;
  onClose: () => void;
  onDone: () => Promise<void>;
}

/** Edits a text. Saving makes a new state, and never covers another's change unseen. */
export function Editor({ node, onClose, onDone }: Props) {
  const toast = useToast();
  const read = useQuery({
    queryKey: key("edit", node.id),
    queryFn: () => readText(node.id),
    staleTime: Infinity,
    gcTime: 0,
    refetchOnWindowFocus: false,
  });
  const [text, setText] = useState<string>();
  const [saved, setSaved] = useState<{ text: string; etag: string }>();
  const [theirs, setTheirs] = useState<{ text: string; etag: string; by?: string }>();
  const [saving, setSaving] = useState(false);
  // A new round begins with another text than the one that was written last.
  const [round, setRound] = useState(0);
  const base = saved ?? read.data;
  const mine = text ?? base?.text ?? "";
  const dirty = base !== undefined && mine !== base.text;

  useEffect(() => {
    if (!dirty) return;
    const warn = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", warn);
    return () => window.removeEventListener("beforeunload", warn);
  }, [dirty]);

  const save = async (onto: string) => {
    if (!base || saving || node.parent === undefined) return;
    setSaving(true);
    try {
      const now = await api.facts(node.id);
      const done = await saveText(now.node.parent ?? node.parent, now.node.name, mine, onto);
      setSaved({ text: mine, etag: done.etag ?? "" });
      setTheirs(undefined);
      await onDone();
      toast.say(`Saved "${node.name}". The state before stays in its history.`);
    } catch (e) {
      if (e instanceof Refusal && e.code === "changed_meanwhile") {
        const [present, facts] = await Promise.all([readText(node.id), api.facts(node.id)]);
        setTheirs({ ...present, by: facts.node.by });
      } else toast.refuse(e);
    } finally {
      setSaving(false);
    }
  };
  const close = () => {
    if (!dirty || window.confirm("Leave without saving what you changed?")) onClose();
  };

  if (theirs) {
    return (
      <Dialog
        open
        onClose={() => setTheirs(undefined)}
        wide
        title={`"${node.name}" was changed meanwhile`}
        description={`${theirs.by ?? "Somebody"} saved another text while you were writing. Below is yours; what differs from theirs is marked, and what of theirs is missing stands struck out.`}
      >
        <div className="flex h-[55vh] flex-col">
          <Suspense fallback={<Loading />}>
            <Code
              name={node.name}
              text={mine}
              against={theirs.text}
              readOnly
              label="Your text against theirs"
            />
          </Suspense>
        </div>
        <DialogActions>
          <Button onClick={() => setTheirs(undefined)}>Go on writing</Button>
          <Button
            onClick={() => {
              setSaved(theirs);
              setText(theirs.text);
              setRound(round + 1);
              setTheirs(undefined);
            }}
          >
            Take theirs
          </Button>
          <Button look="primary" disabled={saving} onClick={() => void save(theirs.etag)}>
            Save mine over it
          </Button>
        </DialogActions>
      </Dialog>
    );
  }
  return (
    <Dialog open onClose={close} wide title={`Edit "${node.name}"`}>
      <div className="flex h-[62vh] flex-col">
        {read.isPending && <Loading />}
        {read.isError && <Notice error={read.error} retry={() => void read.refetch()} />}
        {base && (
          <Suspense fallback={<Loading />}>
            <Code
              key={round}
              name={node.name}
              text={mine}
              readOnly={false}
              label={`Text of ${node.name}`}
              onChange={setText}
              onSave={() => void save(base.etag)}
            />
          </Suspense>
        )}
      </div>
      <DialogActions>
        <span role="status" className="flex-1 self-center text-[14.5px] text-muted">
          {dirty ? "Not saved yet" : saved ? "Saved" : ""}
        </span>
        <Button onClick={close}>Close</Button>
        <Button
          look="primary"
          disabled={!dirty || saving}
          onClick={() => base && void save(base.etag)}
          title="Ctrl S"
        >
          Save
        </Button>
      </DialogActions>
    </Dialog>
  );
}
