import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { MonitorSmartphone } from "lucide-react";
import { useState } from "react";
import { api, type Device, type Me, type Upload } from "../../lib/api";
import { exactly, plain, size, when } from "../../lib/show";
import { Button, Dialog, DialogActions, Empty, Frame, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

/** One's connected computers: when they were last used, and ending what was lost. */
export default function ComputersPage({ frame }: { frame: { me: Me; onSignOut: () => void } }) {
  const devices = useQuery({ queryKey: key("devices"), queryFn: api.devices, refetchInterval: 20_000 });
  const [ending, setEnding] = useState<Device>();
  return (
    <Frame {...frame} heading={<h1 className="font-bold">Computers</h1>}>
      <div className="mx-auto max-w-[900px] px-8 pt-2 pb-10 max-sm:px-4">
        <p className="text-muted">
          Each computer that works with your files has a sign-in of its own. End it here if the computer is
          lost or no longer yours: it counts no more at once.
        </p>
        {devices.isPending && <Loading rows={3} />}
        {devices.isError && <Notice error={devices.error} retry={() => void devices.refetch()} />}
        {devices.data?.devices.length === 0 && (
          <Empty title="No computer is connected">
            On a computer with the command-line client, run:
            <code className="mt-3 block rounded-lg border border-line bg-sheet p-3 text-left font-mono text-[14px] break-all text-ink">
              yattic connect {window.location.origin}
            </code>
          </Empty>
        )}
        <ul className="mt-4">
          {devices.data?.devices.map((d) => (
            <li key={d.id} className="flex items-center gap-4 border-b border-line py-3">
              <MonitorSmartphone size={22} strokeWidth={1.6} aria-hidden className="shrink-0 text-muted" />
              <div className="min-w-0 flex-1">
                <div className="truncate font-semibold">{d.name}</div>
                <div className="text-[14.5px] text-muted">
                  {d.used ? (
                    <span title={exactly(d.used)}>
                      last used {when(d.used)}
                      {d.used_from && ` from ${d.used_from}`}
                    </span>
                  ) : (
                    "never used"
                  )}
                  , <span title={exactly(d.connected)}>connected {when(d.connected)}</span>
                </div>
              </div>
              <Button onClick={() => setEnding(d)} aria-label={`Disconnect ${d.name}`}>
                Disconnect
              </Button>
            </li>
          ))}
        </ul>
      </div>
      <Unfinished />
      {ending && <EndDevice device={ending} onClose={() => setEnding(undefined)} />}
    </Frame>
  );
}

/** Uploads that are not whole: each speaks for its room. */
function Unfinished() {
  const queries = useQueryClient();
  const toast = useToast();
  const found = useQuery({ queryKey: key("uploads"), queryFn: api.uploads, refetchInterval: 20_000 });
  const ending = useMutation({
    mutationFn: (upload: Upload) => api.endUpload(upload.id),
    onSuccess: async (_, upload) => {
      await queries.invalidateQueries({ queryKey: key("uploads") });
      toast.say(`"${upload.name}" is not sent any more. Its room is free.`);
    },
    onError: (e) => toast.refuse(e),
  });
  const uploads = found.data?.uploads ?? [];
  if (uploads.length === 0) return null;
  return (
    <section aria-label="Unfinished uploads" className="mx-auto max-w-[900px] px-8 pb-10 max-sm:px-4">
      <h2 className="border-b border-line pb-2 text-xl font-bold">Unfinished uploads</h2>
      <p className="pt-2 text-muted">
        Each speaks for its room until it is whole. What nobody goes on with for three days ends by itself.
      </p>
      <ul>
        {uploads.map((u) => (
          <li key={u.id} className="flex items-center gap-4 border-b border-line py-3">
            <div className="min-w-0 flex-1">
              <div className="truncate font-semibold">{plain(u.name)}</div>
              <div className="text-[14.5px] text-muted">
                {size(u.received)} of {size(u.size)} here,{" "}
                <span title={exactly(u.begun)}>begun {when(u.begun)}</span>
              </div>
            </div>
            <Button disabled={ending.isPending} onClick={() => ending.mutate(u)} aria-label={`End ${u.name}`}>
              End
            </Button>
          </li>
        ))}
      </ul>
    </section>
  );
}

function EndDevice({ device, onClose }: { device: Device; onClose: () => void }) {
  const queries = useQueryClient();
  const toast = useToast();
  const ending = useMutation({
    mutationFn: () => api.endDevice(device.id),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: key("devices") });
      toast.say(`"${device.name}" is disconnected.`);
      onClose();
    },
  });
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Disconnect "${device.name}"`}
      description="Its transfers stop at once. Files that it fetched stay on it. It can be connected again with the password."
    >
      {ending.isError && <Notice error={ending.error} />}
      <DialogActions>
        <Button onClick={onClose}>Cancel</Button>
        <Button look="loss" disabled={ending.isPending} onClick={() => ending.mutate()}>
          Disconnect
        </Button>
      </DialogActions>
    </Dialog>
  );
}
