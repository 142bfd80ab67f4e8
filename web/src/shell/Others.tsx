import { useOthers, type Other } from "../workbench/presence";
import { VIEWS } from "../workbench/address";
import { useWorkbench } from "../workbench/store";
import { Hint } from "../ui/Hint";

const viewWords = (path: string) =>
  VIEWS.find((view) => view.path === path)?.title ?? path.replace(/^./, (c) => c.toUpperCase());

/** Who else is at the plan: what they are editing, or else which view they look at. */
export function Others() {
  const { draft, plan } = useWorkbench();
  const others = useOthers();
  const where = (other: Other) => {
    const drafts = plan.open_drafts.find((each) => each.id === other.draft);
    if (other.draft === null) return "the adopted plan";
    if (other.draft === draft?.id) return "this draft";
    return drafts ? `the draft ${drafts.name}` : "another draft";
  };
  const words = (other: Other) =>
    other.editing
      ? `${other.name} is editing ${other.editing} in ${where(other)}`
      : `${other.name} looks at ${viewWords(other.view)}, ${where(other)}`;
  const busy = others.filter((other) => other.editing && other.draft === (draft?.id ?? null));
  return (
    <p role="status" aria-label="Who else is here" className="flex min-w-0 gap-1 text-sm">
      {others.length > 0 && (
        <Hint text={others.map(words).join("; ")}>
          <button
            type="button"
            className="max-w-64 truncate rounded-[3px] border border-rule-strong px-1.5 hover:bg-closed"
          >
            {busy.length > 0 ? (
              <strong className="font-semibold">{busy.map(words).join("; ")}</strong>
            ) : (
              `Also here: ${others.map((other) => other.name).join(", ")}`
            )}
          </button>
        </Hint>
      )}
    </p>
  );
}
