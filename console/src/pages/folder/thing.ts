import { useEffect, useRef } from "react";
import { api, type Node } from "../../lib/api";
import { pageOf } from "../../lib/place";
import { wishOf, type Wish } from "../../lib/wish";
import { useToast } from "../../ui";

/** A thing that the page's address names, from a shelf's board or a command: goes to its folder, and tells of it there. */
export function useThing(
  address: string,
  search: URLSearchParams,
  go: (to: string, how: { replace: boolean }) => void,
  onFound: (node: Node, wish: Wish | undefined) => void,
) {
  const toast = useToast();
  const thing = search.get("thing");
  const wished = thing === null ? undefined : search.toString();
  const found = useRef(onFound);
  found.current = onFound;
  useEffect(() => {
    if (!thing) return;
    const wish = wished === undefined ? undefined : wishOf(new URLSearchParams(wished));
    void api
      .facts(Number(thing))
      .then((f) => {
        const parent = f.path.slice(0, f.path.lastIndexOf("/")) || f.path;
        go(pageOf(parent), { replace: true });
        setTimeout(() => found.current(f.node, wish));
      })
      .catch((e: unknown) => {
        go(address, { replace: true });
        toast.refuse(e);
      });
  }, [thing, wished, address, go, toast]);
}
