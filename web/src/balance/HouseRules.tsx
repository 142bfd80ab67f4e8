import { Button } from "../ui/Button";
import { Choice, Choices } from "../ui/Choice";
import { Field } from "../ui/Field";
import { count } from "../ui/words";
import type { HouseRule } from "./settings";

const MOST_NAMED = 3;

interface Named {
  id: string;
  name: string;
}

const NEW: Record<HouseRule["rule"], (jobs: readonly Named[]) => HouseRule> = {
  "not before": () => ({ rule: "not before", time: "20:00", jobs: [], tag: "" }),
  apart: () => ({ rule: "apart", jobs: [] }),
  last: (jobs) => ({ rule: "last", job: jobs[0]?.id ?? "" }),
};

/** What is missing before a rule says something; null where nothing is. */
export function missing(rule: HouseRule): string | null {
  if (rule.rule === "not before") {
    if (!rule.jobs.length && !rule.tag.trim()) return "Choose jobs, or name a tag.";
    return /^([01]\d|2[0-3]):[0-5]\d$/.test(rule.time) ? null : "A time is written as 20:00.";
  }
  if (rule.rule === "apart") return rule.jobs.length < 2 ? "Choose at least two jobs." : null;
  return rule.job ? null : "Choose a job.";
}

/** Rules of the house, each a sentence with its words to choose. */
export function HouseRules({
  rules,
  jobs,
  onChange,
}: {
  rules: readonly HouseRule[];
  jobs: readonly Named[];
  onChange: (rules: HouseRule[]) => void;
}) {
  const options = jobs.map((job) => ({ value: job.id, label: job.name }));
  const said = (ids: readonly string[]) =>
    ids.length > MOST_NAMED
      ? count(ids.length, "job")
      : ids.map((id) => jobs.find((job) => job.id === id)?.name ?? id).join(", ") || "no job";
  const put = (i: number, rule: HouseRule) => onChange(rules.map((r, at) => (at === i ? rule : r)));
  const anyOf = <R extends { jobs: string[] }>(lead: string, rule: R, to: (rule: R) => void) => (
    <Choices
      lead={lead}
      said={said(rule.jobs)}
      values={rule.jobs}
      options={options}
      onChange={(chosen) => to({ ...rule, jobs: chosen })}
    />
  );
  const add = (kind: HouseRule["rule"]) => onChange([...rules, NEW[kind](jobs)]);
  return (
    <fieldset className="mt-2 border-t border-rule pt-2">
      <legend className="pr-2 font-semibold">Rules of the house</legend>
      <p className="text-ink-2">No proposal breaks one where the plan does not.</p>
      <ul>
        {rules.map((rule, i) => (
          <li key={i} className="flex flex-wrap items-end gap-x-3 border-b border-rule py-1">
            {rule.rule === "not before" ? (
              <>
                {anyOf("Nothing of", rule, (chosen) => put(i, chosen))}
                <Field
                  label="or of what is tagged"
                  value={rule.tag}
                  onChange={(event) => put(i, { ...rule, tag: event.target.value })}
                />
                <Field
                  label="begins before"
                  value={rule.time}
                  onChange={(event) => put(i, { ...rule, time: event.target.value })}
                />
              </>
            ) : rule.rule === "apart" ? (
              <>
                {anyOf("Fulls of", rule, (chosen) => put(i, chosen))}
                <span className="py-1.5">are never in one night</span>
              </>
            ) : (
              <>
                <Choice
                  lead="Every night"
                  value={rule.job}
                  options={options}
                  onChange={(job) => put(i, { ...rule, job })}
                />
                <span className="py-1.5">is the last to begin</span>
              </>
            )}
            {missing(rule) && <span className="py-1.5 text-barn">{missing(rule)}</span>}
            <Button
              small
              className="mb-1 ml-auto"
              onClick={() => onChange(rules.filter((_, at) => at !== i))}
            >
              Take away
            </Button>
          </li>
        ))}
      </ul>
      <p className="mt-1 flex flex-wrap gap-2">
        <Button small onClick={() => add("not before")}>
          Never before a time
        </Button>
        <Button small onClick={() => add("apart")}>
          Never in one night
        </Button>
        <Button small onClick={() => add("last")}>
          The last to begin
        </Button>
      </p>
    </fieldset>
  );
}
