import { useQuery } from "@tanstack/react-query";
import { useWorkbench } from "../workbench/store";
import { duration } from "../time/time";
import { bytes } from "../ui/words";
import { costsQuery } from "../api/jobQueries";
import type { JobEdit } from "../sentence/useJobEdit";

const signed = (value: number, words: (value: number) => string, nothing: string) =>
  Math.abs(value) < 1 ? nothing : `${value > 0 ? "+" : "−"} ${words(Math.abs(value))}`;

/** What the options that the job uses add to a week of its runs, or spare it. */
export function Costs({ edit, id }: { edit: JobEdit; id: string }) {
  const { plan, draft } = useWorkbench();
  const found = useQuery({
    ...costsQuery(plan, draft, id, edit.operations),
    placeholderData: (before) => before,
  });
  if (found.error) return <p role="alert">{found.error.message}</p>;
  if (!found.data) return <p role="status">Simulating with and without …</p>;
  if (!found.data.costs.length) return <p>It uses no option that costs or spares anything.</p>;
  return (
    <>
      <table className="text-sm">
        <caption className="sr-only">Cost of the options in a week</caption>
        <thead>
          <tr className="border-b border-rule-strong text-left text-ink-2">
            <th scope="col" className="py-1 pr-6 font-medium">
              In a week of this job
            </th>
            <th scope="col" className="pr-6 text-right font-medium">
              Time of its runs
            </th>
            <th scope="col" className="text-right font-medium">
              Sent
            </th>
          </tr>
        </thead>
        <tbody>
          {found.data.costs.map((cost) => (
            <tr key={cost.option} className="border-b border-rule">
              <th scope="row" className="py-1 pr-6 text-left font-normal">
                {cost.words}
              </th>
              <td className="pr-6 text-right">{signed(cost.seconds, duration, "no time")}</td>
              <td className="text-right">{signed(cost.wire_bytes, bytes, "nothing")}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="pt-2 text-ink-2">
        Each line is the week of the job alone with the option, less the same week without it.
      </p>
    </>
  );
}
