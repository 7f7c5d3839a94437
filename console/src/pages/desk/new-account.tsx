import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api } from "../../lib/api";
import { findGroups } from "../../lib/choosing";
import {
  Button,
  Choice,
  Dialog,
  DialogActions,
  Field,
  FormError,
  Picker,
  useToast,
  type Choosable,
} from "../../ui";
import { invite, type Invitation } from "./invitation";

/** What somebody who has an account may do beside using their files. */
export const roles: [string, string][] = [
  ["member", "Member"],
  ["administrator", "Administrator"],
];

/** Makes an account. */
export function NewAccount({
  onClose,
  onInvited,
}: {
  onClose: () => void;
  onInvited: (made: Invitation) => void;
}) {
  const queries = useQueryClient();
  const toast = useToast();
  const [name, setName] = useState("");
  const [signIn, setSignIn] = useState("");
  // Once somebody has chosen one, the name says nothing more about it.
  const [chose, setChose] = useState(false);
  const [mail, setMail] = useState("");
  const [role, setRole] = useState("member");
  const [first, setFirst] = useState("link");
  const [password, setPassword] = useState("");
  const [groups, setGroups] = useState<Choosable[]>([]);
  const [quota, setQuota] = useState("");
  const making = useMutation({
    mutationFn: () =>
      api.makeAccount({
        sign_in: signIn,
        display_name: name,
        mail: mail.trim() || undefined,
        role,
        password: first === "link" ? undefined : password,
        groups: groups.map((g) => g.key),
        quota: quota.trim() || undefined,
      }),
    onSuccess: async (made) => {
      await queries.invalidateQueries();
      onClose();
      if (first !== "link") {
        toast.say(`${made.display_name} can sign in as ${made.sign_in}.`);
        return;
      }
      await invite(made).then(onInvited, toast.refuse);
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    making.mutate();
  };
  return (
    <Dialog open onClose={onClose} title="New account" description="With a home shelf of its own.">
      <form onSubmit={submit} className="min-h-0 overflow-y-auto px-0.5">
        <Field
          label="Name"
          value={name}
          onChange={(e) => {
            setName(e.target.value);
            const given = e.target.value.trim().split(/\s+/)[0] ?? "";
            if (chose) return;
            setSignIn(
              given
                .normalize("NFD")
                .toLowerCase()
                .replace(/[^a-z0-9._-]/g, ""),
            );
          }}
          autoFocus
        />
        <div className="mt-4 grid grid-cols-2 gap-4 max-sm:grid-cols-1">
          <Field
            label="Sign-in name"
            value={signIn}
            onChange={(e) => {
              setSignIn(e.target.value);
              setChose(e.target.value !== "");
            }}
            required
          />
          <Choice label="Role" options={roles} value={role} onChange={(e) => setRole(e.target.value)} />
        </div>
        <Field
          className="mt-4"
          label="Mail (optional)"
          type="email"
          value={mail}
          onChange={(e) => setMail(e.target.value)}
        />
        <Choice
          className="mt-4"
          label="They first sign in"
          options={[
            ["link", "by an address that I pass on"],
            ["password", "with a password that I hand over"],
          ]}
          value={first}
          onChange={(e) => setFirst(e.target.value)}
        />
        {first === "password" && (
          <Field
            className="mt-4"
            label="First password"
            type="text"
            autoComplete="off"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
            hint="It is not shown again."
            required
          />
        )}
        <div className="mt-4">
          <Picker
            label="Groups"
            placeholder="Find a group"
            of="groups"
            chosen={groups}
            onChange={setGroups}
            find={findGroups}
          />
        </div>
        <Field
          className="mt-4"
          label="Home may hold (optional)"
          placeholder="20 GiB"
          hint="Left empty, the quota of its groups counts."
          value={quota}
          onChange={(e) => setQuota(e.target.value)}
        />
        <FormError error={making.error} />
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button
            type="submit"
            look="primary"
            disabled={making.isPending || signIn === "" || (first === "password" && password === "")}
          >
            Make account
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
