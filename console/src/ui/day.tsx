import { CalendarDays } from "lucide-react";
import { Popover } from "radix-ui";
import { lazy, Suspense, useEffect, useId, useRef, useState, type ReactNode } from "react";
import { dayWords, readDay } from "../lib/days";
import { Button } from "./button";

const Calendar = lazy(() => import("./calendar"));

const example = dayWords(`${new Date().getFullYear()}-12-24`);

interface Props {
  label: string;
  /** `2026-12-24`, or empty. */
  value: string;
  onChange: (day: string) => void;
  hint?: ReactNode;
  className?: string;
  required?: boolean;
  /** Days before it cannot be chosen. */
  first?: string;
}

/** A day: written as one says it, or taken from a calendar. */
export function DayField({ label, value, onChange, hint, className = "", required, first }: Props) {
  const id = useId();
  const [text, setText] = useState(dayWords(value));
  const [open, setOpen] = useState(false);
  const [wrong, setWrong] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  useEffect(() => {
    // What is no day is never sent as if nothing were written.
    const bad = text.trim() !== "" && readDay(text) === undefined;
    input.current?.setCustomValidity(bad ? `This is no day. Write it like ${example}.` : "");
  }, [text]);
  useEffect(() => {
    // What somebody is writing is left alone until it is a day.
    if (value !== "" || !wrong) setText((now) => (readDay(now) === value ? now : dayWords(value)));
  }, [value, wrong]);
  const write = (words: string) => {
    setText(words);
    const day = readDay(words);
    setWrong(false);
    onChange(day ?? "");
  };
  const take = (day: string) => {
    setWrong(false);
    setText(dayWords(day));
    onChange(day);
    setOpen(false);
  };
  const told = [hint ? `${id}-hint` : "", wrong ? `${id}-error` : ""].filter(Boolean).join(" ");
  return (
    <div className={className}>
      <label htmlFor={id} className="mb-1 block font-semibold">
        {label}
      </label>
      <Popover.Root open={open} onOpenChange={setOpen}>
        <Popover.Anchor className="relative">
          <input
            ref={input}
            id={id}
            type="text"
            autoComplete="off"
            placeholder={example}
            value={text}
            required={required}
            aria-describedby={told || undefined}
            aria-invalid={wrong ? true : undefined}
            onChange={(e) => write(e.target.value)}
            onBlur={() => {
              if (text.trim() === "") return;
              const day = readDay(text);
              setWrong(day === undefined);
              if (day) setText(dayWords(day));
            }}
            className="block min-h-10 w-full rounded-lg border border-muted bg-sheet py-1.5 pr-11 pl-3 aria-invalid:border-brick"
          />
          <Popover.Trigger asChild>
            <button
              type="button"
              aria-label={`Calendar: ${label}`}
              title="Choose from a calendar"
              className="absolute inset-y-0 right-0 inline-flex w-11 items-center justify-center rounded-lg text-muted hover:text-ink"
            >
              <CalendarDays size={18} aria-hidden />
            </button>
          </Popover.Trigger>
        </Popover.Anchor>
        <Popover.Portal>
          <Popover.Content
            align="end"
            sideOffset={6}
            collisionPadding={8}
            aria-label={label}
            className="z-[60] rounded-xl border border-line bg-sheet p-3 shadow-xl"
          >
            <Suspense fallback={<div className="h-72 w-64" />}>
              <Calendar value={value} first={first} onChange={take} />
            </Suspense>
            {!required && value !== "" && (
              <Button look="quiet" className="mt-1 w-full" onClick={() => take("")}>
                No day
              </Button>
            )}
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      {hint && (
        <p id={`${id}-hint`} className="mt-1 text-sm text-muted">
          {hint}
        </p>
      )}
      {wrong && (
        <p id={`${id}-error`} role="alert" className="mt-1 text-sm text-brick">
          This is no day. Write it like {example}.
        </p>
      )}
    </div>
  );
}
