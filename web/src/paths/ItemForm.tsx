import { useState } from "react";
import { useConsiderWhileShown, useDiscardOnLeave } from "../workbench/considering";
import { useRefusals } from "../workbench/refusals";
import { useWorkbench } from "../workbench/store";
import { useUnsaved } from "../workbench/unsaved";
import { AskButton } from "../ui/AskButton";
import { Button } from "../ui/Button";
import { Choice, Choices } from "../ui/Choice";
import { Field } from "../ui/Field";
import { typedNumber } from "../ui/numbers";
import { count } from "../ui/words";
import { changesOf, FIELDS, type FieldSpec, Mistyped, shownValue, typedValue } from "./fields";
import { type Interval, intervalInWords, intervalsOf, isEven, paint } from "./hours";
import { add, change, type Item, type List, NOUNS, type PathsAnswer } from "../api/pathQueries";
import repositoryKinds from "../api/repositoryKinds.json";
import { WeekPainter } from "./WeekPainter";

interface Edits {
  /** What stands in fields, as it was typed. */
  texts: Record<string, string>;
  values: Record<string, unknown>;
  /** What is wrong with what was typed, by key. */
  mistyped: Record<string, string>;
}

const AS_IT_IS: Edits = { texts: {}, values: {}, mistyped: {} };
const editsOf = ({ values, mistyped }: Edits) =>
  new Set([...Object.keys(values), ...Object.keys(mistyped)]).size;

/** What the unsaved edits of an item are kept under. */
export const itemKey = (list: List, id: string) => `${list}/${id}`;

/** What an item may refer to: ids by list. */
export type Known = Partial<Record<List | "machines", string[]>>;

export function knownIds(paths: PathsAnswer): Known {
  const ids = (items: readonly Item[]) => items.map((item) => item.id);
  return {
    sites: ids(paths.sites),
    proxies: ids(paths.proxies),
    datastores: ids(paths.datastores),
    hosts: ids(paths.hosts),
  };
}

/**
 * Values of an item in fields. What is typed is simulated at once, and the week above shows it;
 * it is kept when it is added to the draft, and discarded when the form is left.
 */
export function ItemForm({
  list,
  item,
  known,
  onDone,
}: {
  list: List;
  item: Item;
  known: Known;
  onDone: () => void;
}) {
  const { considered, put, busy } = useWorkbench();
  const unsaved = useUnsaved(
    itemKey(list, item.id),
    () => `${NOUNS[list]} ${item.id}`,
    AS_IT_IS,
    editsOf,
  );
  const { texts, values, mistyped } = unsaved.value;
  const refusals = useRefusals();
  const changes = changesOf(item, values);
  useConsiderWhileShown(Object.keys(changes).length ? [change(list, item.id, changes)] : []);

  const set = (key: string, value: unknown) =>
    unsaved.set((now) => ({ ...now, values: { ...now.values, [key]: value } }));
  const type = (spec: FieldSpec, text: string) => {
    const { key } = spec;
    unsaved.set((now) => {
      const typed = { ...now, texts: { ...now.texts, [key]: text } };
      const others = Object.fromEntries(
        Object.entries(now.mistyped).filter(([name]) => name !== key),
      );
      try {
        const value = typedValue(spec, text);
        return { ...typed, mistyped: others, values: { ...now.values, [key]: value } };
      } catch (error) {
        if (!(error instanceof Mistyped)) throw error;
        return { ...typed, mistyped: { ...now.mistyped, [key]: error.message } };
      }
    });
  };
  /** How a repository of a kind usually behaves; the fields below show it, and can be changed. */
  const proposeUsual = (kind: string) => {
    const usual = (repositoryKinds as Record<string, Record<string, unknown>>)[kind] ?? {};
    unsaved.set((now) => ({
      ...now,
      texts: Object.fromEntries(Object.entries(now.texts).filter(([key]) => !(key in usual))),
      mistyped: Object.fromEntries(Object.entries(now.mistyped).filter(([key]) => !(key in usual))),
      values: { ...now.values, ...usual },
    }));
  };
  const valueOf = (key: string) => (key in values ? values[key] : item.value[key]);
  const wrong = (key: string) => mistyped[key] ?? refusals.of(key);
  const blocked = Object.keys(mistyped).length > 0 || refusals.lines.length > 0;
  return (
    <form
      aria-label={`Values of ${item.label}`}
      onSubmit={(event) => {
        event.preventDefault();
        if (!considered.length || blocked) return;
        void put([...considered]).then((done) => {
          if (!done) return;
          unsaved.clear();
          onDone();
        });
      }}
    >
      {FIELDS[list].map((spec) => {
        const value = valueOf(spec.key);
        if (spec.kind === "flag")
          return (
            <label key={spec.key} className="mb-2 flex items-center gap-2">
              <input
                type="checkbox"
                checked={Boolean(value)}
                onChange={(event) => set(spec.key, event.target.checked)}
              />
              {spec.label}
              {wrong(spec.key) && <span className="text-barn">{wrong(spec.key)}</span>}
            </label>
          );
        if (spec.kind === "choice")
          return (
            <div key={spec.key} className="mb-2 -ml-1.5">
              <Choice
                lead={spec.label}
                value={String(value)}
                options={(spec.options ?? []).map((v) => ({ value: v, label: v }))}
                onChange={(v) => {
                  set(spec.key, v);
                  if (list === "repositories" && spec.key === "kind") proposeUsual(v);
                }}
              />
              {wrong(spec.key) && <p className="text-barn">{wrong(spec.key)}</p>}
            </div>
          );
        if (spec.kind === "ids") {
          const chosen = (value as string[] | null) ?? [];
          return (
            <div key={spec.key} className="mb-2 -ml-1.5">
              <Choices
                lead={spec.label}
                said={
                  chosen.length
                    ? chosen.length > 2
                      ? `${chosen.slice(0, 2).join(", ")} and ${chosen.length - 2} more`
                      : chosen.join(", ")
                    : (spec.empty ?? "none")
                }
                values={chosen}
                options={(known[spec.of ?? "proxies"] ?? []).map((v) => ({ value: v, label: v }))}
                onChange={(v) => set(spec.key, v.length || spec.empty === undefined ? v : null)}
              />
              {wrong(spec.key) && <p className="pl-1.5 text-barn">{wrong(spec.key)}</p>}
            </div>
          );
        }
        return (
          <Field
            key={spec.key}
            label={`${spec.label}${spec.unit ? ` (${spec.unit})` : ""}`}
            inputMode={spec.kind === "number" || spec.kind === "whole" ? "decimal" : undefined}
            placeholder={spec.empty}
            value={texts[spec.key] ?? shownValue(spec, item.value[spec.key])}
            wrong={wrong(spec.key)}
            onChange={(event) => type(spec, event.target.value)}
          />
        );
      })}
      {list === "links" && (
        <Limits
          value={valueOf("limits") as Limit[]}
          capacity={Number(valueOf("mbit_per_s"))}
          wrong={wrong("limits")}
          onChange={(limits) => set("limits", limits)}
        />
      )}
      {refusals.lines.length > 0 &&
        !FIELDS[list].some((spec) => refusals.of(spec.key)) &&
        !refusals.of("limits") && (
          <p role="alert" className="mb-2 text-barn">
            {refusals.lines.join("; ")}
          </p>
        )}
      <p className="flex items-center gap-2">
        <button
          type="submit"
          disabled={!considered.length || blocked || busy === "saving"}
          className="h-7 rounded-[3px] bg-ink px-2 font-semibold text-surface disabled:opacity-45"
        >
          Add to draft
        </button>
        <AskButton
          ask={editsOf(unsaved.value) > 1}
          question={`Discard ${count(editsOf(unsaved.value), "edit")} of ${item.label}?`}
          onYes={() => {
            unsaved.clear();
            onDone();
          }}
        >
          Discard
        </AskButton>
      </p>
    </form>
  );
}

interface Limit extends Interval {
  mbit_per_s: number;
}

/** Limits of a link, painted: choose a rate, then the hours in which no more than that may pass. */
function Limits({
  value,
  capacity,
  wrong,
  onChange,
}: {
  value: Limit[];
  capacity: number;
  wrong: string | null;
  onChange: (limits: Limit[]) => void;
}) {
  const rates = [...new Set(value.map((limit) => limit.mbit_per_s))];
  const [brush, setBrush] = useState<number>(rates[0] ?? Math.round(capacity / 5));
  const cells = paint<number | null>(
    value.map((limit) => ({ ...limit, value: limit.mbit_per_s })),
    null,
    (a, b) => Math.min(a ?? Infinity, b ?? Infinity),
  );
  return (
    <fieldset className="mb-2">
      <legend className="text-xs text-ink-2">Limits by hour</legend>
      <ul>
        {value.map((limit, i) => (
          <li key={i}>
            {intervalInWords(limit)}: at most {limit.mbit_per_s} Mbit/s
            {limit.mbit_per_s === 0 && " (closed)"}
          </li>
        ))}
      </ul>
      {wrong && <p className="text-barn">{wrong}</p>}
      {!isEven(value) && (
        <p className="text-hay-text">Painting rounds these times to quarters of an hour.</p>
      )}
      <Field
        label="Paint with at most (Mbit/s)"
        inputMode="decimal"
        value={String(brush)}
        onChange={(event) => setBrush(typedNumber(event.target.value) || 0)}
      />
      <WeekPainter
        label="Hours in which the link is limited"
        cells={cells}
        nothing={null}
        brush={brush}
        inWords={(v) => (v === null ? "all of it" : `at most ${v} Mbit/s`)}
        onPaint={(painted) =>
          onChange(
            intervalsOf(painted, null).map(({ value: rate, ...hours }) => ({
              ...hours,
              mbit_per_s: rate ?? 0,
            })),
          )
        }
      />
    </fieldset>
  );
}

/** Lists whose entries stand at no site by themselves. */
const WITHOUT_SITE: List[] = ["sites", "datastores"];

const FIRST: Partial<Record<List, Record<string, unknown>>> = {
  proxies: { slots: 4 },
  links: { mbit_per_s: 1000 },
  repositories: {},
  sites: {},
};

const UNNAMED: { name: string; site?: string; other?: string } = { name: "" };

/** A new item: its name and place, then its sheet opens for the rest. */
export function NewItem({
  list,
  known,
  onDone,
}: {
  list: List;
  known: Known;
  onDone: (id: string | null) => void;
}) {
  const { consider, considered, put, plan } = useWorkbench();
  const sites = known.sites ?? [];
  const unsaved = useUnsaved(
    `new ${list}`,
    ({ name }) => `new ${NOUNS[list]} ${name}`,
    UNNAMED,
    ({ name }) => (name.trim() ? 1 : 0),
  );
  const hosts = known.hosts ?? [];
  const first = list === "datastores" ? hosts[0] : sites[0];
  const { name, site = first ?? "", other = sites[1] ?? sites[0] ?? "" } = unsaved.value;
  const setName = (next: string) => unsaved.set((now) => ({ ...now, name: next }));
  const setSite = (next: string) => unsaved.set((now) => ({ ...now, site: next }));
  const setOther = (next: string) => unsaved.set((now) => ({ ...now, other: next }));
  const refusals = useRefusals();
  useDiscardOnLeave();
  const place: Record<string, unknown> =
    list === "links"
      ? { between: [site, other] }
      : list === "sites"
        ? { time_zone: plan.time_zone }
        : list === "datastores"
          ? { hosts: site ? [site] : [] }
          : { site };
  const operation = add(list, { id: name.trim(), ...FIRST[list], ...place });
  const ready = name.trim() !== "" && refusals.lines.length === 0;
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (!ready) return;
        void put([operation]).then((done) => {
          if (!done) return;
          unsaved.clear();
          onDone(name.trim());
        });
      }}
    >
      <Field
        label={`Name of the ${NOUNS[list]}`}
        value={name}
        wrong={refusals.of("id")}
        onChange={(event) => setName(event.target.value)}
      />
      {list === "datastores" && (
        <p className="-ml-1.5">
          <Choice
            lead="Mounted by"
            value={site}
            options={hosts.map((v) => ({ value: v, label: v }))}
            onChange={setSite}
          />
        </p>
      )}
      {!WITHOUT_SITE.includes(list) && (
        <p className="-ml-1.5">
          <Choice
            lead={list === "links" ? "From" : "At"}
            value={site}
            options={sites.map((v) => ({ value: v, label: v }))}
            onChange={setSite}
          />
          {list === "links" && (
            <Choice
              lead="to"
              value={other}
              options={sites.map((v) => ({ value: v, label: v }))}
              onChange={setOther}
            />
          )}
        </p>
      )}
      {refusals.lines.map((line) => (
        <p key={line} role="alert" className="text-barn">
          {line}
        </p>
      ))}
      <p className="mt-2 flex gap-2">
        <Button disabled={!name.trim()} onClick={() => consider([operation])}>
          See the week
        </Button>
        <button
          type="submit"
          disabled={!ready}
          className="h-7 rounded-[3px] bg-ink px-2 font-semibold text-surface disabled:opacity-45"
        >
          Add to draft
        </button>
        <Button
          look="plain"
          onClick={() => {
            unsaved.clear();
            onDone(null);
          }}
        >
          Discard
        </Button>
      </p>
      {considered.length > 0 && (
        <p className="mt-1 text-ink-2">The week above shows the plan with it.</p>
      )}
    </form>
  );
}
