import { useMutation } from "@tanstack/react-query";
import { Pause, Play, SkipForward } from "lucide-react";
import { useEffect, useState } from "react";
import { type ClockRequest, type Runner, setClock } from "../api/runQueries";
import { dayClock, millis } from "../time/time";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";

const SPEEDS = [0, 1, 60, 600, 3600];

/** What the runner's clock shows by now: it goes on between two reports. */
export function useRunnerClock(clock: string, runner: Runner | null): number {
  const [drawn, setDrawn] = useState(() => ({ of: clock, at: Date.now(), now: millis(clock) }));
  const speed = runner?.kind === "stand-in" ? (runner.speed ?? 0) : 1;
  useEffect(() => {
    const heard = Date.now();
    const show = () =>
      setDrawn({ of: clock, at: heard, now: millis(clock) + (Date.now() - heard) * speed });
    show();
    const timer = setInterval(show, 1000);
    return () => clearInterval(timer);
  }, [clock, speed]);
  return drawn.of === clock ? drawn.now : millis(clock);
}

/** The clock of the stand-in: it can be held, sped up, or sent on. */
export function ClockDesk(props: { plan: number; zone: string; now: number; runner: Runner }) {
  const { plan, zone, now, runner } = props;
  const set = useMutation({
    mutationFn: (body: ClockRequest) => setClock(plan, body),
  });
  const speed = runner.speed ?? 1;
  return (
    <div className="flex items-center gap-1.5" role="group" aria-label="Clock of the stand-in">
      <span className="border border-rule-strong px-1 text-xs text-ink-2">simulated</span>
      <time className="min-w-20 font-semibold">{dayClock(now, zone)}</time>
      <Button
        small
        look="plain"
        disabled={set.isPending}
        onClick={() => set.mutate({ speed: speed ? 0 : 600 })}
      >
        {speed ? <Pause size={14} aria-hidden /> : <Play size={14} aria-hidden />}
        {speed ? "Hold" : "Go on"}
      </Button>
      <Choice
        lead="Speed"
        value={String(speed)}
        options={SPEEDS.map((s) => ({
          value: String(s),
          label: s === 0 ? "held" : s === 1 ? "real time" : `${s} times`,
        }))}
        onChange={(value) => set.mutate({ speed: Number(value) })}
      />
      <Button
        small
        look="plain"
        disabled={set.isPending}
        onClick={() => set.mutate({ to_next: "morning" })}
      >
        <SkipForward size={14} aria-hidden /> To 07:30
      </Button>
      {set.error && <span role="alert">{set.error.message}</span>}
    </div>
  );
}
