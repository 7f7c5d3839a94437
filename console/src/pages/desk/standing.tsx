import type { Account } from "../../lib/api";
import { exactly, when } from "../../lib/show";
import { Chip } from "../../ui";

/** What is worth saying of an account first. */
export function Standing({ account: a }: { account: Account }) {
  if (a.leaves) {
    return (
      <span title={exactly(a.leaves)}>
        <Chip look="brick">is deleted {when(a.leaves)}</Chip>
      </span>
    );
  }
  if (a.why_disabled === "waiting") return <Chip look="gold">waits to be approved</Chip>;
  if (a.disabled) {
    return (
      <span title={exactly(a.disabled)}>
        <Chip look="brick">
          {a.why_disabled === "away" ? "away too long, disabled" : `disabled ${when(a.disabled)}`}
        </Chip>
      </span>
    );
  }
  if (a.invited) return <Chip>no password yet</Chip>;
  if (a.role === "administrator") return <Chip look="gold">administrator</Chip>;
  if (a.role === "guest") return <Chip>guest</Chip>;
  return <span className="text-[14.5px] text-muted max-md:hidden">member</span>;
}
