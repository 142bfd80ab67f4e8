import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { sessionQuery } from "../api/planQueries";
import { type Provider, providerQuery, type Role, setProvider } from "../api/settingsQueries";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { refusalsOf } from "../workbench/refusals";
import { ROLES } from "../workbench/rights";
import { Section } from "./parts";

/** Signing in by an OpenID Connect provider. */
export function ProviderForm() {
  const found = useQuery(providerQuery);
  return (
    <Section
      title="Identity provider"
      about="Where people have an account already, they can sign in with it (OpenID Connect). Their groups there say what they may do here; who is in none of these groups is not let in. Passwords and links go on working."
    >
      {found.data && <Form told={found.data} />}
      {found.error && <p role="alert">{found.error.message}</p>}
    </Section>
  );
}

const groupsOf = (text: string) =>
  text
    .split(/[,\n]/)
    .map((each) => each.trim())
    .filter(Boolean);

function Form({ told }: { told: Provider }) {
  const client = useQueryClient();
  const [now, setNow] = useState({
    label: told.label ?? "",
    issuer: told.issuer ?? "",
    client_id: told.client_id ?? "",
    groups_claim: told.groups_claim ?? "groups",
  });
  const [secret, setSecret] = useState<string | null>(null);
  const roles = (told.roles ?? {}) as Partial<Record<Role, string[]>>;
  const [groups, setGroups] = useState<Record<string, string>>(
    Object.fromEntries(ROLES.map(({ value }) => [value, (roles[value] ?? []).join(", ")])),
  );
  const save = useMutation({
    mutationFn: () =>
      setProvider({
        ...now,
        client_secret: secret,
        roles: Object.fromEntries(
          Object.entries(groups).map(([role, text]) => [role, groupsOf(text)]),
        ),
      }),
    onSuccess: (saved) => {
      setSecret(null);
      client.setQueryData(providerQuery.queryKey, saved);
      void client.invalidateQueries({ queryKey: sessionQuery.queryKey });
    },
  });
  const refused = refusalsOf(save.error);
  const text = (key: keyof typeof now, label: string, note?: string) => (
    <Field
      label={label}
      value={now[key]}
      wrong={refused.of(key)}
      note={note}
      onChange={(event) => setNow({ ...now, [key]: event.target.value })}
    />
  );
  return (
    <form
      className="w-[420px] max-w-full"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      {text("label", "What the button on the sign-in page says after “Sign in with”")}
      {text("issuer", "Address of the provider", "Empty: nobody signs in by a provider.")}
      {text("client_id", "What the provider calls Gambrel (client id)")}
      <Field
        label="Secret of Gambrel there (client secret)"
        type="password"
        autoComplete="new-password"
        value={secret ?? ""}
        placeholder="as it is"
        note="Kept sealed, and shown nowhere."
        onChange={(event) => setSecret(event.target.value)}
      />
      {text("groups_claim", "Claim that has the groups")}
      {ROLES.map(({ value, label }) => (
        <Field
          key={value}
          label={`Groups that may ${label}`}
          value={groups[value]}
          note={value === "read" ? "Separated by commas. The highest role counts." : undefined}
          onChange={(event) => setGroups({ ...groups, [value]: event.target.value })}
        />
      ))}
      <p className="mb-2">
        The provider must send people back to{" "}
        <code className="font-mono text-sm [overflow-wrap:anywhere]">{told.redirect_uri}</code>
      </p>
      <Button type="submit" look="strong" disabled={save.isPending}>
        Save
      </Button>
      {save.isSuccess && <p role="status">Saved.</p>}
      {save.error && (
        <p role="alert" className="text-barn">
          {refused.lines.join(" ")}
        </p>
      )}
    </form>
  );
}
