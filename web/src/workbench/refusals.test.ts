import { describe, expect, it } from "vitest";
import { ApiProblem } from "../api/client";
import { refusalsOf } from "./refusals";

const refused = (...fields: string[]) =>
  new ApiProblem(422, {
    title: "Refused",
    errors: fields.map((field) => ({ field, value: "x", reason: "is not a number" })),
  });

describe("what the API refuses", () => {
  it("marks the field that it is about, wherever the request had it", () => {
    const found = refusalsOf(
      refused("operations[0].changes.limits[2].mbit_per_s", "operations[1].value.slots", "name"),
    );
    for (const key of ["limits", "slots", "name"]) expect(found.of(key)).toBe("is not a number");
    expect(found.of("mbit_per_s")).toBeNull();
    expect(found.lines[1]).toBe("Slots: “x” is not a number");
  });

  it("is told as a whole where no field is at fault", () => {
    expect(refusalsOf(new Error("Gambrel does not answer")).lines).toEqual([
      "Gambrel does not answer",
    ]);
    expect(refusalsOf(null).lines).toEqual([]);
  });
});
