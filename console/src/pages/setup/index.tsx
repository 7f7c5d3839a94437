import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useLocation } from "wouter";
import { api, Refusal } from "../../lib/api";
import { Bare, Button, Field } from "../../ui";
import { key } from "../../lib/query-keys";

/** The first administrator, with the code from the address that the service printed. */
export default function SetUpPage() {
  const queries = useQueryClient();
  const [, go] = useLocation();
  const [signIn, setSignIn] = useState("");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const code = window.location.hash.slice(1);
  const making = useMutation({
    mutationFn: () => api.setUp({ code, sign_in: signIn, display_name: name, password }),
    onSuccess: async () => {
      go("/");
      await queries.refetchQueries({ queryKey: key("welcome") });
    },
  });
  const refusal = making.error instanceof Refusal ? making.error : undefined;
  const about = (which: string) =>
    refusal?.code === which ? `${refusal.message} ${refusal.remedy}` : undefined;
  const known = ["sign_in_name_cannot_be", "password_refused"];
  const submit = (e: FormEvent) => {
    e.preventDefault();
    making.mutate();
  };
  if (!code) {
    return (
      <Bare title="This service is not set up yet">
        <p className="text-muted">
          Whoever started it was shown an address that works once, in the terminal or in the log of yatticd
          serve. Open that address to become its first administrator.
        </p>
      </Bare>
    );
  }
  return (
    <Bare title="Become the administrator">
      <p className="mb-5 text-muted">
        You are the first here. Choose how you sign in; there is no other password to this service.
      </p>
      <form onSubmit={submit} className="flex flex-col gap-4">
        <Field
          label="Sign-in name"
          hint="Small letters and digits. Your files lie in a folder of this name."
          value={signIn}
          onChange={(e) => setSignIn(e.target.value)}
          autoComplete="username"
          autoCapitalize="none"
          required
          autoFocus
          error={about("sign_in_name_cannot_be")}
        />
        <Field
          label="Your name"
          hint="As others see it."
          value={name}
          onChange={(e) => setName(e.target.value)}
          autoComplete="name"
        />
        <Field
          label="Password"
          type="password"
          hint="At least 10 characters. Three or four unrelated words are easy to keep in mind."
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          autoComplete="new-password"
          required
          error={about("password_refused")}
        />
        {refusal && !known.includes(refusal.code) && (
          <p role="alert" className="text-brick">
            {refusal.message} {refusal.remedy}
          </p>
        )}
        <Button type="submit" look="primary" disabled={making.isPending}>
          {making.isPending ? "Setting up" : "Set up and sign in"}
        </Button>
      </form>
    </Bare>
  );
}
