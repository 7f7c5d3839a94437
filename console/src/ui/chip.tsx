import type { ReactNode } from "react";

const looks = {
  gold: "bg-gold-wash text-ink",
  brick: "bg-brick-wash text-brick",
  plain: "bg-paper text-muted border border-line",
};

/** A short remark on something. */
export function Chip({ look = "plain", children }: { look?: keyof typeof looks; children: ReactNode }) {
  return (
    <span className={`inline-block rounded-md px-2 py-0.5 text-[13px] whitespace-nowrap ${looks[look]}`}>
      {children}
    </span>
  );
}
