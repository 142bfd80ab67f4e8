import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useEffect, useRef } from "react";
import { useWorkbench } from "../../workbench/store";
import { choicesQuery, type Choices as Offered } from "../../api/jobQueries";
import { CheckEditor } from "./check";
import { CopiesEditor } from "./copies";
import { KeptEditor } from "./kept";
import { LimitsEditor } from "./limits";
import { MachinesEditor } from "./machines";
import { NoticesEditor } from "./notices";
import { PreparationEditor } from "./preparation";
import { type Props } from "./props";
import { RankEditor } from "./rank";
import { ReadersEditor } from "./readers";
import { ReductionEditor } from "./reduction";
import { RunsEditor } from "./runs";
import { ToEditor } from "./to";
import { WindowEditor } from "./window";

const TITLES: Record<string, string> = {
  machines: "What is backed up",
  to: "Where to",
  runs: "When, and in which kind",
  window: "Inside which window",
  readers: "Who reads it",
  kept: "How long it is kept",
  check: "How it is checked",
  copies: "Where it is copied",
  preparation: "How machines are prepared",
  reduction: "What is sent",
  rank: "Name and rank",
  limits: "Limits of its own",
  notices: "Who is notified",
};

export const titleOf = (clause: string) => TITLES[clause] ?? clause;

const EDITORS: Record<string, (props: Props & { offered: Offered }) => ReactNode> = {
  machines: MachinesEditor,
  to: ToEditor,
  runs: RunsEditor,
  window: WindowEditor,
  readers: ReadersEditor,
  kept: KeptEditor,
  check: CheckEditor,
  copies: CopiesEditor,
  preparation: PreparationEditor,
  reduction: ReductionEditor,
  rank: RankEditor,
  limits: LimitsEditor,
  notices: NoticesEditor,
};

/** The small editor of one clause. The first field takes the focus. */
export function ClauseEditor({ clause, edit, look }: Props & { clause: string }) {
  const { plan, draft } = useWorkbench();
  const offered = useQuery(choicesQuery(plan, draft));
  const frame = useRef<HTMLDivElement>(null);
  const ready = Boolean(offered.data);
  useEffect(() => {
    if (ready)
      frame.current
        ?.querySelector<HTMLElement>("input:not([type=checkbox]), button, input")
        ?.focus();
  }, [clause, ready]);
  if (!offered.data) return <p role="status">Reading what there is …</p>;
  const Editor = EDITORS[clause] ?? RankEditor;
  const problems = look?.problems.filter((p) => p.clause === clause) ?? [];
  return (
    <div ref={frame}>
      {problems.map((problem) => (
        <p
          key={problem.words}
          className={
            problem.weight === "stops" ? "mb-2 font-medium text-barn" : "mb-2 text-hay-text"
          }
        >
          {problem.weight === "stops" ? "✕" : "▲"} {problem.words}
        </p>
      ))}
      <Editor edit={edit} look={look} offered={offered.data} />
    </div>
  );
}
