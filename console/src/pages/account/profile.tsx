import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState, type FormEvent } from "react";
import { api } from "../../lib/api";
import { exactly, size, when } from "../../lib/show";
import { Button, Field, Loading, Notice, Portrait, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

/** Who one is here: the name, the picture, how full one's home is, and who looked. */
export function Profile() {
  const own = useQuery({ queryKey: key("own"), queryFn: api.own });
  if (own.isPending) return <Loading rows={2} />;
  if (own.isError) return <Notice error={own.error} retry={() => void own.refetch()} />;
  const me = own.data;
  return (
    <section aria-label="Profile" className="mt-2">
      <div className="flex flex-wrap items-start gap-5">
        <Picture signIn={me.sign_in} name={me.display_name} picture={me.picture} />
        <div className="min-w-0 flex-1">
          <Name key={me.display_name} name={me.display_name} />
          <p className="mt-2 text-[14.5px] text-muted">
            Signs in as {me.sign_in}
            {me.mail && ` or ${me.mail}`}, {me.role}
            {me.groups.length > 0 && `; in ${me.groups.join(", ")}`}.
          </p>
        </div>
      </div>
      {me.quota !== undefined && <Fullness used={me.bytes} quota={me.quota} />}
      {me.looks.length > 0 && (
        <p className="mt-4 max-w-xl rounded-lg bg-gold-wash p-3 text-[14.5px]">
          Looked at your files as you see them, without changing anything:{" "}
          {me.looks.slice(0, 3).map((l, i) => (
            <span key={l.at} title={exactly(l.at)}>
              {i > 0 && ", "}
              {l.by} {when(l.at)}
            </span>
          ))}
          .
        </p>
      )}
    </section>
  );
}

/** Which letters one wants. */
export function Letters() {
  const queries = useQueryClient();
  const toast = useToast();
  const own = useQuery({ queryKey: key("own"), queryFn: api.own });
  const change = useMutation({
    mutationFn: (muted: string[]) => api.changeOwn({ muted }),
    onSuccess: () => queries.invalidateQueries({ queryKey: key("own") }),
    onError: (e) => toast.refuse(e),
  });
  if (!own.data) return null;
  const { letters, mail } = own.data;
  const muted = letters.filter((l) => !l.wanted).map((l) => l.kind);
  return (
    <section aria-label="Letters" className="mt-10">
      <h2 className="text-lg font-bold">Letters</h2>
      <p className="text-muted">
        {mail
          ? `Sent to ${mail} when:`
          : "Nothing is sent: no mail address is known. An administrator can set it."}
      </p>
      {mail &&
        letters.map((l) => (
          <label key={l.kind} className="mt-1.5 flex items-center gap-2">
            <input
              type="checkbox"
              className="size-4 accent-gold"
              checked={l.wanted}
              disabled={change.isPending}
              onChange={(e) =>
                change.mutate(e.target.checked ? muted.filter((k) => k !== l.kind) : [...muted, l.kind])
              }
            />
            {l.title}
          </label>
        ))}
      {mail && (
        <p className="mt-1.5 text-[14.5px] text-muted">
          What touches your sign-in itself, such as a changed password, is always told.
        </p>
      )}
    </section>
  );
}

/** How much of a quota is used. */
export function Fullness({ used, quota }: { used: number; quota: number }) {
  const share = quota === 0 ? 1 : Math.min(1, used / quota);
  const full = share >= 0.9;
  return (
    <div className="mt-4 max-w-md">
      <div
        role="meter"
        aria-label="Space used"
        aria-valuemin={0}
        aria-valuemax={quota}
        aria-valuenow={used}
        aria-valuetext={`${size(used)} of ${size(quota)}`}
        className="h-2 overflow-hidden rounded-full bg-line"
      >
        <div className={`h-full ${full ? "bg-brick" : "bg-gold"}`} style={{ width: `${share * 100}%` }} />
      </div>
      <p className={`mt-1 text-[14.5px] ${full ? "text-brick" : "text-muted"}`}>
        {size(used)} of {size(quota)} used{full && share < 1 ? ", nearly full" : ""}
      </p>
    </div>
  );
}

function Name({ name }: { name: string }) {
  const queries = useQueryClient();
  const toast = useToast();
  const [text, setText] = useState(name);
  const saving = useMutation({
    mutationFn: () => api.changeOwn({ display_name: text.trim() }),
    onSuccess: async () => {
      await queries.invalidateQueries();
      toast.say("Your name is changed.");
    },
    onError: (e) => toast.refuse(e),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    saving.mutate();
  };
  return (
    <form onSubmit={submit} className="flex max-w-md flex-wrap items-end gap-3">
      <Field
        className="min-w-0 flex-1"
        label="Your name"
        value={text}
        onChange={(e) => setText(e.target.value)}
        autoComplete="name"
        required
      />
      <Button type="submit" disabled={saving.isPending || text.trim() === "" || text.trim() === name}>
        Save
      </Button>
    </form>
  );
}

function Picture({ signIn, name, picture }: { signIn: string; name: string; picture?: string }) {
  const queries = useQueryClient();
  const toast = useToast();
  const input = useRef<HTMLInputElement>(null);
  const change = useMutation({
    mutationFn: (file: File | undefined) => (file ? api.setPicture(file) : api.endPicture()),
    onSuccess: () => queries.invalidateQueries(),
    onError: (e) => toast.refuse(e),
  });
  return (
    <div className="flex flex-col items-center gap-2">
      <Portrait signIn={signIn} name={name} picture={picture} className="size-20 text-2xl" />
      <input
        ref={input}
        type="file"
        accept="image/*"
        className="sr-only"
        tabIndex={-1}
        aria-label="Picture file"
        onChange={(e) => {
          const file = e.target.files?.[0];
          if (file) change.mutate(file);
          e.target.value = "";
        }}
      />
      <Button look="quiet" disabled={change.isPending} onClick={() => input.current?.click()}>
        {picture ? "Change picture" : "Add a picture"}
      </Button>
      {picture && (
        <Button look="quiet" disabled={change.isPending} onClick={() => change.mutate(undefined)}>
          Remove it
        </Button>
      )}
    </div>
  );
}
