import type { ReactNode } from "react";
import type { RunBar, Trouble } from "../api/runQueries";
import { clock } from "../time/time";

const MOST = 30;

/** The machine-runs of a night that failed, with the reason that was given. */
export function NotDone(props: {
  title: string;
  troubles: readonly Trouble[];
  runs: readonly RunBar[];
  zone: string;
  /** Links to the same as a file. */
  file?: ReactNode;
}) {
  const { title, troubles, runs, zone, file } = props;
  if (!troubles.length) return null;
  return (
    <section aria-label="Not done" className="pt-3">
      <h2 className="text-lg font-semibold">
        {title} {file}
      </h2>
      <ul>
        {troubles.slice(0, MOST).map((trouble) => (
          <li
            key={`${trouble.job} ${trouble.occurrence} ${trouble.machine}`}
            className="border-t border-rule py-0.5"
          >
            <span className="font-medium">{trouble.machine}</span>{" "}
            <span className="text-barn">{trouble.outcome}</span>{" "}
            <span className="text-ink-2">
              {runs.find((each) => each.job === trouble.job)?.name},{" "}
              {clock(trouble.occurrence, zone)}
              {trouble.reason && `: ${trouble.reason}`}
            </span>
          </li>
        ))}
      </ul>
      {troubles.length > MOST && <p>and {troubles.length - MOST} more.</p>}
    </section>
  );
}
