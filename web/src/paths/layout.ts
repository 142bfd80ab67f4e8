import type { Flow, Item, ItemLoad, List, PathsAnswer } from "../api/pathQueries";

/** Where everything stands on the map. A band for each site; links between the bands they join. */

export const NODE = { width: 188, height: 38, gap: 6 };
const BAND_GAP = 12;
const TOP = 26;

export interface Node {
  /** "proxy:quay-p2", as in the names of loads. */
  id: string;
  list: List;
  item: Item;
  label: string;
  column: number;
  x: number;
  y: number;
}

export interface Band {
  site: string;
  label: string;
  y: number;
  height: number;
}

export interface Line {
  from: string;
  to: string;
  by: string;
  count: number;
  path: string;
  /** All nodes that the flow touches, for picking it out. */
  touches: string[];
}

export interface Layout {
  nodes: Node[];
  bands: Band[];
  lines: Line[];
  width: number;
  height: number;
}

export const COLUMNS = ["Datastores and servers", "Proxies", "Links", "Repositories"];

const text = (item: Item, key: string) => String(item.value[key] ?? "");
const texts = (item: Item, key: string) => (item.value[key] as string[] | null) ?? [];

/** The site of a datastore: that of the first host that mounts it. */
export function siteOfStore(store: Item, hosts: readonly Item[]): string {
  const first = texts(store, "hosts")[0];
  const host = hosts.find((each) => each.id === first);
  return host ? text(host, "site") : "";
}

/** Lay the paths of a plan out for a surface of some width. */
export function layOut(paths: PathsAnswer, width: number): Layout {
  const columns = [0, 1, 2, 3].map((i) => 16 + (i * (Math.max(width, 800) - 32 - NODE.width)) / 3);
  const nodes: Node[] = [];
  const bands: Band[] = [];
  const place = (
    list: List,
    id: string,
    item: Item,
    column: number,
    y: number,
    label = item.label,
  ) => nodes.push({ id, list, item, label, column, x: columns[column] ?? 0, y });
  const step = NODE.height + NODE.gap;
  const between = paths.links.filter(
    (link) => texts(link, "between")[0] !== texts(link, "between")[1],
  );
  const placed = new Set<string>();
  let y = TOP;
  paths.sites.forEach((site) => {
    const stores = paths.datastores.filter((store) => siteOfStore(store, paths.hosts) === site.id);
    const proxies = paths.proxies.filter((proxy) => text(proxy, "site") === site.id);
    const repositories = paths.repositories.filter((each) => text(each, "site") === site.id);
    const own = paths.links.filter((link) =>
      texts(link, "between").every((end) => end === site.id),
    );
    const servers = paths.flows.some((flow) => flow.from === `site:${site.id}`);
    const rows = Math.max(
      stores.length + (servers ? 1 : 0),
      proxies.length,
      repositories.length,
      own.length,
      1,
    );
    const height = rows * step + 18;
    bands.push({ site: site.id, label: site.label, y, height });
    const middle = (n: number) => y + 18 + ((rows - n) * step) / 2;
    const start = middle(stores.length + (servers ? 1 : 0));
    stores.forEach((store, i) =>
      place("datastores", `datastore:${store.id}`, store, 0, start + i * step),
    );
    if (servers)
      place("sites", `site:${site.id}`, site, 0, start + stores.length * step, "physical servers");
    proxies.forEach((proxy, i) =>
      place("proxies", `proxy:${proxy.id}`, proxy, 1, middle(proxies.length) + i * step),
    );
    own.forEach((link, i) =>
      place(
        "links",
        `link:${link.id}`,
        link,
        2,
        middle(own.length) + i * step,
        own.length > 1 ? link.id : "backup network",
      ),
    );
    repositories.forEach((each, i) =>
      place(
        "repositories",
        `repository:${each.id}`,
        each,
        3,
        middle(repositories.length) + i * step,
      ),
    );
    y += height + BAND_GAP;
    // A link stands below the first of its sites, so that it lies between the two.
    between
      .filter((link) => texts(link, "between").includes(site.id) && !placed.has(link.id))
      .forEach((link) => {
        placed.add(link.id);
        place("links", `link:${link.id}`, link, 2, y);
        y += step;
      });
    if (between.length) y += BAND_GAP - 4;
  });
  const at = new Map(nodes.map((node) => [node.id, node]));
  return { nodes, bands, lines: linesOf(paths.flows, at), width: Math.max(width, 800), height: y };
}

function curve(from: Node, to: Node): string {
  const backward = to.column <= from.column;
  const x1 = from.x + (backward && to.column < from.column ? 0 : NODE.width);
  const x2 =
    to.x + (backward && to.column === from.column ? NODE.width : backward ? NODE.width : 0);
  const y1 = from.y + NODE.height / 2;
  const y2 = to.y + NODE.height / 2;
  const pull = Math.max(24, Math.abs(x2 - x1) / 2) * (backward && to.column < from.column ? -1 : 1);
  const back = backward && to.column === from.column ? pull : -pull;
  return `M${x1.toFixed(1)} ${y1.toFixed(1)}C${(x1 + pull).toFixed(1)} ${y1.toFixed(1)} ${(x2 + back).toFixed(1)} ${y2.toFixed(1)} ${x2.toFixed(1)} ${y2.toFixed(1)}`;
}

/** Flows cut into the stretches from node to node; stretches that are alike are one line. */
function linesOf(flows: readonly Flow[], at: ReadonlyMap<string, Node>): Line[] {
  const merged = new Map<string, Line>();
  for (const flow of flows) {
    const way = [flow.from, ...flow.over.map((link) => `link:${link}`), flow.to].filter((id) =>
      at.has(id),
    );
    for (let i = 0; i + 1 < way.length; i++) {
      const from = at.get(way[i] ?? "");
      const to = at.get(way[i + 1] ?? "");
      if (!from || !to) continue;
      const key = `${from.id} ${to.id} ${flow.by}`;
      const known = merged.get(key);
      if (known) {
        known.count += flow.count;
        known.touches.push(...way);
      } else
        merged.set(key, {
          from: from.id,
          to: to.id,
          by: flow.by,
          count: flow.count,
          path: curve(from, to),
          touches: [...way],
        });
    }
  }
  return [...merged.values()];
}

/** The load by which a node is told: its rate, else its slots. */
export function mainLoad(item: Item, loads: ReadonlyMap<string, ItemLoad>): ItemLoad | undefined {
  const own = item.loads.map((name) => loads.get(name)).filter((load) => load !== undefined);
  const rates = own.filter((load) => load.unit !== "slots" && load.capacity);
  return rates[0] ?? own.find((load) => load.capacity) ?? own[0];
}

/** Loads of an item that are full with somebody waiting at some quarter of the night. */
export function squeezes(
  item: Item,
  loads: ReadonlyMap<string, ItemLoad>,
  quarter: number,
): ItemLoad[] {
  return item.loads
    .map((name) => loads.get(name))
    .filter((load) => load !== undefined)
    .filter((load) => (load.waiting[quarter] ?? 0) > 0 && isFull(load, quarter));
}

function isFull(load: ItemLoad, quarter: number): boolean {
  const capacity = load.capacity?.[quarter];
  return capacity !== undefined && (load.total[quarter] ?? 0) >= 0.98 * capacity;
}

/** The quarter of the night in which most loads squeeze; with none, the one with most to carry. */
export function worstQuarter(loads: readonly ItemLoad[]): number {
  let best = 36;
  let most = -1;
  for (let quarter = 0; quarter < 96; quarter++) {
    let pressed = 0;
    for (const load of loads) {
      if ((load.waiting[quarter] ?? 0) > 0 && isFull(load, quarter)) pressed += 1;
      const capacity = load.capacity?.[quarter];
      if (capacity) pressed += 0.01 * Math.min(1, (load.total[quarter] ?? 0) / capacity);
    }
    if (pressed > most + 1e-9) [best, most] = [quarter, pressed];
  }
  return best;
}

/** How wide a capacity is drawn, as a share of the widest of its unit. */
export function breadth(capacity: number, widest: number): number {
  return widest > 0 ? Math.max(0.16, Math.sqrt(capacity / widest)) : 1;
}
