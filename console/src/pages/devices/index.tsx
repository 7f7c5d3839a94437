import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowDown, ArrowLeftRight, ArrowUp, MonitorSmartphone } from "lucide-react";
import { useState, type ReactNode } from "react";
import { useLocation } from "wouter";
import { api, type Device, type DevicePair, type Me, type Upload } from "../../lib/api";
import { count, exactly, plain, size, when } from "../../lib/show";
import { Button, Chip, Dialog, DialogActions, Empty, Frame, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

/** One's devices: what each may reach, how its pairs are, and ending what was lost. */
export default function DevicesPage({ frame }: { frame: { me: Me; onSignOut: () => void } }) {
  const devices = useQuery({ queryKey: key("devices"), queryFn: api.devices, refetchInterval: 20_000 });
  const [ending, setEnding] = useState<Device>();
  const [, go] = useLocation();
  const none = devices.data?.devices.length === 0;
  const connect = (
    <Button look="primary" onClick={() => go("/connect")}>
      Connect a computer
    </Button>
  );
  return (
    <Frame {...frame} heading={<h1 className="font-bold">Devices</h1>}>
      <div className="mx-auto max-w-[900px] px-8 pt-2 pb-10 max-sm:px-4">
        <div className="flex items-start gap-6 max-sm:flex-col max-sm:gap-3">
          <p className="flex-1 text-muted">
            Each device that works with your files has a sign-in of its own. End it here if the device is lost
            or no longer yours: it counts no more at once.
          </p>
          {!none && connect}
        </div>
        {devices.isPending && <Loading rows={3} />}
        {devices.isError && <Notice error={devices.error} retry={() => void devices.refetch()} />}
        {none && (
          <Empty title="No device is connected" action={connect}>
            With a computer connected, folders on it are kept the same as folders here, and files come and go
            by commands.
          </Empty>
        )}
        <ul className="mt-4">
          {devices.data?.devices.map((d) => (
            <DeviceItem key={d.id} device={d} onEnd={() => setEnding(d)} />
          ))}
        </ul>
        <HowTo />
      </div>
      <Unfinished />
      {ending && <EndDevice device={ending} onClose={() => setEnding(undefined)} />}
    </Frame>
  );
}

/** After so many days without a word one wonders whether a device is still there. */
const SILENT_MS = 14 * 86_400_000;

function DeviceItem({ device, onEnd }: { device: Device; onEnd: () => void }) {
  const pairs = device.report?.pairs ?? [];
  const silent = Date.now() - new Date(device.used ?? device.connected).getTime() > SILENT_MS;
  const gone = device.reach?.within.filter((w) => w.path === undefined).length ?? 0;
  return (
    <li className="flex items-start gap-4 border-b border-line py-3">
      <MonitorSmartphone size={22} strokeWidth={1.6} aria-hidden className="mt-0.5 shrink-0 text-muted" />
      <div className="min-w-0 flex-1">
        <div className="flex flex-wrap items-center gap-2">
          <span className="truncate font-semibold">{device.name}</span>
          {device.reach?.read_only && <Chip>only reads</Chip>}
          {silent && <Chip look="brick">not heard of for long</Chip>}
        </div>
        <div className="text-[14.5px] text-muted">
          {device.used ? (
            <span title={exactly(device.used)}>
              last used {when(device.used)}
              {device.used_from && ` from ${device.used_from}`}
            </span>
          ) : (
            "never used"
          )}
          , <span title={exactly(device.connected)}>connected {when(device.connected)}</span>
          {device.report?.program && `, ${device.report.program}`}
        </div>
        {device.reach && device.reach.within.length > 0 && (
          <div className="text-[14.5px] text-muted">
            reaches{" "}
            {device.reach.within
              .filter((w) => w.path !== undefined)
              .map((w, n) => (
                <span key={w.node}>
                  {n > 0 && ", "}
                  <span className="font-mono text-ink">{w.path}</span>
                </span>
              ))}
            {gone > 0 && (
              <>
                {gone < device.reach.within.length && " and "}
                {count(gone, "folder")} that you cannot see any more
              </>
            )}
          </div>
        )}
        {pairs.length > 0 && (
          <ul aria-label={`Pairs of ${device.name}`} className="mt-2 space-y-2">
            {pairs.map((p) => (
              <PairItem key={`${p.folder} ${p.place}`} pair={p} told={device.reported} />
            ))}
          </ul>
        )}
      </div>
      <Button onClick={onEnd} aria-label={`Disconnect ${device.name}`}>
        Disconnect
      </Button>
    </li>
  );
}

const ways: Record<string, [ReactNode, string]> = {
  both: [<ArrowLeftRight key="both" size={15} aria-hidden />, "both ways with"],
  down: [<ArrowDown key="down" size={15} aria-hidden />, "only down from"],
  up: [<ArrowUp key="up" size={15} aria-hidden />, "only up to"],
};

/** One local folder and the one here that it is kept the same as. */
function PairItem({ pair, told }: { pair: DevicePair; told?: string }) {
  const [icon, word] = ways[pair.way] ?? ways.both!;
  const { waiting = 0, trouble = 0 } = pair;
  const wants = pair.state === "stopped" || trouble > 0;
  const facts = [
    pair.in_step && `last in step ${when(pair.in_step)}`,
    waiting > 0 && `${waiting} waiting`,
    trouble > 0 && `${count(trouble, "thing")} to look at`,
  ].filter(Boolean);
  return (
    <li className="text-[14.5px]">
      <div className="flex flex-wrap items-center gap-x-2">
        <span className="font-mono break-all">{pair.folder}</span>
        <span className="inline-flex items-center gap-1 text-muted">
          {icon}
          <span className="sr-only">{word}</span>
        </span>
        <span className="font-mono break-all">{pair.place}</span>
        <Chip look={wants ? "brick" : "plain"}>{pair.state}</Chip>
      </div>
      <div className="text-muted">
        {pair.says && <div className={wants ? "text-brick" : undefined}>{pair.says}</div>}
        <span title={told && `told ${exactly(told)}`}>{facts.join(", ")}</span>
      </div>
    </li>
  );
}

/** How a computer is connected. */
function HowTo() {
  const program = useQuery({ queryKey: key("client"), queryFn: api.client, retry: false });
  const line =
    "mt-2 block rounded-lg border border-line bg-sheet p-3 font-mono text-[14px] break-all text-ink select-all";
  return (
    <section aria-label="How to connect a computer" className="mt-10">
      <h2 className="border-b border-line pb-2 text-xl font-bold">How to connect a computer</h2>
      <ol className="mt-3 list-decimal space-y-4 pl-6">
        <li>
          {program.data ? (
            <>
              <a className="text-teal underline" href="/api/v1/client/program" download="yattic">
                Download yattic
              </a>{" "}
              <span className="text-muted">
                for {program.data.system.replace("linux", "Linux")} ({size(program.data.size)}, version{" "}
                {program.data.version}), make it executable, and put it where programs lie. It is the right
                one if its SHA-256 is
              </span>
              <code className={line}>{program.data.sha256}</code>
            </>
          ) : (
            <span className="text-muted">Get the program yattic from whoever runs this service.</span>
          )}
        </li>
        <li>
          <span className="text-muted">In a terminal of that computer, say where the service is:</span>
          <code className={line}>yattic connect {window.location.origin}</code>
          <span className="mt-1 block text-muted">
            It shows a code, which you type under Connect a computer: there you choose what it may reach.
          </span>
        </li>
        <li>
          <span className="text-muted">Then keep a folder of it the same as one here:</span>
          <code className={line}>yattic sync add ~/Attic home:/</code>
        </li>
      </ol>
    </section>
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
      description="Its transfers stop at once. Files that it fetched stay on it. It can be connected again."
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
