import { Redirect, Link } from "wouter";
import type { Me } from "../../lib/api";
import { Empty, Frame } from "../../ui";
import { AccountDesk } from "./account";
import { BackupsDesk } from "./backups";
import { Groups } from "./groups";
import { MailDesk } from "./mail";
import { OutsideDesk } from "./outside";
import { Overview } from "./overview";
import { People } from "./people";
import { RulesDesk } from "./rules";
import { ShelvesDesk } from "./shelves";
import { SpaceView } from "../space";

const parts = [
  { to: "now", word: "Now" },
  { to: "people", word: "People" },
  { to: "groups", word: "Groups" },
  { to: "shelves", word: "Shelves" },
  { to: "outside", word: "Given out" },
  { to: "space", word: "Space" },
  { to: "backups", word: "Backups" },
  { to: "rules", word: "Rules" },
  { to: "mail", word: "Mail" },
];

/** The administrator's half. */
export default function DeskPage({
  frame,
  part,
  of,
}: {
  frame: { me: Me; onSignOut: () => void };
  part?: string;
  /** One of the part's things: an account. */
  of?: string;
}) {
  if (frame.me.role !== "administrator") {
    return (
      <Frame {...frame} heading={<h1 className="font-bold">Desk</h1>}>
        <Empty title="The desk is for administrators">
          Ask an administrator if something there is to be done.
        </Empty>
      </Frame>
    );
  }
  if (!parts.some((p) => p.to === part)) return <Redirect to="/desk/now" />;
  return (
    <Frame
      {...frame}
      heading={
        <nav aria-label="Desk" className="flex items-baseline gap-5 overflow-x-auto max-sm:gap-3.5">
          <h1 className="font-bold max-sm:sr-only">Desk</h1>
          {parts.map((p) => (
            <Link
              key={p.to}
              href={`/desk/${p.to}`}
              aria-current={p.to === part ? "page" : undefined}
              className={`border-b-2 py-1 whitespace-nowrap ${p.to === part ? "border-gold font-semibold" : "border-transparent text-muted hover:text-ink"}`}
            >
              {p.word}
            </Link>
          ))}
        </nav>
      }
    >
      <div className="mx-auto max-w-[1180px] px-8 pb-10 max-sm:px-4">
        {part === "now" && <Overview />}
        {part === "backups" && <BackupsDesk />}
        {part === "space" && <SpaceView administrator />}
        {part === "people" && of === undefined && <People />}
        {part === "people" && of !== undefined && <AccountDesk signIn={of} me={frame.me} />}
        {part === "groups" && <Groups />}
        {part === "shelves" && <ShelvesDesk />}
        {part === "outside" && <OutsideDesk />}
        {part === "rules" && <RulesDesk />}
        {part === "mail" && <MailDesk />}
      </div>
    </Frame>
  );
}
