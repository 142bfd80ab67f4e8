import { type ReactNode, useState } from "react";
import { Button } from "./Button";
import { Modal } from "./Modal";

/** A button whose act cannot be taken back: it asks first, unless `ask` says that little goes. */
export function AskButton({
  ask = true,
  question,
  detail,
  onYes,
  children,
  ...look
}: {
  ask?: boolean;
  question: string;
  /** What would be gone. */
  detail?: ReactNode;
  onYes: () => void;
  /** What the button says; the answer says it again. */
  children: string;
  small?: boolean;
  look?: "plain" | "onEffect";
  disabled?: boolean;
}) {
  const [asking, setAsking] = useState(false);
  return (
    <>
      <Button look="plain" {...look} onClick={() => (ask ? setAsking(true) : onYes())}>
        {children}
      </Button>
      <Modal open={asking} onOpen={setAsking} title={question}>
        {detail && <div className="mb-3">{detail}</div>}
        <p className="flex gap-2">
          <Button
            look="strong"
            onClick={() => {
              setAsking(false);
              onYes();
            }}
          >
            {children}
          </Button>
          <Button look="plain" autoFocus onClick={() => setAsking(false)}>
            Keep
          </Button>
        </p>
      </Modal>
    </>
  );
}
