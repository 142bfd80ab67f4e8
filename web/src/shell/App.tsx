import { useQuery } from "@tanstack/react-query";
import { lazy, type ReactNode, Suspense } from "react";
import { Navigate, Route, Routes, useLocation, useSearchParams } from "react-router";
import { planQuery, plansQuery, sessionQuery } from "../api/queries";
import { Board } from "../board/Board";
import { EffectLine } from "./EffectLine";
import { Mark } from "./Mark";
import { SignIn } from "./SignIn";
import { TopLine } from "./TopLine";
import { useTheme } from "./theme";
import { WeekStrip } from "./WeekStrip";
import { WorkbenchProvider } from "./workbench";

const Estate = lazy(() => import("../estate/Estate").then((m) => ({ default: m.Estate })));

export function App() {
  useTheme();
  return (
    <Routes>
      <Route path="/sign-in" element={<SignIn />} />
      <Route path="/" element={<Views />} />
      <Route path="/board/:date?" element={<Views />} />
      <Route path="/estate/:date?" element={<Views />} />
      <Route path="*" element={<Navigate to="/" replace />} />
    </Routes>
  );
}

function Notice({ children, alert = false }: { children: ReactNode; alert?: boolean }) {
  return (
    <main className="grid h-full place-items-center">
      <div role={alert ? "alert" : "status"} className="flex max-w-md items-center gap-3 p-6 text-base">
        <Mark size={32} />
        <div>{children}</div>
      </div>
    </main>
  );
}

function Views() {
  const session = useQuery(sessionQuery);
  const signedIn = session.data?.signed_in ?? false;
  const [search] = useSearchParams();
  const view = useLocation().pathname.split("/")[1];
  const plans = useQuery({ ...plansQuery, enabled: signedIn });
  const wanted = Number(search.get("plan"));
  const chosen = plans.data?.find((p) => p.id === wanted) ?? plans.data?.[0];
  const adopted = useQuery({ ...planQuery(chosen?.id ?? 0, null), enabled: Boolean(chosen) });
  const draft = adopted.data?.open_drafts[0] ?? null;
  const inHand = useQuery({
    ...planQuery(chosen?.id ?? 0, draft?.id ?? null),
    enabled: Boolean(adopted.data),
    placeholderData: (before) => before,
  });
  const error = session.error ?? plans.error ?? adopted.error ?? inHand.error;
  if (error) return <Notice alert>{error.message}</Notice>;
  if (session.data && !signedIn) return <Navigate to="/sign-in" replace />;
  if (plans.data && !chosen)
    return (
      <Notice>
        No plan is stored yet. <kbd>./gambrel load PLAN.json</kbd> stores one.
      </Notice>
    );
  if (!inHand.data || !adopted.data) return <Notice>Opening the plan …</Notice>;
  return (
    <WorkbenchProvider key={chosen?.id} plan={inHand.data}>
      <div className="flex h-full flex-col">
        <TopLine />
        <WeekStrip />
        <Suspense fallback={<p role="status" className="flex-1 p-4">Opening …</p>}>
          {view === "estate" ? <Estate /> : <Board />}
        </Suspense>
        <EffectLine />
      </div>
    </WorkbenchProvider>
  );
}
