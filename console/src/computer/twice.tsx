import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { key } from "../lib/query-keys";
import { exactly, size, when } from "../lib/show";
import { Button } from "../ui/button";
import { Dialog, DialogActions } from "../ui/dialog";
import { FormError, Loading } from "../ui/states";
import { useToast } from "../ui/toast";
import { here, type Pair, type Side, type Twice } from "./here";

/** What two changed at once, until somebody has chosen. */
export function TwicePart({ copies, pairs }: { copies: Twice[]; pairs: Pair[] }) {
  const [looking, setLooking] = useState<Twice>();
  if (copies.length === 0) return null;
  const several = pairs.length > 1;
  return (
    <section aria-label="Kept twice" className="mt-7">
      <h2 className="border-b border-line pb-2 text-lg font-bold">Kept twice</h2>
      <p className="pt-2 text-muted">Two changed these at once. Both are kept until you choose.</p>
      <ul>
        {copies.map((twice) => (
          <li
            key={`${twice.pair} ${twice.copy.path}`}
            className="flex items-center gap-4 border-b border-line py-2.5 max-sm:flex-col max-sm:items-start"
          >
            <div className="min-w-0 flex-1">
              <div className="font-semibold break-words">{twice.copy.path}</div>
              <div className="text-[14.5px] text-muted">
                {size(twice.copy.size)}, changed{" "}
                <span title={exactly(twice.copy.modified)}>{when(twice.copy.modified)}</span>
                {several && `, in ${pairs.find((p) => p.id === twice.pair)?.local ?? ""}`}
              </div>
            </div>
            <Button onClick={() => setLooking(twice)}>Look and choose</Button>
          </li>
        ))}
      </ul>
      {looking && <TwiceDialog twice={looking} onClose={() => setLooking(undefined)} />}
    </section>
  );
}

function TwiceDialog({ twice, onClose }: { twice: Twice; onClose: () => void }) {
  const toast = useToast();
  const settling = useMutation({
    mutationFn: (keep: "copy" | "original" | "both") => here.settle(twice, keep),
    onSuccess: (path) => {
      toast.say(`Settled: ${path} stays.`);
      onClose();
    },
  });
  return (
    <Dialog
      open
      wide
      onClose={onClose}
      title="Two changed it at once"
      description="Whichever you choose, the other state stays in the history or in the trash of the service."
    >
      <div className="grid grid-cols-2 gap-4 max-sm:grid-cols-1">
        {twice.original && <SideView twice={twice} side={twice.original} head="The file" />}
        <SideView twice={twice} side={twice.copy} head="The copy" />
      </div>
      {!twice.original && (
        <p className="mt-3 text-muted">The file that it is a copy of is not there any more under its name.</p>
      )}
      <FormError error={settling.error} />
      <DialogActions>
        <Button onClick={onClose}>Not now</Button>
        {twice.original && (
          <>
            <Button disabled={settling.isPending} onClick={() => settling.mutate("original")}>
              Keep the file
            </Button>
            <Button disabled={settling.isPending} onClick={() => settling.mutate("copy")}>
              Keep the copy
            </Button>
          </>
        )}
        <Button look="primary" disabled={settling.isPending} onClick={() => settling.mutate("both")}>
          Keep both
        </Button>
      </DialogActions>
    </Dialog>
  );
}

const pictures = /\.(png|jpe?g|gif|webp|bmp)$/i;
const texts = /\.(txt|md|csv|json|toml|ya?ml|xml|html?|css|[jt]sx?|rs|py|sh|ini|log|tex|svg)$/i;
/** The most of a text that is shown. */
const most = 200_000;

function SideView({ twice, side, head }: { twice: Twice; side: Side; head: string }) {
  const isPicture = pictures.test(side.path);
  const isText = texts.test(side.path) && side.size < 4 << 20;
  const bytes = useQuery({
    queryKey: key("side", twice.pair, side.path, side.modified),
    queryFn: async () => {
      const answer = await fetch(here.bytes(twice, side));
      if (!answer.ok) throw new Error("It cannot be shown here.");
      const blob = await answer.blob();
      return isPicture ? URL.createObjectURL(blob) : (await blob.text()).slice(0, most);
    },
    enabled: isPicture || isText,
  });
  return (
    <section aria-label={head} className="min-w-0">
      <h3 className="font-semibold">{head}</h3>
      <p className="text-[14.5px] text-muted">
        <span className="break-words text-ink">{side.path}</span>
        <br />
        {size(side.size)}, changed <span title={exactly(side.modified)}>{when(side.modified)}</span>
      </p>
      <div className="mt-2 h-72 overflow-auto rounded-lg border border-line bg-paper" tabIndex={0}>
        {(isPicture || isText) && bytes.isPending && <Loading rows={3} />}
        {bytes.isError && <p className="p-4 text-muted">{bytes.error.message}</p>}
        {isPicture && bytes.data && (
          <img src={bytes.data} alt={side.path} className="mx-auto max-h-full max-w-full object-contain" />
        )}
        {isText && bytes.data !== undefined && (
          <pre className="p-3 font-mono text-[13px] whitespace-pre-wrap">{bytes.data}</pre>
        )}
        {!isPicture && !isText && (
          <p className="p-4 text-muted">
            This kind of file is not shown here. Open both with a program of yours:
            <br />
            <span className="font-mono text-[13px] break-all">{side.local}</span>
          </p>
        )}
      </div>
    </section>
  );
}
