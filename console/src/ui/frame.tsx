import {
  ChartPie,
  Inbox,
  Lamp,
  Library,
  Link2,
  LogOut,
  MonitorSmartphone,
  Moon,
  Search,
  Sun,
  UserRound,
} from "lucide-react";
import type { ReactNode } from "react";
import { Link, useLocation } from "wouter";
import type { Me } from "../lib/api";
import { useBroken } from "../lib/live";
import { openPalette } from "../lib/palette";
import { Button, IconButton } from "./button";
import { Mark } from "./mark";
import { Menu, MenuItem, MenuLine } from "./menu";
import { initials, Portrait } from "./portrait";
import { useTheme } from "./theme";

const places = [
  { to: "/", word: "Shelves", icon: Library },
  { to: "/given-out", word: "Given out", icon: Link2 },
  { to: "/intake", word: "Intake", icon: Inbox },
  { to: "/devices", word: "Devices", icon: MonitorSmartphone },
];
/** For administrators. */
const desk = { to: "/desk", word: "Desk", icon: Lamp };

/** The rest is one's own: nobody who looks as somebody sees them. */
function placesFor(me: Me) {
  if (me.seen_by) return places.slice(0, 1);
  return me.role === "administrator" ? [...places, desk] : places;
}

interface Props {
  me: Me;
  onSignOut: () => void;
  heading: ReactNode;
  children: ReactNode;
}

/** The frame of every page: the rail, the heading, who is signed in. */
export function Frame({ me, onSignOut, heading, children }: Props) {
  const [location, go] = useLocation();
  const { theme, toggle } = useTheme();
  const broken = useBroken();
  return (
    <div className="flex h-full max-sm:flex-col-reverse">
      <a
        href="#main"
        className="sr-only focus:not-sr-only focus:fixed focus:top-2 focus:left-2 focus:z-50 focus:rounded focus:bg-sheet focus:p-2"
      >
        To the content
      </a>
      <nav
        aria-label="Places"
        className="flex shrink-0 border-line max-sm:border-t sm:w-[84px] sm:flex-col sm:border-r sm:pt-3"
      >
        <Link href="/" className="mx-auto mb-3 max-sm:hidden" aria-label="Yellow Attic, to the shelves">
          <Mark />
        </Link>
        {placesFor(me).map(({ to, word, icon: Icon }) => {
          const here =
            location === to ||
            (to === "/desk" && location.startsWith("/desk")) ||
            (to === "/" && (location.startsWith("/shelf") || location === "/recent"));
          return (
            <Link
              key={to}
              href={to}
              aria-current={here ? "page" : undefined}
              className={`relative flex flex-col items-center gap-1 px-1 py-2.5 text-[13px] max-sm:flex-1 ${here ? "font-bold text-ink" : "text-muted hover:text-ink"}`}
            >
              {here && (
                <span className="absolute bg-gold max-sm:inset-x-0 max-sm:top-0 max-sm:h-[3px] sm:inset-y-0 sm:left-0 sm:w-[3px]" />
              )}
              <Icon size={22} strokeWidth={1.6} aria-hidden />
              {word}
            </Link>
          );
        })}
      </nav>
      <div className="flex min-h-0 min-w-0 flex-1 flex-col">
        {me.seen_by && (
          <div
            role="status"
            className="flex shrink-0 flex-wrap items-center gap-x-4 gap-y-1 bg-gold-wash px-6 py-1.5 text-[14.5px] max-sm:px-4"
          >
            <span className="min-w-0 flex-1">
              {me.seen_by}, you see everything as <strong>{me.display_name}</strong> does. Nothing can be
              changed.
            </span>
            <Button onClick={onSignOut}>End the look</Button>
          </div>
        )}
        <header className="flex h-[60px] shrink-0 items-center gap-3 px-6 max-sm:px-4">
          <div className="min-w-0 flex-1">{heading}</div>
          {broken && (
            <span
              role="status"
              className="rounded-full bg-brick-wash px-3 py-1 text-[14px] whitespace-nowrap"
            >
              <span className="max-sm:hidden">The service cannot be reached; the page goes on by itself</span>
              <span className="sm:hidden">Offline</span>
            </span>
          )}
          <IconButton label="Find or do (Ctrl K)" onClick={() => openPalette()}>
            <Search size={20} />
          </IconButton>
          <Menu
            label="Account"
            trigger={
              <button
                type="button"
                aria-label={`${initials(me.display_name)}, account of ${me.display_name}`}
                className="rounded-full"
              >
                <Portrait signIn={me.sign_in} name={me.display_name} picture={me.picture} />
              </button>
            }
          >
            <div className="px-3 py-2">
              <div className="font-semibold">{me.display_name}</div>
              <div className="text-sm text-muted">
                {me.sign_in}, {me.role}
              </div>
            </div>
            <MenuLine />
            {!me.seen_by && (
              <MenuItem icon={<UserRound size={18} />} onSelect={() => go("/account")}>
                My account
              </MenuItem>
            )}
            {!me.seen_by && me.role !== "guest" && (
              <MenuItem icon={<ChartPie size={18} />} onSelect={() => go("/space")}>
                Where my space went
              </MenuItem>
            )}
            <MenuItem icon={theme === "dark" ? <Sun size={18} /> : <Moon size={18} />} onSelect={toggle}>
              {theme === "dark" ? "Light colours" : "Dark colours"}
            </MenuItem>
            <MenuItem icon={<LogOut size={18} />} onSelect={onSignOut}>
              {me.seen_by ? "End the look" : "Sign out"}
            </MenuItem>
          </Menu>
        </header>
        <main id="main" className="min-h-0 flex-1 overflow-y-auto" tabIndex={-1}>
          {children}
        </main>
      </div>
    </div>
  );
}

/** A page with nobody signed in. */
export function Bare({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="mx-auto flex min-h-full max-w-sm flex-col justify-center px-4 py-10">
      <div className="mb-4 text-ink">
        <Mark />
      </div>
      <h1 className="mb-2 text-2xl font-bold">{title}</h1>
      {children}
    </main>
  );
}
