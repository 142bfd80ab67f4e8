import { expect, test } from "vitest";
import { fit } from "./matching";

test("every word that is typed must stand in the name", () => {
  expect(fit("Office file servers", "file off")).toBeGreaterThan(0);
  expect(fit("Office file servers", "file mail")).toBe(0);
  expect(fit("Sunday night, 8 November", "undo")).toBe(0);
});

test("what begins so comes before what only has it somewhere", () => {
  expect(fit("mail", "mail")).toBe(1);
  expect(fit("hill-mail", "mail")).toBe(0.8);
  expect(fit("blackmail", "mail")).toBe(0.4);
});

test("first letters of words will do, behind all else", () => {
  expect(fit("link quay-hill Link Quay to Hill", "qh")).toBe(0.2);
  expect(fit("link quay-norrvik Link Quay to Norrvik", "qh")).toBe(0);
  expect(fit("link quay-hill", "lq hill")).toBe(0.2);
  expect(fit("mail", "x")).toBe(0);
});

test("case does not matter, nothing typed fits all, and keywords count", () => {
  expect(fit("quay-P2", "QUAY-p2")).toBe(1);
  expect(fit("anything", "  ")).toBe(1);
  expect(fit("machine ticketing-db-01", "databases", ["databases"])).toBeGreaterThan(0);
});
