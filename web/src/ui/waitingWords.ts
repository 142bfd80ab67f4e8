/** Why a computation has not begun: others run, and some may be in line before it. */
export function waitingWords(ahead = 0): string {
  return ahead > 0
    ? `Waiting for other computations, ${ahead} ahead in line`
    : "Waiting for other computations";
}
