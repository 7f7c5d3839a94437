import { useQuery } from "@tanstack/react-query";
import { Check, Laptop, Upload, UserPlus, X } from "lucide-react";
import { useState, type ReactNode } from "react";
import { Link } from "wouter";
import { api, type Shelf } from "../../lib/api";
import { IconButton } from "../../ui";
import { key } from "../../lib/query-keys";

const kept = "attic-next-steps-over";

/** What comes after the set-up: gone when it is done, or when somebody wants no more of it. */
export function NextSteps({ shelves }: { shelves: Shelf[] }) {
  const [over, setOver] = useState(() => localStorage.getItem(kept) !== null);
  const accounts = useQuery({
    queryKey: key("accounts", "first"),
    queryFn: () => api.accounts({ limit: 2 }),
    enabled: !over,
  });
  const devices = useQuery({ queryKey: key("devices"), queryFn: api.devices, enabled: !over });
  if (over || !accounts.data || !devices.data) return null;
  const files = shelves.some((s) => s.sums.files > 0);
  const people = accounts.data.total > 1;
  const computer = devices.data.devices.length > 0;
  if (files && people && computer) return null;
  return (
    <section aria-label="Next steps" className="mb-4 rounded-xl border border-line bg-sheet p-4">
      <div className="flex items-start gap-2">
        <h2 className="min-w-0 flex-1 text-lg font-bold">What comes next</h2>
        <IconButton
          label="No more of this"
          className="-mt-1.5 -mr-2"
          onClick={() => {
            localStorage.setItem(kept, "1");
            setOver(true);
          }}
        >
          <X size={18} />
        </IconButton>
      </div>
      <ol className="mt-2 grid grid-cols-3 gap-3 max-md:grid-cols-1">
        <Step done={files} icon={<Upload size={20} />} to="/shelf/home" title="Put files in">
          On your own shelf: choose them there, or drop files and folders onto it.
        </Step>
        <Step done={people} icon={<UserPlus size={20} />} to="/desk/people" title="Invite people">
          Each gets an address by which they choose a password.
        </Step>
        <Step done={computer} icon={<Laptop size={20} />} to="/devices" title="Connect a computer">
          Its files come and go by one command, or as a network drive.
        </Step>
      </ol>
    </section>
  );
}

function Step({
  done,
  icon,
  to,
  title,
  children,
}: {
  done: boolean;
  icon: ReactNode;
  to: string;
  title: string;
  children: ReactNode;
}) {
  return (
    <li className={`flex gap-3 rounded-lg border border-line p-3 ${done ? "text-muted" : ""}`}>
      <span className={done ? "text-teal" : ""} aria-hidden>
        {done ? <Check size={20} /> : icon}
      </span>
      <span className="min-w-0">
        {done ? (
          <span className="font-semibold">
            {title}
            <span className="sr-only">, done</span>
          </span>
        ) : (
          <Link href={to} className="font-semibold text-teal hover:underline">
            {title}
          </Link>
        )}
        <span className="block text-[14.5px] text-muted">{children}</span>
      </span>
    </li>
  );
}
