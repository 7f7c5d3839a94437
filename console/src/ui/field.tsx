import { useId, type InputHTMLAttributes, type ReactNode, type SelectHTMLAttributes } from "react";

interface Props extends InputHTMLAttributes<HTMLInputElement> {
  label: string;
  hint?: ReactNode;
  error?: ReactNode;
}

/** A labelled line of text. */
export function Field({ label, hint, error, className = "", ...rest }: Props) {
  const id = useId();
  const told = [hint ? `${id}-hint` : "", error ? `${id}-error` : ""].filter(Boolean).join(" ");
  return (
    <div className={className}>
      <label htmlFor={id} className="mb-1 block font-semibold">
        {label}
      </label>
      <input
        id={id}
        aria-describedby={told || undefined}
        aria-invalid={error ? true : undefined}
        className="block min-h-10 w-full rounded-lg border border-muted bg-sheet px-3 py-1.5 aria-invalid:border-brick"
        {...rest}
      />
      {hint && (
        <p id={`${id}-hint`} className="mt-1 text-sm text-muted">
          {hint}
        </p>
      )}
      {error && (
        <p id={`${id}-error`} role="alert" className="mt-1 text-sm text-brick">
          {error}
        </p>
      )}
    </div>
  );
}

interface ChoiceProps extends SelectHTMLAttributes<HTMLSelectElement> {
  label: string;
  /** The label is for screen readers only. */
  quiet?: boolean;
  options: [value: string, word: string][];
}

/** A labelled choice of one of a few. */
export function Choice({ label, quiet = false, options, className = "", ...rest }: ChoiceProps) {
  const id = useId();
  return (
    <div className={className}>
      <label htmlFor={id} className={quiet ? "sr-only" : "mb-1 block font-semibold"}>
        {label}
      </label>
      <select
        id={id}
        className={`block w-full rounded-lg border border-muted bg-sheet px-2.5 py-1.5 ${quiet ? "min-h-9" : "min-h-10"}`}
        {...rest}
      >
        {options.map(([value, word]) => (
          <option key={value} value={value}>
            {word}
          </option>
        ))}
      </select>
    </div>
  );
}
