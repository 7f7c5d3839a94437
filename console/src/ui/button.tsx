import type { ButtonHTMLAttributes, ReactNode } from "react";

const looks = {
  primary: "bg-gold text-on-gold hover:bg-gold-deep font-semibold border border-transparent",
  plain: "bg-sheet text-ink border border-line hover:border-muted",
  away: "text-brick border border-transparent hover:border-brick",
  quiet: "text-muted hover:text-ink border border-transparent",
  loss: "bg-brick text-sheet font-semibold border border-transparent hover:opacity-90",
};

interface Props extends ButtonHTMLAttributes<HTMLButtonElement> {
  look?: keyof typeof looks;
  icon?: ReactNode;
}

/** A button with a word on it. */
export function Button({ look = "plain", icon, className = "", children, type = "button", ...rest }: Props) {
  return (
    <button
      type={type}
      className={`inline-flex min-h-9 items-center justify-center gap-2 rounded-lg px-3.5 py-1.5 whitespace-nowrap disabled:opacity-60 ${looks[look]} ${className}`}
      {...rest}
    >
      {icon}
      {children}
    </button>
  );
}

/** A button with an icon only; its word is for screen readers and on hover. */
export function IconButton({
  label,
  children,
  className = "",
  ...rest
}: { label: string } & ButtonHTMLAttributes<HTMLButtonElement>) {
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      className={`inline-flex size-9 shrink-0 items-center justify-center rounded-lg text-muted hover:text-ink ${className}`}
      {...rest}
    >
      {children}
    </button>
  );
}
