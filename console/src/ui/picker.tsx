import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import { Popover } from "radix-ui";
import { useDeferredValue, useId, useRef, useState, type KeyboardEvent, type ReactNode } from "react";
import { key } from "../lib/query-keys";

/** Somebody or something that is chosen by its name. */
export interface Choosable {
  key: string;
  name: string;
  /** What tells it from others of the name. */
  note?: string;
}

interface Props {
  label: string;
  placeholder: string;
  hint?: ReactNode;
  chosen: Choosable[];
  onChange: (chosen: Choosable[]) => void;
  /** Looks for some by words; `total`: how many there are by them. */
  find: (words: string) => Promise<{ found: Choosable[]; total: number }>;
  /** Names what `find` looks in. */
  of: string;
  /** Only one can be chosen. */
  single?: boolean;
}

/** Some of many, found by their names: the list of all never has to come. */
export function Picker({ label, placeholder, hint, chosen, onChange, find, of, single = false }: Props) {
  const id = useId();
  const input = useRef<HTMLInputElement>(null);
  const [words, setWords] = useState("");
  const [open, setOpen] = useState(false);
  const [at, setAt] = useState(0);
  const sought = useDeferredValue(words.trim());
  const answer = useQuery({
    queryKey: key("choosing", of, sought),
    queryFn: () => find(sought),
    enabled: open,
    placeholderData: (before) => before,
  });
  const taken = new Set(chosen.map((c) => c.key));
  const found = (answer.data?.found ?? []).filter((f) => !taken.has(f.key));
  const active = found[Math.min(at, found.length - 1)];
  const take = (one: Choosable) => {
    onChange(single ? [one] : [...chosen, one]);
    setWords("");
    setAt(0);
    if (single) setOpen(false);
  };
  const keys = (e: KeyboardEvent) => {
    if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      e.preventDefault();
      setOpen(true);
      const step = e.key === "ArrowDown" ? 1 : -1;
      setAt((n) => Math.max(0, Math.min(found.length - 1, n + step)));
    } else if (e.key === "Enter" && open && active) {
      e.preventDefault();
      take(active);
    } else if (e.key === "Escape" && open) {
      e.stopPropagation();
      setOpen(false);
    }
  };
  return (
    <div>
      <label htmlFor={id} className="mb-1 block font-semibold">
        {label}
      </label>
      <Popover.Root open={open} onOpenChange={setOpen}>
        <Popover.Anchor className="flex min-h-10 flex-wrap items-center gap-1.5 rounded-lg border border-muted bg-sheet px-2 py-1 focus-within:outline-2">
          <ul aria-label={`${label}: chosen`} className="contents">
            {chosen.map((c) => (
              <li
                key={c.key}
                title={c.note}
                className="inline-flex max-w-full items-center rounded-md border border-line bg-paper pl-2"
              >
                <span className="min-w-0 truncate">{c.name}</span>
                <button
                  type="button"
                  aria-label={`Without ${c.name}`}
                  className="inline-flex size-7 shrink-0 items-center justify-center text-muted hover:text-brick"
                  onClick={() => {
                    onChange(chosen.filter((o) => o.key !== c.key));
                    input.current?.focus();
                  }}
                >
                  <X size={15} aria-hidden />
                </button>
              </li>
            ))}
          </ul>
          <input
            ref={input}
            id={id}
            role="combobox"
            aria-expanded={open}
            aria-controls={`${id}-found`}
            aria-activedescendant={open && active ? `${id}-${active.key}` : undefined}
            aria-autocomplete="list"
            aria-describedby={hint ? `${id}-hint` : undefined}
            autoComplete="off"
            value={words}
            placeholder={chosen.length === 0 || !single ? placeholder : ""}
            onClick={() => setOpen(true)}
            onChange={(e) => {
              setWords(e.target.value);
              setAt(0);
              setOpen(true);
            }}
            onKeyDown={keys}
            className="min-w-28 flex-1 bg-transparent px-1 py-1 outline-none"
          />
        </Popover.Anchor>
        <Popover.Portal>
          <Popover.Content
            align="start"
            aria-label={`To choose from: ${label}`}
            sideOffset={4}
            collisionPadding={8}
            onOpenAutoFocus={(e) => e.preventDefault()}
            onCloseAutoFocus={(e) => e.preventDefault()}
            onInteractOutside={(e) => {
              if (e.target instanceof Node && input.current?.parentElement?.contains(e.target)) {
                e.preventDefault();
              }
            }}
            className="z-[60] w-(--radix-popover-trigger-width) min-w-60 rounded-lg border border-line bg-sheet p-1 shadow-lg"
          >
            <ul
              id={`${id}-found`}
              role="listbox"
              aria-label={label}
              className="max-h-64 overflow-y-auto overscroll-contain"
            >
              {found.map((f) => (
                <li
                  key={f.key}
                  id={`${id}-${f.key}`}
                  role="option"
                  aria-selected={f === active}
                  onPointerDown={(e) => e.preventDefault()}
                  onPointerMove={() => setAt(found.indexOf(f))}
                  onClick={() => take(f)}
                  className={`flex cursor-pointer gap-2 rounded-md px-2.5 py-1.5 ${f === active ? "bg-gold-wash" : ""}`}
                >
                  <span className="min-w-0 flex-1 truncate">{f.name}</span>
                  {f.note && <span className="truncate text-[14px] text-muted">{f.note}</span>}
                </li>
              ))}
            </ul>
            <p role="status" className="px-2.5 py-1 text-[14px] text-muted empty:hidden">
              {answer.isError && "It could not be looked up. Try again."}
              {answer.isPending && "Looking…"}
              {answer.data &&
                found.length === 0 &&
                (sought ? "Nobody else matches." : "There is nobody else.")}
              {answer.data &&
                answer.data.total > answer.data.found.length &&
                `${answer.data.total - answer.data.found.length} more: write a part of the name.`}
            </p>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      {hint && (
        <p id={`${id}-hint`} className="mt-1 text-sm text-muted">
          {hint}
        </p>
      )}
    </div>
  );
}
