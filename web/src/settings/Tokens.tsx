import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { endToken, makeToken, type Role, tokensQuery } from "../api/settingsQueries";
import { AskButton } from "../ui/AskButton";
import { NumberField, Pick } from "../ui/controls";
import { Table } from "../ui/Table";
import { refusalsOf } from "../workbench/refusals";
import { ROLES, roleWords } from "../workbench/rights";
import { NameForm, Once, Section } from "./parts";
import { whenWords } from "./words";

/** Tokens of programs: monitoring, pipelines, scripts. */
export function Tokens() {
  const client = useQueryClient();
  const found = useQuery(tokensQuery);
  const [role, setRole] = useState<Role>("read");
  const [days, setDays] = useState<number | null>(90);
  const again = () => void client.invalidateQueries({ queryKey: tokensQuery.queryKey });
  const make = useMutation({
    mutationFn: (name: string) => makeToken(name, role, days),
    onSuccess: again,
  });
  const end = useMutation({ mutationFn: endToken, onSettled: again });
  const refused = refusalsOf(make.error);
  const rows = found.data?.tokens ?? [];
  const over = (at: string | null) => at !== null && Date.parse(at) <= Date.now();
  return (
    <Section
      title="Tokens of programs"
      table="tokens"
      about="Monitoring, pipelines and scripts ask the API with a token: Authorization: Bearer and the token. Give each program its own, with the least role that it needs. Runners have tokens of their own, under Runs."
    >
      {rows.length > 0 ? (
        <Table
          caption="Tokens of programs"
          rows={rows}
          idOf={(row) => String(row.id)}
          columns={[
            { id: "name", header: "Name", accessorKey: "name" },
            {
              id: "role",
              header: "May",
              accessorKey: "role",
              cell: ({ row }) => roleWords(row.original.role),
            },
            { id: "by", header: "Made by", accessorKey: "made_by" },
            {
              id: "until",
              header: "Works until",
              accessorFn: (row) => row.expires_at ?? "",
              cell: ({ row }) =>
                row.original.expires_at === null ? (
                  "it is ended"
                ) : (
                  <span className={over(row.original.expires_at) ? "text-barn" : undefined}>
                    {whenWords(row.original.expires_at)}
                    {over(row.original.expires_at) && ", over"}
                  </span>
                ),
            },
            {
              id: "used",
              header: "Last used",
              accessorFn: (row) => row.used_at ?? "",
              cell: ({ row }) => whenWords(row.original.used_at),
            },
            {
              id: "end",
              header: "End",
              enableSorting: false,
              cell: ({ row }) => (
                <AskButton
                  small
                  question={`End the token ${row.original.name}? What uses it is refused at once.`}
                  onYes={() => end.mutate(row.original.id)}
                >
                  End
                </AskButton>
              ),
            },
          ]}
        />
      ) : (
        found.data && <p className="text-ink-2">No program has a token yet.</p>
      )}
      {(found.error ?? end.error) && <p role="alert">{(found.error ?? end.error)?.message}</p>}
      <NameForm
        title="Make a token"
        note="What the program is called; the audit trail has it."
        action="Make the token"
        wrong={refused.of("name")}
        error={refused.of("name") || refused.of("days") ? null : (make.error?.message ?? null)}
        busy={make.isPending}
        onMake={make.mutateAsync}
      >
        <Pick
          label="It may"
          value={role}
          options={ROLES}
          onChange={(value) => setRole(value as Role)}
        />
        <NumberField
          label="Works for"
          unit="days"
          value={days}
          empty="until it is ended"
          wrong={refused.of("days")}
          onChange={setDays}
        />
      </NameForm>
      {make.data && (
        <Once secret={make.data.secret}>Copy this token now; it is not shown again.</Once>
      )}
    </Section>
  );
}
