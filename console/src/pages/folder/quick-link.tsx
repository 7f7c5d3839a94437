import { useEffect, useRef, useState } from "react";
import { useQueryClient } from "@tanstack/react-query";
import { Copy } from "lucide-react";
import type { Node } from "../../lib/api";
import { outside, type Opening, type OpeningSet } from "../../lib/outside";
import { moment, plain } from "../../lib/show";
import { Button, Dialog, DialogActions, Field, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

const day = 86_400_000;

/** A link by one press: made with what the rules have, and copied; its terms can be set after, in quick steps. */
export function QuickLink({
  node,
  onClose,
  onMore,
}: {
  node: Node;
  onClose: () => void;
  onMore: () => void;
}) {
  const [link, setLink] = useState<Opening>();
  const [error, setError] = useState<unknown>();
  const [copied, setCopied] = useState(false);
  const [password, setPassword] = useState<string>();
  const begun = useRef(false);
  const toast = useToast();
  const queries = useQueryClient();
  const copy = async (address: string) => {
    try {
      await navigator.clipboard.writeText(address);
      setCopied(true);
    } catch {
      // No clipboard without https: the address stands there to be taken by hand.
      setCopied(false);
    }
  };
  useEffect(() => {
    if (begun.current) return;
    begun.current = true;
    outside
      .make({ kind: "link", node: node.id, set: {} })
      .then(async (made) => {
        setLink(made);
        await copy(made.address!);
        await queries.invalidateQueries({ queryKey: key("openings") });
      })
      .catch(setError);
  }, [node.id, queries]);
  const set = async (terms: OpeningSet) => {
    try {
      setLink(await outside.change(link!.id, terms));
      await queries.invalidateQueries({ queryKey: key("openings") });
    } catch (e) {
      toast.refuse(e);
    }
  };
  const until = (days: number) => set({ ends: new Date(Date.now() + days * day).toISOString() });
  return (
    <Dialog open onClose={onClose} title={`A link to "${plain(node.name)}"`}>
      {error !== undefined && <Notice error={error} />}
      {error === undefined && !link && <Loading rows={2} />}
      {link && (
        <>
          <p className="flex items-center gap-2">
            <input
              readOnly
              aria-label="The address"
              value={link.address}
              onFocus={(e) => e.target.select()}
              className="min-h-9 min-w-0 flex-1 rounded-lg border border-line bg-paper px-3 font-mono text-[14px]"
            />
            <Button icon={<Copy size={17} />} onClick={() => void copy(link.address!)}>
              Copy
            </Button>
          </p>
          <p role="status" className="mt-2 text-[14.5px] text-muted">
            {copied ? "It is copied. " : "Take it from here. "}
            {termsOf(link)}
          </p>
          <fieldset className="mt-4">
            <legend className="mb-1 text-[14.5px] font-semibold text-muted">Limit it</legend>
            <div className="flex flex-wrap gap-2">
              <Button onClick={() => void until(1)}>One day</Button>
              <Button onClick={() => void until(7)}>One week</Button>
              <Button onClick={() => void set({ most: 1 })}>Once</Button>
              <Button onClick={() => setPassword("")}>Password</Button>
            </div>
          </fieldset>
          {password !== undefined && (
            <form
              className="mt-3 flex items-end gap-2"
              onSubmit={(e) => {
                e.preventDefault();
                void set({ password }).then(() => setPassword(undefined));
              }}
            >
              <Field
                label="Its password"
                type="text"
                autoFocus
                autoComplete="off"
                value={password}
                onChange={(e) => setPassword(e.target.value)}
              />
              <Button type="submit" look="primary" disabled={password === ""}>
                Set it
              </Button>
            </form>
          )}
          <DialogActions>
            <Button look="quiet" onClick={onMore}>
              All its terms
            </Button>
            <Button
              look="quiet"
              onClick={() => void set({ ended: true }).then(onClose)}
              className="hover:text-brick"
            >
              End it
            </Button>
            <Button look="primary" onClick={onClose}>
              Done
            </Button>
          </DialogActions>
        </>
      )}
    </Dialog>
  );
}

function termsOf(link: Opening): string {
  const may = { view: "look at it", download: "download it", add: "put things in", edit: "change it" };
  const who = link.password ? "Whoever has it and the password may" : "Whoever has it may";
  const often = link.most === 1 ? ", once" : link.most ? `, ${link.most} times` : "";
  const end = link.until ? `, until ${moment(new Date(link.until))}` : ", with no end date";
  return `${who} ${may[link.can]}${often}${end}.`;
}
