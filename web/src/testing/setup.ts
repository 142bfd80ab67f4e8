/** Before each file of tests: what a page has and the test environment lacks. */

import { afterEach } from "vitest";
import { serve, stopServing } from "./server";

// The client of the API keeps what it finds when it is made, so both stand before anything else.
const Plain = globalThis.Request;
globalThis.Request = class extends Plain {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(typeof input === "string" ? new URL(input, "http://gambrel.test") : input, init);
  }
};
globalThis.fetch = (input) => serve(input as Request);
afterEach(stopServing);

if (typeof document !== "undefined") {
  const { cleanup } = await import("@testing-library/react");
  afterEach(cleanup);
  afterEach(() => localStorage.clear());
  Element.prototype.scrollIntoView = () => undefined;
  Element.prototype.hasPointerCapture = () => false;
  Element.prototype.setPointerCapture = () => undefined;
  Element.prototype.releasePointerCapture = () => undefined;
  globalThis.ResizeObserver = class {
    observe() {}
    unobserve() {}
    disconnect() {}
  };
}
