import { useQuery } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useAddress } from "../workbench/address";
import { useEscape } from "../workbench/keys";
import { useWorkbench } from "../workbench/store";
import { clock, millis, MINUTE } from "../time/time";
import { Button } from "../ui/Button";
import { useNarrow } from "../ui/narrow";
import { Choice } from "../ui/Choice";
import { Sheet } from "../ui/Sheet";
import { count } from "../ui/words";
import { knownIds, NewItem } from "./ItemForm";
import { ItemSheet } from "./ItemSheet";
import { layOut, squeezes, worstQuarter } from "./layout";
import { PathsMap } from "./PathsMap";
import { PathsTable } from "./PathsTable";
import {
  ADDED,
  type ItemLoad,
  type List,
  loadsQuery,
  NOUNS,
  pathsQuery,
  previewLoadsQuery,
  type PathsAnswer,
} from "../api/pathQueries";
import { ReachTable } from "./ReachTable";
import { StreamCeilings } from "./StreamCeilings";
import { SizingAdvice } from "./SizingAdvice";
import { WindowsPane } from "./WindowsPane";

const PANES = ["map", "table", "reach", "windows", "sizing"] as const;
type Pane = (typeof PANES)[number];
const TITLES: Record<Pane, string> = {
  map: "Map",
  table: "Table",
  reach: "Reach",
  windows: "Windows",
  sizing: "Sizing",
};

/** How data flow and when they may: the roof under which the jobs must fit. */
export function Paths() {
  const { plan, draft, date, considered, refused, busy, words } = useWorkbench();
  const { search, set } = useAddress();
  const pane = (PANES as readonly string[]).includes(search.get("show") ?? "")
    ? (search.get("show") as Pane)
    : "map";
  const item = search.get("item");
  const adding = search.get("add") as List | null;
  const close = useCallback(() => set({ item: null, add: null }), [set]);
  const paths = useQuery({
    ...pathsQuery(plan, draft, date),
    placeholderData: (before) => before,
  });
  const night = useQuery({
    ...loadsQuery(plan, draft, date),
    placeholderData: (before) => before,
  });
  // What is being thought about shows on the map once the week has been simulated with it.
  const thinking = considered.length > 0 && refused === null && pane === "map";
  const tried = useQuery({
    ...previewLoadsQuery(plan, draft, date, considered),
    enabled: thinking && busy === null && words.length > 0,
    placeholderData: (before) => before,
  });
  const shownLoads = (thinking && tried.data) || night.data;
  const loads = useMemo(
    () => new Map<string, ItemLoad>(shownLoads?.loads.map((load) => [load.name, load])),
    [shownLoads],
  );

  useEscape(close);

  const [list, id] = item
    ? [item.slice(0, item.indexOf("/")) as List, item.slice(item.indexOf("/") + 1)]
    : [null, ""];
  const chosen =
    list && list !== "windows" && list !== "calendars"
      ? paths.data?.[list].find((each) => each.id === id)
      : undefined;
  return (
    <div className="flex min-h-0 flex-1 narrow:flex-col">
      <main className="flex min-w-0 flex-1 flex-col" aria-label="Paths">
        <div className="flex items-center gap-3 px-4 pt-2 pb-1 narrow:flex-wrap">
          <h1 className="text-xl font-semibold">Paths</h1>
          <nav aria-label="What of the paths" className="flex gap-1">
            {PANES.map((each) => (
              <Button
                key={each}
                look="plain"
                className={pane === each ? "bg-closed font-semibold" : ""}
                aria-current={pane === each ? "page" : undefined}
                onClick={() => set({ show: each === "map" ? null : each, item: null, add: null })}
              >
                {TITLES[each]}
              </Button>
            ))}
          </nav>
          <span className="flex-1" />
          {(pane === "map" || pane === "table") && (
            <>
              <Plus size={14} aria-hidden />
              <Choice
                lead="New"
                value=""
                options={ADDED.map((v) => ({ value: v, label: NOUNS[v] }))}
                onChange={(v) => set({ add: v, item: null })}
              />
            </>
          )}
        </div>
        {(paths.error ?? night.error) && (
          <p role="alert" className="px-4">
            {(paths.error ?? night.error)?.message}
          </p>
        )}
        {!paths.data && !paths.error && (
          <p role="status" className="px-4">
            Drawing the paths …
          </p>
        )}
        {paths.data && (pane === "map" || pane === "table") && (
          <Loaded
            key={date}
            pane={pane}
            paths={paths.data}
            loads={loads}
            start={night.data?.start ?? null}
            chosen={list ? `${NOUNS[list]}:${id}` : null}
            onOpen={(l, i) => set({ item: `${l}/${i}`, add: null })}
          />
        )}
        {paths.data && pane === "reach" && <ReachTable proxies={paths.data.proxies} />}
        {paths.data && pane === "windows" && (
          <WindowsPane chosen={item} onOpen={(to) => set({ item: to, add: null })} />
        )}
        {paths.data && pane === "sizing" && <SizingAdvice key={`${date} ${draft?.revision}`} />}
      </main>
      {adding && paths.data && (
        <Sheet label={`New ${NOUNS[adding]}`} title={`A new ${NOUNS[adding]}`} onClose={close}>
          <NewItem
            key={adding}
            list={adding}
            known={knownIds(paths.data)}
            onDone={(made) => set({ add: null, item: made ? `${adding}/${made}` : null })}
          />
        </Sheet>
      )}
      {list && chosen && paths.data && (
        <ItemSheet
          key={item}
          list={list}
          item={chosen}
          known={knownIds(paths.data)}
          onClose={close}
        />
      )}
    </div>
  );
}

function Loaded({
  pane,
  paths,
  loads,
  start,
  chosen,
  onOpen,
}: {
  pane: Pane;
  paths: PathsAnswer;
  loads: ReadonlyMap<string, ItemLoad>;
  start: string | null;
  chosen: string | null;
  onOpen: (list: List, id: string) => void;
}) {
  const { plan } = useWorkbench();
  const narrow = useNarrow();
  const frame = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  const [moved, setMoved] = useState<number | null>(null);
  useEffect(() => {
    if (!frame.current) return;
    const watch = new ResizeObserver(
      ([entry]) => entry && setWidth(Math.floor(entry.contentRect.width)),
    );
    watch.observe(frame.current);
    return () => watch.disconnect();
  }, []);
  const worst = useMemo(() => worstQuarter([...loads.values()]), [loads]);
  const quarter = moved ?? worst;
  const layout = useMemo(() => layOut(paths, width), [paths, width]);
  const at = start ? millis(start) + quarter * 15 * MINUTE : 0;
  const squeezed = layout.nodes.filter((node) => squeezes(node.item, loads, quarter).length);
  return (
    <>
      <div className="flex items-center gap-3 px-4 pb-1 narrow:flex-wrap">
        <label className="flex min-w-0 flex-1 items-center gap-3">
          <span className="w-24 whitespace-nowrap">
            at <strong className="text-base">{start ? clock(at, plan.time_zone) : "–"}</strong>
          </span>
          <input
            type="range"
            min={0}
            max={95}
            value={quarter}
            aria-label="Hour of the night"
            aria-valuetext={start ? clock(at, plan.time_zone) : undefined}
            onChange={(event) => setMoved(Number(event.target.value))}
            className="min-w-24 flex-1 accent-ink"
          />
        </label>
        <p
          role="status"
          className="w-72 truncate text-right narrow:w-auto narrow:text-left narrow:whitespace-normal"
        >
          {!loads.size ? (
            "No forecast of this night"
          ) : squeezed.length ? (
            <span className="text-barn">
              {squeezed.length === 1 ? "1 place squeezes" : `${squeezed.length} places squeeze`}:{" "}
              {squeezed.map((node) => node.label).join(", ")}
            </span>
          ) : (
            <span className="text-ink-2">nothing squeezes</span>
          )}
        </p>
      </div>
      <div
        ref={frame}
        tabIndex={0}
        role="region"
        aria-label={pane === "map" ? "Map of the paths" : "Table of the paths"}
        className="min-h-0 flex-1 overflow-auto"
      >
        {narrow && pane === "map" && (
          <p className="px-4 py-1 text-ink-2">
            The map needs a wider window. Here it is as a table.
          </p>
        )}
        {pane === "map" && !narrow && width > 0 && (
          <PathsMap
            layout={layout}
            loads={loads}
            quarter={quarter}
            chosen={chosen}
            onOpen={(node) => onOpen(node.list, node.item.id)}
          />
        )}
        {(pane === "table" || narrow) && (
          <StreamCeilings now={paths.transports as Record<string, number>} />
        )}
        {(pane === "table" || narrow) && (
          <PathsTable
            paths={paths}
            loads={loads}
            quarter={quarter}
            chosen={chosen}
            onOpen={onOpen}
          />
        )}
      </div>
      {pane === "map" && !narrow && (
        <p className="flex flex-wrap gap-x-4 border-t border-rule px-4 py-1 text-xs text-ink-2">
          <span>bar: width is capacity, filling is the load</span>
          <span>— direct</span>
          <span>– – hot-add, network</span>
          <span>··· copies</span>
          <span>
            <span className="text-barn">barn</span>: full, and {count(2, "disk").replace("2 ", "")}{" "}
            wait
          </span>
          <span>
            <span className="text-hay-text">▲</span> deserves a look
          </span>
        </p>
      )}
    </>
  );
}
