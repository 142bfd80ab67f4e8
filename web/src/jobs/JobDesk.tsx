import { clsx } from "clsx";
import { ArrowLeft, Copy, Lock, LockOpen, Scissors, Trash2 } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { useAddress } from "../workbench/address";
import { useCtrl } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { dateWords } from "../time/time";
import { Button } from "../ui/Button";
import { AskButton } from "../ui/AskButton";
import { Hint } from "../ui/Hint";
import { Sheet } from "../ui/Sheet";
import { Verdict } from "../ui/Verdict";
import { bytes, count } from "../ui/words";
import { Costs } from "./Costs";
import { ClauseEditor, titleOf } from "../sentence/editors/ClauseEditor";
import { localWords } from "../sentence/editors/localWords";
import { MachinesPane } from "./MachinesPane";
import { nightWords } from "./NightCells";
import { PointsPicture } from "./PointsPicture";
import { type Look, saveTemplate } from "../api/jobQueries";
import { Room } from "./Room";
import { Sentence } from "../sentence/Sentence";
import { SplitSheet } from "./SplitSheet";
import { Tradeoffs } from "./Tradeoffs";
import { type JobEdits, useJobEdit } from "../sentence/useJobEdit";
import { type JobValue, removeJob } from "../sentence/value";
import type { UnsavedValue } from "../workbench/unsaved";

const LOOKS = [
  { key: "machines", title: "Machines" },
  { key: "starts", title: "Next starts" },
  { key: "ways", title: "Full or changes?" },
  { key: "points", title: "Points ahead" },
  { key: "room", title: "Where is room?" },
  { key: "costs", title: "What it costs" },
] as const;

/** One job: its sentence to edit, the week it makes, and the questions one asks about it. */
export function JobDesk({
  id,
  fresh,
  unsaved,
  onClose,
}: {
  id: string;
  fresh: JobValue | null;
  unsaved: UnsavedValue<JobEdits>;
  onClose: () => void;
}) {
  const { plan, put, busy } = useWorkbench();
  const { search, set } = useAddress();
  const { edit, look, fetching, refused, missing, changed, edits, forget, save } = useJobEdit(
    id,
    fresh,
    unsaved,
  );
  const [splitting, setSplitting] = useState(false);
  const [told, setTold] = useState<string | null>(null);
  const clause = search.get("clause");
  const shown = search.get("look") ?? "machines";
  const job = plan.jobs.find((j) => j.id === id);
  const ready =
    (changed || fresh !== null) &&
    refused === null &&
    !fetching &&
    busy !== "saving" &&
    !job?.locked;
  const putIt = () =>
    void save().then((done) => {
      if (done) set({ clause: null });
    });
  useCtrl("s", ready ? putIt : null);
  const there = edit !== null;
  const editing = clause !== null;
  const wasEdited = useRef(clause);
  useEffect(() => {
    const before = wasEdited.current;
    wasEdited.current = clause;
    // Also where the page was opened with the editor, so that nothing had the focus before it.
    if (before && !clause)
      requestAnimationFrame(() =>
        document.querySelector<HTMLElement>(`[data-clause="${before}"]`)?.focus(),
      );
  }, [clause]);
  useEffect(() => {
    // Whoever opens a job is in its first clause; an editor that is open has the focus itself.
    if (there && !editing) document.querySelector<HTMLElement>("[data-clause]")?.focus();
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [there, id]);
  if (missing)
    return (
      <main className="flex-1 p-4" aria-label="Job">
        <p role="alert">{missing.message}</p>
      </main>
    );
  if (!edit)
    return (
      <main className="flex-1 p-4" aria-label="Job">
        <p role="status">Reading the job …</p>
      </main>
    );
  const stops = look?.problems.some((p) => p.weight === "stops") ?? false;
  const open = (key: string | null) => {
    setSplitting(false);
    set({ clause: key });
  };
  return (
    <>
      <main className="flex min-w-0 flex-1 flex-col" aria-label={`Job ${edit.value.name}`}>
        <div className="flex items-center gap-1 px-4 pt-2 narrow:flex-wrap">
          <Button look="plain" aria-label="All jobs" onClick={onClose}>
            <ArrowLeft size={15} aria-hidden />
          </Button>
          <h1 className="min-w-0 flex-1 truncate text-xl font-semibold">
            {edit.value.name}
            {fresh && <span className="text-ink-2"> · new</span>}
          </h1>
          <span role="status" className="text-ink-2">
            {told ?? (fetching || busy === "previewing" ? "simulating …" : "")}
          </span>
          <Tool
            label="Copy the sentence as text"
            onUse={() =>
              void navigator.clipboard.writeText(look?.text ?? "").then(
                () => setTold("copied"),
                () => setTold("the browser does not allow copying"),
              )
            }
          >
            <Copy size={15} aria-hidden />
          </Tool>
          {!fresh && job && (
            <>
              <Tool
                label={job.locked ? "Unlock it" : "Lock it"}
                onUse={() =>
                  void put([
                    { operation: "ChangeItem", list: "jobs", id, changes: { locked: !job.locked } },
                  ])
                }
              >
                {job.locked ? <Lock size={15} aria-hidden /> : <LockOpen size={15} aria-hidden />}
              </Tool>
              <Tool
                label="Split it into even groups"
                onUse={() => {
                  set({ clause: null });
                  setSplitting(true);
                }}
              >
                <Scissors size={15} aria-hidden />
              </Tool>
              <Button
                look="plain"
                onClick={() => set({ job: null, clause: null, new: "", like: id })}
              >
                Duplicate
              </Button>
              <Button
                look="plain"
                onClick={() =>
                  void saveTemplate(plan.id, edit.value.name, edit.value).then(
                    () => setTold("kept as a template"),
                    (e: Error) => setTold(e.message),
                  )
                }
              >
                Keep as template
              </Button>
              <Tool
                label="Delete job"
                onUse={() => void put([removeJob(id)]).then((done) => done && onClose())}
              >
                <Trash2 size={15} aria-hidden />
              </Tool>
            </>
          )}
        </div>
        <Sentence look={look} chosen={clause} onOpen={open} />
        {refused && (
          <p role="alert" className="px-4 text-barn">
            {refused}
          </p>
        )}
        {(changed || fresh) && (
          <p className="flex items-center gap-2 px-4 pt-1">
            <Button
              look="strong"
              disabled={!ready}
              aria-keyshortcuts="Control+S"
              title="Ctrl+S"
              onClick={putIt}
            >
              {fresh ? "Add job to draft" : "Add to draft"}
            </Button>
            <AskButton
              ask={edits > 1 || fresh !== null}
              question={
                fresh
                  ? `Discard the new job ${edit.value.name}?`
                  : `Discard ${count(edits, "edit")} of ${edit.value.name}?`
              }
              onYes={() => {
                forget();
                if (fresh) onClose();
              }}
            >
              Discard
            </AskButton>
            {stops && (
              <span className="text-barn">
                Something of it can never work: see the marked clauses.
              </span>
            )}
            {job?.locked && (
              <span className="text-hay-text">The job is locked; unlock it to change it.</span>
            )}
          </p>
        )}
        {look && <JobWeek look={look} />}
        <nav
          aria-label="Questions about the job"
          className="flex gap-1 border-b border-rule px-4 pt-1"
        >
          {LOOKS.map(({ key, title }) => (
            <Button
              key={key}
              look="plain"
              className={clsx("rounded-b-none", shown === key && "bg-closed font-semibold")}
              aria-current={shown === key ? "page" : undefined}
              onClick={() => set({ look: key === "machines" ? null : key })}
            >
              {title}
            </Button>
          ))}
        </nav>
        <div
          className="min-h-0 flex-1 overflow-auto px-4 pb-2 *:first:mt-2"
          tabIndex={0}
          role="region"
          aria-label={LOOKS.find((l) => l.key === shown)?.title ?? "Machines"}
        >
          {shown === "ways" ? (
            <Tradeoffs edit={edit} id={id} />
          ) : shown === "points" ? (
            <PointsPicture edit={edit} id={id} look={look} />
          ) : shown === "room" ? (
            <Room edit={edit} id={id} />
          ) : shown === "costs" ? (
            <Costs edit={edit} id={id} />
          ) : shown === "starts" ? (
            <NextStarts look={look} />
          ) : (
            <MachinesPane edit={edit} look={look} />
          )}
        </div>
      </main>
      {clause && !splitting && (
        <Sheet label={titleOf(clause)} title={titleOf(clause)} onClose={() => open(null)}>
          <ClauseEditor key={clause} clause={clause} edit={edit} look={look} />
        </Sheet>
      )}
      {splitting && job && (
        <SplitSheet job={job} onClose={() => setSplitting(false)} onDone={onClose} />
      )}
    </>
  );
}

function Tool({
  label,
  onUse,
  children,
}: {
  label: string;
  onUse: () => void;
  children: React.ReactNode;
}) {
  return (
    <Hint text={label}>
      <Button look="plain" aria-label={label} onClick={onUse}>
        {children}
      </Button>
    </Hint>
  );
}

/** The week that the job makes. */
function JobWeek({ look }: { look: Look }) {
  const { plan, date } = useWorkbench();
  return (
    <div className="px-4 py-2">
      <p className="pb-1" role="status">
        <strong>{count(look.machines, "machine")}</strong>, {bytes(look.protected_bytes)} protected;
        this week {bytes(look.nights.reduce((sum, n) => sum + n.wire_bytes, 0))} sent
      </p>
      <ul aria-label="The week of this job" className="grid grid-cols-7 gap-1">
        {look.nights.map((night) => (
          <li
            key={night.date}
            className={clsx(
              "min-w-0 border-t-2 px-1 pt-0.5 text-xs leading-snug",
              night.date === date ? "border-ink bg-surface" : "border-rule-strong",
            )}
          >
            <span className="font-semibold">
              {dateWords(night.date).short} {dateWords(night.date).day}
            </span>{" "}
            {night.runs > 0 ? (
              <Verdict verdict={night.verdict} />
            ) : (
              <span className="text-ink-2">{night.forecast ? "rests" : "–"}</span>
            )}
            {night.runs > 0 && (
              <span className="line-clamp-3 text-ink-2">{nightWords(night, plan.time_zone)}</span>
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}

/** The next starts of all schedules, with what calendars and clock changes do to them. */
function NextStarts({ look }: { look: Look | undefined }) {
  if (!look) return null;
  if (!look.schedules.length) return <p>It has no schedule of its own.</p>;
  return (
    <div className="flex flex-wrap gap-8">
      {look.schedules.map((schedule, i) => (
        <section key={i} aria-label={`Schedule ${i + 1}`}>
          <h2 className="font-semibold">
            {schedule.kind} {schedule.words}
          </h2>
          <p className="text-ink-2">
            {schedule.time_zone}
            {schedule.a_day != null && `, ${count(schedule.a_day, "run")} a day`}
          </p>
          <ol>
            {schedule.upcoming.map((entry) => (
              <li key={`${entry.at} ${entry.note}`}>
                <span className={entry.kind ? "" : "text-ink-2 line-through"}>
                  {localWords(entry.local)}
                </span>
                {entry.note && <span className="text-hay-text"> {entry.note}</span>}
              </li>
            ))}
          </ol>
        </section>
      ))}
    </div>
  );
}
