import { describe, expect, it } from "vitest";
import { answering, problem } from "../testing/server";
import { ApiProblem, api, data, done } from "./client";
import { sessionQuery } from "./planQueries";

const plans = () => data(api.GET("/api/v1/plans"));

describe("what the server answers", () => {
  it("is given as it is", async () => {
    answering({ "GET /plans": () => [{ id: 1, name: "larkmoor", adopted_version: 3 }] });
    expect(await plans()).toEqual([{ id: 1, name: "larkmoor", adopted_version: 3 }]);
  });

  it("is a problem with its title, detail and errors where it is one", async () => {
    const errors = [{ field: "day", value: "x", reason: "is not a date" }];
    answering({
      "GET /plans": () =>
        problem(422, { title: "This is no date", detail: "Write it like 2026-11-06.", errors }),
    });
    const found = await plans().catch((error: unknown) => error as ApiProblem);
    expect(found).toBeInstanceOf(ApiProblem);
    expect(found).toMatchObject({
      status: 422,
      message: "This is no date. Write it like 2026-11-06.",
      problem: { errors },
    });
  });

  it("says that nobody answers, and that nothing is lost, where nobody does", async () => {
    answering({});
    await expect(plans()).rejects.toMatchObject({
      status: 0,
      message: expect.stringContaining("Gambrel does not answer"),
    });
  });

  it("says so where the answer cannot be read", async () => {
    answering({ "GET /plans": () => new Response("<html>", { status: 502 }) });
    await expect(plans()).rejects.toMatchObject({
      status: 502,
      message: "The server gave no answer that can be read",
    });
  });

  it("is nothing where nothing is to be told", async () => {
    const remove = () =>
      done(
        api.DELETE("/api/v1/plans/{plan_id}/templates/{template_id}", {
          params: { path: { plan_id: 1, template_id: 2 } },
        }),
      );
    answering({ "DELETE /templates/2": () => new Response(null, { status: 204 }) });
    await expect(remove()).resolves.toBeUndefined();
    answering({
      "DELETE /templates/2": () => problem(404, { title: "There is no such template" }),
    });
    await expect(remove()).rejects.toMatchObject({ status: 404 });
  });

  it("is given up quietly where it is not wanted any more", async () => {
    const control = new AbortController();
    answering({
      "GET /plans": () => {
        control.abort();
        return [];
      },
    });
    await expect(data(api.GET("/api/v1/plans", { signal: control.signal }))).rejects.toMatchObject({
      name: "AbortError",
    });
  });
});

describe("the token of the session", () => {
  it("goes with what changes something, and with nothing else", async () => {
    const asked = answering({
      "GET /session": () => ({ signed_in: true, name: "Ada", csrf_token: "sealed" }),
      "GET /plans": () => [],
      "POST /session": () => ({ signed_in: true, name: "Ada", csrf_token: "sealed" }),
    });
    await (sessionQuery.queryFn as () => Promise<unknown>)();
    await plans();
    await data(api.POST("/api/v1/session", { body: { token: "once" } }));
    expect(asked.map((a) => [a.method, a.headers.get("X-CSRF-Token")])).toEqual([
      ["GET", null],
      ["GET", null],
      ["POST", "sealed"],
    ]);
  });
});
