// @vitest-environment jsdom
import { act, renderHook, screen } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { type ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { expect, test } from "vitest";
import { UnsavedLine } from "./UnsavedLine";
import { plan, showIn, workbench } from "../testing/harness";
import { WorkbenchStore } from "../workbench/store";
import { carry, entriesOn, forget, keep, shelfOf, useUnsaved } from "../workbench/unsaved";

const SHELF = shelfOf(plan().id, plan().draft?.id ?? null);
const countOf = (value: object) => Object.keys(value).length;
const NONE: Record<string, string> = {};

function inBench({ children }: { children: ReactNode }) {
  return (
    <MemoryRouter>
      <WorkbenchStore value={workbench()}>{children}</WorkbenchStore>
    </MemoryRouter>
  );
}

const edit = () =>
  renderHook(() => useUnsaved("window night", () => "window night", NONE, countOf), {
    wrapper: inBench,
  });

test("what is typed outlives the page, and is gone once it is cleared", () => {
  const first = edit();
  act(() => {
    first.result.current.set((now) => ({ ...now, open: "20:00" }));
    first.result.current.set((now) => ({ ...now, close: "06:00" }));
  });
  expect(first.result.current.value).toEqual({ open: "20:00", close: "06:00" });
  first.unmount();
  const again = edit();
  expect(again.result.current.value).toEqual({ open: "20:00", close: "06:00" });
  act(() => again.result.current.clear());
  expect(again.result.current.value).toBe(NONE);
  expect(entriesOn(SHELF)).toEqual({});
});

test("what another program wrote there is left alone", () => {
  for (const text of ["[", "3", '{"x": 1}', '{"x": {"title": 1}}']) {
    localStorage.setItem(SHELF, text);
    expect(entriesOn(SHELF)).toEqual({});
  }
});

test("what is begun before there is a draft goes along to it", () => {
  const entry = { title: "job A", at: 1, value: { a: 1 }, address: "/jobs", edits: 1 };
  keep("from", "job A", entry);
  keep("to", "job B", { ...entry, title: "job B" });
  carry("from", "to");
  expect(Object.keys(entriesOn("to")).sort()).toEqual(["job A", "job B"]);
  forget("to", "job A");
  expect(Object.keys(entriesOn("to"))).toEqual(["job B"]);
});

test("what was left is offered, and discarding more than one edit asks", async () => {
  const entry = { at: Date.UTC(2026, 10, 2, 14, 5), value: {}, address: "/paths?item=x" };
  keep(SHELF, "window night", { ...entry, title: "window night", edits: 2 });
  keep(SHELF, "job files", { ...entry, title: "job Files", edits: 1 });
  showIn(<UnsavedLine />, workbench());
  expect(screen.getByText("3 unsaved changes")).toBeTruthy();
  expect(screen.getByText(/Mon 2 Nov 14:05/)).toBeTruthy();
  await userEvent.click(screen.getByRole("button", { name: "Discard" }));
  const dialog = screen.getByRole("dialog");
  expect(dialog.textContent).toContain("window night, job Files");
  await userEvent.click(screen.getByRole("button", { name: "Keep" }));
  expect(Object.keys(entriesOn(SHELF))).toHaveLength(2);
  await userEvent.click(screen.getByRole("button", { name: "Discard" }));
  await userEvent.click(screen.getAllByRole("button", { name: "Discard" }).at(-1)!);
  expect(entriesOn(SHELF)).toEqual({});
});
