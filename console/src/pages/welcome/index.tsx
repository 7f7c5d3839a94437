import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useLocation } from "wouter";
import { api, Refusal } from "../../lib/api";
import { Bare, Button, Loading, NewPassword } from "../../ui";
import { key } from "../../lib/query-keys";

/** Choosing a password by an invitation, and a short welcome. */
export default function WelcomePage() {
  const queries = useQueryClient();
  const [, go] = useLocation();
  const [secret] = useState(window.location.hash.slice(1));
  const [password, setPassword] = useState("");
  const invited = useQuery({
    queryKey: key("invitation", secret),
    queryFn: () => api.lookAtInvitation(secret),
    retry: false,
    staleTime: Infinity,
    refetchOnWindowFocus: false,
  });
  const choosing = useMutation({
    mutationFn: () => api.acceptInvitation(secret, password),
    onError: (e) => {
      // The password is chosen; the second factor is asked for at the sign-in.
      if (e instanceof Refusal && e.code === "second_factor_needed") void enter();
    },
  });
  const enter = async () => {
    go("/");
    await queries.invalidateQueries();
  };
  if (invited.isPending) return <Loading />;
  if (invited.isError) {
    const refusal = invited.error instanceof Refusal ? invited.error : Refusal.line();
    return (
      <Bare title="This address cannot be used">
        <p className="text-muted">
          {refusal.message} {refusal.remedy}
        </p>
        <Button className="mt-5" onClick={() => void enter()}>
          Go to the sign-in
        </Button>
      </Bare>
    );
  }
  const { sign_in: signIn, display_name: name, again: replaces } = invited.data;
  if (choosing.isSuccess) {
    return (
      <Bare title={`Welcome, ${name}`}>
        <p>
          You are signed in. Next time, sign in as <strong>{signIn}</strong>.
        </p>
        <p className="mt-3">
          Your own files stand on the shelf called Home; nobody else sees them unless you give them access.
          What others gave you is below the shelves.
        </p>
        <p className="mt-3">To work with them from a computer, run there:</p>
        <code className="mt-2 block rounded-lg border border-line bg-sheet p-3 font-mono text-[14px] break-all">
          yattic connect {window.location.origin}
        </code>
        <Button look="primary" className="mt-5" onClick={() => void enter()}>
          To the shelves
        </Button>
      </Bare>
    );
  }
  const refusal = choosing.error instanceof Refusal ? choosing.error : undefined;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    choosing.mutate();
  };
  return (
    <Bare title={replaces ? "Choose a new password" : `Welcome, ${name}`}>
      <p className="mb-5 text-muted">
        {replaces
          ? `For ${name}, who signs in as ${signIn}. Every sign-in of before ends, on computers too.`
          : `Choose the password with which you will sign in as ${signIn}.`}
      </p>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <input type="hidden" name="username" autoComplete="username" value={signIn} />
        <NewPassword
          onChange={setPassword}
          error={refusal && `${refusal.message} ${refusal.remedy}`}
          autoFocus
        />
        <Button type="submit" look="primary" disabled={choosing.isPending || password === ""}>
          Choose it
        </Button>
      </form>
    </Bare>
  );
}
