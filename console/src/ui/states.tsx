import type { ReactNode } from "react";
import { Refusal, sayingOf } from "../lib/api";
import { Button } from "./button";

/** Nothing is here yet: what the place is for, and the first act. */
export function Empty({
  title,
  children,
  action,
}: {
  title: string;
  children: ReactNode;
  action?: ReactNode;
}) {
  return (
    <div className="mx-auto max-w-md px-4 py-16 text-center">
      <h2 className="text-lg font-bold">{title}</h2>
      <p className="mt-2 text-muted">{children}</p>
      {action && <div className="mt-5 flex justify-center">{action}</div>}
    </div>
  );
}

/** Rows that keep the layout still while something loads. */
export function Loading({ rows = 6 }: { rows?: number }) {
  return (
    <div role="status" aria-label="Loading" className="py-2">
      {Array.from({ length: rows }, (_, i) => (
        <div key={i} className="flex h-[42px] items-center gap-3 border-b border-line px-2">
          <div className="size-5 rounded bg-line" />
          <div className={`h-3 rounded bg-line ${i % 3 === 0 ? "w-1/3" : i % 3 === 1 ? "w-1/4" : "w-2/5"}`} />
        </div>
      ))}
    </div>
  );
}

/** Something was refused or failed: the reason and the remedy. */
export function Notice({ error, retry }: { error: unknown; retry?: () => void }) {
  const refusal = error instanceof Refusal ? error : Refusal.of(error);
  return (
    <div role="alert" className="m-4 rounded-lg bg-brick-wash p-4 text-ink">
      <p className="font-semibold">{refusal.message}</p>
      {refusal.remedy && <p className="mt-1">{refusal.remedy}</p>}
      {retry && (
        <Button className="mt-3" onClick={retry}>
          Try again
        </Button>
      )}
    </div>
  );
}

/** Why a form was refused, and what to do about it. */
export function FormError({ error }: { error: unknown }) {
  if (!error) return null;
  return (
    <p role="alert" className="mt-4 rounded-lg bg-brick-wash p-3">
      {sayingOf(error)}
    </p>
  );
}
