import { X } from "lucide-react";
import { Dialog as Radix } from "radix-ui";
import type { ReactNode } from "react";
import { IconButton } from "./button";

interface Props {
  open: boolean;
  onClose: () => void;
  title: string;
  description?: ReactNode;
  wide?: boolean;
  children: ReactNode;
}

/** A question or a look in front of the page. */
export function Dialog({ open, onClose, title, description, wide = false, children }: Props) {
  return (
    <Radix.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-shade" />
        <Radix.Content
          {...(description === undefined ? { "aria-describedby": undefined } : {})}
          className={`fixed top-1/2 left-1/2 z-50 flex max-h-[calc(100dvh-2rem)] w-[calc(100vw-2rem)] -translate-x-1/2 -translate-y-1/2 flex-col rounded-xl border border-line bg-sheet p-5 shadow-xl ${wide ? "max-w-5xl" : "max-w-md"}`}
        >
          <div className="flex items-start gap-3">
            <Radix.Title className="min-w-0 flex-1 pt-1 text-lg font-bold break-words">{title}</Radix.Title>
            <Radix.Close asChild>
              <IconButton label="Close">
                <X size={20} />
              </IconButton>
            </Radix.Close>
          </div>
          {description !== undefined && (
            <Radix.Description className="mt-1 text-muted">{description}</Radix.Description>
          )}
          <div className="-mx-1 mt-4 flex min-h-0 flex-1 flex-col overflow-y-auto px-1">{children}</div>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

/** The buttons at the foot of a dialog. */
export function DialogActions({ children }: { children: ReactNode }) {
  // They stay in sight, however long the dialog is and however small the window.
  return (
    <div className="sticky bottom-0 -mx-1 mt-5 flex flex-wrap items-end justify-end gap-2 bg-sheet px-1 pt-2">
      {children}
    </div>
  );
}
