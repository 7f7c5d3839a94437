import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { kept, type LetGo } from "../../lib/kept";
import { count, size } from "../../lib/show";
import { Button, Dialog, DialogActions, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

/** The only thing that cannot be undone: what goes is shown first, and exactly that goes. */
export function LettingGo({
  what,
  title,
  onClose,
}: {
  what: LetGo;
  title: string;
  onClose: (done: boolean) => void;
}) {
  const queries = useQueryClient();
  const toast = useToast();
  const preview = useQuery({
    queryKey: key("letting go", what),
    queryFn: () => kept.lookAtLettingGo(what),
    gcTime: 0,
  });
  const seen = preview.data;
  const going = useMutation({
    mutationFn: () => kept.letGo(what, seen!.token),
    onSuccess: async (done) => {
      await queries.invalidateQueries();
      toast.say(`Gone for good: ${count(done.states, "state")}, ${size(done.bytes)}.`);
      onClose(true);
    },
    onError: (e) => {
      toast.refuse(e);
      void preview.refetch();
    },
  });
  return (
    <Dialog
      open
      onClose={() => onClose(false)}
      title={title}
      description="This is the one thing here that cannot be undone."
    >
      {preview.isPending && <Loading rows={3} />}
      {preview.isError && <Notice error={preview.error} />}
      {seen && (
        <div className="min-h-0 overflow-y-auto">
          {seen.states > 0 ? (
            <p>
              <strong>{count(seen.states, "state")}</strong> with <strong>{size(seen.bytes)}</strong> would be
              gone for good. That they were there stays written down.
            </p>
          ) : (
            <p>Nothing of it can go.</p>
          )}
          {seen.largest.length > 0 && (
            <ul className="mt-3 max-h-48 overflow-y-auto rounded-lg border border-line p-2 text-[14.5px]">
              {seen.largest.map((s, i) => (
                <li key={i} className="flex items-baseline justify-between gap-3 py-0.5">
                  <span className="min-w-0 truncate">{s.name}</span>
                  <span className="font-mono text-[14px] whitespace-nowrap">{size(s.size)}</span>
                </li>
              ))}
            </ul>
          )}
          {seen.kept.length > 0 && (
            <>
              <p className="mt-3 font-semibold">
                {count(seen.kept.length, "thing")} {seen.kept.length === 1 ? "stays" : "stay"}:
              </p>
              <ul className="mt-1 max-h-36 overflow-y-auto text-[14.5px]">
                {seen.kept.map(([name, why], i) => (
                  <li key={i} className="py-0.5">
                    {name}: {why}
                  </li>
                ))}
              </ul>
            </>
          )}
        </div>
      )}
      <DialogActions>
        <Button onClick={() => onClose(false)}>Cancel</Button>
        <Button
          look="loss"
          disabled={!seen || seen.states === 0 || going.isPending}
          onClick={() => going.mutate()}
        >
          {going.isPending ? "Under way" : seen ? `Remove ${size(seen.bytes)} for good` : "Remove for good"}
        </Button>
      </DialogActions>
    </Dialog>
  );
}
