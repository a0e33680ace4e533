import type { InputHTMLAttributes, ReactNode } from "react";
import { NavLink } from "react-router";

interface LabelledInputProps
  extends Omit<InputHTMLAttributes<HTMLInputElement>, "onChange" | "value"> {
  label: string;
  hint?: string;
  value: string;
  onChange: (value: string) => void;
}

/** A text field below its label, as wide as its container by default. */
export function LabelledInput({
  label,
  hint,
  className = "w-full",
  onChange,
  ...input
}: LabelledInputProps) {
  return (
    <label className="flex flex-col gap-1">
      {label}
      <input
        {...input}
        className={`input ${className}`}
        onChange={(event) => onChange(event.target.value)}
      />
      {hint && <span className="soft text-sm">{hint}</span>}
    </label>
  );
}

/** A field for a new password. */
export function NewPassword({
  label,
  value,
  onChange,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <LabelledInput
      label={label}
      hint="At least 10 characters."
      type="password"
      autoComplete="new-password"
      minLength={10}
      required
      value={value}
      onChange={onChange}
    />
  );
}

const CHECKBOXES = {
  usual: "checkbox checkbox-sm",
  small: "checkbox checkbox-xs",
  toggle: "toggle toggle-sm",
};

/** A checkbox or toggle before its label. */
export function CheckBox({
  title,
  kind = "usual",
  className = "",
  checked,
  onChange,
  children,
}: {
  title?: string;
  kind?: keyof typeof CHECKBOXES;
  className?: string;
  checked: boolean;
  onChange: (checked: boolean) => void;
  children: ReactNode;
}) {
  return (
    <label className={`flex cursor-pointer items-center gap-2 ${className}`} title={title}>
      <input
        type="checkbox"
        className={CHECKBOXES[kind]}
        checked={checked}
        onChange={(event) => onChange(event.target.checked)}
      />
      {children}
    </label>
  );
}

/** The tabs of a page: paths and their labels. */
export function Tabs({ label, tabs }: { label: string; tabs: readonly (readonly string[])[] }) {
  return (
    <nav
      className="border-base-300 mt-5 mb-4 flex gap-x-5 overflow-x-auto border-b sm:gap-x-6"
      aria-label={label}
    >
      {tabs.map(([to, text]) => (
        <NavLink
          key={to}
          to={to!}
          className={({ isActive }) =>
            `border-b-2 py-2 whitespace-nowrap ${isActive ? "border-primary font-semibold" : "soft border-transparent"}`
          }
        >
          {text}
        </NavLink>
      ))}
    </nav>
  );
}

/** Creates something by its name alone. */
export function CreateByName({
  what,
  name,
  onName,
  onCreate,
}: {
  what: string;
  name: string;
  onName: (name: string) => void;
  onCreate: (event: React.FormEvent) => void;
}) {
  const label = `Name of the new ${what}`;
  return (
    <form className="mt-4 flex gap-2.5" onSubmit={onCreate}>
      <input
        className="input w-64"
        required
        maxLength={120}
        placeholder={label}
        aria-label={label}
        value={name}
        onChange={(event) => onName(event.target.value)}
      />
      <button type="submit" className="btn btn-primary">
        Create {what}
      </button>
    </form>
  );
}

/** Asks, or stops the answer that is being written. */
export function AskOrStop({ busy, onStop }: { busy: boolean; onStop: () => void }) {
  return busy ? (
    <button type="button" className="btn" onClick={onStop}>
      Stop
    </button>
  ) : (
    <button type="submit" className="btn btn-primary">
      Ask
    </button>
  );
}
