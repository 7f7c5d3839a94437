import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Undo2 } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import { api, contentAddress, type GivenPlace, type Node } from "../../lib/api";
import { pageOf } from "../../lib/place";
import { exactly, shortDay, size } from "../../lib/show";
import { Face, IconButton, useToast } from "../../ui";
import { Editor } from "../folder/editor";
import { Look } from "../folder/preview";
import { mayWords } from "../rights";
import { key } from "../../lib/query-keys";

/** What one was given below the top of a shelf: it stands by itself, with who gave it. */
export function Given({ given }: { given: GivenPlace[] }) {
  const queries = useQueryClient();
  const toast = useToast();
  const [looking, setLooking] = useState<Node>();
  const [editing, setEditing] = useState<Node>();
  const back = useMutation({
    mutationFn: (g: GivenPlace) => api.endGrant(g.grant!),
    onSuccess: async (_, g) => {
      await queries.invalidateQueries({ queryKey: key("shelves") });
      toast.say(`"${g.node.name}" is no longer given to you.`);
    },
    onError: (e) => toast.refuse(e),
  });
  if (given.length === 0) return null;
  const levelOf = (node?: Node) => given.find((g) => g.node.id === node?.id)?.level;
  const mayEdit = levelOf(looking) === "edit" || levelOf(looking) === "manage";
  return (
    <section aria-label="Given to you" className="pt-10">
      <h2 className="pb-2 text-lg font-bold">Given to you</h2>
      <ul>
        {given.map((g) => (
          <li key={g.node.id} className="flex items-center gap-3 border-t border-line py-2.5">
            <span className="flex size-[34px] shrink-0 items-center justify-center overflow-hidden rounded text-muted">
              <Face node={g.node} className="size-full" />
            </span>
            <div className="min-w-0 flex-1">
              {g.node.kind === "folder" ? (
                <Link href={pageOf(g.path)} className="block truncate font-semibold hover:underline">
                  {g.path.slice("given:/".length)}
                </Link>
              ) : (
                <button
                  type="button"
                  onClick={() => setLooking(g.node)}
                  className="block max-w-full truncate text-left font-semibold hover:underline"
                >
                  {g.path.slice("given:/".length)}
                </button>
              )}
              <p className="truncate text-[14.5px] text-muted" title={g.message}>
                {g.by ? `by ${g.by}; ` : ""}you {mayWords[g.level]}
                {g.until && <span title={exactly(g.until)}>, until {shortDay(new Date(g.until))}</span>}
                {g.message && `: “${g.message}”`}
              </p>
            </div>
            {(g.node.kind === "file" || g.node.sums) && (
              <span className="font-mono text-[14px] max-sm:hidden">{size(g.node.size)}</span>
            )}
            {g.grant !== undefined && (
              <IconButton
                label={`Give ${g.node.name} back`}
                disabled={back.isPending}
                onClick={() => back.mutate(g)}
              >
                <Undo2 size={18} />
              </IconButton>
            )}
          </li>
        ))}
      </ul>
      <Look
        node={looking}
        onClose={() => setLooking(undefined)}
        onDownload={(node) => window.location.assign(contentAddress(node.id, undefined, true))}
        onEdit={
          mayEdit
            ? (node) => {
                setLooking(undefined);
                setEditing(node);
              }
            : undefined
        }
      />
      {editing && (
        <Editor
          node={editing}
          onClose={() => setEditing(undefined)}
          onDone={() => queries.invalidateQueries({ queryKey: key("shelves") })}
        />
      )}
    </section>
  );
}
