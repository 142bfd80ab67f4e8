import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { propose, recoveryQuery, type Recovery, subjectsQuery } from "../api/recoveryQueries";
import { dayClock, MINUTE } from "../time/time";
import { Button } from "../ui/Button";
import { Pending } from "../ui/Pending";
import { count } from "../ui/words";
import { useAddress } from "../workbench/address";
import { useEscape } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { type Asked, csvOf, instantOf, isEmpty, iso, lossOf, useAsked } from "./asked";
import { Curves } from "./Curves";
import { Kept } from "./Kept";
import { LossSentence } from "./LossSentence";
import { MachineBack } from "./MachineBack";
import { Missing } from "./Missing";
import { PageToWorkFrom } from "./PageToWorkFrom";
import { Proposals } from "./Proposals";
import { ReturnLanes } from "./ReturnLanes";
import { RehearsedSheet } from "./RehearsedSheet";
import { Rooflines } from "./Rooflines";

/** The day of the loss: what is gone, and a schedule of coming back. */
export function DayOfLoss() {
  const { plan, draft, date, week } = useWorkbench();
  const [asked, setAsked] = useAsked(plan.id);
  const { search, set } = useAddress();
  const named = search.getAll("lost").join("\n");
  const taken = useRef("");
  useEffect(() => {
    // Another view names what is lost, once; from there on it is the planner's to change.
    if (named === taken.current) return;
    taken.current = named;
    if (!named) return;
    setAsked({ ...asked, lost: named.split("\n"), machines: [] });
    set({ lost: null });
  }, [named, asked, setAsked, set]);
  const subjects = useQuery(subjectsQuery(plan, draft));
  const night = week.find((each) => each.date === date);
  if (subjects.error || !subjects.data || !night)
    return <Pending error={subjects.error} text="Reading what there is to lose …" />;
  const at = instantOf(Date.parse(night.start), asked.time, plan.time_zone);
  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col print:block">
      <section
        aria-label="The day of the loss"
        tabIndex={0}
        className="flex min-w-0 flex-1 flex-col overflow-y-auto print:block"
      >
        <LossSentence asked={asked} at={at} subjects={subjects.data.subjects} onChange={setAsked} />
        {isEmpty(asked) ? (
          <p className="max-w-xl px-4 py-3 text-base">
            Choose what is gone. The points that the forecast has at that instant are brought back
            over the same repositories, links and hosts that the backups use, and you see what is
            back when.
          </p>
        ) : null}
        {!isEmpty(asked) && <Answer asked={asked} at={at} onChange={setAsked} />}
      </section>
    </div>
  );
}

function Answer({
  asked,
  at,
  onChange,
}: {
  asked: Asked;
  at: number;
  onChange: (asked: Asked) => void;
}) {
  const { plan, draft } = useWorkbench();
  const loss = lossOf(asked, at);
  const way = { ...asked.way, begins: asked.after ? iso(at + asked.after * MINUTE) : null };
  const found = useQuery(recoveryQuery(plan, draft, loss, way));
  const [chosen, setChosen] = useState<string | null>(null);
  const [sheet, setSheet] = useState<"proposals" | "kept" | "rehearsed" | null>(null);
  useEscape(() => {
    setChosen(null);
    setSheet(null);
  });
  const better = useMutation({ mutationFn: () => propose(plan.id, draft, loss, way) });
  const setWay = (changes: Partial<Asked["way"]>) =>
    onChange({ ...asked, way: { ...asked.way, ...changes } });
  if (found.error)
    return (
      <p role="alert" className="px-4 py-3 text-barn">
        {found.error.message}
      </p>
    );
  if (!found.data) return <Pending error={null} text="Bringing them back …" />;
  const recovery = found.data;
  const row = recovery.machines.find((each) => each.machine === chosen);
  const save = () => {
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([csvOf(recovery)], { type: "text/csv" }));
    link.download = `recovery-${recovery.lost_at.slice(0, 10)}.csv`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <div
      className="flex min-h-0 flex-1 narrow:flex-col print:block"
      aria-busy={found.isPlaceholderData}
    >
      <div className="flex min-h-0 min-w-0 flex-1 flex-col px-4 print:hidden">
        <p className="text-base" role="status">
          <InOneSentence recovery={recovery} />
        </p>
        <p className="flex flex-wrap gap-1 py-1">
          <Button
            small
            disabled={better.isPending}
            onClick={() => {
              setChosen(null);
              setSheet("proposals");
              better.mutate();
            }}
          >
            Look for a better way
          </Button>
          <Button
            small
            look="plain"
            aria-pressed={sheet === "kept"}
            onClick={() => {
              setChosen(null);
              setSheet(sheet === "kept" ? null : "kept");
            }}
          >
            Keep and compare
          </Button>
          <Button
            small
            look="plain"
            aria-pressed={sheet === "rehearsed"}
            onClick={() => {
              setChosen(null);
              setSheet(sheet === "rehearsed" ? null : "rehearsed");
            }}
          >
            Rehearse it
          </Button>
          <Button small look="plain" onClick={() => window.print()}>
            Print the page to work from
          </Button>
          <Button small look="plain" onClick={save}>
            CSV
          </Button>
          {(asked.way.order ?? []).length > 0 && (
            <Button small look="plain" onClick={() => setWay({ order: [] })}>
              Usual order
            </Button>
          )}
          {(asked.way.instant ?? []).length > 0 && (
            <Button small look="plain" onClick={() => setWay({ instant: [] })}>
              No instant starts
            </Button>
          )}
        </p>
        <Curves recovery={recovery} />
        <ReturnLanes
          recovery={recovery}
          chosen={chosen}
          onChoose={(machine) => {
            setSheet(null);
            setChosen(machine === chosen ? null : machine);
          }}
          onWay={setWay}
          way={asked.way}
        />
        <Rooflines recovery={recovery} />
        <Missing recovery={recovery} loss={loss} way={way} />
      </div>
      {row ? (
        <MachineBack
          key={row.machine}
          row={row}
          recovery={recovery}
          way={asked.way}
          onWay={setWay}
          onClose={() => setChosen(null)}
        />
      ) : sheet === "proposals" ? (
        <Proposals
          pending={better.isPending}
          error={better.error}
          found={better.data ?? null}
          onTake={(taken) => onChange({ ...asked, way: { ...taken, begins: null } })}
          onClose={() => setSheet(null)}
        />
      ) : sheet === "rehearsed" ? (
        <RehearsedSheet
          loss={loss}
          way={way}
          zone={recovery.time_zone}
          onClose={() => setSheet(null)}
        />
      ) : sheet === "kept" ? (
        <Kept
          asked={asked}
          loss={loss}
          way={way}
          onTake={onChange}
          onClose={() => setSheet(null)}
        />
      ) : null}
      <PageToWorkFrom recovery={recovery} />
    </div>
  );
}

/** "Gold is back by 04:32; silver by 08:27, 12 of 40 after their promised time." */
function InOneSentence({ recovery }: { recovery: Recovery }) {
  const zone = recovery.time_zone;
  const gone = recovery.machines.filter((row) => !row.back).length;
  const late = recovery.machines.filter((row) => row.promise === "missed" && row.back).length;
  if (!recovery.machines.length) return <>No machine is lost with it, but points are.</>;
  return (
    <>
      <b>{recovery.words[0]!.toUpperCase() + recovery.words.slice(1)}.</b>{" "}
      {recovery.tiers.map((tier, i) => (
        <span key={tier.tier}>
          {i > 0 && "; "}
          {i === 0 ? tier.tier[0]!.toUpperCase() + tier.tier.slice(1) : tier.tier}{" "}
          {tier.last_back ? (
            <>
              back by <b>{dayClock(tier.last_back, zone)}</b>
              {tier.back < tier.machines && ` (${tier.back} of ${tier.machines})`}
            </>
          ) : (
            "does not come back"
          )}
        </span>
      ))}
      . {gone > 0 && <b className="text-barn">{count(gone, "machine")} cannot be brought back. </b>}
      {late > 0 ? (
        <b className="text-barn">
          {count(late, "machine")} {late === 1 ? "is" : "are"} back after the promised time.
        </b>
      ) : gone ? null : (
        "All are back within their promised time."
      )}
    </>
  );
}
