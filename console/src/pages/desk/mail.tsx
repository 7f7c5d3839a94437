import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { api, type Letter } from "../../lib/api";
import { exactly, when } from "../../lib/show";
import { Button, Chip, Empty, Field, Loading, Notice, useToast } from "../../ui";
import { key } from "../../lib/query-keys";

/** The mail server, a letter to try it with, and what went out. */
export function MailDesk() {
  const queries = useQueryClient();
  const toast = useToast();
  const mail = useQuery({ queryKey: key("mail"), queryFn: api.mail, refetchInterval: 5000 });
  const change = useMutation({
    mutationFn: ({ letter, again }: { letter: Letter; again: boolean }) => api.changeLetter(letter.id, again),
    onSuccess: () => queries.invalidateQueries({ queryKey: key("mail") }),
    onError: (e) => toast.refuse(e),
  });
  if (mail.isPending) return <Loading />;
  if (mail.isError) return <Notice error={mail.error} retry={() => void mail.refetch()} />;
  const { server, from, letters } = mail.data;
  return (
    <>
      {server ? (
        <>
          <p className="py-3">
            Mail goes out by <span className="font-mono text-[14.5px]">{server}</span>, from {from}.
          </p>
          <Test />
        </>
      ) : (
        <p className="my-3 max-w-2xl rounded-lg bg-gold-wash p-3">
          No mail server is set, so nothing goes out: invitations are shown as addresses to pass on. Set{" "}
          <code className="font-mono">mail_server</code> and <code className="font-mono">mail_from</code> in
          the service&rsquo;s configuration.
        </p>
      )}
      <h2 className="mt-8 text-lg font-bold">Letters</h2>
      {letters.length === 0 && (
        <Empty title="Nothing was sent yet">
          Invitations and other letters are listed here, with what the server said.
        </Empty>
      )}
      <ul className="mt-2">
        {letters.map((l) => (
          <li
            key={l.id}
            className="grid grid-cols-[1.4fr_2fr_190px] items-baseline gap-x-4 gap-y-1 border-b border-line px-1 py-2.5 max-md:grid-cols-[1fr_auto]"
          >
            <span className="min-w-0 truncate">{l.to}</span>
            <span className="min-w-0 max-md:order-3 max-md:col-span-2">
              <span className="block truncate">{l.subject}</span>
              <span className="block text-[14px] break-words text-muted">
                <span title={exactly(l.written)}>{when(l.written)}</span>
                {l.said && `: ${l.said}`}
                {l.due &&
                  l.tries > 0 &&
                  `. Tried ${l.tries === 1 ? "once" : `${l.tries} times`}, next ${when(l.due)}.`}
              </span>
            </span>
            <span className="flex items-center justify-end gap-2">
              {l.state === "waiting" ? (
                <>
                  <Button onClick={() => change.mutate({ letter: l, again: true })}>Try now</Button>
                  <Button look="quiet" onClick={() => change.mutate({ letter: l, again: false })}>
                    Give up
                  </Button>
                </>
              ) : (
                <Chip look={l.state === "sent" ? "plain" : "brick"}>{l.state}</Chip>
              )}
            </span>
          </li>
        ))}
      </ul>
    </>
  );
}

function Test() {
  const [to, setTo] = useState("");
  const testing = useMutation({ mutationFn: () => api.testMail(to.trim()) });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    testing.mutate();
  };
  return (
    <form onSubmit={submit} className="max-w-xl">
      <div className="flex flex-wrap items-end gap-3">
        <Field
          className="min-w-0 flex-1 basis-56"
          label="Try it: send a letter to"
          type="email"
          value={to}
          onChange={(e) => setTo(e.target.value)}
          required
        />
        <Button type="submit" disabled={testing.isPending || to.trim() === ""}>
          {testing.isPending ? "Sending" : "Send"}
        </Button>
      </div>
      {testing.isError && <Notice error={testing.error} />}
      {testing.data && (
        <p
          role="status"
          className={`mt-3 rounded-lg p-3 ${testing.data.taken ? "bg-gold-wash" : "bg-brick-wash"}`}
        >
          {testing.data.taken ? "The mail server took it. It said: " : "It was not sent. "}
          <span className="font-mono text-[14px]">{testing.data.said}</span> {testing.data.remedy}
        </p>
      )}
    </form>
  );
}
