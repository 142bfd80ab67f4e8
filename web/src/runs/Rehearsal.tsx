import { useQuery } from "@tanstack/react-query";
import { clsx } from "clsx";
import { Plus, Trash2 } from "lucide-react";
import { useState } from "react";
import { choicesQuery } from "../api/jobQueries";
import { stateOf } from "../api/planQueries";
import {
  type RehearsalRequest,
  type RehearsedTrouble,
  type RehearsalTold,
  rehearsalQuery,
  rehearsedRunQuery,
  type RunBar,
} from "../api/runQueries";
import { clock, dateWords, duration } from "../time/time";
import { Button } from "../ui/Button";
import { NumberField, Pick } from "../ui/controls";
import { Field } from "../ui/Field";
import { Verdict } from "../ui/Verdict";
import { useAddress } from "../workbench/address";
import { useWorkbench } from "../workbench/store";
import { keyOf, NightChart } from "./NightChart";
import { NotDone } from "./NotDone";
import { RunSheet } from "./RunSheet";
import { Legend } from "./Tonight";

const GOES_WRONG = [
  { value: "chance", label: "what comes by chance" },
  { value: "nothing", label: "nothing" },
  { value: "chosen", label: "what I choose" },
];

/**
 * A rehearsal: the chosen night of the plan in hand, carried out in the world of the stand-in.
 * What goes wrong stands in the address, so a reload shows the same night.
 */
export function Rehearsal() {
  const { plan, draft, date } = useWorkbench();
  const { search, set } = useAddress();
  const night = date < plan.first_night ? plan.first_night : date;
  const wrong = search.get("wrong") ?? "chance";
  const seed = Number(search.get("world") ?? 1) || 1;
  const troubles = search.getAll("trouble").map(readTrouble);
  const body: RehearsalRequest = {
    draft: draft?.id ?? null,
    night,
    seed,
    troubles: wrong === "chance" ? null : wrong === "nothing" ? [] : troubles,
  };
  const found = useQuery({
    ...rehearsalQuery(plan.id, stateOf(plan, draft), body),
    placeholderData: (before) => before,
  });
  const played = found.data;
  const chosen = search.get("run");
  const run = played?.runs.find((each) => keyOf(each) === chosen);
  const { long, day, month } = dateWords(night);
  const change = (next: RehearsedTrouble[]) => set({ trouble: next.map(writeTrouble) });
  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col">
      <section
        aria-label="Rehearsal"
        tabIndex={0}
        className="min-w-0 flex-1 overflow-y-auto px-4 pb-4"
      >
        <div className="flex flex-wrap items-baseline gap-x-4 pt-2">
          <h1 className="text-xl font-semibold">
            Rehearsal of {long} {day} {month}
          </h1>
          <span className="text-ink-2">{draft ? `Draft: ${draft.name}` : "The adopted plan"}</span>
        </div>
        <p className="max-w-[110ch] py-1 text-ink-2">
          A simulated runner carries this night out in a world of its own, in which changes and
          rates differ from the plan. It runs apart: nothing of it enters the ledger.
        </p>
        <div className="flex flex-wrap items-center gap-x-4">
          <Pick
            label="Goes wrong:"
            value={wrong}
            options={GOES_WRONG}
            onChange={(value) => set({ wrong: value === "chance" ? null : value, run: null })}
          />
          <Button small onClick={() => set({ world: String(seed + 1), run: null })}>
            Another world
          </Button>
          <span className="text-ink-2">World {seed}</span>
        </div>
        {wrong === "chosen" && <Troubles troubles={troubles} onChange={change} />}
        {found.error && (
          <p role="alert" className="py-2">
            {found.error.message}
          </p>
        )}
        {found.isFetching && (
          <p role="status" className="py-1 text-ink-2">
            The night is being carried out …
          </p>
        )}
        {played && !found.error && (
          <div className={clsx(found.isPlaceholderData && "opacity-50")}>
            <p className="py-1 text-lg" aria-live="polite">
              <Verdict verdict={played.summary.verdict} />
              {played.summary.predicted_verdict &&
                ` (predicted: ${played.summary.predicted_verdict})`}
              . {played.words}
            </p>
            {played.world.length > 0 && (
              <ul aria-label="What went wrong" className="pb-1">
                {played.world.map((each) => (
                  <li key={each.words + each.begins}>
                    {clock(each.begins, plan.time_zone)} to {clock(each.ends, plan.time_zone)}:{" "}
                    {each.words}
                  </li>
                ))}
              </ul>
            )}
            <NightChart
              runs={played.runs}
              start={played.summary.start}
              end={played.summary.end}
              zone={plan.time_zone}
              now={null}
              chosen={chosen}
              onChoose={(each) => set({ run: keyOf(each) === chosen ? null : keyOf(each) })}
            />
            <Legend />
            <Lists played={played} zone={plan.time_zone} />
          </div>
        )}
      </section>
      {run && <RehearsedRun run={run} body={body} onClose={() => set({ run: null })} />}
    </div>
  );
}

function RehearsedRun(props: { run: RunBar; body: RehearsalRequest; onClose: () => void }) {
  const { plan, draft } = useWorkbench();
  const { run, body, onClose } = props;
  const found = useQuery(rehearsedRunQuery(plan.id, stateOf(plan, draft), body, run));
  return (
    <RunSheet
      key={keyOf(run)}
      plan={plan.id}
      zone={plan.time_zone}
      run={run}
      ordersPossible={false}
      found={found}
      onClose={onClose}
    />
  );
}

const MOST = 30;

function Lists({ played, zone }: { played: RehearsalTold; zone: string }) {
  const nameOf = (job: string) => played.runs.find((run) => run.job === job)?.name ?? job;
  return (
    <>
      <NotDone title="Not done" troubles={played.troubles} runs={played.runs} zone={zone} />
      {played.differences.length > 0 && (
        <section aria-label="Other than predicted" className="pt-3">
          <h2 className="text-lg font-semibold">Other than predicted</h2>
          <ul>
            {played.differences.slice(0, MOST).map((each) => (
              <li key={`${each.job} ${each.occurrence}`} className="border-t border-rule py-0.5">
                <span className="font-medium">{nameOf(each.job)}</span> ended{" "}
                {each.ended && clock(each.ended, zone)}, {duration(Math.abs(each.late_s))}{" "}
                {each.late_s > 0 ? "later" : "earlier"}.{" "}
                <span className="text-ink-2">{each.why}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  );
}

type TroubleKind = RehearsedTrouble["kind"];

const KINDS: readonly { value: TroubleKind; label: string; of: string; hours: number }[] = [
  { value: "proxy dies", label: "a proxy dies", of: "Proxy", hours: 4 },
  { value: "host restarts", label: "a host restarts", of: "Host", hours: 0.2 },
  { value: "link down", label: "a link is down", of: "Link", hours: 1 },
  { value: "repository full", label: "a repository is full", of: "Repository", hours: 4 },
  { value: "no power", label: "a site has no power", of: "Site", hours: 8 },
  { value: "access", label: "the access to a machine has expired", of: "Machine", hours: 24 },
  { value: "quiesce", label: "a machine cannot be quiesced", of: "Machine", hours: 24 },
  { value: "locked", label: "a machine is still locked", of: "Machine", hours: 24 },
];

function readTrouble(text: string): RehearsedTrouble {
  const [kind, after, hours, ...subject] = text.split(":");
  return {
    kind: kind as TroubleKind,
    subject: subject.join(":"),
    after_h: Number(after),
    hours: Number(hours),
  };
}

const writeTrouble = (t: RehearsedTrouble) => `${t.kind}:${t.after_h}:${t.hours}:${t.subject}`;

const NOON_TO_NOON = 24;

function Troubles(props: {
  troubles: RehearsedTrouble[];
  onChange: (troubles: RehearsedTrouble[]) => void;
}) {
  const { troubles, onChange } = props;
  const { plan, draft } = useWorkbench();
  const choices = useQuery(choicesQuery(plan, draft));
  const [kind, setKind] = useState<TroubleKind>("proxy dies");
  const [subject, setSubject] = useState("");
  const [from, setFrom] = useState("22:00");
  const told = KINDS.find((each) => each.value === kind)!;
  const [hours, setHours] = useState<number | null>(told.hours);
  const named: Partial<Record<TroubleKind, readonly string[]>> = {
    "proxy dies": choices.data?.proxies ?? [],
    "repository full": choices.data?.repositories ?? [],
    "host restarts": plan.host_ids,
    "no power": plan.site_ids,
    "link down": plan.loads
      .filter((load) => load.name.startsWith("link:"))
      .map((load) => load.name.slice("link:".length)),
  };
  const options = named[kind];
  const value = options && !options.includes(subject) ? (options[0] ?? "") : subject.trim();
  const at = hoursAfterNoon(from);
  const ready = value !== "" && at !== null && hours !== null && hours > 0 && hours <= NOON_TO_NOON;
  return (
    <div className="max-w-[72ch] border-l-2 border-rule-strong pl-3">
      <ul aria-label="Chosen troubles">
        {troubles.map((each, i) => (
          <li key={writeTrouble(each)} className="flex items-center gap-2">
            <span className="flex-1">
              {KINDS.find((k) => k.value === each.kind)?.label}: {each.subject}, from{" "}
              {clockAfterNoon(each.after_h)} for {duration(each.hours * 3600)}
            </span>
            <Button
              small
              look="plain"
              aria-label={`Take it away: ${each.kind} ${each.subject}`}
              onClick={() => onChange(troubles.filter((_, k) => k !== i))}
            >
              <Trash2 size={14} aria-hidden />
            </Button>
          </li>
        ))}
      </ul>
      <form
        className="flex flex-wrap items-end gap-x-3"
        onSubmit={(event) => {
          event.preventDefault();
          if (!ready) return;
          onChange([...troubles, { kind, subject: value, after_h: at, hours }]);
        }}
      >
        <Pick
          label="What"
          value={kind}
          options={KINDS}
          onChange={(next) => {
            setKind(next as TroubleKind);
            setHours(KINDS.find((each) => each.value === next)?.hours ?? 1);
          }}
        />
        {options ? (
          <Pick label={told.of} value={value} options={options} onChange={setSubject} />
        ) : (
          <span className="w-48">
            <Field
              label={told.of}
              value={subject}
              onChange={(event) => setSubject(event.target.value)}
            />
          </span>
        )}
        <span className="w-24">
          <Field
            label="From"
            value={from}
            wrong={at === null ? "Write a time like 22:00" : null}
            onChange={(event) => setFrom(event.target.value)}
          />
        </span>
        <span className="w-20">
          <NumberField label="For" unit="h" value={hours} onChange={(n) => setHours(n ?? null)} />
        </span>
        <Button small type="submit" className="mb-2" disabled={!ready}>
          <Plus size={14} aria-hidden /> Add
        </Button>
      </form>
    </div>
  );
}

/** A time of day as hours after noon; null where it is none. */
export function hoursAfterNoon(text: string): number | null {
  const [, hour, minute] = /^(\d{1,2}):(\d{2})$/.exec(text.trim()) ?? [];
  if (hour === undefined || Number(hour) > 23 || Number(minute) > 59) return null;
  return (Number(hour) + 12 + Number(minute) / 60) % NOON_TO_NOON;
}

export function clockAfterNoon(hours: number): string {
  const minutes = Math.round(hours * 60 + 12 * 60) % (24 * 60);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${two(Math.floor(minutes / 60))}:${two(minutes % 60)}`;
}
