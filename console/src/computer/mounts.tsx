import { HardDrive } from "lucide-react";
import { size } from "../lib/show";
import { Chip } from "../ui/chip";
import { type Mounted } from "./here";

/** Folders in which all of a service is at hand, and what of it lies here. */
export function MountsPart({ mounts }: { mounts: Mounted[] }) {
  if (mounts.length === 0) return null;
  return (
    <>
      {mounts.map((mount) => (
        <MountPart key={mount.at} mount={mount} />
      ))}
    </>
  );
}

function MountPart({ mount }: { mount: Mounted }) {
  const { sums } = mount;
  const trouble = sums !== null && sums.trouble.length > 0;
  const [state, look] = !sums
    ? (["not mounted", "plain"] as const)
    : trouble
      ? (["needs you", "brick"] as const)
      : sums.away
        ? (["waiting", "plain"] as const)
        : sums.in_step
          ? (["all sent up", "plain"] as const)
          : (["at work", "gold"] as const);
  const part = sums && sums.limit > 0 ? Math.min(100, Math.round((sums.held / sums.limit) * 100)) : 0;
  return (
    <section
      aria-label={`${mount.at}, mounted`}
      className="mt-7 rounded-xl border border-line bg-sheet px-5 pt-4 pb-4 max-sm:px-4"
    >
      <div className="flex items-start gap-3">
        <h2 className="min-w-0 flex-1">
          <HardDrive size={17} aria-hidden className="mr-2 inline -translate-y-px text-muted" />
          <span className="font-mono wrap-anywhere">{mount.at}</span>{" "}
          <span className="text-muted">mounted from</span>{" "}
          <span className="font-mono wrap-anywhere">{mount.service}</span>
        </h2>
        <Chip look={look}>{state}</Chip>
      </div>
      {!sums && (
        <p className="mt-1 text-muted">
          What was not sent up goes up when it is mounted again:{" "}
          <code className="font-mono wrap-anywhere">yattic mount {mount.at}</code>
        </p>
      )}
      {sums && (
        <>
          <p className="mt-1 text-muted">
            {size(sums.held)} of at most {size(sums.limit)} lie on this computer
            {sums.owed > 0 ? `; ${size(sums.owed)} are to be sent up` : ""}.
          </p>
          <progress
            className="mt-2 block h-1.5 w-full overflow-hidden rounded-full bg-line [&::-moz-progress-bar]:bg-teal [&::-webkit-progress-bar]:bg-line [&::-webkit-progress-value]:bg-teal"
            aria-label={`Room taken: ${part} %`}
            max={sums.limit}
            value={Math.min(sums.held, sums.limit)}
          />
          {sums.away && (
            <p role="alert" className="mt-3 rounded-lg bg-brick-wash p-3">
              {sums.away.charAt(0).toUpperCase() + sums.away.slice(1)}
              {/[.?]$/.test(sums.away) ? "" : "."}
            </p>
          )}
          {trouble && (
            <ul aria-label={`In trouble in ${mount.at}`} className="mt-3 space-y-1.5 text-[14.5px]">
              {sums.trouble.map((left) => (
                <li key={`${left.path} ${left.why}`}>
                  <span className="font-mono break-all">{left.path}</span>
                  <span className="text-muted">: {left.why}</span>
                </li>
              ))}
            </ul>
          )}
        </>
      )}
    </section>
  );
}
