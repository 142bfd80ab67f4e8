// @vitest-environment jsdom
import { fireEvent, screen } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { useState } from "react";
import { describe, expect, it, vi } from "vitest";
import { show } from "../testing/harness";
import { QUARTERS, WEEK } from "./hours";
import { WeekPainter } from "./WeekPainter";

function Painted({ heard }: { heard: (cells: boolean[]) => void }) {
  const [cells, setCells] = useState<boolean[]>(() => Array<boolean>(WEEK).fill(false));
  return (
    <WeekPainter
      label="Open hours"
      cells={cells}
      nothing={false}
      brush
      inWords={(open) => (open ? "open" : "closed")}
      onPaint={(next) => {
        heard(next);
        setCells(next);
      }}
    />
  );
}

/** The grid as a browser would lay it out: 10 px for a quarter hour, 20 for a night. */
function paint() {
  const heard = vi.fn<(cells: boolean[]) => void>();
  show(<Painted heard={heard} />);
  const grid = screen.getByRole("grid", { name: "Open hours" });
  grid.getBoundingClientRect = () =>
    ({ left: 0, top: 0, width: QUARTERS * 10, height: 140 }) as DOMRect;
  const open = () =>
    (heard.mock.lastCall?.[0] ?? []).flatMap((on, quarter) => (on ? [quarter] : []));
  return { grid, heard, open, user: userEvent.setup() };
}

const at = (column: number, row: number) => ({
  clientX: column * 10 + 5,
  clientY: row * 20 + 5,
  pointerId: 1,
});
/** The quarter of the week, counted from Monday's midnight, at some hour of a day. */
const quarter = (day: number, hour: number) => day * QUARTERS + hour * 4;

describe("hours that are painted", () => {
  it("are those from where the pointer goes down to where it is let go", () => {
    const { grid, open } = paint();
    // A row is a night from noon on: column 32 is 20:00, 35 is 20:45.
    fireEvent.pointerDown(grid, at(32, 0));
    fireEvent.pointerMove(grid, at(33, 0));
    fireEvent.pointerUp(grid, at(35, 0));
    expect(open()).toEqual([0, 1, 2, 3].map((n) => quarter(0, 20) + n));
  });

  it("are a block of nights where it goes across them, in any direction", () => {
    const { grid, open } = paint();
    fireEvent.pointerDown(grid, at(33, 2));
    fireEvent.pointerUp(grid, at(32, 1));
    expect(open()).toEqual([
      quarter(1, 20),
      quarter(1, 20) + 1,
      quarter(2, 20),
      quarter(2, 20) + 1,
    ]);
  });

  it("go past midnight into the next day, and from Sunday's night into Monday", () => {
    const { grid, open } = paint();
    fireEvent.pointerDown(grid, at(47, 6));
    fireEvent.pointerUp(grid, at(48, 6));
    expect(open()).toEqual([0, quarter(6, 23) + 3]);
  });

  it("are taken away where the first of them was painted", () => {
    const { grid, open } = paint();
    fireEvent.pointerDown(grid, at(32, 0));
    fireEvent.pointerUp(grid, at(39, 0));
    fireEvent.pointerDown(grid, at(34, 0));
    fireEvent.pointerUp(grid, at(60, 0));
    expect(open()).toEqual([quarter(0, 20), quarter(0, 20) + 1]);
  });

  it("end at the grid's edge where the pointer leaves it, and nowhere if it is called off", () => {
    const { grid, heard, open } = paint();
    fireEvent.pointerDown(grid, at(94, 0));
    fireEvent.pointerUp(grid, at(120, -3));
    expect(open()).toHaveLength(2);
    heard.mockClear();
    fireEvent.pointerDown(grid, at(10, 0));
    fireEvent.pointerCancel(grid, at(10, 0));
    fireEvent.pointerUp(grid, at(20, 0));
    expect(heard).not.toHaveBeenCalled();
  });

  it("are painted with the keyboard, which says where it is", async () => {
    const { grid, open, user } = paint();
    grid.focus();
    await user.keyboard(" ");
    expect(screen.getByRole("status").textContent).toBe("Mon 20:00: open");
    await user.keyboard("{Shift>}{ArrowRight}{ArrowRight}{/Shift}{ArrowDown}");
    expect(open()).toEqual([0, 1, 2].map((n) => quarter(0, 20) + n));
    expect(screen.getByRole("status").textContent).toBe("Tue 20:30: closed");
    await user.keyboard("{ArrowUp} ");
    expect(open()).toEqual([quarter(0, 20), quarter(0, 20) + 1]);
  });

  it("are the same on every night where one is copied", async () => {
    const { grid, open, user } = paint();
    fireEvent.pointerDown(grid, at(32, 0));
    fireEvent.pointerUp(grid, at(32, 0));
    await user.click(screen.getByRole("button", { name: "Copy Mon to every night" }));
    expect(open()).toEqual([0, 1, 2, 3, 4, 5, 6].map((day) => quarter(day, 20)));
  });

  it("can be typed; a text that cannot be read stays in the field with the reason", async () => {
    const { open, heard, user } = paint();
    const field = screen.getByLabelText("Or type the hours of the week");
    await user.type(field, "mon 20:00-20:30, 23:45-00:15{Enter}");
    expect(open()).toEqual([80, 81, 95, 96].map((n) => n));
    heard.mockClear();
    await user.type(field, "mon late");
    await user.click(screen.getByRole("button", { name: "Set" }));
    expect(heard).not.toHaveBeenCalled();
    expect(field.getAttribute("aria-invalid")).toBe("true");
    expect(screen.getByText(/has no hours/)).toBeDefined();
  });
});
