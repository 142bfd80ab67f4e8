import type { TimePart } from "../api/client";
import { accountSentence, PARTS, partWords } from "./account";

/** Where the time of a machine-run went: a strip to scale, and with `said` the sentence. */
export function Account({ parts, said }: { parts: readonly TimePart[]; said: boolean }) {
  const whole = parts.reduce((sum, part) => sum + part.seconds, 0);
  if (!whole) return null;
  return (
    <>
      <span aria-hidden className="mt-0.5 flex h-1.5 w-full overflow-hidden border border-rule">
        {parts.map((part, i) => (
          <span
            key={`${part.kind} ${i}`}
            title={partWords(part)}
            className={PARTS[part.kind]?.look}
            style={{ width: `${(100 * part.seconds) / whole}%` }}
          />
        ))}
      </span>
      {said && <span className="mt-0.5 block leading-snug">{accountSentence(parts)}</span>}
    </>
  );
}
