import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { endFeed, feedsQuery, type FeedWhat, makeFeed } from "../api/settingsQueries";
import { AskButton } from "../ui/AskButton";
import { Pick } from "../ui/controls";
import { Table } from "../ui/Table";
import { useWorkbench } from "../workbench/store";
import { NameForm, Once, Section } from "./parts";
import { whenWords } from "./words";

const WHAT: { value: FeedWhat; label: string }[] = [
  { value: "nights", label: "nights, each with its verdict and end" },
  { value: "nights and runs", label: "nights and every run of them" },
];

/** Calendars of coming nights at secret addresses. */
export function Feeds() {
  const { plan } = useWorkbench();
  const client = useQueryClient();
  const found = useQuery(feedsQuery(plan.id));
  const [what, setWhat] = useState<FeedWhat>("nights");
  const again = () => void client.invalidateQueries({ queryKey: feedsQuery(plan.id).queryKey });
  const make = useMutation({
    mutationFn: (name: string) => makeFeed(plan.id, name, what),
    onSuccess: again,
  });
  const end = useMutation({ mutationFn: (id: number) => endFeed(plan.id, id), onSettled: again });
  const rows = found.data?.feeds ?? [];
  const problem = found.error ?? end.error;
  return (
    <Section
      title="Calendars and timers"
      table="feeds"
      about="A calendar program that is given the address of a feed shows the coming two weeks of the adopted plan and follows every adoption. Whoever has the address reads it, and nothing else; end it here when it is in wrong hands."
    >
      {rows.length > 0 ? (
        <Table
          caption="Feeds"
          rows={rows}
          idOf={(row) => String(row.id)}
          columns={[
            { id: "name", header: "Name", accessorKey: "name" },
            { id: "what", header: "Shows", accessorKey: "what" },
            { id: "by", header: "Made by", accessorKey: "made_by" },
            {
              id: "used",
              header: "Last read",
              accessorFn: (row) => row.used_at ?? "",
              cell: ({ row }) => whenWords(row.original.used_at),
            },
            {
              id: "end",
              header: "End",
              enableSorting: false,
              cell: ({ row }) => (
                <AskButton
                  small
                  question={`End the feed ${row.original.name}? Its address leads nowhere then.`}
                  onYes={() => end.mutate(row.original.id)}
                >
                  End
                </AskButton>
              ),
            },
          ]}
        />
      ) : (
        found.data && <p className="text-ink-2">This plan has no feed yet.</p>
      )}
      {problem && (
        <p role="alert" className="text-barn">
          {problem.message}
        </p>
      )}
      <NameForm
        title={`Make a feed of ${plan.name}`}
        note="For whom, or on which device."
        action="Make the feed"
        wrong={null}
        error={make.error?.message ?? null}
        busy={make.isPending}
        onMake={make.mutateAsync}
      >
        <Pick
          label="It shows"
          value={what}
          options={WHAT}
          onChange={(value) => setWhat(value as FeedWhat)}
        />
      </NameForm>
      {make.data && (
        <Once secret={make.data.address}>
          Give this address to the calendar program now; it is not shown again.
        </Once>
      )}
      <p className="mt-4">
        Or take the coming two weeks once, as a file:{" "}
        {WHAT.map(({ value }) => (
          <a
            key={value}
            className="mr-3 underline"
            href={`/api/v1/plans/${plan.id}/calendar.ics?${new URLSearchParams({ what: value })}`}
          >
            {value}
          </a>
        ))}
      </p>
      <p className="mt-2 max-w-[80ch]">
        Servers that are backed up by scripts of their own:{" "}
        <a className="underline" href={`/api/v1/plans/${plan.id}/server-scripts.zip`}>
          crontabs and systemd timers
        </a>{" "}
        as the plan wants them, each with the call that reports to Gambrel.
      </p>
    </Section>
  );
}
