import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { key } from "../lib/query-keys";
import { count, size } from "../lib/show";
import { Button } from "../ui/button";
import { Dialog, DialogActions } from "../ui/dialog";
import { Choice } from "../ui/field";
import { FormError } from "../ui/states";
import { useToast } from "../ui/toast";
import { FilterFields } from "./filter";
import { everything, here, type Count, type Left, type NewPair, type Now, type Preview } from "./here";
import { LocalPicker, RemotePicker } from "./pickers";
import { Some } from "./some";

type Step = "here" | "there" | "how" | "preview";

/** A new pair: a folder here, one there, what is carried, and what joining both would do. */
export function NewPairDialog({ now, onClose }: { now: Now; onClose: () => void }) {
  const services = Object.keys(now.services);
  const toast = useToast();
  const [step, setStep] = useState<Step>("here");
  const [local, setLocal] = useState<string>();
  const [remote, setRemote] = useState<string>();
  const [pair, setPair] = useState<Omit<NewPair, "local" | "remote">>({
    service: services[0] ?? "",
    way: "both",
    filter: everything,
  });
  const chosen = useQuery({
    queryKey: key("local", local),
    queryFn: () => here.folders(local),
    enabled: step === "here",
  });
  const whole = (): NewPair => ({ ...pair, local: chosen.data?.path ?? local!, remote: remote! });
  const looking = useMutation({
    mutationFn: () => here.preview(whole()),
    onSuccess: () => setStep("preview"),
  });
  const adding = useMutation({
    mutationFn: () => here.add(whole()),
    onSuccess: () => {
      toast.say("It is at work.");
      onClose();
    },
  });
  if (services.length === 0) {
    return (
      <Dialog
        open
        onClose={onClose}
        title="Keep a folder the same"
        description="This computer is connected to no service yet. In a terminal: yattic connect ADDRESS"
      >
        <DialogActions>
          <Button onClick={onClose}>Close</Button>
        </DialogActions>
      </Dialog>
    );
  }
  const titles: Record<Step, string> = {
    here: "Which folder of this computer?",
    there: "The same as which folder of the service?",
    how: "What is carried?",
    preview: "This is what joining both would do",
  };
  return (
    <Dialog open onClose={onClose} title={titles[step]}>
      {step === "here" && (
        <>
          <LocalPicker path={local} onGo={setLocal} />
          <DialogActions>
            <Button onClick={onClose}>Cancel</Button>
            <Button
              look="primary"
              disabled={!chosen.data || chosen.data.taken !== null || chosen.data.holds !== null}
              onClick={() => {
                setLocal(chosen.data!.path);
                setStep("there");
              }}
            >
              This one
            </Button>
          </DialogActions>
        </>
      )}
      {step === "there" && (
        <>
          {services.length > 1 && (
            <Choice
              className="mb-3"
              label="Service"
              value={pair.service}
              onChange={(e) => {
                setPair({ ...pair, service: e.target.value, filter: everything });
                setRemote(undefined);
              }}
              options={services.map((s) => [s, `${s} as ${now.services[s]}`])}
            />
          )}
          <RemotePicker service={pair.service} path={remote} onGo={setRemote} />
          <DialogActions>
            <Button onClick={() => setStep("here")}>Back</Button>
            <Button look="primary" disabled={remote === undefined} onClick={() => setStep("how")}>
              This one
            </Button>
          </DialogActions>
        </>
      )}
      {step === "how" && (
        <>
          <Choice
            label="Way"
            value={pair.way}
            onChange={(e) => setPair({ ...pair, way: e.target.value as NewPair["way"] })}
            options={[
              ["both", "Both ways: what changes on one side comes to the other"],
              ["down", "Only down: from the service to this computer"],
              ["up", "Only up: from this computer to the service"],
            ]}
          />
          <FilterFields
            service={pair.service}
            top={remote!}
            filter={pair.filter}
            onChange={(filter) => setPair({ ...pair, filter })}
          />
          <FormError error={looking.error} />
          <DialogActions>
            <Button onClick={() => setStep("there")}>Back</Button>
            <Button look="primary" disabled={looking.isPending} onClick={() => looking.mutate()}>
              {looking.isPending ? "Looking at both" : "Look first"}
            </Button>
          </DialogActions>
        </>
      )}
      {step === "preview" && looking.data && (
        <>
          <p className="text-muted">
            <span className="font-mono break-all">{whole().local}</span> and{" "}
            <span className="font-mono break-all">{remote}</span>. Nothing was changed yet.
          </p>
          <PreviewTable preview={looking.data} />
          <FormError error={adding.error} />
          <DialogActions>
            <Button onClick={() => setStep("how")}>Back</Button>
            <Button look="primary" disabled={adding.isPending} onClick={() => adding.mutate()}>
              Keep them the same
            </Button>
          </DialogActions>
        </>
      )}
    </Dialog>
  );
}

function PreviewTable({ preview }: { preview: Preview }) {
  const rows: [string, Count][] = [
    ["Equal, and matched", preview.same],
    ["To send", preview.send],
    ["To fetch", preview.fetch],
    ["Left out as chosen", preview.out.count],
  ];
  return (
    <>
      <table className="mt-3 w-full">
        <tbody>
          {rows
            .filter(([word, c]) => c.files > 0 || word !== "Left out as chosen")
            .map(([word, c]) => (
              <tr key={word} className="border-b border-line">
                <th scope="row" className="py-1.5 text-left font-normal">
                  {word}
                </th>
                <td className="py-1.5 text-right">{count(c.files, "file")}</td>
                <td className="py-1.5 pl-4 text-right font-mono text-[14.5px]">{size(c.bytes)}</td>
              </tr>
            ))}
        </tbody>
      </table>
      <Some title="Different under one name, so kept twice" all={preview.twice} />
      <Some title="Left alone" all={preview.left.map((l: Left) => `${l.path}: ${l.why}`)} />
      <Some title="Left out" all={preview.out.examples.map((l) => `${l.path}: ${l.why}`)} />
    </>
  );
}
