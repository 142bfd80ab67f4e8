// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { useState } from "react";
import { describe, expect, it, vi } from "vitest";
import { Flag, NumberField } from "../ui/controls";
import { show } from "./harness";
import { Choices } from "../ui/Choice";
import { Field } from "../ui/Field";
import { Modal } from "../ui/Modal";
import { Table } from "../ui/Table";

describe("the form field", () => {
  it("reads out its note, and instead of it what is wrong", () => {
    show(<Field label="Slots" note="of the proxy" defaultValue="8" />);
    const field = screen.getByLabelText("Slots");
    expect(document.getElementById(field.getAttribute("aria-describedby")!)?.textContent).toBe(
      "of the proxy",
    );
    expect(field.getAttribute("aria-invalid")).toBe("false");
  });

  it("is marked where its value is wrong", () => {
    show(<Field label="Slots" note="of the proxy" wrong="is below 1" defaultValue="0" />);
    const field = screen.getByLabelText("Slots");
    expect(field.getAttribute("aria-invalid")).toBe("true");
    expect(document.getElementById(field.getAttribute("aria-describedby")!)?.textContent).toBe(
      "is below 1",
    );
  });
});

describe("a number in a field", () => {
  function Numbers({ heard, empty }: { heard: (value: number | null) => void; empty?: string }) {
    const [value, setValue] = useState<number | null>(4);
    const take = (next: number | null) => {
      heard(next);
      setValue(next);
    };
    return (
      <NumberField
        label="Streams"
        unit="at once"
        value={value}
        {...(empty && { empty })}
        onChange={take}
      />
    );
  }

  it("is heard as it is typed, with a comma or a point", async () => {
    const heard = vi.fn();
    show(<Numbers heard={heard} />);
    const user = userEvent.setup();
    await user.type(screen.getByLabelText("Streams (at once)"), ",5");
    expect(heard.mock.calls).toEqual([[4], [4.5]]);
  });

  it("changes nothing while it is none, and says so until it is one", async () => {
    const heard = vi.fn();
    show(<Numbers heard={heard} />);
    const user = userEvent.setup();
    const field = screen.getByLabelText("Streams (at once)");
    await user.type(field, "x");
    expect(screen.getByText("write a number")).toBeDefined();
    expect(heard).not.toHaveBeenCalled();
    await user.tab();
    expect(field).toHaveProperty("value", "4x");
    await user.type(field, "{Backspace}");
    expect(screen.queryByText("write a number")).toBeNull();
  });

  it("may be empty only where that means something", async () => {
    const heard = vi.fn();
    show(<Numbers heard={heard} empty="no limit" />);
    const user = userEvent.setup();
    await user.clear(screen.getByLabelText("Streams (at once)"));
    expect(heard).toHaveBeenLastCalledWith(null);
  });
});

describe("several of a list", () => {
  it("stay in the order in which they were ticked, while the list stays open", async () => {
    function Proxies() {
      const [values, setValues] = useState<string[]>([]);
      return (
        <Choices
          lead="Read by"
          said={values.join(", ") || "any"}
          values={values}
          options={["p1", "p2", "p3"].map((p) => ({ value: p, label: p }))}
          onChange={setValues}
        />
      );
    }
    show(<Proxies />);
    const user = userEvent.setup();
    await user.click(screen.getByRole("button"));
    for (const name of ["p3", "p1", "p3", "p2"])
      await user.click(screen.getByRole("menuitemcheckbox", { name }));
    await user.keyboard("{Escape}");
    expect(screen.getByRole("button").textContent).toBe("Read byp1, p2");
  });

  it("a flag is heard once for each click", async () => {
    const heard = vi.fn();
    show(<Flag label="Encrypted" value={false} onChange={heard} />);
    await userEvent.setup().click(screen.getByLabelText("Encrypted"));
    expect(heard.mock.calls).toEqual([[true]]);
  });
});

describe("the table", () => {
  interface Row {
    id: string;
    size: number;
  }
  const rows: Row[] = [
    { id: "b", size: 30 },
    { id: "a", size: 200 },
    { id: "c", size: 4 },
  ];
  const columns = [
    { header: "Machine", accessorFn: (row: Row) => row.id },
    { header: "Size", accessorFn: (row: Row) => row.size, meta: { right: true } },
  ];
  const order = () =>
    screen
      .getAllByRole("row")
      .slice(1)
      .map((row) => within(row).getAllByRole("cell")[0]!.textContent);

  it("is sorted by a click on a heading, which says so", async () => {
    show(<Table caption="Machines" rows={rows} columns={columns} idOf={(row) => row.id} />);
    const user = userEvent.setup();
    expect(order()).toEqual(["b", "a", "c"]);
    await user.click(screen.getByRole("button", { name: "Machine" }));
    expect(order()).toEqual(["a", "b", "c"]);
    expect(screen.getByRole("columnheader", { name: "Machine" }).getAttribute("aria-sort")).toBe(
      "ascending",
    );
    await user.click(screen.getByRole("button", { name: "Size" }));
    expect(order()).toEqual(["a", "b", "c"]);
    await user.click(screen.getByRole("button", { name: "Size" }));
    expect(order()).toEqual(["c", "b", "a"]);
  });

  it("lets rows be chosen by mouse and by Enter, and hands on other keys", async () => {
    const chosen = vi.fn();
    const key = vi.fn();
    show(
      <Table
        caption="Machines"
        rows={rows}
        columns={columns}
        idOf={(row) => row.id}
        chosen="a"
        onChoose={chosen}
        onKey={key}
      />,
    );
    const user = userEvent.setup();
    const [, first, second] = screen.getAllByRole("row");
    expect(second!.getAttribute("aria-selected")).toBe("true");
    await user.click(first!);
    second!.focus();
    await user.keyboard("{Enter}{ArrowRight}");
    expect(chosen.mock.calls.map(([row]) => (row as Row).id)).toEqual(["b", "a"]);
    expect(key).toHaveBeenCalledTimes(1);
  });
});

describe("the dialog", () => {
  it("has its title as its name, takes the focus and is closed by Escape", async () => {
    const open = vi.fn();
    show(
      <Modal open onOpen={open} title="Adopt this draft">
        <button type="button">Adopt</button>
      </Modal>,
    );
    const dialog = screen.getByRole("dialog", { name: "Adopt this draft" });
    expect(dialog.contains(document.activeElement)).toBe(true);
    await userEvent.setup().keyboard("{Escape}");
    expect(open).toHaveBeenCalledWith(false);
  });
});
