import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import type { Session } from "../api/client";
import { sessionQuery, signIn } from "../api/planQueries";
import { signInWithPassword } from "../api/settingsQueries";
import { Button } from "../ui/Button";
import { Field } from "../ui/Field";
import { Mark } from "../ui/Mark";

/** Why somebody came back from the identity provider without being let in. */
const WHY: Record<string, string> = {
  provider:
    "The identity provider could not be asked, or its answer does not hold. Try again; if it stays so, sign in by password or link and tell who administers Gambrel.",
  begun: "That sign-in was not begun here, or too long ago. Begin it again.",
  groups:
    "You have an account, but none of your groups may use Gambrel. Ask who administers Gambrel.",
  barred: "You are barred from signing in. Ask who administers Gambrel.",
};

/** Signing in: by a one-time link, a password, or the identity provider. */
export function SignIn() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const session = useQuery(sessionQuery);
  const asked = useRef(false);
  const [problem, setProblem] = useState<string | null>(WHY[search.get("why") ?? ""] ?? null);
  // The token of a link stands behind the # and never reaches a log.
  const token = window.location.hash.slice(1);
  const [link, setLink] = useState(Boolean(token));
  useEffect(() => {
    if (!token || asked.current) return;
    asked.current = true;
    client
      .ensureQueryData(sessionQuery)
      .then(() => signIn(token))
      .then((entered) => {
        client.setQueryData(sessionQuery.queryKey, entered);
        void navigate("/", { replace: true });
      })
      .catch((error: Error) => {
        setLink(false);
        setProblem(error.message);
      });
  }, [client, navigate, token]);
  const enter = (entered: Session) => {
    client.clear();
    client.setQueryData(sessionQuery.queryKey, entered);
    void navigate("/", { replace: true });
  };
  return (
    <main className="grid h-full place-items-center">
      <div className="w-96 max-w-full p-6">
        <p className="mb-4 flex items-center gap-2 text-xl font-bold">
          <Mark size={32} /> Gambrel
        </p>
        <h1 className="mb-2 text-xl font-semibold">{link ? "Signing in …" : "Sign in"}</h1>
        {problem && (
          <p role="alert" className="mb-2 text-barn">
            {problem}
          </p>
        )}
        {!link && (
          <>
            <Password onIn={enter} onProblem={setProblem} />
            {session.data?.provider && (
              <p className="mt-3">
                <a className="underline" href="/api/v1/session/provider">
                  Sign in with {session.data.provider}
                </a>
              </p>
            )}
            <p className="mt-4 text-ink-2">
              Or open a one-time link: somebody who administers Gambrel can make one, and on the
              machine where it runs <kbd>./gambrel link</kbd> prints one.
            </p>
          </>
        )}
      </div>
    </main>
  );
}

function Password({
  onIn,
  onProblem,
}: {
  onIn: (session: Session) => void;
  onProblem: (problem: string | null) => void;
}) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [busy, setBusy] = useState(false);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    onProblem(null);
    signInWithPassword(name, password)
      .then(onIn)
      .catch((error: Error) => {
        setPassword("");
        onProblem(error.message);
      })
      .finally(() => setBusy(false));
  };
  return (
    <form onSubmit={submit}>
      <Field
        label="Name"
        autoComplete="username"
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <Field
        label="Password"
        type="password"
        autoComplete="current-password"
        value={password}
        onChange={(event) => setPassword(event.target.value)}
      />
      <Button type="submit" look="strong" disabled={!name || !password || busy}>
        Sign in
      </Button>
    </form>
  );
}
