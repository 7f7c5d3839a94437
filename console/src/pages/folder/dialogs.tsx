import { useMutation } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, Refusal, sayingOf, type Facts, type Node } from "../../lib/api";
import { count } from "../../lib/show";
import { Button, Dialog, DialogActions, Field, useToast } from "../../ui";
import { FolderBrowser, usePlace } from "./folder-browser";

interface Common {
  onClose: () => void;
  onDone: () => Promise<void>;
}

function NameDialog({
  title,
  word,
  start,
  suggested = start,
  send,
  onClose,
  onDone,
}: Common & {
  title: string;
  word: string;
  start: string;
  suggested?: string;
  send: (name: string) => Promise<unknown>;
}) {
  const [name, setName] = useState(suggested);
  const sending = useMutation({
    // Names are kept in one normal form, however they are typed.
    mutationFn: () => send(name.normalize("NFC")),
    onSuccess: async () => {
      await onDone();
      onClose();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    sending.mutate();
  };
  const refusal = sending.error instanceof Refusal ? sayingOf(sending.error) : undefined;
  return (
    <Dialog open onClose={onClose} title={title}>
      <form onSubmit={submit}>
        <Field
          label="Name"
          value={name}
          onChange={(e) => setName(e.target.value)}
          onFocus={(e) => {
            const dot = suggested.lastIndexOf(".");
            e.target.setSelectionRange(0, dot > 0 ? dot : suggested.length);
          }}
          error={refusal}
          autoFocus
          required
        />
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" look="primary" disabled={sending.isPending || name === "" || name === start}>
            {word}
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}

export function NewFolder({ parent, ...rest }: Common & { parent: number }) {
  return (
    <NameDialog
      title="New folder"
      word="Make folder"
      start=""
      send={(name) => api.makeFolder(parent, name)}
      {...rest}
    />
  );
}

export function Rename({ node, ...rest }: Common & { node: Node }) {
  return (
    <NameDialog
      title={`Rename "${node.name}"`}
      word="Rename"
      start={node.name}
      send={(name) => api.change(node.id, { name })}
      {...rest}
    />
  );
}

/** For a removed thing whose name is taken by now. */
export function BringBackAs({ node, withFolders, ...rest }: Common & { node: Node; withFolders: boolean }) {
  const dot = node.kind === "file" ? node.name.lastIndexOf(".") : -1;
  const [stem, ending] = dot > 0 ? [node.name.slice(0, dot), node.name.slice(dot)] : [node.name, ""];
  return (
    <NameDialog
      title={`Something else is called "${node.name}" by now`}
      word="Bring back under this name"
      start={node.name}
      suggested={`${stem} brought back${ending}`}
      send={(name) => api.restore(node.id, { name, with_folders: withFolders })}
      {...rest}
    />
  );
}

/** Where to move or copy: the shelves, and their folders. */
export function ChooseFolder({
  act,
  nodes,
  start,
  onClose,
  onDone,
}: Common & { act: "move" | "copy"; nodes: Node[]; start: Facts }) {
  const toast = useToast();
  const [here, setHere] = useState<string | undefined>(start.path);
  const facts = usePlace(here);
  const folder = here === undefined ? undefined : facts.data?.node;
  const word = act === "move" ? "Move" : "Copy";
  const doing = useMutation({
    mutationFn: async () => {
      let done = 0;
      for (const node of nodes) {
        try {
          if (act === "move") await api.change(node.id, { parent: folder!.id });
          else await api.copy(node.id, { parent: folder!.id });
          done += 1;
        } catch (e) {
          toast.refuse(e);
        }
      }
      return done;
    },
    onSuccess: async (done) => {
      await onDone();
      onClose();
      if (done > 0) {
        toast.say(`${act === "move" ? "Moved" : "Copied"} ${count(done, "thing")} to ${facts.data!.path}.`);
      }
    },
  });
  const moving = new Set(nodes.map((n) => n.id));
  const sameFolder = folder?.id === start.node.id;
  const mayAdd = facts.data !== undefined && facts.data.level !== "view";
  return (
    <Dialog
      open
      onClose={onClose}
      title={`${word} ${nodes.length === 1 ? `"${nodes[0]!.name}"` : count(nodes.length, "thing")}`}
      description={here === undefined ? "Choose a shelf." : `To ${facts.data?.path ?? here}`}
    >
      <FolderBrowser here={here} onGo={setHere} barred={moving} />
      {sameFolder && <p className="mt-2 text-sm text-muted">That is where it is now.</p>}
      {folder && !mayAdd && <p className="mt-2 text-sm text-muted">You may only look there.</p>}
      <DialogActions>
        <Button onClick={onClose}>Cancel</Button>
        <Button
          look="primary"
          disabled={!folder || sameFolder || !mayAdd || doing.isPending}
          onClick={() => doing.mutate()}
        >
          {doing.isPending ? "Under way" : `${word} here`}
        </Button>
      </DialogActions>
    </Dialog>
  );
}
