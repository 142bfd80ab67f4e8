/** A stand-in for the server: what it is asked, and what it answers. */

export interface Asked {
  method: string;
  path: string;
  query: URLSearchParams;
  headers: Headers;
  body: unknown;
}

type Answer = (asked: Asked) => unknown;

let routes: [string, Answer][] = [];
let heard: Asked[] = [];

/**
 * Answers by "METHOD end-of-path"; the first that fits. A Response is given as it is, anything else
 * as JSON. What was asked, in turn, is returned and goes on filling.
 */
export function answering(answers: Record<string, Answer>): Asked[] {
  routes = Object.entries(answers);
  heard = [];
  return heard;
}

/** A problem as the server tells it (RFC 9457). */
export function problem(status: number, body: Record<string, unknown>): Response {
  return Response.json({ type: "about:blank", status, ...body }, { status });
}

export async function serve(request: Request): Promise<Response> {
  const url = new URL(request.url);
  const text = await request.text();
  const asked: Asked = {
    method: request.method,
    path: url.pathname,
    query: url.searchParams,
    headers: request.headers,
    body: text ? JSON.parse(text) : null,
  };
  heard.push(asked);
  for (const [route, answer] of routes) {
    const [method, end] = route.split(" ") as [string, string];
    if (method === asked.method && asked.path.endsWith(end)) {
      const found = await answer(asked);
      if (request.signal.aborted) throw new DOMException("given up", "AbortError");
      return found instanceof Response ? found : Response.json(found);
    }
  }
  throw new Error(`nobody answers ${asked.method} ${asked.path}`);
}

export function stopServing() {
  routes = [];
}
