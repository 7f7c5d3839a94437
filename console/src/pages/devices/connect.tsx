import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Folder, X } from "lucide-react";
import { useState } from "react";
import { useLocation } from "wouter";
import { api, Refusal, type AskedConnection, type Me } from "../../lib/api";
import { key } from "../../lib/query-keys";
import { exactly, plain, when } from "../../lib/show";
import { Button, Dialog, DialogActions, Field, FormError, Frame, IconButton, useToast } from "../../ui";
import { FolderBrowser, usePlace } from "../folder/folder-browser";

interface Chosen {
  node: number;
  path: string;
}

/** Lets in a computer that shows a code: which one it is, and what it may reach. */
export default function ConnectPage({ frame }: { frame: { me: Me; onSignOut: () => void } }) {
  const [code, setCode] = useState("");
  const [asked, setAsked] = useState<AskedConnection>();
  const looking = useMutation({
    mutationFn: () => api.lookAtConnection(code),
    onSuccess: setAsked,
  });
  return (
    <Frame {...frame} heading={<h1 className="font-bold">Connect a computer</h1>}>
      <div className="mx-auto max-w-[620px] px-8 pt-2 pb-10 max-sm:px-4">
        {asked ? (
          <Answer code={code} asked={asked} me={frame.me} onAgain={() => setAsked(undefined)} />
        ) : (
          <>
            <p className="text-muted">
              A computer that asks to be connected shows a code. Type it here only if you began that yourself,
              just now, on a computer before you.
            </p>
            <form
              className="mt-5"
              onSubmit={(e) => {
                e.preventDefault();
                looking.mutate();
              }}
            >
              <Field
                label="Code on the computer"
                value={code}
                onChange={(e) => setCode(e.target.value.toUpperCase())}
                placeholder="BCDF-GHJK"
                autoComplete="off"
                autoCapitalize="characters"
                spellCheck={false}
                maxLength={20}
                autoFocus
                required
                hint="Eight letters. It counts for ten minutes."
                error={
                  looking.error instanceof Refusal && looking.error.code === "code_unknown"
                    ? `${looking.error.message} ${looking.error.remedy}`
                    : undefined
                }
              />
              {!(looking.error instanceof Refusal && looking.error.code === "code_unknown") && (
                <FormError error={looking.error} />
              )}
              <Button
                className="mt-5"
                type="submit"
                look="primary"
                disabled={looking.isPending || code.replace(/[^A-Za-z]/g, "").length !== 8}
              >
                {looking.isPending ? "Looking" : "Go on"}
              </Button>
            </form>
          </>
        )}
      </div>
    </Frame>
  );
}

function Answer({
  code,
  asked,
  me,
  onAgain,
}: {
  code: string;
  asked: AskedConnection;
  me: Me;
  onAgain: () => void;
}) {
  const queries = useQueryClient();
  const toast = useToast();
  const [, go] = useLocation();
  const [name, setName] = useState(plain(asked.device));
  const [bound, setBound] = useState(false);
  const [within, setWithin] = useState<Chosen[]>([]);
  const [readOnly, setReadOnly] = useState(false);
  const [choosing, setChoosing] = useState(false);
  const answering = useMutation({
    mutationFn: (connect: boolean) =>
      api.answerConnection(
        connect
          ? {
              code,
              connect,
              device: name,
              within: bound ? within.map((w) => w.node) : [],
              read_only: readOnly,
            }
          : { code, connect },
      ),
    onSuccess: async (_, connect) => {
      toast.say(
        connect
          ? `"${name}" is let in. It goes on by itself within seconds.`
          : `"${plain(asked.device)}" is not connected.`,
      );
      await queries.invalidateQueries({ queryKey: key("devices") });
      go("/devices");
    },
  });
  const choice =
    "flex cursor-pointer items-start gap-3 rounded-lg border border-line p-3 has-checked:border-gold has-checked:bg-gold-wash";
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        answering.mutate(true);
      }}
    >
      <dl className="grid grid-cols-[max-content_1fr] gap-x-5 gap-y-1 rounded-lg border border-line bg-sheet p-4">
        <dt className="text-muted">It calls itself</dt>
        <dd className="font-semibold break-words">{plain(asked.device)}</dd>
        <dt className="text-muted">It asks from</dt>
        <dd className="font-mono text-[14.5px]">{asked.from}</dd>
        <dt className="text-muted">With</dt>
        <dd>{plain(asked.program) || "a program that does not say what it is"}</dd>
        <dt className="text-muted">It asked</dt>
        <dd title={exactly(asked.asked)}>{when(asked.asked)}</dd>
      </dl>
      <p className="mt-3 text-muted">
        It will work in your name, {me.display_name}. If you do not know it, do not connect it.
      </p>
      <Field
        className="mt-5"
        label="Name"
        value={name}
        onChange={(e) => setName(e.target.value)}
        maxLength={100}
        required
        hint="By this it stands among your devices and beside what it changes."
      />
      <fieldset className="mt-6">
        <legend className="mb-2 font-semibold">What it may reach</legend>
        <div className="space-y-2">
          <label className={choice}>
            <input
              type="radio"
              name="reach"
              className="mt-1"
              checked={!bound}
              onChange={() => setBound(false)}
            />
            <span>
              All that you may see
              <span className="block text-[14.5px] text-muted">
                Your own shelf, shared ones, and what others gave to you.
              </span>
            </span>
          </label>
          <label className={choice}>
            <input
              type="radio"
              name="reach"
              className="mt-1"
              checked={bound}
              onChange={() => setBound(true)}
            />
            <span>
              Some folders only
              <span className="block text-[14.5px] text-muted">
                Of everything else it learns nothing, and it can give nothing to others.
              </span>
            </span>
          </label>
        </div>
        {bound && (
          <div className="mt-3">
            <ul>
              {within.map((w) => (
                <li key={w.node} className="flex items-center gap-2 border-b border-line py-1">
                  <Folder size={18} aria-hidden className="shrink-0 text-muted" />
                  <span className="min-w-0 flex-1 truncate font-mono text-[14.5px]">{w.path}</span>
                  <IconButton
                    label={`Not ${w.path}`}
                    onClick={() => setWithin(within.filter((o) => o.node !== w.node))}
                  >
                    <X size={18} />
                  </IconButton>
                </li>
              ))}
            </ul>
            <Button className="mt-2" onClick={() => setChoosing(true)} disabled={within.length >= 50}>
              Choose a folder
            </Button>
          </div>
        )}
        <label className="mt-4 flex items-start gap-3">
          <input
            type="checkbox"
            className="mt-1"
            checked={readOnly}
            onChange={(e) => setReadOnly(e.target.checked)}
          />
          <span>
            It only reads
            <span className="block text-[14.5px] text-muted">It changes and removes nothing here.</span>
          </span>
        </label>
      </fieldset>
      <FormError error={answering.error} />
      <div className="mt-6 flex flex-wrap gap-3">
        <Button
          type="submit"
          look="primary"
          disabled={answering.isPending || name.trim() === "" || (bound && within.length === 0)}
        >
          Connect it
        </Button>
        <Button disabled={answering.isPending} onClick={() => answering.mutate(false)}>
          Do not connect it
        </Button>
        <Button disabled={answering.isPending} onClick={onAgain}>
          Another code
        </Button>
      </div>
      {choosing && (
        <ChooseReach
          chosen={within}
          onClose={() => setChoosing(false)}
          onChoose={(folder) => {
            setWithin([...within, folder]);
            setChoosing(false);
          }}
        />
      )}
    </form>
  );
}

/** One more folder that a computer may reach. */
function ChooseReach({
  chosen,
  onClose,
  onChoose,
}: {
  chosen: Chosen[];
  onClose: () => void;
  onChoose: (folder: Chosen) => void;
}) {
  const [here, setHere] = useState<string>();
  const facts = usePlace(here);
  const folder = here === undefined ? undefined : facts.data?.node;
  const there = folder !== undefined && chosen.some((c) => c.node === folder.id);
  return (
    <Dialog
      open
      onClose={onClose}
      title="A folder that it may reach"
      description={here === undefined ? "Choose a shelf." : (facts.data?.path ?? here)}
    >
      <FolderBrowser here={here} onGo={setHere} given />
      {there && <p className="mt-2 text-sm text-muted">That one is chosen already.</p>}
      <DialogActions>
        <Button onClick={onClose}>Cancel</Button>
        <Button
          look="primary"
          disabled={!folder || there}
          onClick={() => folder && onChoose({ node: folder.id, path: facts.data!.path })}
        >
          This folder
        </Button>
      </DialogActions>
    </Dialog>
  );
}
