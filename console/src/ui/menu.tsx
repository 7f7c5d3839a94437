import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";

/** A menu behind a button. */
export function Menu({
  trigger,
  label,
  children,
}: {
  trigger: ReactNode;
  label: string;
  children: ReactNode;
}) {
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger asChild>{trigger}</DropdownMenu.Trigger>
      <DropdownMenu.Portal container={document.getElementById("main")}>
        <DropdownMenu.Content
          aria-label={label}
          align="end"
          sideOffset={6}
          className="z-50 min-w-48 rounded-lg border border-line bg-sheet p-1 shadow-lg"
        >
          {children}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

interface ItemProps {
  icon?: ReactNode;
  hint?: string;
  loss?: boolean;
  disabled?: boolean;
  onSelect: () => void;
  children: ReactNode;
}

/** One act in a menu. */
export function MenuItem({ icon, hint, loss = false, disabled = false, onSelect, children }: ItemProps) {
  return (
    <DropdownMenu.Item
      disabled={disabled}
      onSelect={onSelect}
      className={`flex cursor-pointer items-center gap-3 rounded-md px-3 py-2 outline-none data-[disabled]:opacity-50 data-[highlighted]:bg-gold-wash ${loss ? "text-brick" : ""}`}
    >
      {icon}
      <span className="flex-1">{children}</span>
      {hint && <span className="font-mono text-xs text-muted">{hint}</span>}
    </DropdownMenu.Item>
  );
}

/** A line between acts. */
export function MenuLine() {
  return <DropdownMenu.Separator className="my-1 h-px bg-line" />;
}
