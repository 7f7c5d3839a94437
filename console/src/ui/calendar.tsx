import { ChevronDown, ChevronLeft, ChevronRight, ChevronUp } from "lucide-react";
import { DayPicker } from "react-day-picker";
import { enGB } from "react-day-picker/locale";
import { dateOf, dayOf } from "../lib/days";

const arrows = { left: ChevronLeft, right: ChevronRight, up: ChevronUp, down: ChevronDown };

function Arrow({ orientation }: { orientation?: keyof typeof arrows }) {
  const Icon = arrows[orientation ?? "right"];
  return <Icon size={18} aria-hidden />;
}

/** A month of days, of which one can be chosen. It comes when it is first opened. */
export default function Calendar({
  value,
  first,
  onChange,
}: {
  value: string;
  first?: string;
  onChange: (day: string) => void;
}) {
  const chosen = value === "" ? undefined : dateOf(value);
  const before = first === undefined ? undefined : dateOf(first);
  return (
    <DayPicker
      mode="single"
      autoFocus
      required
      locale={enGB}
      selected={chosen}
      defaultMonth={chosen ?? before}
      disabled={before && { before }}
      onSelect={(day: Date) => onChange(dayOf(day))}
      components={{ Chevron: Arrow }}
      classNames={{
        root: "relative",
        months: "relative",
        nav: "absolute top-0 right-0 flex gap-1",
        button_previous:
          "inline-flex size-9 items-center justify-center rounded-lg text-muted hover:text-ink",
        button_next: "inline-flex size-9 items-center justify-center rounded-lg text-muted hover:text-ink",
        month_caption: "flex h-9 items-center pl-2 font-semibold",
        month_grid: "mt-1 border-collapse",
        weekday: "size-9 text-center text-[13px] font-normal text-muted",
        day: "p-0 text-center",
        day_button:
          "inline-flex size-9 items-center justify-center rounded-lg hover:bg-gold-wash disabled:opacity-40 disabled:hover:bg-transparent",
        today: "font-bold underline underline-offset-4",
        selected: "[&>button]:bg-gold [&>button]:text-on-gold [&>button]:font-semibold",
        outside: "text-muted",
        hidden: "invisible",
      }}
    />
  );
}
