import { useInfiniteQuery } from "@tanstack/react-query";
import { FileUp, Plus, Search } from "lucide-react";
import { useDeferredValue, useState } from "react";
import { Link } from "wouter";
import { api, type AccountsFilter } from "../../lib/api";
import { count, size } from "../../lib/show";
import { Button, Choice, Empty, Loading, Notice, Portrait } from "../../ui";
import { ImportDialog } from "./importing";
import { PassOn, type Invitation } from "./invitation";
import { NewAccount } from "./new-account";
import { Standing } from "./standing";
import { key } from "../../lib/query-keys";

const states: [NonNullable<AccountsFilter["state"]> | "", string][] = [
  ["", "All"],
  ["active", "Can sign in"],
  ["invited", "No password yet"],
  ["waiting", "Wait to be approved"],
  ["disabled", "Disabled"],
  ["leaving", "Will be deleted"],
];

/** The page of one account. */
export const accountPage = (signIn: string) => `/desk/people/${encodeURIComponent(signIn)}`;

/** All accounts, by pages: found, made, gone to. */
export function People() {
  const [text, setText] = useState("");
  const [state, setState] = useState<AccountsFilter["state"] | "">("");
  const [making, setMaking] = useState(false);
  const [importing, setImporting] = useState(false);
  const [invitation, setInvitation] = useState<Invitation>();
  const words = useDeferredValue(text.trim());
  const wanted: AccountsFilter = { words: words || undefined, state: state || undefined };
  const list = useInfiniteQuery({
    queryKey: key("accounts", wanted),
    queryFn: ({ pageParam }) => api.accounts({ ...wanted, limit: 100, cursor: pageParam }),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
    placeholderData: (before) => before,
  });
  const shown = list.data?.pages.flatMap((p) => p.accounts) ?? [];
  const total = list.data?.pages[0]?.total ?? 0;
  return (
    <>
      <div className="flex flex-wrap items-center gap-3 py-3">
        <Button look="primary" icon={<Plus size={18} />} onClick={() => setMaking(true)}>
          New account
        </Button>
        <Button icon={<FileUp size={18} />} onClick={() => setImporting(true)}>
          From a list
        </Button>
        <Choice
          quiet
          label="Which accounts"
          className="ml-auto w-52 max-sm:ml-0 max-sm:w-full"
          options={states}
          value={state}
          onChange={(e) => setState(e.target.value as AccountsFilter["state"] | "")}
        />
        <label className="relative block w-64 max-sm:w-full">
          <span className="sr-only">Find a person or group</span>
          <Search size={17} aria-hidden className="absolute top-2.5 left-3 text-muted" />
          <input
            type="search"
            value={text}
            onChange={(e) => setText(e.target.value)}
            placeholder="Name, mail or group"
            className="min-h-9 w-full rounded-lg border border-line bg-sheet py-1.5 pr-3 pl-9"
          />
        </label>
      </div>
      {list.isPending && <Loading />}
      {list.isError && <Notice error={list.error} retry={() => void list.refetch()} />}
      {list.data && (
        <>
          <p className="pb-1 text-[14.5px] text-muted" role="status">
            {count(total, "account")}
          </p>
          {shown.length === 0 && (
            <Empty title="Nobody is like that">
              {words ? "Try a part of the name." : "Choose another kind of account."}
            </Empty>
          )}
          <ul>
            {shown.map((a) => (
              <li key={a.sign_in} className="border-b border-line">
                <Link
                  href={accountPage(a.sign_in)}
                  className="grid w-full grid-cols-[28px_1.2fr_1fr_1.6fr_180px] items-center gap-3 px-1 py-2.5 text-left hover:bg-sheet max-md:grid-cols-[28px_1fr_auto]"
                >
                  <Portrait
                    signIn={a.sign_in}
                    name={a.display_name}
                    picture={a.picture}
                    className="size-7 text-[11px]"
                  />
                  <span className="min-w-0 truncate">
                    {a.display_name} <span className="text-[14px] text-muted">{a.sign_in}</span>
                  </span>
                  <span className="max-md:justify-self-end">
                    <Standing account={a} />
                  </span>
                  <span className="min-w-0 truncate text-[14.5px] text-muted max-md:hidden">
                    {a.groups.join(", ") || "in no group"}
                  </span>
                  <span className="text-right font-mono text-[14px] max-md:hidden">
                    {a.role === "guest" ? "" : size(a.bytes)}
                    {a.quota !== undefined && (
                      <span className={a.bytes >= a.quota * 0.9 ? "text-brick" : "text-muted"}>
                        {" "}
                        of {size(a.quota)}
                      </span>
                    )}
                  </span>
                </Link>
              </li>
            ))}
          </ul>
          {list.hasNextPage && (
            <Button
              className="mt-3"
              disabled={list.isFetchingNextPage}
              onClick={() => void list.fetchNextPage()}
            >
              Show more ({count(total - shown.length, "account")} left)
            </Button>
          )}
        </>
      )}
      {importing && <ImportDialog onClose={() => setImporting(false)} />}
      {making && <NewAccount onClose={() => setMaking(false)} onInvited={setInvitation} />}
      {invitation && <PassOn invitation={invitation} onClose={() => setInvitation(undefined)} />}
    </>
  );
}
