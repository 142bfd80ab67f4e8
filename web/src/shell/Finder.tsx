import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import { Dialog } from "radix-ui";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { type To, useNavigate, useSearchParams } from "react-router";
import { machinesNamedQuery } from "../api/estateQueries";
import { ADDED, type List, NOUNS, pathsQuery } from "../api/pathQueries";
import { clock, dateWords } from "../time/time";
import { fit } from "./matching";
import { planOf, VIEWS } from "../workbench/address";
import { setTheme, useTheme } from "../ui/theme";
import { LED } from "../workbench/keys";
import { useMay, useOwnerInTheWay } from "../workbench/rights";
import { useFocusBack } from "../ui/focus";
import { useWorkbench } from "../workbench/store";

const PLACES = [
  "proxies",
  "links",
  "repositories",
  "hosts",
  "datastores",
  "sites",
] as const satisfies readonly List[];
const MACHINES_FROM = 2;

/** Sheets and parts of views, by what they are called: the view and what its address then says. */
const DOORS: readonly [string, string, Record<string, string>][] = [
  ["Inbox of the estate", "estate", { panel: "inbox" }],
  ["Sources of the estate", "estate", { panel: "sources" }],
  ["Import an inventory", "estate", { panel: "import" }],
  ["Changes of the estate", "estate", { panel: "changes" }],
  ["Reach: which proxy reads what", "paths", { show: "reach" }],
  ["Windows and calendars", "paths", { show: "windows" }],
  ["Sizing advice", "paths", { show: "sizing" }],
  ["Where is room for a new job?", "jobs", { show: "room" }],
  ["Check the plan", "jobs", { show: "check" }],
  ["Drafts", "jobs", { show: "drafts" }],
  ["What if", "balance", { show: "if" }],
  ["How sure is this week", "balance", { show: "sure" }],
  ["Past nights", "runs", { part: "nights" }],
  ["Ledger", "runs", { part: "ledger" }],
  ["Rehearse a night", "runs", { part: "rehearsal" }],
  ["The day of the loss", "recovery", {}],
  ["Points of a machine", "recovery", { part: "points" }],
  ["Promises: RPO and RTO", "recovery", { part: "promises" }],
  ["How long the space lasts", "runway", {}],
  ["Nights of the months ahead", "runway", { part: "nights" }],
  ["Growth of machines, and changes to come", "runway", { part: "growth" }],
  ["Expect a change of the estate", "runway", { part: "growth", new: "" }],
  ["Occupancy by folder, tag or job", "runway", { part: "occupancy" }],
  ["The next purchase", "runway", { part: "purchase" }],
];

/**
 * Go anywhere and do anything by name: views, nights, jobs, places of the paths, machines,
 * commands.
 */
export function Finder({
  open,
  onOpen,
  onServer,
}: {
  open: boolean;
  onOpen: (open: boolean) => void;
  onServer: () => void;
}) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpen} modal={false}>
      <Dialog.Portal>
        <Dialog.Content
          aria-describedby={undefined}
          onFocusOutside={(event) => event.preventDefault()}
          onCloseAutoFocus={(event) => event.preventDefault()}
          className="fixed top-14 narrow:top-2 left-1/2 z-50 w-[560px] max-w-[calc(100vw-32px)] -translate-x-1/2 border border-rule-strong bg-raised text-ink"
        >
          <Dialog.Title className="sr-only">Find or do something</Dialog.Title>
          <Found
            close={() => {
              onOpen(false);
            }}
            onServer={onServer}
          />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Found({ close, onServer }: { close: () => void; onServer: () => void }) {
  const bench = useWorkbench();
  useFocusBack();
  const input = useRef<HTMLInputElement>(null);
  useEffect(() => {
    // What takes the focus late, such as an editor that has just closed, takes no letter with it.
    const back = (event: FocusEvent) => {
      const own = input.current?.closest("[role=dialog]");
      if (own && !own.contains(event.target as Node)) input.current?.focus();
    };
    document.addEventListener("focusin", back);
    return () => document.removeEventListener("focusin", back);
  }, []);
  const { plan, draft, date, week } = bench;
  const mayPlan = useMay("plan");
  const owner = useOwnerInTheWay(draft);
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const theme = useTheme();
  const [text, setText] = useState("");
  const paths = useQuery(pathsQuery(plan, draft, date));
  const machines = useQuery({
    ...machinesNamedQuery(plan, draft, text.trim()),
    enabled: text.trim().length >= MACHINES_FROM,
    placeholderData: keepPreviousData,
  });
  const go = (view: string, more: Record<string, string> = {}, night = date) => {
    const kept = new URLSearchParams(planOf(search));
    for (const [key, value] of Object.entries(more)) kept.set(key, value);
    const to: To = { pathname: `/${view}/${night}`, search: kept.toString() };
    void navigate(to, { state: LED });
  };
  const then = (work: () => void) => () => {
    close();
    work();
  };
  const commands: [string, string, boolean, () => void][] = [
    [
      "Undo the last change",
      "Ctrl Z",
      bench.moves.length > 0 || Boolean(draft?.changes.length),
      bench.undo,
    ],
    ["Save the moves to the draft", "Ctrl S", bench.moves.length > 0, bench.save],
    ["Discard the moves that are not saved", "Esc", bench.moves.length > 0, bench.discard],
    [
      "Compare the draft with the adopted plan",
      "",
      Boolean(draft),
      () => {
        go("compare");
      },
    ],
    [
      "Adopt the draft",
      "",
      mayPlan && !owner && !bench.moves.length && Boolean(draft?.changes.length),
      () => bench.setAdopting(true),
    ],
    [
      "Make a new job",
      "",
      true,
      () => {
        go("jobs", { new: "" });
      },
    ],
    [
      "Look for a better week",
      "",
      true,
      () => {
        go("balance");
      },
    ],
    ["Show the memory and work of the server", "", true, onServer],
    [
      theme === "night" ? "Switch to the paper theme" : "Switch to the night theme",
      "",
      true,
      () => {
        setTheme(theme === "night" ? "paper" : "night");
      },
    ],
  ];
  return (
    <Command label="Find or do something" loop filter={fit}>
      <Command.Input
        ref={input}
        autoFocus
        value={text}
        onValueChange={setText}
        placeholder="A job, a machine, a proxy, a night, a command …"
        className="w-full border-b border-rule-strong bg-transparent px-3 py-2.5 text-base outline-none placeholder:text-ink-2"
      />
      <Command.List className="max-h-[420px] overflow-y-auto pb-1">
        <Command.Empty className="px-3 py-3 text-ink-2">
          Nothing is called that. Try part of a name, such as a machine's or a proxy's.
        </Command.Empty>
        <Group heading="Nights">
          {week.map((night) => {
            const day = dateWords(night.date);
            const ends = night.last_end
              ? `, last run ends ${clock(night.last_end, plan.time_zone)}`
              : "";
            return (
              <Entry
                key={night.date}
                value={`${day.long} ${day.day} ${day.month} ${night.date} night ${night.verdict ?? ""}`}
                onSelect={then(() => {
                  bench.goTo(night.date, LED);
                })}
                aside={`${night.verdict ?? "no forecast"}${ends}`}
              >
                {day.long} night, {day.day} {day.month}
              </Entry>
            );
          })}
        </Group>
        <Group heading="Views">
          {VIEWS.map(({ path, title }) => (
            <Entry
              key={path}
              value={`view ${title}`}
              onSelect={then(() => {
                go(path);
              })}
            >
              {title}
            </Entry>
          ))}
        </Group>
        <Group heading="Parts of views">
          {DOORS.map(([what, view, more]) => (
            <Entry
              key={what}
              value={what}
              onSelect={then(() => {
                go(view, more);
              })}
            >
              {what}
            </Entry>
          ))}
          {ADDED.map((list) => (
            <Entry
              key={`new ${list}`}
              value={`New ${NOUNS[list]}`}
              onSelect={then(() => {
                go("paths", { add: list });
              })}
            >
              New {NOUNS[list]}
            </Entry>
          ))}
        </Group>
        <Group heading="Commands">
          {commands.map(
            ([what, keys, offered, work]) =>
              offered && (
                <Entry key={what} value={what} onSelect={then(work)} aside={keys}>
                  {what}
                </Entry>
              ),
          )}
        </Group>
        <Group heading="Jobs">
          {plan.jobs.map((job) => (
            <Entry
              key={job.id}
              value={`${job.name} ${job.id} job`}
              onSelect={then(() => {
                go("jobs", { job: job.id });
              })}
              aside={job.id}
            >
              {job.name}
            </Entry>
          ))}
        </Group>
        <Group heading="Paths">
          {PLACES.flatMap((list) =>
            (paths.data?.[list] ?? []).map((item) => (
              <Entry
                key={`${list}/${item.id}`}
                value={`${NOUNS[list]} ${item.id} ${item.label}`}
                onSelect={then(() => {
                  go("paths", { item: `${list}/${item.id}` });
                })}
                aside={NOUNS[list]}
              >
                {item.label}
              </Entry>
            )),
          )}
        </Group>
        {text.trim().length >= MACHINES_FROM && (
          <Group heading="Machines">
            {machines.data?.rows.map(({ name, coverage }) => (
              // The server has found it, be it by its name or its folder: it is not filtered once
              // more.
              <Entry
                key={name}
                value={`machine ${name}`}
                keywords={[text]}
                onSelect={then(() => {
                  go("estate", { machine: name });
                })}
                aside={coverage}
              >
                {name}
              </Entry>
            ))}
          </Group>
        )}
      </Command.List>
    </Command>
  );
}

function Group({ heading, children }: { heading: string; children: ReactNode }) {
  return (
    <Command.Group
      heading={heading}
      className="px-1 [&>[cmdk-group-heading]]:px-2 [&>[cmdk-group-heading]]:pt-2 [&>[cmdk-group-heading]]:text-xs [&>[cmdk-group-heading]]:text-ink-2"
    >
      {children}
    </Command.Group>
  );
}

function Entry({
  value,
  keywords,
  onSelect,
  aside = "",
  children,
}: {
  /** What is searched, with the keywords. */
  value: string;
  keywords?: string[];
  onSelect: () => void;
  aside?: string;
  children: ReactNode;
}) {
  return (
    <Command.Item
      value={value}
      {...(keywords && { keywords })}
      onSelect={onSelect}
      className="flex cursor-pointer items-baseline gap-3 rounded-[3px] px-2 py-1 data-[selected=true]:bg-closed"
    >
      <span className="min-w-0 flex-1 truncate">{children}</span>
      <span className="text-xs text-ink-2">{aside}</span>
    </Command.Item>
  );
}
