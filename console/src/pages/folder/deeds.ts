import type { DragEvent } from "react";
import { api, contentAddress, type Node } from "../../lib/api";
import { dragging } from "../../lib/dragging";
import { dropped } from "../../lib/dropped";
import { count } from "../../lib/show";
import { uploads } from "../../lib/uploads";
import { useToast } from "../../ui";

/** What is done to several things at once, each with what it says and how it is undone. */
export function useDeeds(
  at: string | undefined,
  unselect: () => void,
  changed: () => Promise<void>,
  toNow: () => void,
) {
  const toast = useToast();
  const fetchFrom = (from: string, name: string) => {
    const a = document.createElement("a");
    a.href = from;
    a.download = name;
    a.click();
  };
  const download = (node: Node) => fetchFrom(contentAddress(node.id, at, true), node.name);
  const downloadAll = async (nodes: Node[]) => {
    if (nodes.length === 1 && nodes[0]!.kind === "file") return download(nodes[0]!);
    try {
      const archive = await api.gather(
        nodes.map((n) => n.id),
        at,
      );
      if (archive.left_out.length > 0) {
        toast.say(
          `${count(archive.left_out.length, "file")} cannot be in it: another program overwrote the bytes. ${archive.left_out[0]!}`,
        );
      }
      fetchFrom(archive.address, archive.name);
    } catch (e) {
      toast.refuse(e);
    }
  };
  /** What was dropped on a folder: files from the computer, or things from here. */
  const take = async (to: { id: number; name: string }, e: DragEvent) => {
    if (e.dataTransfer.types.includes("Files")) {
      uploads.add(to.id, await dropped(e.dataTransfer));
      return;
    }
    const copy = e.ctrlKey || e.altKey;
    const nodes = dragging.take().filter((n) => n.id !== to.id && (copy || n.parent !== to.id));
    let done = 0;
    for (const node of nodes) {
      try {
        if (copy) await api.copy(node.id, { parent: to.id });
        else await api.change(node.id, { parent: to.id });
        done += 1;
      } catch (error) {
        toast.refuse(error);
      }
    }
    if (done === 0) return;
    unselect();
    await changed();
    const what = done === 1 ? `"${nodes[0]!.name}"` : count(done, "thing");
    toast.say(
      `${copy ? "Copied" : "Moved"} ${what} to "${to.name}".`,
      copy
        ? undefined
        : {
            word: "Undo",
            run: () => {
              void Promise.all(nodes.map((n) => api.change(n.id, { parent: n.parent })))
                .catch((error: unknown) => toast.refuse(error))
                .then(changed);
            },
          },
    );
  };
  const remove = async (nodes: Node[]) => {
    const gone: Node[] = [];
    for (const node of nodes) {
      try {
        await api.remove(node.id);
        gone.push(node);
      } catch (e) {
        toast.refuse(e);
      }
    }
    unselect();
    await changed();
    if (gone.length === 0) return;
    const what = gone.length === 1 ? `"${gone[0]!.name}"` : count(gone.length, "thing");
    toast.say(`Removed ${what}. It is in the trash of this folder.`, {
      word: "Undo",
      run: () => {
        void Promise.all(gone.map((n) => api.restore(n.id, {})))
          .then(() => toast.say(`Brought back ${what}.`))
          .catch((e: unknown) => toast.refuse(e))
          .then(changed);
      },
    });
  };
  const bringBack = async (nodes: Node[]) => {
    let done = 0;
    for (const node of nodes) {
      try {
        await api.restore(node.id, { at });
        done += 1;
      } catch (e) {
        toast.refuse(e);
      }
    }
    await changed();
    if (done > 0) {
      toast.say(`Brought back ${done === 1 ? `"${nodes[0]!.name}"` : count(done, "thing")} as it was.`, {
        word: "Back to now",
        run: toNow,
      });
    }
  };
  return { download, downloadAll, take, remove, bringBack };
}
