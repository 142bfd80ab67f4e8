import { useQuery, useQueryClient } from "@tanstack/react-query";
import { LogOut, Moon, Search, Settings, Sun } from "lucide-react";
import { clsx } from "clsx";
import { lazy, Suspense, useState } from "react";
import { NavLink, useLocation, useSearchParams } from "react-router";
import { plansQuery, sessionQuery, signOut } from "../api/planQueries";
import { Button } from "../ui/Button";
import { Choice } from "../ui/Choice";
import { Hint } from "../ui/Hint";
import { count } from "../ui/words";
import { planOf, VIEWS } from "../workbench/address";
import { focusView, useCtrl } from "../workbench/keys";
import { Mark } from "../ui/Mark";
import { ServerDialog } from "./ServerDialog";
import { setTheme, useTheme } from "../ui/theme";
import { useMay } from "../workbench/rights";
import { useWorkbench } from "../workbench/store";
import { Others } from "./Others";

const Finder = lazy(() => import("./Finder").then((m) => ({ default: m.Finder })));

export function TopLine() {
  const view = useLocation().pathname.split("/")[1] || "board";
  const { plan, draft, date, moves, redo } = useWorkbench();
  const [search, setSearch] = useSearchParams();
  const plans = useQuery(plansQuery);
  const session = useQuery(sessionQuery);
  const client = useQueryClient();
  const theme = useTheme();
  const mayPlan = useMay("plan");
  const changes = draft?.changes.length ?? 0;
  const [finding, setFinding] = useState(false);
  const [server, setServer] = useState(false);
  useCtrl("k", () => setFinding((now) => !now));
  return (
    <header className="print:hidden flex h-11 shrink-0 items-center gap-5 border-b border-rule px-4 narrow:h-auto narrow:flex-wrap narrow:gap-x-3 narrow:gap-y-0">
      <button
        type="button"
        className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-raised focus:px-3 focus:py-1"
        onClick={focusView}
      >
        Skip to the view
      </button>
      <span className="flex items-center gap-2 text-lg font-bold">
        <Mark /> Gambrel
      </span>
      <nav
        aria-label="Views"
        className="flex h-full items-stretch narrow:order-last narrow:h-8 narrow:w-full narrow:flex-wrap"
      >
        {VIEWS.map(({ path, title }) => (
          <NavLink
            key={path}
            to={{ pathname: `/${path}/${date}`, search: planOf(search) }}
            className={() =>
              clsx(
                "flex items-center border-b-[3px] px-2 pt-[3px] text-base",
                view === path
                  ? "border-barn font-semibold"
                  : "border-transparent text-ink-2 hover:text-ink",
              )
            }
            aria-current={view === path ? "page" : undefined}
          >
            {title}
          </NavLink>
        ))}
      </nav>
      <span className="flex-1" />
      <Others />
      <p className="flex min-w-0 items-center gap-1 text-base whitespace-nowrap">
        {changes || moves.length ? (
          <>
            Draft:{" "}
            {draft && (
              <span className="min-w-0 truncate font-medium" title={draft.name}>
                {draft.name}
              </span>
            )}
            <span className="text-ink-2">
              {[
                ...(draft ? [count(changes, "change")] : []),
                ...(moves.length ? [`${count(moves.length, "move")} not saved`] : []),
              ].join(", ")}
            </span>
          </>
        ) : (
          <span className="text-ink-2">The adopted plan{!mayPlan && ", to look at"}</span>
        )}
        {draft?.can_redo && !changes && !moves.length && (
          <Button small look="plain" className="ml-2" onClick={redo}>
            Redo
          </Button>
        )}
      </p>
      <Button
        small
        look="plain"
        aria-keyshortcuts="Control+K"
        onClick={() => {
          setFinding(true);
        }}
      >
        <Search size={14} aria-hidden /> Find <kbd className="text-xs text-ink-2">Ctrl K</kbd>
      </Button>
      {finding && (
        <Suspense>
          <Finder
            open
            onOpen={setFinding}
            onServer={() => {
              setServer(true);
            }}
          />
        </Suspense>
      )}
      <ServerDialog open={server} onOpen={setServer} />
      {plans.data && (
        <Choice
          lead="Plan"
          value={String(plan.id)}
          options={plans.data.map((p) => ({ value: String(p.id), label: p.name }))}
          onChange={(id) => setSearch({ plan: id })}
        />
      )}
      <span className="flex items-center">
        <Hint text={theme === "night" ? "Paper theme" : "Night theme"}>
          <button
            type="button"
            aria-label={
              theme === "night" ? "Switch to the paper theme" : "Switch to the night theme"
            }
            onClick={() => setTheme(theme === "night" ? "paper" : "night")}
            className="rounded-[3px] p-1.5 hover:bg-closed"
          >
            {theme === "night" ? <Sun size={16} aria-hidden /> : <Moon size={16} aria-hidden />}
          </button>
        </Hint>
        <Hint text={`Settings of ${session.data?.name ?? ""}`}>
          <NavLink
            to={{ pathname: `/settings/${date}`, search: planOf(search) }}
            aria-label="Settings"
            className={clsx(
              "rounded-[3px] p-1.5 hover:bg-closed",
              view === "settings" && "bg-closed",
            )}
          >
            <Settings size={16} aria-hidden />
          </NavLink>
        </Hint>
        <Hint text={`Sign out ${session.data?.name ?? ""}`}>
          <button
            type="button"
            aria-label="Sign out"
            onClick={() =>
              void signOut().then((s) => client.setQueryData(sessionQuery.queryKey, s))
            }
            className="rounded-[3px] p-1.5 hover:bg-closed"
          >
            <LogOut size={16} aria-hidden />
          </button>
        </Hint>
      </span>
    </header>
  );
}
