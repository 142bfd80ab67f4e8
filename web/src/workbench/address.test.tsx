// @vitest-environment jsdom
import { act, renderHook } from "@testing-library/react";
import { BrowserRouter, useNavigate } from "react-router";
import { beforeEach, expect, it } from "vitest";
import { type AddressChanges, useAddress, useDraftMade } from "./address";

interface Held {
  set: (changes: AddressChanges) => void;
  go: (to: string) => void;
  made: (id: string) => void;
}

let page: { current: Held };

const shown = () => window.location.pathname + window.location.search;

beforeEach(() => {
  window.history.replaceState(null, "", "/board/2026-11-06?plan=1&draft=none&lanes=host");
  page = renderHook(
    () => {
      const { set } = useAddress();
      const navigate = useNavigate();
      const made = useDraftMade();
      return { set, go: (to: string) => void navigate(to), made };
    },
    { wrapper: BrowserRouter },
  ).result;
});

it("changes some of the address and keeps the rest", () => {
  act(() => page.current.set({ lanes: null, findings: ["a", "b"] }));
  expect(shown()).toBe("/board/2026-11-06?plan=1&draft=none&findings=a&findings=b");
});

it("names the draft that was begun, though another view is open by then", () => {
  const late = page.current.set;
  act(() => page.current.go("/jobs/2026-11-06?plan=1&draft=none"));
  act(() => late({ draft: "7", lanes: "site" }));
  expect(shown()).toBe("/jobs/2026-11-06?plan=1&draft=7");
});

it("brings no filter of a view back that was left", () => {
  const late = page.current.set;
  act(() => page.current.go("/jobs/2026-11-06?plan=1&draft=none"));
  act(() => late({ lanes: "site" }));
  expect(shown()).toBe("/jobs/2026-11-06?plan=1&draft=none");
});

it("keeps a draft that was just made where a link was drawn before it", () => {
  act(() => {
    page.current.made("7");
    page.current.go("/jobs/2026-11-06?plan=1&draft=none");
  });
  expect(shown()).toBe("/jobs/2026-11-06?plan=1&draft=7");
});

it("lets the planner leave a draft that was made earlier", () => {
  act(() => page.current.made("7"));
  act(() => page.current.set({ draft: "none" }));
  expect(shown()).toBe("/board/2026-11-06?plan=1&lanes=host&draft=none");
});
