import { useState } from "react";
import { Choice } from "../ui/Choice";
import { count } from "../ui/words";
import type { ImportPreview } from "../api/estateQueries";

export type Words = Record<string, Record<string, string>>;
type Word = ImportPreview["files"][number]["words"][number];

const COLUMN: Record<string, string> = { powered_on: "Powered on", kind: "Kind", role: "Role" };
const MEANINGS: Record<string, { value: string; label: string }[]> = {
  powered_on: [
    { value: "on", label: "on" },
    { value: "off", label: "off" },
  ],
  kind: [
    { value: "vm", label: "a VM" },
    { value: "server", label: "a physical server" },
  ],
};

/** What the words of a file mean that stand for a state, a kind or a role. */
export function WordsOfFile({
  found,
  words,
  roles,
  onChange,
}: {
  found: readonly Word[];
  words: Words;
  roles: readonly string[];
  onChange: (words: Words) => void;
}) {
  const unknown = found.filter((word) => word.meaning === null).length;
  // It opens where something is missing, and stays open until it is closed.
  const [open, setOpen] = useState(unknown > 0);
  if (!found.length) return null;
  const options = (word: Word) => {
    if (word.field !== "role") return MEANINGS[word.field]!;
    const others = roles.filter((role) => role !== word.word);
    return [word.word, ...others].map((value) => ({ value, label: value }));
  };
  const choose = (word: Word, meaning: string) => {
    const others = Object.entries(words[word.field] ?? {}).filter(([w]) => w !== word.word);
    const asItStands = word.field === "role" && meaning === word.word;
    const own = Object.fromEntries(asItStands ? others : [...others, [word.word, meaning]]);
    onChange({ ...words, [word.field]: own });
  };
  return (
    <details className="mb-2" open={open} onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className="cursor-pointer font-semibold">
        Words{" "}
        <span className="font-normal text-ink-2">
          {count(found.length, "word")}, {unknown ? `${unknown} not understood` : "all understood"}
        </span>
      </summary>
      <table className="w-full">
        <caption className="sr-only">Words of the file and what they mean</caption>
        <tbody>
          {found.map((word) => (
            <tr key={`${word.field} ${word.word}`} className="border-b border-rule">
              <th scope="row" className="max-w-36 py-0.5 text-left font-normal">
                <q className="[overflow-wrap:anywhere]">{word.word}</q>
                <span className="block text-xs text-ink-2">
                  {COLUMN[word.field]}, {count(word.rows, "row")}
                </span>
              </th>
              <td>
                <Choice
                  lead="means"
                  value={word.meaning ?? ""}
                  options={
                    word.meaning === null
                      ? [{ value: "", label: "not known" }, ...options(word)]
                      : options(word)
                  }
                  onChange={(meaning) => choose(word, meaning)}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}
