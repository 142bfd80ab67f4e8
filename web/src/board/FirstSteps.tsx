import { Check } from "lucide-react";
import { Link, useSearchParams } from "react-router";
import { count } from "../ui/words";
import { planOf } from "../workbench/address";
import { useWorkbench } from "../workbench/store";

/** What is missing until a first night can be drawn: four steps, each with what it unlocks. */
export function FirstSteps() {
  const { plan, date } = useWorkbench();
  const [search] = useSearchParams();
  const to = (path: string, more: Record<string, string> = {}) => {
    const kept = new URLSearchParams(planOf(search));
    for (const [key, value] of Object.entries(more)) kept.set(key, value);
    return { pathname: `/${path}/${date}`, search: kept.toString() };
  };
  const steps = [
    {
      title: "What there is",
      done: plan.machines > 0,
      said: count(plan.machines, "machine"),
      ways: [
        { label: "Ask hypervisors and agents", to: to("estate", { panel: "sources" }) },
        { label: "Import an inventory", to: to("estate", { panel: "import" }) },
      ],
      unlocks: "The Estate then says what is not protected, and since when.",
    },
    {
      title: "How data flow",
      done: plan.proxies > 0 && plan.repositories > 0,
      said: `${plan.proxies === 1 ? "1 proxy" : `${plan.proxies} proxies`}, ${
        plan.repositories === 1 ? "1 repository" : `${plan.repositories} repositories`
      }`,
      ways: [
        { label: "Add a repository", to: to("paths", { add: "repositories" }) },
        { label: "Add a proxy", to: to("paths", { add: "proxies" }) },
      ],
      unlocks: "Paths then shows which proxy reads which machine, and how fast.",
    },
    {
      title: "When they may",
      done: plan.windows > 0,
      said: count(plan.windows, "window"),
      ways: [{ label: "Draw a window", to: to("paths", { show: "windows" }) }],
      unlocks: "A night then has walls, and fits or does not.",
    },
    {
      title: "What is to be protected",
      done: plan.jobs.length > 0,
      said: count(plan.jobs.length, "job"),
      ways: [{ label: "Write the first job", to: to("jobs", { new: "" }) }],
      unlocks: "The first night is drawn here as soon as the job is in the draft.",
    },
  ];
  const next = steps.find((step) => !step.done);
  return (
    <main className="min-h-0 flex-1 overflow-y-auto p-6" aria-label="Board">
      <h1 className="text-xl font-semibold">Four steps to the first night</h1>
      <p className="mb-3 max-w-[72ch] text-ink-2">
        The board shows a night before it happens. Until it can, it shows what is missing.
      </p>
      <ol className="max-w-[760px]" aria-label="Steps to the first night">
        {steps.map((step, i) => (
          <li
            key={step.title}
            aria-current={step === next ? "step" : undefined}
            className="flex gap-4 border-t border-rule py-3 last:border-b"
          >
            <span
              aria-hidden
              className="grid size-7 shrink-0 place-items-center rounded-full border border-rule-strong font-semibold"
            >
              {step.done ? <Check size={16} /> : i + 1}
            </span>
            <div>
              <h2 className="font-semibold">
                {step.title}
                <span className="font-normal text-ink-2">
                  {" "}
                  · {step.done ? `done: ${step.said}` : step.said}
                </span>
              </h2>
              <p className="text-ink-2">{step.unlocks}</p>
              <p className="flex gap-4">
                {step.ways.map((way) => (
                  <Link key={way.label} to={way.to} className="underline">
                    {way.label}
                  </Link>
                ))}
              </p>
            </div>
          </li>
        ))}
      </ol>
    </main>
  );
}
