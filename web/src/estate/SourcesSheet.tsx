import { Allowed } from "../workbench/Allowed";
import { ProblemLines } from "./ProblemLines";
import { useQuery } from "@tanstack/react-query";
import { ChevronRight } from "lucide-react";
import { type FormEvent, useState } from "react";
import { useWorkbench } from "../workbench/store";
import { dayClock } from "../time/time";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Field } from "../ui/Field";
import { TableFiles } from "../ui/TableFiles";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";
import {
  addSource,
  cancelDiscovery,
  checkAccess,
  discover,
  removeSource,
  setInterval,
  setSecret,
  type Source,
  sourcesQuery,
} from "../api/estateQueries";
import { problemLines, useEstateChange } from "./useEstateChange";

const ACCESS: Record<Source["access"], { mark: string; tone: string; said: string }> = {
  "not tried": { mark: "?", tone: "text-ink-2", said: "access not tried yet" },
  works: { mark: "✓", tone: "text-ink", said: "access works" },
  "works for most": { mark: "◐", tone: "text-hay-text", said: "access works for most" },
  fails: { mark: "✗", tone: "text-barn", said: "access fails" },
};
const KINDS = [
  { kind: "manager", title: "Managers" },
  { kind: "host", title: "Standalone hosts" },
  { kind: "agent", title: "Agents on physical servers" },
];

/** How many accounts there are, and of how many access works, fails or was not tried yet. */
export function accessWords(outcomes: readonly string[]): string {
  const of = (outcome: string) => outcomes.filter((each) => each === outcome).length;
  const parts = [
    [of("works"), of("works") === 1 ? "works" : "work"],
    [of("fails"), of("fails") === 1 ? "fails" : "fail"],
    [of("not tried"), "not tried yet"],
  ].filter(([number]) => number);
  const accounts = count(outcomes.length, "account");
  if (parts.length === 1) return `${accounts} ${parts[0]![1]}.`;
  return `${accounts}: ${parts.map((part) => part.join(" ")).join(", ")}.`;
}

/** Where the estate is read from: access, discovery, and what went wrong with either. */
export function SourcesSheet({ onClose }: { onClose: () => void }) {
  const { plan } = useWorkbench();
  const answer = useQuery(sourcesQuery(plan.id));
  const { run, busy, problem } = useEstateChange();
  const [adding, setAdding] = useState(false);
  const [added, setAdded] = useState<string | null>(null);
  const sources = answer.data?.sources ?? [];
  const ids = sources.map((source) => source.id);
  const of = (access: Source["access"]) => sources.filter((s) => s.access === access).length;
  const accounts = sources.flatMap((s) => s.credentials);
  return (
    <Sheet
      label="Sources"
      title={answer.data ? count(sources.length, "source") : "Sources"}
      onClose={onClose}
    >
      {answer.error && <p role="alert">{answer.error.message}</p>}
      {sources.length > 0 && (
        <>
          <p className="mb-2 text-ink-2">
            <TableFiles of={`plans/${plan.id}/tables/sources`} what="Sources" />{" "}
            {accessWords(accounts.map((account) => account.outcome))}
            {of("works for most") > 0 &&
              ` ${count(of("works for most"), "source")} can be read though some of its accounts fail.`}
          </p>
          <p className="mb-2 flex gap-2">
            <Allowed>
              <Button disabled={busy} onClick={() => void run(() => checkAccess(plan.id, ids))}>
                {busy ? "Trying …" : "Try all access"}
              </Button>
            </Allowed>
            <Allowed>
              <Button disabled={busy} onClick={() => void run(() => discover(plan.id, ids))}>
                Discover all
              </Button>
            </Allowed>
          </p>
        </>
      )}
      {answer.data && !sources.length && (
        <p className="mb-2">
          A source is a host, a manager of hosts, or an agent on a server. Add the first one, or
          import a file instead.
        </p>
      )}
      <ProblemLines problem={problem} />
      {KINDS.map(({ kind, title }) => {
        const own = sources.filter((source) => source.kind === kind);
        if (!own.length) return null;
        return (
          <section key={kind} className="mb-2 border-t border-rule pt-1" aria-label={title}>
            <h3 className="font-semibold">{title}</h3>
            <ul>
              {own.map((source) => (
                <Entry key={source.id} source={source} added={source.name === added} />
              ))}
            </ul>
          </section>
        );
      })}
      {adding ? (
        <NewSource
          onDone={(name) => {
            setAdded(name);
            setAdding(false);
          }}
        />
      ) : (
        <Allowed>
          <Button onClick={() => setAdding(true)}>Add a source …</Button>
        </Allowed>
      )}
    </Sheet>
  );
}

/** A source; one that has just been added is to be read next. */
function Entry({ source, added }: { source: Source; added: boolean }) {
  const { plan } = useWorkbench();
  const { run, busy, problem } = useEstateChange();
  const [toggled, setOpen] = useState<boolean | null>(null);
  const open = toggled ?? ["fails", "works for most"].includes(source.access);
  const [forgetting, setForgetting] = useState(false);
  const { mark, tone, said } = ACCESS[source.access];
  const last = source.last_discovery;
  const failing = source.credentials.filter((c) => c.outcome === "fails").length;
  return (
    <li className="py-1">
      <div className="flex items-center gap-1">
        <button
          type="button"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
          className="flex min-w-0 flex-1 items-center gap-1 text-left hover:underline"
        >
          <ChevronRight
            size={14}
            aria-hidden
            className={`shrink-0 transition-transform ${open ? "rotate-90" : ""}`}
          />
          <span className="font-medium">{source.name}</span>
          <span className={tone} title={said}>
            <span aria-hidden>{mark}</span>
            <span className="sr-only">{said}</span>
            {failing > 0 && ` ${failing} of ${source.credentials.length} fail`}
          </span>
        </button>
        {last?.state === "running" ? (
          <Button small onClick={() => void run(() => cancelDiscovery(last.id))}>
            Cancel
          </Button>
        ) : (
          <Allowed>
            <Button
              small
              autoFocus={added}
              disabled={busy}
              onClick={() => void run(() => discover(plan.id, [source.id]))}
            >
              Discover
            </Button>
          </Allowed>
        )}
      </div>
      <p className="pl-[18px] text-ink-2">
        {!last && "never read"}
        {last?.state === "running" && (
          <progress
            aria-label={`Reading ${source.name}`}
            className="h-2 w-full accent-slate"
            max={last.expected ?? undefined}
            value={last.expected ? last.read : undefined}
          />
        )}
        {last?.state === "done" &&
          last.ended_at &&
          `read ${dayClock(last.ended_at, plan.time_zone)}, ${count(last.found, "difference")}`}
        {last && ["failed", "cancelled", "interrupted"].includes(last.state) && (
          <span className={last.state === "failed" ? "text-barn" : ""}>{last.message}</span>
        )}
      </p>
      {problemLines(problem).map((line) => (
        <p key={line} role="alert" className="pl-[18px] text-barn">
          {line}
        </p>
      ))}
      {open && (
        <div className="pl-[18px]">
          <p className="text-ink-2 [overflow-wrap:anywhere]">
            Make {source.make}, at <span className="font-mono text-xs">{source.address}</span>, site{" "}
            {source.site}
          </p>
          <ul>
            {source.credentials.map((credential) => (
              <Credential key={credential.id} credential={credential} />
            ))}
          </ul>
          <p className="flex flex-wrap items-center gap-1">
            <Button
              small
              disabled={busy}
              onClick={() => void run(() => checkAccess(plan.id, [source.id]))}
            >
              Try access
            </Button>
            <Choice
              lead="Read"
              value={String(source.interval_min ?? "")}
              options={["", "15", "60", "360", "1440"].map((value) => ({
                value,
                label: INTERVALS[value] ?? value,
              }))}
              onChange={(value) =>
                void run(() => setInterval(source, value ? Number(value) : null))
              }
            />
            {forgetting ? (
              <Button
                small
                className="text-barn"
                disabled={busy}
                onClick={() => void run(() => removeSource(source.id))}
              >
                Delete {source.name}; its machines stay
              </Button>
            ) : (
              <Button small look="plain" onClick={() => setForgetting(true)}>
                Delete source …
              </Button>
            )}
          </p>
        </div>
      )}
    </li>
  );
}

const INTERVALS: Record<string, string> = {
  "": "when asked",
  "15": "every 15 min",
  "60": "every hour",
  "360": "every 6 h",
  "1440": "once a day",
};

function Credential({ credential }: { credential: Source["credentials"][number] }) {
  const { run, busy, problem } = useEstateChange();
  const [open, setOpen] = useState(false);
  const tone = { works: "text-ink", fails: "text-barn", "not tried": "text-ink-2" }[
    credential.outcome
  ];
  return (
    <li className="py-0.5">
      <span className="flex items-center gap-1">
        <span className="min-w-0 flex-1">
          {credential.scope}: {credential.user} <span className={tone}>{credential.outcome}</span>
        </span>
        <Button small look="plain" aria-expanded={open} onClick={() => setOpen(!open)}>
          Enter anew
        </Button>
      </span>
      {credential.failure && (
        <span className="block text-ink-2">
          {credential.failure} {credential.advice}
        </span>
      )}
      {open && (
        <form
          onSubmit={(event) => {
            event.preventDefault();
            const given = new FormData(event.currentTarget);
            void run(() =>
              setSecret(credential.id, String(given.get("user")), String(given.get("secret"))),
            ).then((done) => done && setOpen(false));
          }}
        >
          <Field
            label="User"
            name="user"
            required
            defaultValue={credential.user}
            autoComplete="off"
          />
          <Field
            label="Secret"
            name="secret"
            type="password"
            required
            autoComplete="new-password"
          />
          <button
            type="submit"
            disabled={busy}
            className="h-6 rounded-[3px] border border-rule-strong px-2 hover:bg-closed"
          >
            Keep it
          </button>
          <ProblemLines problem={problem} />
        </form>
      )}
    </li>
  );
}

function NewSource({ onDone }: { onDone: (added: string | null) => void }) {
  const { plan } = useWorkbench();
  const { run, busy, problem } = useEstateChange();
  const [kind, setKind] = useState<"manager" | "host" | "agent">("manager");
  const [make, setMake] = useState<"A" | "B" | "C">("A");
  const [site, setSite] = useState<string>(plan.site_ids[0] ?? "");
  const send = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const given = new FormData(event.currentTarget);
    const text = (name: string) => String(given.get(name) ?? "").trim();
    const name = text("name");
    void run(() =>
      addSource(plan.id, {
        name,
        kind,
        make,
        site,
        address: text("address"),
        interval_min: null,
        accounts: [{ scope: "source", user: text("user"), secret: String(given.get("secret")) }],
      }),
    ).then((done) => done && onDone(name));
  };
  return (
    <form onSubmit={send} className="mt-2 border-t border-rule pt-2">
      <h3 className="mb-1 font-semibold">A new source</h3>
      <p className="mb-1 flex flex-wrap">
        <Choice
          lead="It is a"
          value={kind}
          options={[
            { value: "manager", label: "manager of hosts" },
            { value: "host", label: "standalone host" },
            { value: "agent", label: "agent on a server" },
          ]}
          onChange={(v) => setKind(v as typeof kind)}
        />
        <Choice
          lead="make"
          value={make}
          options={["A", "B", "C"].map((value) => ({ value, label: value }))}
          onChange={(v) => setMake(v as typeof make)}
        />
        <Choice
          lead="at site"
          value={site}
          options={plan.site_ids.map((value) => ({ value, label: value }))}
          onChange={setSite}
        />
      </p>
      <Field label="Name" name="name" required maxLength={190} />
      <Field label="Address" name="address" required type="url" placeholder="https://" />
      <Field label="User" name="user" required autoComplete="off" />
      <Field
        label="Secret"
        name="secret"
        type="password"
        required
        autoComplete="new-password"
        note="It is kept sealed and never shown again."
      />
      <ProblemLines problem={problem} />
      <p className="flex gap-2">
        <button
          type="submit"
          disabled={busy}
          className="h-7 rounded-[3px] bg-ink px-2 font-semibold text-surface"
        >
          Add it
        </button>
        <Button onClick={() => onDone(null)}>Never mind</Button>
      </p>
    </form>
  );
}
