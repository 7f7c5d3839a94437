import { ContextMenu, DropdownMenu } from "radix-ui";
import { Fragment, type ReactNode } from "react";

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

/** Something that can be done with what is selected. */
export interface Act {
  key: string;
  label: string;
  icon: ReactNode;
  hint?: string;
  loss?: boolean;
  /** A line before it. */
  apart?: boolean;
  run: () => void;
}

const itemLook = (loss: boolean | undefined) =>
  `flex cursor-pointer items-center gap-3 rounded-md px-3 py-2 outline-none data-[highlighted]:bg-gold-wash ${loss ? "text-brick" : ""}`;

const inner = (act: Act) => (
  <>
    <span aria-hidden>{act.icon}</span>
    <span className="flex-1">{act.label}</span>
    {act.hint && <span className="font-mono text-xs text-muted max-sm:hidden">{act.hint}</span>}
  </>
);

/** All that can be done, behind a button. */
export function ActsMenu({ trigger, label, acts }: { trigger: ReactNode; label: string; acts: () => Act[] }) {
  return (
    <Menu trigger={trigger} label={label}>
      <DropdownActs acts={acts} />
    </Menu>
  );
}

function DropdownActs({ acts }: { acts: () => Act[] }) {
  return acts().map((act) => (
    <Fragment key={act.key}>
      {act.apart && <MenuLine />}
      <DropdownMenu.Item onSelect={act.run} className={itemLook(act.loss)}>
        {inner(act)}
      </DropdownMenu.Item>
    </Fragment>
  ));
}

/** The same by right click, or by the menu key, anywhere in what stands in it. */
export function ActsArea({
  label,
  acts,
  children,
}: {
  label: string;
  acts: () => Act[];
  children: ReactNode;
}) {
  return (
    <ContextMenu.Root modal={false}>
      <ContextMenu.Trigger asChild>{children}</ContextMenu.Trigger>
      <ContextMenu.Portal container={document.getElementById("main")}>
        <ContextMenu.Content
          aria-label={label}
          className="z-50 min-w-52 rounded-lg border border-line bg-sheet p-1 shadow-lg"
        >
          <ContextActs acts={acts} />
        </ContextMenu.Content>
      </ContextMenu.Portal>
    </ContextMenu.Root>
  );
}

function ContextActs({ acts }: { acts: () => Act[] }) {
  return acts().map((act) => (
    <Fragment key={act.key}>
      {act.apart && <ContextMenu.Separator className="my-1 h-px bg-line" />}
      <ContextMenu.Item onSelect={act.run} className={itemLook(act.loss)}>
        {inner(act)}
      </ContextMenu.Item>
    </Fragment>
  ));
}
