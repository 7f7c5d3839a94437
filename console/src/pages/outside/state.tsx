import { Chip } from "../../ui";

/** How something that was given out stands. */
export function State({ state, why }: { state: string; why?: string }) {
  const look = state === "open" ? "gold" : ["against a rule", "asleep"].includes(state) ? "brick" : "plain";
  return (
    <span title={why || undefined}>
      <Chip look={look}>{state}</Chip>
    </span>
  );
}

/** What strangers may do by a link, as one says it. */
export const canWords: Record<string, string> = {
  view: "look only",
  download: "look and download",
  add: "look, download and add",
  edit: "look, download, add and change",
  "hand in": "hand files in",
};
