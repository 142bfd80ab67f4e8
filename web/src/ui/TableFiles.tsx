/** A table as a file: CSV for programs, a workbook for people. `of`: its address without an end. */
export function TableFiles({
  of,
  what,
  query = {},
}: {
  of: string;
  what: string;
  query?: Readonly<Record<string, string | number | null | undefined>>;
}) {
  const asked = new URLSearchParams();
  for (const [key, value] of Object.entries(query))
    if (value !== null && value !== undefined && value !== "") asked.set(key, String(value));
  const tail = asked.size ? `?${asked.toString()}` : "";
  return (
    <span className="inline-flex gap-2 text-sm print:hidden">
      {["csv", "xlsx"].map((form) => (
        <a
          key={form}
          href={`/api/v1/${of}.${form}${tail}`}
          download
          aria-label={`${what} as ${form.toUpperCase()}`}
          className="underline underline-offset-2"
        >
          {form.toUpperCase()}
        </a>
      ))}
    </span>
  );
}
