/**
 * While the curves of Runway are shown, their answer goes before all else that an edit asks for:
 * the server has few processors, and what is asked at once is answered late together.
 */
let shown = 0;
let flying = 0;
const behind = new Set<() => void>();

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
  flying += 1;
  try {
    return await answer;
  } finally {
    flying -= 1;
    if (!flying) for (const go of [...behind]) go();
  }
}

/** Wait until the curves that an edit asks for are there; not at all where none are shown. */
export async function afterCurves(): Promise<void> {
  if (!shown) return;
  await pause(A_MOMENT_MS);
  if (!flying) return;
  let go = () => {};
  const there = new Promise<void>((done) => {
    go = done;
    behind.add(done);
  });
  await Promise.race([there, pause(LONGEST_WAIT_MS)]);
  behind.delete(go);
}
