/**
 * While the curves of Runway are shown, their answer goes before all else that an edit asks for:
 * the server has few processors, and what is asked at once is answered late together.
 */
let shown = 0;
const flying = new Set<Promise<unknown>>();

/** After an edit the curves are asked for a moment later than the rest. */
const A_MOMENT_MS = 40;
const LONGEST_WAIT_MS = 1500;

const pause = (ms: number) => new Promise<void>((done) => setTimeout(done, ms));

/** Say that the curves are shown; call what is returned when they are not any more. */
export function showCurves(): () => void {
  shown += 1;
  return () => {
    shown -= 1;
  };
}

/** A request for the curves. */
export async function asCurves<T>(answer: Promise<T>): Promise<T> {
  flying.add(answer);
  try {
    return await answer;
  } finally {
    flying.delete(answer);
  }
}

/** Wait until the curves that an edit asks for are there; not at all where none are shown. */
export async function afterCurves(): Promise<void> {
  if (!shown) return;
  await pause(A_MOMENT_MS);
  if (flying.size) await Promise.race([Promise.allSettled(flying), pause(LONGEST_WAIT_MS)]);
}
