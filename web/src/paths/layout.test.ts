import { describe, expect, it } from "vitest";
import { breadth, layOut, mainLoad, NODE, squeezes, worstQuarter } from "./layout";
import type { Item, ItemLoad, PathsAnswer } from "../api/pathQueries";

const item = (id: string, value: Record<string, unknown>, loads: string[] = []): Item => ({
  id,
  label: id,
  value: { id, ...value },
  loads,
  used_by: [],
  notes: [],
  form: null,
  advised_slots: null,
  advised_by: null,
  reads_directly: [],
  points: null,
  used_bytes: null,
  volumes: [],
});
const paths: PathsAnswer = {
  sites: [item("north", {}), item("south", {})],
  hosts: [item("h1", { site: "north" }), item("h2", { site: "south" })],
  datastores: [
    item("d1", { hosts: ["h1"] }),
    item("d2", { hosts: ["h1"] }),
    item("d3", { hosts: ["h2"] }),
  ],
  proxies: [item("p1", { site: "north" }), item("p2", { site: "south" })],
  links: [
    item("wire", { between: ["north", "south"] }),
    item("lan", { between: ["north", "north"] }),
  ],
  repositories: [item("r1", { site: "north" }), item("r2", { site: "south" })],
  transports: {},
  flows: [
    { from: "datastore:d1", to: "proxy:p1", by: "direct", count: 3, over: [] },
    { from: "proxy:p1", to: "repository:r2", by: "write", count: 3, over: ["wire"] },
    { from: "site:north", to: "repository:r2", by: "agent", count: 2, over: ["wire"] },
  ],
};

describe("the map of paths", () => {
  const layout = layOut(paths, 1200);

  it("lets nothing overlap", () => {
    for (const a of layout.nodes)
      for (const b of layout.nodes)
        if (a !== b)
          expect(
            Math.abs(a.x - b.x) >= NODE.width || Math.abs(a.y - b.y) >= NODE.height,
            `${a.id} ${b.id}`,
          ).toBe(true);
  });

  it("keeps every node in the band of its site, and links between the bands they join", () => {
    const band = (site: string) => layout.bands.find((b) => b.site === site);
    const y = (id: string) => layout.nodes.find((n) => n.id === id)?.y ?? -1;
    const north = band("north");
    const south = band("south");
    for (const id of ["datastore:d1", "proxy:p1", "repository:r1", "link:lan", "site:north"]) {
      expect(y(id)).toBeGreaterThan(north?.y ?? 0);
      expect(y(id) + NODE.height).toBeLessThanOrEqual((north?.y ?? 0) + (north?.height ?? 0));
    }
    expect(y("link:wire")).toBeGreaterThanOrEqual((north?.y ?? 0) + (north?.height ?? 0));
    expect(y("link:wire") + NODE.height).toBeLessThanOrEqual(south?.y ?? 0);
  });

  it("draws a flow through its links, alike stretches once", () => {
    expect(layout.lines.map((l) => [l.from, l.to, l.by])).toContainEqual([
      "proxy:p1",
      "link:wire",
      "write",
    ]);
    expect(layout.lines.map((l) => [l.from, l.to, l.by])).toContainEqual([
      "link:wire",
      "repository:r2",
      "agent",
    ]);
    expect(layout.lines).toHaveLength(5);
  });
});

describe("loads on the map", () => {
  const flat = (value: number) => new Array<number>(96).fill(value);
  const load = (
    name: string,
    unit: string,
    capacity: number | null,
    total = flat(0),
    waiting = flat(0),
  ): ItemLoad => ({
    name,
    label: name,
    unit,
    capacity: capacity === null ? null : flat(capacity),
    total,
    waiting,
    full_s: 0,
    peak: 0,
    waiting_jobs: [],
  });
  const full = flat(0).with(40, 8);
  const slots = load("slots:proxy:p1", "slots", 8, full, flat(0).with(40, 3));
  const rate = load("proxy:p1", "MiB/s", 500);
  const loads = new Map([slots, rate].map((l) => [l.name, l]));
  const proxy = item("p1", {}, ["slots:proxy:p1", "proxy:p1"]);

  it("tells an item by its rate, and by its slots where it has none", () => {
    expect(mainLoad(proxy, loads)?.name).toBe("proxy:p1");
    expect(mainLoad(item("p2", {}, ["slots:proxy:p1"]), loads)?.name).toBe("slots:proxy:p1");
  });

  it("marks a squeeze only while it is full and somebody waits", () => {
    expect(squeezes(proxy, loads, 40)).toEqual([slots]);
    expect(squeezes(proxy, loads, 41)).toEqual([]);
    expect(worstQuarter([slots, rate])).toBe(40);
  });

  it("draws more capacity wider, and nothing too thin to see", () => {
    expect(breadth(100, 400)).toBe(0.5);
    expect(breadth(1, 1e6)).toBeGreaterThan(0.1);
  });
});
