import { Eye, EyeOff } from "lucide-react";
import { useId, useState, type InputHTMLAttributes, type ReactNode, type SelectHTMLAttributes } from "react";

interface Props extends InputHTMLAttributes<HTMLInputElement> {
  label: string;
  hint?: ReactNode;
  error?: ReactNode;
}

/** A labelled line of text. */
export function Field({ label, hint, error, className = "", ...rest }: Props) {
  const id = useId();
  const [shown, setShown] = useState(false);
  const secret = rest.type === "password";
  const told = [hint ? `${id}-hint` : "", error ? `${id}-error` : ""].filter(Boolean).join(" ");
  return (
    <div className={className}>
      <label htmlFor={id} className="mb-1 block font-semibold">
        {label}
      </label>
      <div className="relative">
        <input
          id={id}
          aria-describedby={told || undefined}
          aria-invalid={error ? true : undefined}
          className={`block min-h-10 w-full rounded-lg border border-muted bg-sheet px-3 py-1.5 aria-invalid:border-brick ${secret ? "pr-11" : ""}`}
          {...rest}
          type={secret && shown ? "text" : rest.type}
        />
        {secret && (
          <button
            type="button"
            aria-pressed={shown}
            aria-label={`Show: ${label}`}
            title={shown ? "Hide it" : "Show it"}
            onClick={() => setShown(!shown)}
            className="absolute inset-y-0 right-0 inline-flex w-11 items-center justify-center rounded-lg text-muted hover:text-ink"
          >
            {shown ? <EyeOff size={18} aria-hidden /> : <Eye size={18} aria-hidden />}
          </button>
        )}
      </div>
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

interface NewPasswordProps {
  label?: string;
  /** The password, once both fields are the same; empty before that. */
  onChange: (password: string) => void;
  error?: ReactNode;
  autoFocus?: boolean;
}

/** A new password, typed twice. The service decides whether it is taken, and says why not. */
export function NewPassword({ label = "Password", onChange, error, autoFocus }: NewPasswordProps) {
  const [first, setFirst] = useState("");
  const [again, setAgain] = useState("");
  const typed = (a: string, b: string) => {
    setFirst(a);
    setAgain(b);
    onChange(a === b ? a : "");
  };
  return (
    <>
      <Field
        label={label}
        type="password"
        autoComplete="new-password"
        hint="Three or four words that have nothing to do with each other are hard to guess and easy to keep in mind."
        value={first}
        onChange={(e) => typed(e.target.value, again)}
        error={error}
        autoFocus={autoFocus}
        required
      />
      <Field
        label="The same once more"
        type="password"
        autoComplete="new-password"
        value={again}
        onChange={(e) => typed(first, e.target.value)}
        error={again !== "" && again !== first ? "The two are not the same." : undefined}
        required
      />
    </>
  );
}
