import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useFindings } from "../workbench/findings";
import { useConsiderWhileShown } from "../workbench/considering";
import { useWorkbench } from "../workbench/store";
import { entriesOn } from "../workbench/unsaved";
import { dateWords, dayClock, duration } from "../time/time";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Sheet } from "../ui/Sheet";
import { amount, bytes, count, gib, percent, resource } from "../ui/words";
import { FIELDS, shownValue } from "./fields";
import { type Interval, intervalInWords } from "./hours";
import { ItemForm, itemKey, type Known } from "./ItemForm";
import { type Item, type List, NOUNS, remove, weekOfLoadQuery } from "../api/pathQueries";

/** All that is known of an item of the paths, its load over the week, and its values to edit. */
export function ItemSheet({
  list,
  item,
  known,
  onClose,
}: {
  list: List;
  item: Item;
  known: Known;
  onClose: () => void;
}) {
  const { shelf } = useWorkbench();
  const [doing, setDoing] = useState<"editing" | "removing" | null>(() =>
    // What was typed and not saved is gone on with.
    entriesOn(shelf)[itemKey(list, item.id)] ? "editing" : null,
  );
  const editing = doing === "editing";
  const setEditing = (on: boolean) => setDoing(on ? "editing" : null);
  return (
    <Sheet label={`${NOUNS[list]} ${item.id}`} title={item.label} onClose={onClose}>
      <p className="mb-2 text-ink-2">
        {NOUNS[list]} <code>{item.id}</code>
        {item.form && `, ${item.form}`}
      </p>
      {item.notes.map((note) => (
        <p key={note} className="mb-2 text-hay-text">
          ▲ {note}
        </p>
      ))}
      {editing ? (
        <ItemForm list={list} item={item} known={known} onDone={() => setEditing(false)} />
      ) : (
        <>
          <Facts list={list} item={item} />
          <p className="mt-2 flex gap-2">
            <Button data-first onClick={() => setEditing(true)}>
              Edit
            </Button>
            {item.used_by.length === 0 && (
              <Button onClick={() => setDoing("removing")}>Delete …</Button>
            )}
          </p>
          {doing === "removing" && (
            <Removal list={list} id={item.id} onKept={() => setDoing(null)} onGone={onClose} />
          )}
        </>
      )}
      {list === "proxies" && item.advised_slots !== null && (
        <p className="mt-2">
          Its {item.advised_by} serve <strong>{count(item.advised_slots, "slot")}</strong>.
        </p>
      )}
      {list === "proxies" && item.advised_slots === null && (
        <p className="mt-2 text-ink-2">
          State its cores and memory, and Gambrel says how many slots they serve.
        </p>
      )}
      {list === "repositories" && <OnIt item={item} />}
      {item.loads.length > 0 && <Week item={item} />}
      <Troubles item={item} list={list} />
      {item.used_by.length > 0 && (
        <>
          <h3 className="mt-3 font-semibold">Named by</h3>
          <p className="text-ink-2">
            {item.used_by.slice(0, 12).join(", ")}
            {item.used_by.length > 12 && ` and ${item.used_by.length - 12} more`}
          </p>
        </>
      )}
    </Sheet>
  );
}

/** Taking something away: the week above shows the plan without it before it is kept. */
export function Removal({
  list,
  id,
  onKept,
  onGone,
}: {
  list: List;
  id: string;
  onKept: () => void;
  onGone: () => void;
}) {
  const { put, busy } = useWorkbench();
  useConsiderWhileShown([remove(list, id)]);
  return (
    <p className="mt-2 flex flex-wrap items-center gap-2">
      <span className="w-full">The week above shows the plan without it.</span>
      <Button
        look="strong"
        disabled={busy === "saving"}
        onClick={() => {
          put([remove(list, id)]);
          onGone();
        }}
      >
        Add to draft
      </Button>
      <Button look="plain" onClick={onKept}>
        Keep it
      </Button>
    </p>
  );
}

function Facts({ list, item }: { list: List; item: Item }) {
  const limits = (item.value["limits"] as (Interval & { mbit_per_s: number })[] | undefined) ?? [];
  const told = FIELDS[list].filter((spec) => {
    const value = item.value[spec.key];
    if (spec.kind === "flag") return value === true;
    if (spec.key === "placement" && item.volumes.length === 0) return false;
    if (spec.kind === "volumes" || spec.kind === "tiers" || spec.kind === "ids")
      return Array.isArray(value) && value.length > 0;
    return (
      value !== null &&
      value !== undefined &&
      !(spec.key === "encryption_factor" && !item.value["encrypted"])
    );
  });
  const mounted = item.value["hosts"] as string[] | undefined;
  const zoned = (item.value["zoned_proxies"] as string[] | undefined) ?? [];
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-2.5">
      {told.map((spec) => (
        <div key={spec.key} className="contents">
          <dt className="text-ink-2">{spec.label}</dt>
          <dd>
            {spec.kind === "flag"
              ? "yes"
              : spec.kind === "volumes" || spec.kind === "tiers"
                ? shownValue(spec, item.value[spec.key])
                : spec.kind === "ids"
                  ? (item.value[spec.key] as string[]).join(", ")
                  : spec.unit === "GiB"
                    ? gib(Number(item.value[spec.key]))
                    : `${shownValue(spec, item.value[spec.key])}${spec.unit ? ` ${spec.unit}` : ""}`}
          </dd>
        </div>
      ))}
      {limits.map((limit, i) => (
        <div key={i} className="contents">
          <dt className="text-ink-2">Limit</dt>
          <dd>
            {amount(limit.mbit_per_s, "Mbit/s")}, {intervalInWords(limit)}
          </dd>
        </div>
      ))}
      {mounted && (
        <>
          <dt className="text-ink-2">Mounted by</dt>
          <dd>{mounted.join(", ")}</dd>
        </>
      )}
      {zoned.length > 0 && (
        <>
          <dt className="text-ink-2">Zoned to</dt>
          <dd>{zoned.join(", ")}</dd>
        </>
      )}
    </dl>
  );
}

function OnIt({ item }: { item: Item }) {
  const { plan } = useWorkbench();
  const capacity =
    Number(item.value["capacity_gib"] ?? 0) * 2 ** 30 ||
    item.volumes.reduce((sum, v) => sum + v.capacity_gib * 2 ** 30, 0);
  return (
    <>
      <h3 className="mt-3 font-semibold">On it now</h3>
      <p>
        {count(item.points ?? 0, "point")}, {bytes(item.used_bytes ?? 0)}
        {capacity > 0 &&
          ` of ${bytes(capacity)} (${percent((item.used_bytes ?? 0) / capacity)}), ${bytes(Math.max(0, capacity - (item.used_bytes ?? 0)))} free`}
      </p>
      {item.volumes.length > 0 && <p className="text-ink-2">After this week, by volume:</p>}
      <ul>
        {item.volumes.map((v) => (
          <li key={v.volume}>
            {v.volume}: {bytes(v.used_bytes)} of {gib(v.capacity_gib)}, {count(v.points, "point")}
            {v.full_at && (
              <strong className="text-barn">
                , does not fit from {dayClock(v.full_at, plan.time_zone)}
              </strong>
            )}
          </li>
        ))}
      </ul>
    </>
  );
}

function Week({ item }: { item: Item }) {
  const { plan, draft, date, goTo } = useWorkbench();
  const [name, setName] = useState(
    item.loads.find((load) => !load.startsWith("slots:")) ?? item.loads[0] ?? "",
  );
  const week = useQuery({
    ...weekOfLoadQuery(plan, draft, date, name),
    placeholderData: (before) => before,
  });
  const slots = name.startsWith("slots:");
  const most = Math.max(
    1e-9,
    ...(week.data?.nights.flatMap((night) =>
      night.loads.flatMap((l) => [...l.total, ...(l.capacity ?? [])]),
    ) ?? []),
  );
  return (
    <>
      <h3 className="mt-3 font-semibold">This week</h3>
      {item.loads.length > 1 && (
        <p className="-ml-1.5">
          <Choice
            lead="Shown"
            value={name}
            options={item.loads.map((v) => ({ value: v, label: resource(v) }))}
            onChange={setName}
          />
        </p>
      )}
      <ul>
        {week.data?.nights.map((night) => {
          const load = night.loads[0];
          const points = (values: readonly number[]) =>
            values
              .map((v, i) => `${i ? "L" : "M"}${(i * 160) / 95} ${22 - (v / most) * 20}`)
              .join("");
          return (
            <li key={night.date}>
              <button
                type="button"
                disabled={!night.forecast}
                onClick={() => goTo(night.date)}
                className="flex w-full items-center gap-2 py-0.5 text-left hover:bg-closed"
              >
                <span className={`w-8 ${night.date === date ? "font-semibold" : ""}`}>
                  {dateWords(night.date).short}
                </span>
                <svg aria-hidden width="160" height="23" viewBox="0 0 160 23">
                  {load && <path d={`${points(load.total)}L160 22L0 22Z`} fill="var(--slate)" />}
                  {load?.capacity && (
                    <path
                      d={points(load.capacity)}
                      fill="none"
                      stroke="var(--ink)"
                      strokeWidth="1.2"
                    />
                  )}
                </svg>
                <span className="flex-1 text-xs text-ink-2">
                  {load
                    ? `${amount(load.peak, load.unit)}${load.full_s > 30 ? `, full ${duration(load.full_s)}` : ""}`
                    : "no forecast"}
                </span>
              </button>
            </li>
          );
        })}
      </ul>
      {!week.data && <p role="status">Adding it up …</p>}
      {week.data && week.data.users.length > 0 && (
        <>
          <h3 className="mt-3 font-semibold">Who uses it</h3>
          <ul>
            {week.data.users.slice(0, 10).map((user) => (
              <li key={user.job} className="flex gap-2">
                <span className="flex-1">{user.name}</span>
                <span>{slots ? `${duration(user.amount)} of slots` : bytes(user.amount)}</span>
                {user.waited_s >= 60 && (
                  <span className="text-hay-text">waited {duration(user.waited_s)}</span>
                )}
              </li>
            ))}
          </ul>
          {week.data.users.length > 10 && (
            <p className="text-ink-2">and {week.data.users.length - 10} more jobs</p>
          )}
        </>
      )}
    </>
  );
}

function Troubles({ item, list }: { item: Item; list: List }) {
  const { findings } = useFindings();
  const mine = findings?.filter((finding) =>
    finding.subjects.some(
      (s) =>
        (s.kind === NOUNS[list] && s.id === item.id) ||
        (s.kind === "resource" && item.loads.includes(s.id)),
    ),
  );
  if (!mine?.length) return null;
  return (
    <>
      <h3 className="mt-3 font-semibold">{count(mine.length, "finding")}</h3>
      <ul>
        {mine.map((finding) => (
          <li key={finding.key} className="mb-1">
            {finding.what}
            <span className="block text-ink-2">{finding.why}</span>
          </li>
        ))}
      </ul>
    </>
  );
}
