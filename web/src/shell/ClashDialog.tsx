import { useState } from "react";
import type { Operation } from "../api/client";
import { Button } from "../ui/Button";
import { Modal } from "../ui/Modal";
import { count } from "../ui/words";
import { kept } from "../workbench/clash";
import { type Clash, useWorkbench } from "../workbench/store";

/** Somebody else saved first: what they did, and field by field whose edit stands. */
export function ClashDialog() {
  const { clash, settleClash } = useWorkbench();
  return (
    <Modal
      open={clash !== null}
      onOpen={(open) => !open && settleClash([])}
      title="Somebody else saved first"
    >
      {clash && <Settle key={clash.now.revision} clash={clash} onSettle={settleClash} />}
    </Modal>
  );
}

function Settle({
  clash,
  onSettle,
}: {
  clash: Clash;
  onSettle: (operations: Operation[]) => void;
}) {
  const [mine, setMine] = useState<ReadonlySet<number>>(new Set());
  const toggle = (i: number, own: boolean) => {
    const next = new Set(mine);
    if (own) next.add(i);
    else next.delete(i);
    setMine(next);
  };
  return (
    <>
      <p className="mb-1">Nothing of yours is lost. Meanwhile in this draft:</p>
      <ul className="mb-3 pl-4">
        {clash.theirs.map((change, i) => (
          <li key={i} className="list-disc">
            <strong>{change.actor || "Somebody"}</strong> {change.undone ? "took back" : "saved"}:{" "}
            {change.words}
          </li>
        ))}
      </ul>
      {clash.conflicts.length === 0 ? (
        <p className="mb-3">None of it touches what you changed.</p>
      ) : (
        <fieldset className="mb-3">
          <legend className="font-semibold">
            {count(clash.conflicts.length, "place")} that both changed
          </legend>
          {clash.conflicts.map((conflict, i) => (
            <div key={i} className="my-2 border-l-2 border-hay pl-2">
              <p>
                {conflict.id}, {(conflict.field || "as a whole").replaceAll("_", " ")}
              </p>
              {[false, true].map((own) => (
                <label key={String(own)} className="flex gap-2">
                  <input
                    type="radio"
                    name={`clash ${i}`}
                    checked={mine.has(i) === own}
                    onChange={() => toggle(i, own)}
                  />
                  <span>{own ? "Mine" : `Theirs: ${conflict.theirs.join("; ")}`}</span>
                </label>
              ))}
            </div>
          ))}
        </fieldset>
      )}
      <p className="flex gap-2">
        <Button look="strong" onClick={() => onSettle(kept(clash, mine))}>
          Save mine on top
        </Button>
        <Button look="plain" onClick={() => onSettle([])}>
          Forget mine
        </Button>
      </p>
    </>
  );
}
