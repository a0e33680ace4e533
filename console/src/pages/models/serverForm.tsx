import { useState } from "react";

type Values = Record<string, string | number>;

/** The values of a form for a server, and its fields below their labels. */
export function useServerForm<T extends Values>(blank: T) {
  const [form, setForm] = useState(blank);
  const text = (name: keyof T & string, label: string, more: Record<string, unknown> = {}) => (
    <label className="block">
      <span className="mb-1 block font-medium">{label}</span>
      <input
        className="input w-full"
        value={form[name]}
        onChange={(event) =>
          setForm({
            ...form,
            [name]: more.type === "number" ? Number(event.target.value) : event.target.value,
          })
        }
        {...more}
      />
    </label>
  );
  return { form, text, reset: () => setForm(blank) };
}

/** The short names in a text with commas; null if there are none. */
export function teamsOf(text: string): string[] | null {
  const teams = text
    .split(",")
    .map((slug) => slug.trim())
    .filter(Boolean);
  return teams.length ? teams : null;
}
