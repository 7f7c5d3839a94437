/** The first of many, behind a line that says how many. */
export function Some({ title, all }: { title: string; all: string[] }) {
  if (all.length === 0) return null;
  return (
    <details className="mt-3">
      <summary className="cursor-pointer text-teal">
        {title}: {all.length}
      </summary>
      <ul className="mt-1 max-h-48 space-y-1 overflow-y-auto text-[14.5px] break-words">
        {all.slice(0, 100).map((line) => (
          <li key={line}>{line}</li>
        ))}
      </ul>
    </details>
  );
}
