import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { size } from "../lib/show";
import { Button } from "../ui/button";
import { Field } from "../ui/field";
import { FormError } from "../ui/states";
import { useToast } from "../ui/toast";
import { here, type Limits } from "./here";
import { bytesOf } from "./words";

/** How fast and when anything is carried. */
export function LimitsPart({ limits }: { limits: Limits }) {
  const [open, setOpen] = useState(false);
  const said = [
    limits.up ? `sends at most ${size(limits.up)} a second` : undefined,
    limits.down ? `fetches at most ${size(limits.down)} a second` : undefined,
    limits.quiet ? `carries nothing from ${limits.quiet[0]} to ${limits.quiet[1]}` : undefined,
  ].filter(Boolean);
  return (
    <section aria-label="How fast and when" className="mt-8">
      <h2 className="border-b border-line pb-2 text-lg font-bold">How fast and when</h2>
      {open ? (
        <LimitsForm limits={limits} onDone={() => setOpen(false)} />
      ) : (
        <p className="flex items-center gap-4 pt-2 text-muted">
          <span className="flex-1">
            {said.length === 0 ? "As fast as it goes, at any hour." : `This computer ${said.join(", ")}.`}
          </span>
          <Button onClick={() => setOpen(true)}>Change</Button>
        </p>
      )}
    </section>
  );
}

function LimitsForm({ limits, onDone }: { limits: Limits; onDone: () => void }) {
  const toast = useToast();
  const [up, setUp] = useState(limits.up ? size(limits.up) : "");
  const [down, setDown] = useState(limits.down ? size(limits.down) : "");
  const [from, setFrom] = useState(limits.quiet?.[0] ?? "");
  const [to, setTo] = useState(limits.quiet?.[1] ?? "");
  const rate = (text: string) => (text.trim() === "" ? null : bytesOf(text.replace(/\/s$/, "")));
  const wrong = (text: string) => (rate(text) === undefined ? "Give it as 500 KiB or 2 MiB." : undefined);
  const half = (from === "") !== (to === "");
  const setting = useMutation({
    mutationFn: () =>
      here.setLimits({ up: rate(up), down: rate(down), quiet: from && to ? [from, to] : null }),
    onSuccess: () => {
      toast.say("It goes by that now.");
      onDone();
    },
  });
  return (
    <form
      className="max-w-md space-y-4 pt-3"
      onSubmit={(e) => {
        e.preventDefault();
        setting.mutate();
      }}
    >
      <div className="grid grid-cols-2 gap-4 max-sm:grid-cols-1">
        <Field
          label="Sends each second at most"
          placeholder="as fast as it goes"
          value={up}
          onChange={(e) => setUp(e.target.value)}
          error={wrong(up)}
        />
        <Field
          label="Fetches each second at most"
          placeholder="as fast as it goes"
          value={down}
          onChange={(e) => setDown(e.target.value)}
          error={wrong(down)}
        />
        <Field
          label="Carries nothing from"
          type="time"
          value={from}
          onChange={(e) => setFrom(e.target.value)}
        />
        <Field
          label="until"
          type="time"
          value={to}
          onChange={(e) => setTo(e.target.value)}
          error={half ? "Give both hours, or none." : undefined}
        />
      </div>
      <FormError error={setting.error} />
      <div className="flex gap-2">
        <Button onClick={onDone}>Cancel</Button>
        <Button
          type="submit"
          look="primary"
          disabled={setting.isPending || half || rate(up) === undefined || rate(down) === undefined}
        >
          Go by that
        </Button>
      </div>
    </form>
  );
}
