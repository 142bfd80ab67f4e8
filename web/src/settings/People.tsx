import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  addPerson,
  changePerson,
  type Invitation,
  invite,
  peopleQuery,
  type Person,
  type Role,
  rulesQuery,
  setRules,
  signOutEverywhere,
} from "../api/settingsQueries";
import { AskButton } from "../ui/AskButton";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Flag, Pick } from "../ui/controls";
import { Table } from "../ui/Table";
import { refusalsOf } from "../workbench/refusals";
import { ROLES } from "../workbench/rights";
import { NameForm, Once, Section } from "./parts";
import { whenWords } from "./words";

const CAN: Record<Role, string> = {
  read: "sees everything and asks what would be, and changes nothing",
  plan: "changes drafts and the estate, adopts, orders runs",
  administer: "also brings people in and sets up mail, runners and this page",
};

/** Who may sign in, and what they may do. */
export function People() {
  const client = useQueryClient();
  const found = useQuery(peopleQuery);
  const [link, setLink] = useState<Invitation | null>(null);
  const again = () => void client.invalidateQueries({ queryKey: peopleQuery.queryKey });
  const change = useMutation({
    mutationFn: ({ id, ...body }: { id: number; role?: Role; barred?: boolean }) =>
      changePerson(id, body),
    onSettled: again,
  });
  const linked = useMutation({
    mutationFn: invite,
    onSuccess: (made) => {
      setLink(made);
      again();
    },
  });
  const out = useMutation({ mutationFn: signOutEverywhere, onSettled: again });
  const refused = refusalsOf(change.error ?? linked.error ?? out.error);
  return (
    <Section
      title="People"
      table="people"
      about={`Who may look ${CAN.read}. Who may plan ${CAN.plan}. Who may administer ${CAN.administer}. A change counts from their next click on.`}
    >
      <Table
        caption="People"
        rows={found.data?.people ?? []}
        idOf={(row) => String(row.id)}
        columns={[
          {
            id: "name",
            header: "Name",
            accessorKey: "name",
            cell: ({ row }) => (
              <>
                <b>{row.original.name}</b>
                {row.original.barred_at && <span className="text-barn"> · barred</span>}
              </>
            ),
          },
          {
            id: "role",
            header: "May",
            accessorKey: "role",
            cell: ({ row }) => (
              <Choice
                lead={`${row.original.name} may`}
                hideLead
                value={row.original.role}
                options={ROLES}
                onChange={(role) => change.mutate({ id: row.original.id, role: role as Role })}
              />
            ),
          },
          {
            id: "how",
            header: "Signs in by",
            accessorFn: howWords,
          },
          {
            id: "seen",
            header: "Last seen",
            accessorFn: (row) => row.seen_at ?? "",
            cell: ({ row }) => whenWords(row.original.seen_at, "signed in nowhere"),
          },
          {
            id: "acts",
            header: "Acts",
            enableSorting: false,
            cell: ({ row }) => (
              <span className="flex gap-1">
                {!row.original.barred_at && (
                  <Button
                    small
                    look="plain"
                    aria-label={`Make a link for ${row.original.name}`}
                    onClick={() => linked.mutate(row.original.id)}
                  >
                    Make a link
                  </Button>
                )}
                <AskButton
                  small
                  question={`Sign ${row.original.name} out everywhere?`}
                  onYes={() => out.mutate(row.original.id)}
                >
                  Sign out
                </AskButton>
                <AskButton
                  small
                  ask={!row.original.barred_at}
                  question={`Bar ${row.original.name} from signing in? They are signed out at once.`}
                  onYes={() =>
                    change.mutate({ id: row.original.id, barred: !row.original.barred_at })
                  }
                >
                  {row.original.barred_at ? "Let in again" : "Bar"}
                </AskButton>
              </span>
            ),
          },
        ]}
      />
      {refused.lines.map((line) => (
        <p key={line} role="alert" className="text-barn">
          {line}
        </p>
      ))}
      {link && <Link made={link} />}
      <Add onAdded={(made) => setLink(made)} />
      <Rules />
    </Section>
  );
}

/** What is asked of everybody. */
function Rules() {
  const client = useQueryClient();
  const found = useQuery(rulesQuery);
  const set = useMutation({
    mutationFn: setRules,
    onSuccess: (saved) => client.setQueryData(rulesQuery.queryKey, saved),
  });
  if (!found.data) return null;
  return (
    <div className="mt-4">
      <h3 className="font-semibold">Two pairs of eyes</h3>
      <Flag
        label="Who changed something in a draft does not adopt it: somebody else has to"
        value={set.isPending ? set.variables.second_person : found.data.second_person}
        onChange={(second_person) => set.mutate({ ...found.data, second_person })}
      />
      <Flag
        label="An order to a runner waits until somebody else confirms it"
        value={
          set.isPending
            ? set.variables.second_person_for_orders
            : found.data.second_person_for_orders
        }
        onChange={(second_person_for_orders) =>
          set.mutate({ ...found.data, second_person_for_orders })
        }
      />
      {set.error && <p role="alert">{set.error.message}</p>}
    </div>
  );
}

function howWords(person: Person): string {
  const ways = [
    person.has_password && "a password",
    person.provided && "the identity provider",
  ].filter(Boolean);
  return ways.join(" or ") || "a link, until they set a password";
}

function Link({ made }: { made: Invitation }) {
  return (
    <Once secret={made.link}>
      Send this link to {made.person.name}. It works once, for {made.valid_days} days, and is not
      shown again. They set a password under Settings, You.
    </Once>
  );
}

function Add({ onAdded }: { onAdded: (made: Invitation) => void }) {
  const client = useQueryClient();
  const [role, setRole] = useState<Role>("read");
  const add = useMutation({
    mutationFn: (name: string) => addPerson(name, role),
    onSuccess: (made) => {
      onAdded(made);
      void client.invalidateQueries({ queryKey: peopleQuery.queryKey });
    },
  });
  const wrong = refusalsOf(add.error).of("name");
  return (
    <NameForm
      title="Bring somebody in"
      note="Their changes carry this name."
      action="Add and make a link"
      wrong={wrong}
      error={wrong ? null : (add.error?.message ?? null)}
      busy={add.isPending}
      onMake={add.mutateAsync}
    >
      <Pick
        label="They may"
        value={role}
        options={ROLES}
        onChange={(value) => setRole(value as Role)}
      />
    </NameForm>
  );
}
