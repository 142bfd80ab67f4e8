import { useQuery } from "@tanstack/react-query";
import { lazy, type ReactNode, Suspense, useEffect } from "react";
import { Navigate, Route, Routes, useLocation, useSearchParams } from "react-router";
import { useLedFocus } from "../workbench/keys";
import { planQuery, plansQuery, sessionQuery } from "../api/planQueries";
import { Board } from "../board/Board";
import { ClashDialog } from "../shell/ClashDialog";
import { EffectLine } from "../shell/EffectLine";
import { FirstStart } from "./FirstStart";
import { Mark } from "../ui/Mark";
import { SignIn } from "./SignIn";
import { TopLine } from "../shell/TopLine";
import { Unreadable, unreadablePlan } from "./Unreadable";
import { keepFocus } from "../ui/focus";
import { useTheme } from "../ui/theme";
import { UnsavedLine } from "../shell/UnsavedLine";
import { WeekStrip } from "../shell/WeekStrip";
import { useAddress } from "../workbench/address";
import { WorkbenchProvider } from "../workbench/workbench";

const Estate = lazy(() => import("../estate/Estate").then((m) => ({ default: m.Estate })));

const Jobs = lazy(() => import("../jobs/Jobs").then((m) => ({ default: m.Jobs })));
const Balance = lazy(() => import("../balance/Balance").then((m) => ({ default: m.Balance })));
const Compare = lazy(() => import("../compare/Compare").then((m) => ({ default: m.Compare })));
const PastBoard = lazy(() => import("../runs/PastBoard").then((m) => ({ default: m.PastBoard })));
const Recovery = lazy(() => import("../recovery/Recovery").then((m) => ({ default: m.Recovery })));
const Runs = lazy(() => import("../runs/Runs").then((m) => ({ default: m.Runs })));
const Runway = lazy(() => import("../runway/Runway").then((m) => ({ default: m.Runway })));
const Settings = lazy(() => import("../settings/Settings").then((m) => ({ default: m.Settings })));
const Paths = lazy(() => import("../paths/Paths").then((m) => ({ default: m.Paths })));

/** How soon it shows that somebody else adopted a draft or began one. */
const NOTICE_OTHERS_AFTER_MS = 5_000;

export function App() {
  useTheme();
  useEffect(keepFocus, []);
  return (
    <Routes>
      <Route path="/sign-in" element={<SignIn />} />
      <Route path="/" element={<Views />} />
      <Route path="/board/:date?" element={<Views />} />
      <Route path="/estate/:date?" element={<Views />} />
      <Route path="/paths/:date?" element={<Views />} />
      <Route path="/jobs/:date?" element={<Views />} />
      <Route path="/balance/:date?" element={<Views />} />
      <Route path="/runs/:date?" element={<Views />} />
      <Route path="/recovery/:date?" element={<Views />} />
      <Route path="/runway/:date?" element={<Views />} />
      <Route path="/compare/:date?" element={<Views />} />
      <Route path="/settings/:date?" element={<Views />} />
      <Route path="*" element={<Navigate to="/" replace />} />
    </Routes>
  );
}

function Notice({ children, alert = false }: { children: ReactNode; alert?: boolean }) {
  return (
    <main className="grid h-full place-items-center">
      <div
        role={alert ? "alert" : "status"}
        className="flex max-w-md items-center gap-3 p-6 text-base"
      >
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
  const [, view, night] = useLocation().pathname.split("/");
  const plans = useQuery({
    ...plansQuery,
    enabled: signedIn,
    // Somebody else may begin the first plan.
    refetchInterval: (query) => (query.state.data?.length ? false : NOTICE_OTHERS_AFTER_MS),
  });
  const wanted = Number(search.get("plan"));
  const chosen = plans.data?.find((p) => p.id === wanted) ?? plans.data?.[0];
  const adopted = useQuery({
    ...planQuery(chosen?.id ?? 0, null),
    enabled: Boolean(chosen),
    refetchInterval: NOTICE_OTHERS_AFTER_MS,
  });
  const open = adopted.data?.open_drafts ?? [];
  const asked = search.get("draft");
  // Without one in the address one's own newest draft is in hand, or else the newest shared one;
  // "none" is the plan as adopted. One
  // that is not open any more was adopted or discarded: no other takes its place by itself.
  const draft =
    asked === null
      ? (open.find((d) => d.owner === session.data?.name) ?? open.find((d) => d.shared) ?? null)
      : (open.find((d) => d.id === Number(asked)) ?? null);
  const { set } = useAddress();
  const shown = chosen && adopted.data ? `${chosen.id}/${draft?.id ?? "none"}` : null;
  useEffect(() => {
    // From the first moment the address says what is shown, so nobody else can change it.
    if (!shown || (search.get("plan") && asked)) return;
    const [plan, inHand] = shown.split("/");
    set({ plan: plan!, draft: inHand! });
  }, [shown, search, asked, set]);
  const inHand = useQuery({
    ...planQuery(chosen?.id ?? 0, draft?.id ?? null),
    enabled: Boolean(adopted.data),
    refetchInterval: NOTICE_OTHERS_AFTER_MS,
    placeholderData: (before) => before,
  });
  const error = session.error ?? plans.error ?? adopted.error ?? inHand.error;
  const unreadable = unreadablePlan(error);
  if (unreadable) return <Unreadable plan={unreadable} />;
  if (error) return <Notice alert>{error.message}</Notice>;
  if (session.data && !signedIn) return <Navigate to="/sign-in" replace />;
  if (plans.data && !chosen) return <FirstStart />;
  if (!inHand.data || !adopted.data) return <Notice>Opening the plan …</Notice>;
  const isOver = Boolean(night && night < inHand.data.first_night);
  return (
    <WorkbenchProvider key={chosen?.id} plan={inHand.data}>
      <div className="flex h-full flex-col narrow:h-auto narrow:min-h-full">
        <TopLine />
        <WeekStrip />
        <UnsavedLine />
        <Suspense
          fallback={
            <p role="status" className="flex-1 p-4">
              Opening …
            </p>
          }
        >
          {view === "estate" ? (
            <Estate />
          ) : view === "paths" ? (
            <Paths />
          ) : view === "jobs" ? (
            <Jobs />
          ) : view === "balance" ? (
            <Balance />
          ) : view === "runs" ? (
            <Runs />
          ) : view === "recovery" ? (
            <Recovery />
          ) : view === "runway" ? (
            <Runway />
          ) : view === "compare" ? (
            <Compare />
          ) : view === "settings" ? (
            <Settings />
          ) : isOver ? (
            <PastBoard />
          ) : (
            <Board />
          )}
          <LedFocus />
        </Suspense>
        <EffectLine />
        <ClashDialog />
      </div>
    </WorkbenchProvider>
  );
}

/** Beside the view inside its boundary, so that the view is there when the focus is put into it. */
function LedFocus() {
  useLedFocus();
  return null;
}
