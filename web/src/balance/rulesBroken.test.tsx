// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import { expect, it } from "vitest";
import { showIn } from "../testing/harness";
import { answering } from "../testing/server";
import { RulesBroken } from "./RulesBroken";

const asked = { day: "2026-11-06", weeks: 1, rules: [{ rule: "last", job: "mail" } as const] };
const operations = [{ operation: "MoveStart", job: "tills", schedule: 0, start_time: "23:00" }];

it("names the rules that some of the moves break, and the nights", async () => {
  answering({
    "POST /broken-rules": () => [
      { words: "Mail: the last to begin", nights: ["2026-11-05", "2026-11-06"], jobs: ["Tills"] },
    ],
  });
  showIn(<RulesBroken asked={asked} operations={operations} />);
  const said = (await screen.findByRole("status")).textContent;
  expect(said).toContain("Without the others these moves break a rule of the house");
  expect(said).toContain("Mail: the last to begin; broken on Thu 5, Fri 6");
});

it("is silent where they break none", async () => {
  const asking = answering({ "POST /broken-rules": () => [] });
  showIn(<RulesBroken asked={asked} operations={operations} />);
  await expect.poll(() => asking.length).toBeGreaterThan(0);
  expect(screen.queryByRole("status")).toBeNull();
});
