import { Allowed } from "../workbench/Allowed";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  type MailServer,
  mailServerQuery,
  outboxQuery,
  type RunSettings,
  runSettingsQuery,
  sendTestMail,
  setMailServer,
  setRunSettings,
} from "../api/runQueries";
import { Button } from "../ui/Button";
import { Flag, Group } from "../ui/controls";
import { Field } from "../ui/Field";
import { Sheet } from "../ui/Sheet";

/** When and to whom the morning report goes, the mail server, and what went out. */
export function MailSheet({ plan, onClose }: { plan: number; onClose: () => void }) {
  const settings = useQuery(runSettingsQuery(plan));
  const server = useQuery(mailServerQuery);
  const error = settings.error ?? server.error;
  return (
    <Sheet label="Mail" title="Mail" onClose={onClose}>
      {error && <p role="alert">{error.message}</p>}
      {settings.data && <Report plan={plan} settings={settings.data} />}
      {server.data && <Server server={server.data} />}
      <Outbox />
    </Sheet>
  );
}

const lines = (text: string) =>
  text
    .split(/[\n,]/)
    .map((line) => line.trim())
    .filter(Boolean);

const byLine = (values: Readonly<Record<string, string>>) =>
  Object.entries(values)
    .map(([name, value]) => `${name}: ${value}`)
    .join("\n");

const byName = (each: readonly string[]) =>
  Object.fromEntries(
    each.map((line) => {
      const [name = "", ...rest] = line.split(":");
      return [name.trim(), rest.join(":").trim()];
    }),
  );

function Report({ plan, settings }: { plan: number; settings: RunSettings }) {
  const client = useQueryClient();
  const [at, setAt] = useState(settings.report_at);
  const [to, setTo] = useState(settings.report_to.join(", "));
  const [names, setNames] = useState(byLine(settings.addresses));
  const [phones, setPhones] = useState(byLine(settings.phones ?? {}));
  const save = useMutation({
    mutationFn: () =>
      setRunSettings(plan, {
        report_at: at,
        report_to: lines(to),
        addresses: byName(lines(names)),
        phones: byName(phones.split("\n").filter((line) => line.trim())),
      }),
    onSuccess: (now) => client.setQueryData(runSettingsQuery(plan).queryKey, now),
  });
  return (
    <Group title="Morning report and notices">
      <Field label="Time" value={at} onChange={(event) => setAt(event.target.value)} />
      <Field
        label="Report to"
        value={to}
        note="Addresses, separated by commas. Nobody: no report is mailed."
        onChange={(event) => setTo(event.target.value)}
      />
      <label className="mb-2 block text-sm text-ink-2">
        Addresses by the names that jobs notify
        <textarea
          className="mt-0.5 block h-20 w-full border border-rule-strong bg-surface p-1 text-ink"
          value={names}
          placeholder="ops: ops@example.org"
          onChange={(event) => setNames(event.target.value)}
        />
      </label>
      <label className="mb-2 block text-sm text-ink-2">
        Telephones by the same names, for the night sheet
        <textarea
          className="mt-0.5 block h-16 w-full border border-rule-strong bg-surface p-1 text-ink"
          value={phones}
          placeholder="ops: ext. 4100"
          onChange={(event) => setPhones(event.target.value)}
        />
      </label>
      <Allowed>
        <Button disabled={save.isPending} onClick={() => save.mutate()}>
          Save
        </Button>
      </Allowed>
      {save.isSuccess && <span role="status"> Saved.</span>}
      {save.error && <p role="alert">{save.error.message}</p>}
    </Group>
  );
}

function Server({ server }: { server: MailServer }) {
  const client = useQueryClient();
  const [now, setNow] = useState(server);
  const [password, setPassword] = useState<string | null>(null);
  const [test, setTest] = useState("");
  const save = useMutation({
    mutationFn: () => setMailServer({ ...now, password }),
    onSuccess: (saved) => client.setQueryData(mailServerQuery.queryKey, saved),
  });
  const send = useMutation({
    mutationFn: () => sendTestMail(test.trim()),
    onSuccess: (box) => client.setQueryData(outboxQuery.queryKey, box),
  });
  const text = (key: "host" | "sender" | "user", label: string) => (
    <Field
      label={label}
      value={now[key]}
      onChange={(event) => setNow({ ...now, [key]: event.target.value })}
    />
  );
  return (
    <Group title="Mail server">
      {text("host", "Host")}
      <Field
        label="Port"
        inputMode="numeric"
        value={String(now.port)}
        onChange={(event) => setNow({ ...now, port: Number(event.target.value) || 0 })}
      />
      {text("sender", "Sender")}
      {text("user", "User")}
      <Field
        label="Password"
        type="password"
        autoComplete="new-password"
        value={password ?? ""}
        placeholder="as it is"
        onChange={(event) => setPassword(event.target.value)}
      />
      <Flag
        label="Use STARTTLS"
        value={now.starttls}
        onChange={(starttls) => setNow({ ...now, starttls })}
      />
      <Allowed>
        <Button disabled={save.isPending} onClick={() => save.mutate()}>
          Save server
        </Button>
      </Allowed>
      {save.error && <p role="alert">{save.error.message}</p>}
      <div className="mt-3">
        <Field
          label="Send a test mail to"
          value={test}
          onChange={(event) => setTest(event.target.value)}
        />
        <Allowed>
          <Button disabled={!test.trim() || send.isPending} onClick={() => send.mutate()}>
            Send test
          </Button>
        </Allowed>
        {send.error && <p role="alert">{send.error.message}</p>}
      </div>
    </Group>
  );
}

function Outbox() {
  const found = useQuery(outboxQuery);
  return (
    <Group title="What went out">
      {found.data && !found.data.mails.length && <p className="text-ink-2">Nothing yet.</p>}
      <ul>
        {found.data?.mails.map((mail) => (
          <li key={mail.id} className="border-t border-rule py-1 text-sm">
            <p>{mail.subject}</p>
            <p className="text-ink-2">
              {mail.state}
              {mail.state === "waiting" && mail.tries > 0 && `, ${mail.tries} tries`}, to{" "}
              {mail.to.join(", ")}
              {mail.error && `: ${mail.error}`}
            </p>
          </li>
        ))}
      </ul>
    </Group>
  );
}
