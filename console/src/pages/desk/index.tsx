import { Redirect, Link } from "wouter";
import type { Me } from "../../lib/api";
import { Empty, Frame } from "../../ui";
import { Groups } from "./groups";
import { People } from "./people";

const parts = [
  { to: "people", word: "People" },
  { to: "groups", word: "Groups" },
];

/** The administrator's half. */
export function DeskPage({ frame, part }: { frame: { me: Me; onSignOut: () => void }; part?: string }) {
  if (frame.me.role !== "administrator") {
    return (
      <Frame {...frame} heading={<h1 className="font-bold">Desk</h1>}>
        <Empty title="The desk is for administrators">
          Ask an administrator if something there is to be done.
        </Empty>
      </Frame>
    );
  }
  if (!parts.some((p) => p.to === part)) return <Redirect to="/desk/people" />;
  return (
    <Frame
      {...frame}
      heading={
        <nav aria-label="Desk" className="flex items-baseline gap-5">
          <h1 className="font-bold">Desk</h1>
          {parts.map((p) => (
            <Link
              key={p.to}
              href={`/desk/${p.to}`}
              aria-current={p.to === part ? "page" : undefined}
              className={`border-b-2 py-1 ${p.to === part ? "border-gold font-semibold" : "border-transparent text-muted hover:text-ink"}`}
            >
              {p.word}
            </Link>
          ))}
        </nav>
      }
    >
      <div className="mx-auto max-w-[1180px] px-8 pb-10 max-sm:px-4">
        {part === "people" ? <People me={frame.me} /> : <Groups />}
      </div>
    </Frame>
  );
}
