import { useRoving } from "../ui/roving";
import { clsx } from "clsx";
import { useMemo, useState } from "react";
import { amount } from "../ui/words";
import { breadth, COLUMNS, type Layout, mainLoad, NODE, type Node, squeezes } from "./layout";
import { type ItemLoad, NOUNS } from "../api/pathQueries";

const COLOURS: Record<string, string> = {
  direct: "var(--slate)",
  hot_add: "var(--sage)",
  network: "var(--ochre)",
  agent: "var(--slate)",
  write: "var(--slate)",
  copy: "var(--plum)",
};
const DASHES: Record<string, string> = { network: "7 4", hot_add: "12 3", copy: "3 4" };

/** The ways that data take: capacity as width, the load of the chosen quarter as filling. */
export function PathsMap({
  layout,
  loads,
  quarter,
  chosen,
  onOpen,
}: {
  layout: Layout;
  loads: ReadonlyMap<string, ItemLoad>;
  quarter: number;
  chosen: string | null;
  onOpen: (node: Node) => void;
}) {
  const [hovered, setHovered] = useState<string | null>(null);
  const widest = useMemo(() => {
    const found = new Map<string, number>();
    for (const node of layout.nodes) {
      const load = mainLoad(node.item, loads);
      const most = Math.max(0, ...(load?.capacity ?? []));
      if (load) found.set(load.unit, Math.max(found.get(load.unit) ?? 0, most));
    }
    return found;
  }, [layout, loads]);
  const roving = useRoving<HTMLDivElement>();
  const picked = hovered ?? chosen;
  return (
    <div ref={roving} className="relative" style={{ width: layout.width, height: layout.height }}>
      {COLUMNS.map((title, i) => (
        <p
          key={title}
          className="absolute top-0 text-xs text-ink-2"
          style={{ left: 16 + (i * (layout.width - 32 - NODE.width)) / 3 }}
        >
          {title}
        </p>
      ))}
      {layout.bands.map((band) => (
        <section
          key={band.site}
          aria-label={`Site ${band.label}`}
          className="absolute inset-x-2 rounded-[4px] bg-surface"
          style={{ top: band.y, height: band.height }}
        >
          <h2 className="px-2 text-xs font-semibold">{band.label}</h2>
        </section>
      ))}
      <svg
        aria-hidden
        className="pointer-events-none absolute inset-0"
        width={layout.width}
        height={layout.height}
      >
        {layout.lines.map((line) => {
          const on = picked !== null && line.touches.includes(picked);
          return (
            <path
              key={`${line.from} ${line.to} ${line.by}`}
              d={line.path}
              fill="none"
              stroke={on ? COLOURS[line.by] : "var(--rule-strong)"}
              strokeDasharray={DASHES[line.by]}
              strokeWidth={Math.min(5, 0.8 + Math.sqrt(line.count) / 5)}
              opacity={on ? 1 : picked ? 0.25 : 0.6}
            />
          );
        })}
      </svg>
      {layout.nodes.map((node) => (
        <NodeButton
          key={node.id}
          node={node}
          load={mainLoad(node.item, loads)}
          squeezed={squeezes(node.item, loads, quarter)}
          quarter={quarter}
          widest={widest}
          chosen={chosen === node.id}
          onHover={setHovered}
          onOpen={onOpen}
        />
      ))}
    </div>
  );
}

function NodeButton({
  node,
  load,
  squeezed,
  quarter,
  widest,
  chosen,
  onHover,
  onOpen,
}: {
  node: Node;
  load: ItemLoad | undefined;
  squeezed: ItemLoad[];
  quarter: number;
  widest: ReadonlyMap<string, number>;
  chosen: boolean;
  onHover: (id: string | null) => void;
  onOpen: (node: Node) => void;
}) {
  const capacity = load?.capacity?.[quarter];
  const most = Math.max(0, ...(load?.capacity ?? []));
  const now = load?.total[quarter] ?? 0;
  const waiting = squeezed.reduce((sum, each) => sum + (each.waiting[quarter] ?? 0), 0);
  const room = NODE.width - 12;
  const width = load && most ? room * breadth(most, widest.get(load.unit) ?? most) : 0;
  const inForce = most && capacity !== undefined ? (width * capacity) / most : width;
  const said = load
    ? capacity !== undefined
      ? `${amount(now, load.unit)} of ${amount(capacity, load.unit)}`
      : amount(now, load.unit)
    : "";
  return (
    <button
      type="button"
      data-node={node.id}
      aria-pressed={chosen}
      onClick={() => onOpen(node)}
      onPointerEnter={() => onHover(node.id)}
      onPointerLeave={() => onHover(null)}
      onFocus={() => onHover(node.id)}
      onBlur={() => onHover(null)}
      className={clsx(
        "absolute rounded-[3px] border px-1.5 text-left",
        squeezed.length ? "border-barn bg-barn-soft" : "border-rule-strong bg-raised",
        chosen && "outline-2 outline-ink",
      )}
      style={{ left: node.x, top: node.y, width: NODE.width, height: NODE.height }}
    >
      <span className="flex items-baseline gap-1 leading-[18px]">
        <span className="min-w-0 flex-1 truncate font-medium">
          <span className="sr-only">{NOUNS[node.list]} </span>
          {node.label}
        </span>
        {node.item.notes.length > 0 && (
          <span className="text-hay-text" title={node.item.notes.join(" ")}>
            <span aria-hidden>▲</span>
            <span className="sr-only"> {node.item.notes.join(" ")}</span>
          </span>
        )}
        {waiting > 0 ? (
          <strong className="text-xs text-barn">
            <span className="sr-only"> full, {said}, </span>
            {waiting} wait
          </strong>
        ) : (
          <span className="text-xs whitespace-nowrap text-ink-2">
            {" "}
            {load ? amount(now, load.unit) : ""}
            {load && capacity !== undefined && (
              <span className="sr-only"> of {amount(capacity, load.unit)}</span>
            )}
          </span>
        )}
      </span>
      {width > 0 && (
        <span className="relative block h-[9px]" style={{ width }}>
          <span
            className="absolute inset-0 border border-rule-strong"
            style={{ borderStyle: inForce < width ? "dotted" : "solid" }}
          />
          <span
            className="absolute inset-y-0 left-0 border border-rule-strong bg-ground"
            style={{ width: inForce }}
          />
          <span
            className={
              squeezed.length
                ? "absolute inset-y-0 left-0 bg-barn"
                : "absolute inset-y-0 left-0 bg-slate"
            }
            style={{ width: capacity ? Math.min(1, now / capacity) * inForce : 0 }}
          />
        </span>
      )}
    </button>
  );
}
