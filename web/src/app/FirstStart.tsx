import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";
import type { ApiProblem } from "../api/client";
import { beginPlan, plansQuery } from "../api/planQueries";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { Mark } from "../ui/Mark";
import { useMay } from "../workbench/rights";

type Begins = "sources" | "files" | "sample";

const WAYS: { value: Begins; title: string; about: string }[] = [
  {
    value: "sources",
    title: "Ask the hypervisors and agents",
    about: "You give addresses and accounts that may read; Gambrel finds machines and their sizes.",
  },
  {
    value: "files",
    title: "Bring files",
    about: "A plan file, or an inventory as CSV, with past runs if you have them.",
  },
  {
    value: "sample",
    title: "Look around in sample data",
    about: "A made-up ferry company with 240 machines, whose Friday does not fit.",
  },
];

/** Where each way leads once the plan is begun. */
const NEXT: Record<Begins, string> = {
  sources: "/estate?panel=sources",
  files: "/estate?panel=import",
  sample: "/board",
};

/** An empty installation: what this is, and three ways to begin. */
export function FirstStart() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const mayPlan = useMay("plan");
  const [way, setWay] = useState<Begins>("sources");
  const [name, setName] = useState("");
  const [site, setSite] = useState("");
  const [zone, setZone] = useState(Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC");
  const [file, setFile] = useState<File | null>(null);
  const begin = useMutation({
    mutationFn: async () =>
      beginPlan({
        name: name.trim() || (way === "sample" ? "Larkmoor Ferries, a sample" : "Backups"),
        begins: way === "sample" ? "sample" : file && way === "files" ? "file" : "empty",
        site: site.trim() || "main",
        time_zone: zone.trim(),
        file: file && way === "files" ? await file.text() : null,
      }),
    onSuccess: async (plan) => {
      const where = file && way === "files" ? "/board" : NEXT[way];
      await client.invalidateQueries({ queryKey: plansQuery.queryKey });
      const [path, query] = where.split("?");
      const search = new URLSearchParams(query);
      search.set("plan", String(plan.id));
      void navigate({ pathname: path!, search: search.toString() }, { replace: true });
    },
  });
  const errors = (begin.error as ApiProblem | null)?.problem?.errors ?? [];
  const wrong = (field: string) => errors.find((each) => each.field === field)?.reason ?? null;
  const elsewhere = errors.filter(
    (each) => !["name", "site", "time_zone", "sites[0].time_zone"].includes(each.field),
  );
  const needsSite = way === "sources" || (way === "files" && !file);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    begin.mutate();
  };
  return (
    <main className="h-full overflow-y-auto" aria-label="The first start">
      <div className="mx-auto w-[640px] max-w-full p-8">
        <p className="mb-4 flex items-center gap-2 text-xl font-bold">
          <Mark size={32} /> Gambrel
        </p>
        <h1 className="mb-2 text-xl font-semibold">Nothing is planned here yet</h1>
        <p className="mb-4 text-base">
          Gambrel knows what there is to back up, how the data flow and when they may. It plays the
          plan forward and shows every night before it happens: what runs when, what waits for what,
          what does not fit, and why. You move things until they fit, and hand the plan to what
          carries it out.
        </p>
        {!mayPlan ? (
          <p>
            You may look. Somebody who may plan has to begin a plan; it will show here by itself.
          </p>
        ) : (
          <form onSubmit={submit}>
            <fieldset className="mb-3">
              <legend className="mb-1 font-semibold">How do you want to begin?</legend>
              {WAYS.map(({ value, title, about }) => (
                <label
                  key={value}
                  className="flex cursor-pointer gap-3 border-t border-rule py-2 last:border-b hover:bg-surface"
                >
                  <input
                    type="radio"
                    name="way"
                    className="mt-1 accent-ink"
                    checked={way === value}
                    onChange={() => setWay(value)}
                  />
                  <span>
                    <b>{title}</b>
                    <span className="block text-ink-2">{about}</span>
                  </span>
                </label>
              ))}
            </fieldset>
            {way === "files" && (
              <div className="mb-3">
                <label htmlFor="plan-file" className="block text-xs text-ink-2">
                  A plan file (gambrel-plan/1), if you have one
                </label>
                <input
                  id="plan-file"
                  type="file"
                  accept=".json,application/json"
                  onChange={(event) => setFile(event.target.files?.[0] ?? null)}
                />
                <p className="text-xs text-ink-2">
                  Without one the next page takes the inventory, step by step.
                </p>
              </div>
            )}
            <div className="w-80">
              <Field
                label="Name of the plan"
                value={name}
                placeholder={way === "sample" ? "Larkmoor Ferries, a sample" : "Backups"}
                wrong={wrong("name")}
                onChange={(event) => setName(event.target.value)}
              />
              {needsSite && (
                <>
                  <Field
                    label="Name of the first data room"
                    value={site}
                    placeholder="main"
                    wrong={wrong("site")}
                    note="More are added under Paths."
                    onChange={(event) => setSite(event.target.value)}
                  />
                  <Field
                    label="Its time zone"
                    value={zone}
                    wrong={wrong("time_zone") ?? wrong("sites[0].time_zone")}
                    note="Nights are counted in it."
                    onChange={(event) => setZone(event.target.value)}
                  />
                </>
              )}
            </div>
            {begin.error && (
              <div role="alert" className="mb-2 text-barn">
                <p>{begin.error.message}</p>
                <ul className="list-disc pl-5">
                  {elsewhere.slice(0, 12).map((each) => (
                    <li key={`${each.field} ${each.reason}`}>
                      {each.field}: {each.reason}
                    </li>
                  ))}
                </ul>
              </div>
            )}
            <Button type="submit" look="strong" disabled={begin.isPending}>
              {begin.isPending ? "Beginning …" : "Begin"}
            </Button>
          </form>
        )}
      </div>
    </main>
  );
}
