/** Our mark: a roof over a lit window. */
export function Mark() {
  return (
    <svg viewBox="0 0 36 32" className="size-9" role="img" aria-label="Yellow Attic">
      <path
        d="M3 15 18 4l15 11"
        fill="none"
        stroke="currentColor"
        strokeWidth="3"
        strokeLinecap="round"
        strokeLinejoin="round"
      />
      <rect x="12" y="17" width="12" height="12" rx="1.5" fill="var(--gold)" />
    </svg>
  );
}
