import type { Ahead } from "../api/runwayQueries";
import type { Computation } from "../api/balanceQueries";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { waitingWords } from "../ui/waitingWords";
import { count } from "../ui/words";
import { FEARS, MONTHS, useMeant } from "./meant";

/** How far a question about nights looks, and with which growth. */
export function useAsked(): Ahead {
  const { ahead, growth } = useMeant();
  return { ...ahead, feared_growth: growth === null ? null : growth / 100 };
}

/** The choices of such a question. */
export function AskedFor({ lead }: { lead: string }) {
  const { ahead, growth, setMonths, setGrowth } = useMeant();
  return (
    <>
      <Months lead={lead} months={ahead.months} onChange={setMonths} />
      <Choice
        lead="with growth"
        value={growth === null ? "known" : String(growth)}
        options={[
          { value: "known", label: "as it is known" },
          ...FEARS.map((n) => ({ value: String(n), label: `of ${n} % a year or more` })),
        ]}
        onChange={(value) => setGrowth(value === "known" ? null : Number(value))}
      />
    </>
  );
}

/** How far one looks. */
export function Months({
  lead,
  months,
  onChange,
}: {
  lead: string;
  months: number;
  onChange: (months: number) => void;
}) {
  return (
    <Choice
      lead={lead}
      value={String(months)}
      options={MONTHS.map((n) => ({ value: String(n), label: `${n} months` }))}
      onChange={(value) => onChange(Number(value))}
    />
  );
}

/** How many months are done, with a way to cancel. */
export function MonthsDone({
  found,
  label,
  months,
  onCancel,
}: {
  found: Computation;
  label: string;
  /** How many there are, as long as nobody has said it. */
  months: number;
  onCancel: () => void;
}) {
  const { phase, ahead, months: done = 0, of = months } = found.progress;
  return (
    <>
      <progress value={done} max={of} aria-label={label} className="accent-ink" />
      <span role="status">
        {phase === "waiting" ? waitingWords(ahead) : `${done} of ${count(of, "month")}`}
      </span>
      <Button onClick={onCancel}>Cancel</Button>
    </>
  );
}

/** Why a computation has no result. */
export function NotDone({ found }: { found: Computation | undefined }) {
  if (found?.state !== "failed" && found?.state !== "interrupted") return null;
  return (
    <p role="status" className="py-2">
      {found.message || "It was interrupted."}
    </p>
  );
}
