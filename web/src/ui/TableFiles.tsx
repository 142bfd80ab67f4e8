import { useState } from "react";
import { save } from "../api/client";

const FORMS = ["csv", "xlsx"] as const;

/**
 * A table as a file: CSV for programs, a workbook for people.
 *
 * `of`: its address without an end. `body`: what it is asked for with, where that is not saved yet.
 */
export function TableFiles({
  of,
  what,
  query = {},
  body,
}: {
  of: string;
  what: string;
  query?: Readonly<Record<string, string | number | null | undefined>>;
  body?: object;
}) {
  const [refused, setRefused] = useState<string | null>(null);
  const asked = new URLSearchParams();
  for (const [key, value] of Object.entries(query))
    if (value !== null && value !== undefined && value !== "") asked.set(key, String(value));
  const tail = asked.size ? `?${asked.toString()}` : "";
  const look = "underline underline-offset-2";
  return (
    <span className="inline-flex gap-2 text-sm print:hidden">
      {FORMS.map((form) => {
        const [label, address] = [
          `${what} as ${form.toUpperCase()}`,
          `/api/v1/${of}.${form}${tail}`,
        ];
        return body ? (
          <button
            key={form}
            type="button"
            aria-label={label}
            className={look}
            onClick={() => {
              setRefused(null);
              save(address, body).catch((error: Error) => setRefused(error.message));
            }}
          >
            {form.toUpperCase()}
          </button>
        ) : (
          <a key={form} href={address} download aria-label={label} className={look}>
            {form.toUpperCase()}
          </a>
        );
      })}
      {refused && <span role="alert">{refused}</span>}
    </span>
  );
}
