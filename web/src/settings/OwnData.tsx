import { useQuery } from "@tanstack/react-query";
import { ownDataQuery } from "../api/settingsQueries";
import { Table } from "../ui/Table";
import { Section } from "./parts";

const mib = (bytes: number) =>
  `${(bytes / 2 ** 20).toLocaleString("en-GB", { maximumFractionDigits: 1 })} MiB`;

/** What Gambrel's own data take, how long they stay, and how they are kept safe. */
export function OwnData() {
  const found = useQuery(ownDataQuery);
  const keep = found.data?.keep;
  const rows = found.data?.taken ?? [];
  return (
    <>
      <Section
        title="What takes how much"
        about="Space in the database, and rows, as the database estimates them."
      >
        {found.error && <p role="alert">{found.error.message}</p>}
        <div className="max-w-[640px]">
          <Table
            caption="What takes how much"
            rows={rows}
            idOf={(row) => row.kind}
            columns={[
              { id: "kind", header: "What", accessorKey: "kind" },
              {
                id: "rows",
                header: "Rows",
                accessorKey: "rows",
                meta: { right: true },
                cell: ({ row }) => row.original.rows.toLocaleString("en-GB"),
              },
              {
                id: "bytes",
                header: "Space",
                accessorKey: "bytes",
                meta: { right: true },
                cell: ({ row }) => mib(row.original.bytes),
              },
            ]}
          />
        </div>
        {rows.length > 0 && (
          <p className="mt-1">
            Together <b>{mib(rows.reduce((sum, row) => sum + row.bytes, 0))}</b>; schema{" "}
            {found.data?.revision}.
          </p>
        )}
      </Section>
      {keep && (
        <Section
          title="How long it stays"
          about="Variables of the environment set this where Gambrel is started; the guide “Running it” names them."
        >
          <ul className="list-disc pl-5">
            <li>Of each plan the newest {keep.versions} versions, and those still needed.</li>
            <li>Of each plan the newest {keep.computations} proposals and other computations.</li>
            <li>Events of runners, sent mails and points that are gone: {keep.event_days} days.</li>
            <li>Nights and runs of the ledger: {keep.ledger_days} days.</li>
            <li>Entries of the audit trail: {keep.audit_days} days.</li>
          </ul>
        </Section>
      )}
      <Section
        title="A copy of all of it"
        about="On the machine where Gambrel runs. Writing the file does not disturb anybody; it holds everything, and the keys to it."
      >
        <p>
          <code className="font-mono text-sm">./gambrel dump FILE</code> writes it,{" "}
          <code className="font-mono text-sm">./gambrel undump FILE</code> brings it back on a fresh
          machine. Before an upgrade changes the tables, a dump is made by itself, in the folder
          dumps of the state folder.
        </p>
      </Section>
    </>
  );
}
