import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { sessionQuery, signIn } from "../api/planQueries";
import { Mark } from "../ui/Mark";

/** The page of a one-time link: the token stands behind the # and never reaches a log. */
export function SignIn() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const asked = useRef(false);
  const [problem, setProblem] = useState<string | null>(null);
  const token = window.location.hash.slice(1);
  useEffect(() => {
    if (!token || asked.current) return;
    asked.current = true;
    client
      .ensureQueryData(sessionQuery)
      .then(() => signIn(token))
      .then((session) => {
        client.setQueryData(sessionQuery.queryKey, session);
        void navigate("/", { replace: true });
      })
      .catch((error: Error) => setProblem(error.message));
  }, [client, navigate, token]);
  return (
    <main className="grid h-full place-items-center">
      <div className="max-w-md p-6">
        <p className="mb-4 flex items-center gap-2 text-xl font-bold">
          <Mark size={32} /> Gambrel
        </p>
        <h1 className="mb-2 text-xl font-semibold">
          {token && !problem ? "Signing in …" : "Sign in with a one-time link"}
        </h1>
        {problem && (
          <p role="alert" className="mb-2 text-barn">
            {problem}
          </p>
        )}
        {(!token || problem) && (
          <p>
            The command that starts Gambrel prints a link. Open it in this browser.{" "}
            <kbd>./gambrel link</kbd> prints a new one.
          </p>
        )}
      </div>
    </main>
  );
}
