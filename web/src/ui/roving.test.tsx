// @vitest-environment jsdom
import { act, render, screen, waitFor } from "@testing-library/react";
import { userEvent } from "@testing-library/user-event";
import { useRef, useState } from "react";
import { afterEach, beforeEach, expect, test } from "vitest";
import { keepFocus, useFocusWhileShown } from "./focus";
import { useRoving } from "./roving";

const NAMES = ["a1", "a2", "b1", "b2"];

function Grid({ names = NAMES }: { names?: string[] }) {
  const roving = useRoving<HTMLTableElement>();
  return (
    <table ref={roving}>
      <tbody>
        {["a", "b"].map((row) => (
          <tr key={row}>
            {names
              .filter((name) => name.startsWith(row))
              .map((name) => (
                <td key={name}>
                  <button type="button">{name}</button>
                </td>
              ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const focused = () => document.activeElement?.textContent;

test("a grid is one stop of the Tab key, with arrow keys inside", async () => {
  const keys = userEvent.setup();
  render(
    <>
      <button type="button">before</button>
      <Grid />
      <button type="button">after</button>
    </>,
  );
  await keys.tab();
  await keys.tab();
  expect(focused()).toBe("a1");
  await keys.keyboard("{ArrowRight}");
  expect(focused()).toBe("a2");
  await keys.keyboard("{End}");
  expect(focused()).toBe("b2");
  await keys.keyboard("{Home}");
  expect(focused()).toBe("b1");
  await keys.keyboard("{ArrowUp}");
  expect(focused()).toMatch(/^a/);
  await keys.tab();
  expect(focused()).toBe("after");
  await keys.tab({ shift: true });
  expect(focused()).toMatch(/^a/);
});

test("a stop that is gone leaves another in its place", async () => {
  const shown = render(<Grid />);
  const tabbable = () => screen.getAllByRole("button").filter((each) => each.tabIndex === 0).length;
  expect(tabbable()).toBe(1);
  shown.rerender(<Grid names={["b1", "b2"]} />);
  await waitFor(() => expect(tabbable()).toBe(1));
});

let end = () => {};
beforeEach(() => {
  end = keepFocus();
});
afterEach(() => end());

function Leaving() {
  const [left, setLeft] = useState<string[]>([]);
  return (
    <ul>
      {["x", "y"]
        .filter((each) => !left.includes(each))
        .map((each) => (
          <li key={each}>
            <button type="button" onClick={() => setLeft([...left, each])}>
              {each}
            </button>
          </li>
        ))}
    </ul>
  );
}

test("the focus goes to what is nearest where its own thing is taken away", async () => {
  render(
    <main>
      <Leaving />
    </main>,
  );
  await userEvent.click(screen.getByRole("button", { name: "x" }));
  await waitFor(() => expect(focused()).toBe("y"));
  await userEvent.click(screen.getByRole("button", { name: "y" }));
  await waitFor(() => expect(document.activeElement).not.toBe(document.body));
});

function Box({ onClose }: { onClose: () => void }) {
  const box = useRef<HTMLElement>(null);
  useFocusWhileShown(box);
  return (
    <aside ref={box} tabIndex={0} aria-label="box">
      <button type="button" onClick={onClose}>
        close
      </button>
    </aside>
  );
}

function Opener() {
  const [open, setOpen] = useState(false);
  return (
    <main>
      <button type="button">another</button>
      <button type="button" onClick={() => setOpen(true)}>
        open
      </button>
      {open && <Box onClose={() => setOpen(false)} />}
    </main>
  );
}

test("what opens has the focus, and gives it back when it closes", async () => {
  render(<Opener />);
  await userEvent.click(screen.getByRole("button", { name: "open" }));
  expect(document.activeElement?.getAttribute("aria-label")).toBe("box");
  await userEvent.click(screen.getByRole("button", { name: "close" }));
  await waitFor(() => expect(focused()).toBe("open"));
});

test("a change just before it closes does not take that from it", async () => {
  render(<Opener />);
  const frame = () => new Promise((next) => requestAnimationFrame(next));
  await userEvent.click(screen.getByRole("button", { name: "open" }));
  const box = screen.getByRole("complementary", { name: "box" });
  box.append(document.createElement("hr"));
  await Promise.resolve();
  await frame();
  // The wait after that change is half over.
  act(() => screen.getByRole("button", { name: "close" }).click());
  await frame();
  await frame();
  await frame();
  expect(focused()).toBe("open");
});
