// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, describe, expect, it } from "vitest";
import { type Words, WordsOfFile } from "./WordsOfFile";

const FOUND = [
  { field: "powered_on", word: "aus", meaning: null, rows: 2 },
  { field: "role", word: "Datenbank", meaning: "Datenbank", rows: 3 },
];

function Harness({ told }: { told: (words: Words) => void }) {
  const [words, setWords] = useState<Words>({});
  const found = FOUND.map((each) => ({
    ...each,
    meaning: words[each.field]?.[each.word] ?? each.meaning,
  }));
  return (
    <WordsOfFile
      found={found}
      words={words}
      roles={["db", "web"]}
      onChange={(next) => {
        setWords(next);
        told(next);
      }}
    />
  );
}

describe("words of a file", () => {
  afterEach(cleanup);

  it("are mapped by keyboard, stay open, and a role can stand as it is again", async () => {
    const told: Words[] = [];
    const user = userEvent.setup();
    const { container } = render(<Harness told={(words) => told.push(words)} />);
    expect(screen.getByText("2 words, 1 not understood")).toBeTruthy();
    const choose = async (now: string, meaning: string) => {
      screen.getByRole("button", { name: new RegExp(`${now}$`) }).focus();
      await user.keyboard("{Enter}");
      await user.click(await screen.findByRole("menuitemradio", { name: meaning }));
    };
    await choose("not known", "off");
    expect(told.at(-1)).toEqual({ powered_on: { aus: "off" } });
    expect(screen.getByText("2 words, all understood")).toBeTruthy();
    expect(container.querySelector("details")?.open).toBe(true);
    await choose("Datenbank", "db");
    expect(told.at(-1)).toEqual({ powered_on: { aus: "off" }, role: { Datenbank: "db" } });
    await choose("db", "Datenbank");
    expect(told.at(-1)).toEqual({ powered_on: { aus: "off" }, role: {} });
  });

  it("are not shown where a file has none", () => {
    const { container } = render(
      <WordsOfFile found={[]} words={{}} roles={[]} onChange={() => {}} />,
    );
    expect(container.innerHTML).toBe("");
  });
});
