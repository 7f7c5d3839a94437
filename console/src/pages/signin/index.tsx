import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, Refusal } from "../../lib/api";
import { Bare, Button, Field } from "../../ui";

/** Signing in. The page that was asked for follows. */
export function SignInPage() {
  const queries = useQueryClient();
  const [signIn, setSignIn] = useState("");
  const [password, setPassword] = useState("");
  const asking = useMutation({
    mutationFn: () => api.signIn({ sign_in: signIn, password }),
    onSuccess: () => queries.refetchQueries({ queryKey: ["welcome"] }),
    onError: () => setPassword(""),
  });
  const refusal = asking.error instanceof Refusal ? asking.error : undefined;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    asking.mutate();
  };
  return (
    <Bare title="Sign in">
      <form onSubmit={submit} className="mt-3 flex flex-col gap-4">
        <Field
          label="Sign-in name"
          value={signIn}
          onChange={(e) => setSignIn(e.target.value)}
          autoComplete="username"
          autoCapitalize="none"
          required
          autoFocus
        />
        <Field
          label="Password"
          type="password"
          value={password}
          onChange={(e) => setPassword(e.target.value)}
          autoComplete="current-password"
          required
          error={refusal && `${refusal.message} ${refusal.remedy}`}
        />
        <Button type="submit" look="primary" disabled={asking.isPending}>
          {asking.isPending ? "Signing in" : "Sign in"}
        </Button>
      </form>
    </Bare>
  );
}
