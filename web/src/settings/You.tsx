import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { sessionQuery } from "../api/planQueries";
import { endSession, ownSessionsQuery, setPassword } from "../api/settingsQueries";
import { AskButton } from "../ui/AskButton";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { Table } from "../ui/Table";
import { roleWords } from "../workbench/rights";
import { refusalsOf } from "../workbench/refusals";
import { Section } from "./parts";
import { browserWords, whenWords } from "./words";

/** One's own password and sessions. */
export function You() {
  const session = useQuery(sessionQuery).data;
  return (
    <>
      <Section
        title={session?.name ?? ""}
        about={`You may ${roleWords(session?.role ?? "read")}. Somebody who administers Gambrel can change that.`}
      >
        <Password has={session?.has_password ?? false} />
      </Section>
      <Sessions />
    </>
  );
}

function Password({ has }: { has: boolean }) {
  const client = useQueryClient();
  const [old, setOld] = useState("");
  const [password, setNew] = useState("");
  const [again, setAgain] = useState("");
  const save = useMutation({
    mutationFn: () => setPassword(has ? old : null, password),
    onSuccess: (session) => {
      setOld("");
      setNew("");
      setAgain("");
      client.setQueryData(sessionQuery.queryKey, session);
      void client.invalidateQueries({ queryKey: ownSessionsQuery.queryKey });
    },
  });
  const refused = refusalsOf(save.error);
  const differs = again !== "" && again !== password;
  return (
    <form
      className="w-80"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      <h3 className="mb-1 font-semibold">{has ? "Change your password" : "Set a password"}</h3>
      {has && (
        <Field
          label="The password so far"
          type="password"
          autoComplete="current-password"
          value={old}
          wrong={refused.of("old")}
          onChange={(event) => setOld(event.target.value)}
        />
      )}
      <Field
        label="New password"
        type="password"
        autoComplete="new-password"
        value={password}
        wrong={refused.of("password")}
        note="At least 12 characters. A sentence is easy to remember and hard to guess."
        onChange={(event) => setNew(event.target.value)}
      />
      <Field
        label="New password, once more"
        type="password"
        autoComplete="new-password"
        value={again}
        wrong={differs ? "differs from the first" : null}
        onChange={(event) => setAgain(event.target.value)}
      />
      <Button
        type="submit"
        look="strong"
        disabled={!password || again !== password || (has && !old) || save.isPending}
      >
        {has ? "Change the password" : "Set the password"}
      </Button>
      {save.isSuccess && <p role="status">Done. You are signed out everywhere but here.</p>}
      {save.error && !refused.of("old") && !refused.of("password") && (
        <p role="alert" className="text-barn">
          {save.error.message}
        </p>
      )}
    </form>
  );
}

function Sessions() {
  const client = useQueryClient();
  const found = useQuery(ownSessionsQuery);
  const end = useMutation({
    mutationFn: endSession,
    onSuccess: () => client.invalidateQueries({ queryKey: ownSessionsQuery.queryKey }),
  });
  return (
    <Section
      title="Where you are signed in"
      about="A session ends by itself seven days after it began. End one that you do not know, and change your password."
    >
      <Table
        caption="Your sessions"
        rows={found.data ?? []}
        idOf={(row) => row.id}
        columns={[
          {
            id: "where",
            header: "Browser",
            accessorFn: (row) => browserWords(row.agent),
            cell: ({ row }) => (
              <>
                {browserWords(row.original.agent)}
                {row.original.this && <b> · this one</b>}
              </>
            ),
          },
          { id: "address", header: "From", accessorKey: "address" },
          {
            id: "began",
            header: "Since",
            accessorKey: "began_at",
            cell: ({ row }) => whenWords(row.original.began_at),
          },
          {
            id: "seen",
            header: "Last seen",
            accessorKey: "seen_at",
            cell: ({ row }) => whenWords(row.original.seen_at),
          },
          {
            id: "end",
            header: "End",
            enableSorting: false,
            cell: ({ row }) =>
              row.original.this ? null : (
                <AskButton
                  small
                  question={`End the session of ${browserWords(row.original.agent)}?`}
                  onYes={() => end.mutate(row.original.id)}
                >
                  End
                </AskButton>
              ),
          },
        ]}
      />
      {(found.error ?? end.error) && (
        <p role="alert" className="text-barn">
          {(found.error ?? end.error)?.message}
        </p>
      )}
    </Section>
  );
}
