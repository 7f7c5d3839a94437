import { pictureAddress } from "../lib/api";

/** The first letters of a name. */
export function initials(name: string): string {
  const letters = name.split(/\s+/).map((w) => w[0] ?? "");
  return letters.join("").slice(0, 2).toUpperCase();
}

/** Somebody's picture, or the first letters of their name. */
export function Portrait({
  signIn,
  name,
  picture,
  className = "size-8 text-[13px]",
}: {
  signIn: string;
  name: string;
  picture?: string;
  className?: string;
}) {
  if (picture) {
    return (
      <img
        src={pictureAddress(signIn, picture)}
        alt=""
        className={`shrink-0 rounded-full object-cover ${className}`}
      />
    );
  }
  return (
    <span
      aria-hidden
      className={`inline-flex shrink-0 items-center justify-center rounded-full bg-gold-wash font-bold text-ink ${className}`}
    >
      {initials(name)}
    </span>
  );
}
