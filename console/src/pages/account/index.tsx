import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Globe } from "lucide-react";
import { useState, type FormEvent } from "react";
import { Link } from "wouter";
import { FactorsSection } from "./factors";
import { Letters, Profile } from "./profile";
import { api, Refusal, type Me, type Session } from "../../lib/api";
import { exactly, when } from "../../lib/show";
import { Button, Chip, Field, Frame, Loading, NewPassword, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

/** One's own account: the name and picture, second factors, the password, and where one is signed in. */
export default function AccountPage({ frame }: { frame: { me: Me; onSignOut: () => void } }) {
  return (
    <Frame {...frame} heading={<h1 className="font-bold">My account</h1>}>
      <div className="mx-auto max-w-[900px] px-8 pt-2 pb-10 max-sm:px-4">
        <Profile />
        <FactorsSection />
        <Password />
        <Sessions />
        <Letters />
      </div>
    </Frame>
  );
}

function Password() {
  const queries = useQueryClient();
  const toast = useToast();
  const [present, setPresent] = useState("");
  const [next, setNext] = useState("");
  const [turn, setTurn] = useState(0);
  const changing = useMutation({
    mutationFn: () => api.changePassword(present, next),
    onSuccess: async () => {
      setPresent("");
      setNext("");
      setTurn((n) => n + 1);
      await queries.invalidateQueries({ queryKey: key("sessions") });
      toast.say("Your password is changed. Other browsers are signed out; computers stay connected.");
    },
  });
  const refusal = changing.error instanceof Refusal ? changing.error : undefined;
  const wrong = refusal?.code === "wrong_sign_in";
  const submit = (e: FormEvent) => {
    e.preventDefault();
    changing.mutate();
  };
  return (
    <section aria-label="Password" className="mt-8">
      <h2 className="text-lg font-bold">Password</h2>
      <form onSubmit={submit} className="mt-3 grid max-w-sm gap-4">
        <Field
          label="Present password"
          type="password"
          autoComplete="current-password"
          value={present}
          onChange={(e) => setPresent(e.target.value)}
          error={wrong ? "That is not your password." : undefined}
          required
        />
        <NewPassword
          key={turn}
          label="New password"
          onChange={setNext}
          error={refusal && !wrong ? `${refusal.message} ${refusal.remedy}` : undefined}
        />
        <div>
          <Button type="submit" look="primary" disabled={changing.isPending || present === "" || next === ""}>
            Change password
          </Button>
        </div>
      </form>
    </section>
  );
}

function Sessions() {
  const queries = useQueryClient();
  const toast = useToast();
  const sessions = useQuery({ queryKey: key("sessions"), queryFn: api.sessions });
  const ending = useMutation({
    mutationFn: (s: Session) => api.endSession(s.id),
    onSuccess: async (_, s) => {
      await queries.invalidateQueries({ queryKey: key("sessions") });
      toast.say(`Signed out there: ${browser(s.agent)}.`);
    },
    onError: (e) => toast.refuse(e),
  });
  return (
    <section aria-label="Where you are signed in" className="mt-10">
      <h2 className="text-lg font-bold">Where you are signed in</h2>
      <p className="text-muted">
        In browsers. Connected computers are on their{" "}
        <Link href="/devices" className="text-teal underline">
          own page
        </Link>
        .
      </p>
      {sessions.isPending && <Loading rows={2} />}
      {sessions.isError && <Notice error={sessions.error} retry={() => void sessions.refetch()} />}
      <ul className="mt-2">
        {sessions.data?.sessions.map((s) => (
          <li key={s.id} className="flex items-center gap-4 border-b border-line py-3">
            <Globe size={22} strokeWidth={1.6} aria-hidden className="shrink-0 text-muted" />
            <div className="min-w-0 flex-1">
              <div className="truncate font-semibold" title={s.agent}>
                {browser(s.agent)} {s.this && <Chip look="gold">this browser</Chip>}
              </div>
              <div className="text-[14.5px] text-muted">
                <span title={exactly(s.opened)}>signed in {when(s.opened)}</span>
                {s.from && ` from ${s.from}`}
              </div>
            </div>
            {!s.this && (
              <Button disabled={ending.isPending} onClick={() => ending.mutate(s)}>
                Sign out there
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** A browser and its system, out of what it says of itself. */
function browser(agent: string): string {
  const kinds: [RegExp, string][] = [
    [/Edg\//, "Edge"],
    [/OPR\//, "Opera"],
    [/Firefox\//, "Firefox"],
    [/Chrom(e|ium)\//, "Chromium"],
    [/Safari\//, "Safari"],
  ];
  const systems: [RegExp, string][] = [
    [/Android/, "Android"],
    [/iPhone|iPad/, "iOS"],
    [/Windows/, "Windows"],
    [/Mac OS X/, "macOS"],
    [/Linux/, "Linux"],
  ];
  const kind = kinds.find(([sign]) => sign.test(agent))?.[1] ?? "A browser";
  const system = systems.find(([sign]) => sign.test(agent))?.[1];
  return system ? `${kind} on ${system}` : kind;
}
