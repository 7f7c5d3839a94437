import { useQuery } from "@tanstack/react-query";
import { Check, TriangleAlert } from "lucide-react";
import { outside } from "../../lib/outside";
import { count, exactly, when } from "../../lib/show";
import { Loading, Notice } from "../../ui";
import { GivenList } from "../outside/given";
import { key } from "../../lib/query-keys";

/** Everything that anybody gave out, and what strangers would get under the public address. */
export function OutsideDesk() {
  return (
    <>
      <AddressCheck />
      <GivenList all />
    </>
  );
}

function AddressCheck() {
  const check = useQuery({
    queryKey: key("public-address"),
    queryFn: outside.address,
    refetchInterval: 30_000,
  });
  if (check.isPending) return <Loading rows={2} />;
  if (check.isError) return <Notice error={check.error} retry={() => void check.refetch()} />;
  const { findings, seen } = check.data;
  return (
    <section aria-label="Public address" className="mt-3 rounded-lg border border-line bg-sheet p-4">
      <h2 className="font-semibold">What a stranger would get</h2>
      <ul className="mt-2">
        {findings.map((f) => (
          <li key={f.what} className="flex gap-2 py-1">
            {f.good ? (
              <Check size={18} aria-label="Good" className="mt-0.5 shrink-0 text-teal" />
            ) : (
              <TriangleAlert size={18} aria-label="Look at this" className="mt-0.5 shrink-0 text-brick" />
            )}
            <span className="min-w-0 break-words">
              {f.what} {f.remedy && <span className="text-muted">{f.remedy}</span>}
            </span>
          </li>
        ))}
      </ul>
      {seen.length > 0 && (
        <details className="mt-1 text-[14.5px]">
          <summary className="min-h-6 cursor-pointer text-muted">Addresses under which requests came</summary>
          <ul className="mt-1">
            {seen.map((s) => (
              <li key={s.address} className="flex flex-wrap justify-between gap-x-4 py-0.5">
                <span className="min-w-0 truncate font-mono">{s.address}</span>
                <span className="text-muted" title={exactly(s.last)}>
                  {count(s.times, "request")}, last {when(s.last)}
                </span>
              </li>
            ))}
          </ul>
        </details>
      )}
    </section>
  );
}
