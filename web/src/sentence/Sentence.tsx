import { clsx } from "clsx";
import type { Clause, Look } from "../api/jobQueries";

/** The sentence: each clause a button, marked where something is missing or contradictory. */
export function Sentence({
  look,
  chosen,
  onOpen,
}: {
  look: Look | undefined;
  chosen: string | null;
  onOpen: (clause: string) => void;
}) {
  if (!look)
    return (
      <p role="status" className="px-4 py-2">
        Reading the sentence …
      </p>
    );
  const button = (clause: Clause) => (
    <ClauseButton look={look} clause={clause} chosen={chosen} onOpen={onOpen} />
  );
  const told = look.clauses.filter((c) => !c.plain);
  const plain = look.clauses.filter((c) => c.plain);
  const marked = look.problems;
  return (
    <section
      aria-label="The job as a sentence"
      className="max-h-[38%] overflow-y-auto px-4 pt-1 narrow:max-h-none"
    >
      <p className="max-w-[82ch] text-lg leading-[1.6]">
        {told.map((clause, i) => (
          <span key={clause.key}>
            <strong>{clause.lead}</strong> {button(clause)}
            {i < told.length - 1 ? ", " : "."}{" "}
          </span>
        ))}
      </p>
      {plain.length > 0 && (
        <p className="text-ink-2">
          {plain.map((clause) => (
            <span key={clause.key} className="mr-2">
              {clause.lead} {button(clause)}
            </span>
          ))}
        </p>
      )}
      {marked.length > 0 && (
        <ul className="pt-1" aria-label="What deserves a look">
          {marked.slice(0, 4).map((problem) => (
            <li
              key={problem.words}
              className={problem.weight === "stops" ? "text-barn" : "text-hay-text"}
            >
              {problem.weight === "stops" ? "✕" : "▲"} {problem.words}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

/** A clause as a button that opens its editor, marked where something speaks against it. */
export function ClauseButton({
  look,
  clause,
  chosen,
  onOpen,
}: {
  look: Look;
  clause: Clause;
  chosen: string | null;
  onOpen: (clause: string) => void;
}) {
  const problems = look.problems.filter((p) => p.clause === clause.key);
  const stops = problems.some((p) => p.weight === "stops");
  return (
    <button
      type="button"
      data-clause={clause.key}
      aria-pressed={chosen === clause.key}
      aria-label={`${clause.lead} ${clause.text}${problems.length ? `; ${problems.map((p) => p.words).join(" ")}` : ""}: edit`}
      onClick={() => onOpen(clause.key)}
      className={clsx(
        "rounded-[3px] px-0.5 text-left decoration-dotted underline underline-offset-4 hover:bg-closed aria-pressed:bg-closed",
        stops
          ? "font-semibold text-barn decoration-barn"
          : problems.length
            ? "decoration-hay"
            : "decoration-rule-strong",
      )}
    >
      {clause.text}
      {problems.length > 0 && <span aria-hidden> {stops ? "✕" : "▲"}</span>}
    </button>
  );
}
