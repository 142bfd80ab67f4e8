import { type ReactNode, useState } from "react";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { TableFiles } from "../ui/TableFiles";
import { useWorkbench } from "../workbench/store";

/** One section: what it is, and what its settings change. */
export function Section({
  title,
  about,
  table,
  children,
}: {
  title: string;
  about: ReactNode;
  /** The table of the API that is the same as a file. */
  table?: string;
  children: ReactNode;
}) {
  const { plan } = useWorkbench();
  return (
    <section aria-label={title} className="border-b border-rule py-3">
      <h2 className="text-lg font-semibold">
        {title} {table && <TableFiles of={`plans/${plan.id}/tables/${table}`} what={title} />}
      </h2>
      <p className="mb-2 max-w-[80ch] text-ink-2">{about}</p>
      {children}
    </section>
  );
}

/** Something that is shown once, to be copied. */
export function Once({ children, secret }: { children: ReactNode; secret: string }) {
  return (
    <div role="status" className="my-2 max-w-[80ch] border border-rule-strong bg-raised p-2">
      <p>{children}</p>
      <code className="font-mono text-sm [overflow-wrap:anywhere]">{secret}</code>
    </div>
  );
}

/** Makes something that has a name; what else it needs is asked for by its children. */
export function NameForm({
  title,
  note,
  action,
  error,
  wrong,
  busy,
  onMake,
  children,
}: {
  title: string;
  note: string;
  /** What the button says. */
  action: string;
  /** Why it could not be made, where no field says it. */
  error: string | null;
  /** What is wrong with the name. */
  wrong: string | null;
  busy: boolean;
  /** Makes it; the name is asked for anew once it is there. */
  onMake: (name: string) => Promise<unknown>;
  children: ReactNode;
}) {
  const [name, setName] = useState("");
  return (
    <form
      className="mt-4 w-80"
      onSubmit={(event) => {
        event.preventDefault();
        // What goes wrong is told by `error` and `wrong`.
        onMake(name.trim()).then(
          () => setName(""),
          () => undefined,
        );
      }}
    >
      <h3 className="font-semibold">{title}</h3>
      <Field
        label="Name"
        value={name}
        wrong={wrong}
        note={note}
        onChange={(event) => setName(event.target.value)}
      />
      {children}
      <Button type="submit" look="strong" disabled={!name.trim() || busy}>
        {action}
      </Button>
      {error && (
        <p role="alert" className="text-barn">
          {error}
        </p>
      )}
    </form>
  );
}
